//! What can be typed. One command a variant; its arguments live in its own file.

use crate::commands;
use crate::options::Common;
use clap::{Arg, ArgAction, CommandFactory, FromArgMatches, Parser, Subcommand};
use std::ffi::OsString;

const ABOUT: &str =
    "Moves a database-backed site from one host to another, and proves that it arrived whole.";

const AFTER: &str = "\
The usual way, with two sites in fernweh.toml (fernweh init writes it):
  fernweh sites                            are both sites reachable?
  fernweh survey old                       what the old site consists of
  fernweh pack old                         one archive with database and files
  fernweh unpack ARCHIVE new --preview     what rewriting will change
  fernweh unpack ARCHIVE new               the new site, addresses rewritten
  fernweh scan new                         every page opened and checked
  fernweh ready new --from old             can the domain be switched?
  fernweh undo new                         back, if something is wrong

Or all of it at once: fernweh move old new

Try it on a sample site first: fernweh demo

Exit codes: 0 done, 1 done and there is something to look at, 2 usage or
configuration, 3 the outside refused, 4 data damaged, 5 interrupted.";

/// The whole command line.
#[derive(Debug, Parser)]
#[command(
    name = "fernweh",
    bin_name = "fernweh",
    version,
    about = ABOUT,
    after_help = AFTER,
    max_term_width = 80,
    arg_required_else_help = true,
    disable_help_subcommand = true
)]
pub struct Arguments {
    /// What every command takes.
    #[command(flatten)]
    pub common: Common,
    /// The command.
    #[command(subcommand)]
    pub command: Command,
}

/// The whole command line with help that fits a screen: what each command is for and how it is typed,
/// in full, and one or two lines for each option.
pub fn command() -> clap::Command {
    let short = |command: clap::Command| {
        let help = Arg::new("help").short('h').long("help").action(ArgAction::HelpShort);
        command.disable_help_flag(true).arg(help.help("Print this help").help_heading("Everywhere"))
    };
    short(Arguments::command()).mut_subcommands(|command| {
        let command = short(command);
        let Some(text) = command.get_long_about().map(ToString::to_string) else { return command };
        let template =
            format!("{}\n\n{{usage-heading}} {{usage}}\n\n{{all-args}}\n", text.trim_end());
        command.help_template(template)
    })
}

/// Reads a command line.
pub fn read(words: &[OsString]) -> Result<Arguments, clap::Error> {
    Arguments::from_arg_matches(&command().try_get_matches_from(words)?)
}

/// The commands. What each is for stands with its arguments, in its own file.
#[derive(Debug, Subcommand)]
pub enum Command {
    Init(commands::init::InitArgs),
    Sites(commands::sites::SitesArgs),
    Survey(commands::survey::SurveyArgs),
    Pack(commands::pack::PackArgs),
    Show(commands::show::ShowArgs),
    Unpack(commands::unpack::UnpackArgs),
    Rewrite(commands::rewrite::RewriteArgs),
    Scan(commands::scan::ScanArgs),
    Trace(commands::trace::TraceArgs),
    Compare(commands::compare::CompareArgs),
    Move(commands::moving::MoveArgs),
    Ready(commands::ready::ReadyArgs),
    Redirects(commands::redirects::RedirectsArgs),
    Close(commands::close::CloseArgs),
    Undo(commands::undo::UndoArgs),
    Runs(commands::runs::RunsArgs),
    Tell(commands::tell::TellArgs),
    Demo(commands::demo::DemoArgs),
    Completions(commands::completions::CompletionsArgs),
    #[command(hide = true)]
    Manual(commands::manual::ManualArgs),
    #[command(hide = true)]
    Forward(commands::forward::ForwardArgs),
}
