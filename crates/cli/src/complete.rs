//! What a shell completes: commands, options, their values, and the names of the sites that are
//! configured.

use crate::config::Config;
use clap::Command;
use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};
use clap_complete::{ArgValueCandidates, CompleteEnv, CompletionCandidate};
use std::path::PathBuf;

/// By this variable a shell asks for completions.
const VARIABLE: &str = "FERNWEH_COMPLETE";

/// Answers a shell that asks for completions of the whole command line; says whether one has
/// asked.
pub fn answered(all: fn() -> Command) -> bool {
    let here = std::env::current_dir().ok();
    let engine = CompleteEnv::with_factory(all).var(VARIABLE);
    let asked = engine.try_complete(std::env::args_os(), here.as_deref());
    matches!(asked, Ok(true))
}

/// The names of configured sites, for an argument.
pub fn site_names() -> ArgValueCandidates {
    ArgValueCandidates::new(|| {
        let words: Vec<String> = std::env::args().collect();
        let named = words.windows(2).rfind(|pair| pair[0] == "-c" || pair[0] == "--config");
        let named = named.map(|pair| PathBuf::from(&pair[1]));
        let config = Config::load(named.as_deref()).unwrap_or_default();
        let names = config.content.site.into_iter();
        names
            .map(|(name, section)| CompletionCandidate::new(name).help(section.url.map(Into::into)))
            .collect()
    })
}

/// The script that teaches a shell to ask; `program` is what is typed.
pub fn script(shell: &dyn EnvCompleter, program: &str) -> std::io::Result<String> {
    let mut text = Vec::new();
    shell.write_registration(VARIABLE, program, program, program, &mut text)?;
    Ok(String::from_utf8_lossy(&text).into_owned())
}

/// The shells that are known, by their names.
pub fn shell(name: &str) -> Option<&'static dyn EnvCompleter> {
    match name {
        "bash" => Some(&Bash),
        "zsh" => Some(&Zsh),
        "fish" => Some(&Fish),
        _ => None,
    }
}
