//! The command line of Fernweh: arguments, configuration, connectors, and how results and
//! errors are shown.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod args;
mod commands;
mod comparing;
mod complete;
mod config;
mod context;
mod document;
mod errors;
mod exit;
mod hints;
mod hosts;
mod incoming;
mod log;
mod manual;
mod messages;
mod options;
mod plain_file;
mod progress;
mod prompt;
mod render;
mod resolvers;
mod rules;
mod run_log;
mod saved_scan;
mod schema;
mod secrets;
mod site;
mod tell;
mod typed;
mod usage;

pub use schema::schemas;

use args::{Arguments, Command, command};
use clap::CommandFactory;
use context::{Context, Speaks};
use exit::DONE;
use options::Common;
use std::ffi::OsString;
use typed::Typed;

/// Writes a manual page for each command into a folder.
///
/// # Errors
///
/// Where a page cannot be written.
pub fn manual_pages(folder: &std::path::Path) -> std::io::Result<()> {
    manual::manual_pages(Arguments::command(), folder)
}

/// The reference of all commands, options and keys, as Markdown.
pub fn reference() -> String {
    manual::reference(Arguments::command())
}

/// Runs one command line; gives the exit code.
pub fn run(arguments: impl IntoIterator<Item = OsString>) -> u8 {
    if complete::answered(command) {
        return DONE;
    }
    run_as(arguments.into_iter().collect(), Speaks::Fully)
}

fn run_as(words: Vec<OsString>, speaks: Speaks) -> u8 {
    let arguments = match args::read(&words) {
        Ok(arguments) => arguments,
        Err(error) if !error.use_stderr() => {
            drop(error.print());
            return DONE;
        }
        Err(error)
            if error.kind() == clap::error::ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand =>
        {
            drop(error.print());
            return exit::USAGE;
        }
        Err(error) => {
            let trouble = usage::explained(&error, &words);
            let typed = Typed::new(words);
            let common = Common::of_words(&typed);
            return errors::show(&Context::new(&common, typed, speaks), &trouble);
        }
    };
    // Both TLS users of this program share one provider; a second call changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let context = Context::new(&arguments.common, Typed::new(words), speaks);
    let done = context.open_log().and_then(|()| execute(&context, &arguments.command));
    match done {
        Ok(code) => code,
        Err(trouble) => errors::show(&context, &trouble),
    }
}

fn execute(context: &Context, command: &Command) -> fernweh_ports::Result<u8> {
    match command {
        Command::Init(args) => commands::init::run(context, args),
        Command::Sites(args) => commands::sites::run(context, args),
        Command::Survey(args) => commands::survey::run(context, args),
        Command::Pack(args) => commands::pack::run(context, args),
        Command::Show(args) => commands::show::run(context, args),
        Command::Unpack(args) => commands::unpack::run(context, args),
        Command::Rewrite(args) => commands::rewrite::run(context, args),
        Command::Scan(args) => commands::scan::run(context, args),
        Command::Compare(args) => commands::compare::run(context, args),
        Command::Ready(args) => commands::ready::run(context, args),
        Command::Close(args) => commands::close::run(context, args),
        Command::Redirects(args) => commands::redirects::run(context, args),
        Command::Trace(args) => commands::trace::run(context, args),
        Command::Move(args) => commands::moving::run(context, args),
        Command::Undo(args) => commands::undo::run(context, args),
        Command::Runs(args) => commands::runs::run(context, args),
        Command::Tell(args) => commands::tell::run(context, args),
        Command::Demo(args) => {
            commands::demo::run(context, args, &|line| run_as(line, Speaks::OfResults))
        }
        Command::Completions(args) => commands::completions::run(context, args),
        Command::Manual(args) => commands::manual::run(args, Arguments::command()),
        Command::Forward(args) => commands::forward::run(args),
    }
}
