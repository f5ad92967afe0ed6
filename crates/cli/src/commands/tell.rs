//! `fernweh tell`

use crate::context::Context;
use crate::exit::DONE;
use crate::render::Page;
use crate::tell::send;
use clap::Args;
use fernweh_ports::{Result, Trouble};

/// Send word, as a move does when it begins, ends or fails
///
/// Mail and a command are set up as [tell] in fernweh.toml. Example:
///   fernweh tell --test
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct TellArgs {
    /// Send a message that says that it is a test
    #[arg(long, required = true)]
    pub test: bool,
}

/// Runs the command.
pub fn run(context: &Context, _args: &TellArgs) -> Result<u8> {
    let config = context.config()?;
    let Some(section) = &config.content.tell else {
        return Err(Trouble::usage("nobody is to be told")
            .at(config.shown())
            .because("there is no [tell] section")
            .hint("write [tell] with to, from and server, or with command"));
    };
    let text = "This is a test: word of a move will come this way.\n";
    let told = send(&config, section, "Fernweh: a test", text)?;
    let mut page = Page::new(context.style);
    page.list("told", told.clone());
    context.print(&serde_json::json!({ "told": told }), &page.finish());
    Ok(DONE)
}
