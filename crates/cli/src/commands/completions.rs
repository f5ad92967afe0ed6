//! `fernweh completions`

use crate::complete::{script, shell};
use crate::context::Context;
use crate::exit::DONE;
use clap::{Args, ValueEnum};
use fernweh_ports::{Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;

/// Prints completions for bash, zsh or fish.
///
/// They know commands, options and the names of configured sites.
/// Examples:
///   fernweh completions bash > ~/.local/share/bash-completion/completions/fernweh
///   fernweh completions zsh > ~/.zfunc/_fernweh
///   fernweh completions fish > ~/.config/fish/completions/fernweh.fish
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct CompletionsArgs {
    /// The shell
    pub shell: Shell,
}

/// The shells that are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// GNU Bash
    Bash,
    /// Z shell
    Zsh,
    /// Fish
    Fish,
}

/// A script as a document.
#[derive(Serialize, JsonSchema)]
pub struct Script {
    /// The script.
    script: String,
}

/// Runs the command.
pub fn run(context: &Context, args: &CompletionsArgs) -> Result<u8> {
    let name = match args.shell {
        Shell::Bash => "bash",
        Shell::Zsh => "zsh",
        Shell::Fish => "fish",
    };
    let known = shell(name).ok_or_else(|| Trouble::usage(format!("{name} is not known")))?;
    let script = script(known, "fernweh")
        .map_err(|error| Trouble::outside("cannot write the script").because(error))?;
    context.print(&Script { script: script.clone() }, &script);
    Ok(DONE)
}
