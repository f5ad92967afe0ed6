//! The command line of Fernweh: arguments, configuration, connectors, and how results and
//! errors are shown.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod args;
mod commands;
mod config;
mod context;
mod document;
mod errors;
mod exit;
mod hosts;
mod incoming;
mod options;
mod plain_file;
mod progress;
mod prompt;
mod render;
mod rules;
mod secrets;
mod site;
mod tell;

use args::{Arguments, Command};
use clap::Parser;
use context::Context;
use exit::DONE;
use fernweh_ports::{is_unsafe, shown};
use std::ffi::OsString;

/// Runs one command line; gives the exit code.
pub fn run(arguments: impl IntoIterator<Item = OsString>) -> u8 {
    let arguments = match Arguments::try_parse_from(arguments) {
        Ok(arguments) => arguments,
        Err(error) => {
            // It repeats what was typed, which can come from a list of names.
            let text = error.render().to_string();
            match error.use_stderr() && text.contains(|ch| ch != '\n' && is_unsafe(ch)) {
                true => text.lines().for_each(|line| eprintln!("{}", shown(line))),
                false => drop(error.print()),
            }
            return if error.use_stderr() { 2 } else { DONE };
        }
    };
    // Both TLS users of this program share one provider; a second call changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let context = Context::new(&arguments.common);
    match execute(&context, &arguments.command) {
        Ok(code) => code,
        Err(trouble) => errors::show(&context, &trouble),
    }
}

fn execute(context: &Context, command: &Command) -> fernweh_ports::Result<u8> {
    match command {
        Command::Survey(args) => commands::survey::run(context, args),
        Command::Pack(args) => commands::pack::run(context, args),
        Command::Show(args) => commands::show::run(context, args),
        Command::Unpack(args) => commands::unpack::run(context, args),
        Command::Rewrite(args) => commands::rewrite::run(context, args),
        Command::Scan(args) => commands::scan::run(context, args),
        Command::Trace(args) => commands::trace::run(context, args),
        Command::Move(args) => commands::moving::run(context, args),
        Command::Undo(args) => commands::undo::run(context, args),
        Command::Runs(args) => commands::runs::run(context, args),
        Command::Tell(args) => commands::tell::run(context, args),
        Command::Demo(args) => commands::demo::run(context, args, &|line| run(line)),
        Command::Forward(args) => commands::forward::run(args),
    }
}
