//! `fernweh tell`

use crate::context::Context;
use crate::exit::DONE;
use crate::render::Page;
use crate::tell::send;
use clap::Args;
use fernweh_ports::{Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;

/// Sends a test message, as a move does when it ends or fails.
///
/// Mail and a command are set up as [tell] in fernweh.toml. Example:
///   fernweh tell --test
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct TellArgs {
    /// Send a message that says it is a test
    #[arg(long, required = true)]
    pub test: bool,
}

/// Who was told, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Told {
    /// Every way that was taken.
    told: Vec<String>,
}

/// Runs the command.
pub fn run(context: &Context, _args: &TellArgs) -> Result<u8> {
    let config = context.config()?;
    let Some(section) = &config.content.tell else {
        return Err(Trouble::usage(format!("no [tell] section in {}", config.shown()))
            .because("it says who is told, and how")
            .hint("add [tell] with to, from and server, or with command"));
    };
    let text = "This is a test. Messages about a move will arrive this way.\n";
    let told = send(&config, section, "Fernweh: a test", text)?;
    let mut page = Page::new(context.style);
    page.list("told", told.clone());
    context.print_done(&Told { told }, &page.finish());
    Ok(DONE)
}
