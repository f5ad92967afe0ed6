//! What can be typed. One command a variant; its arguments live in its own file.

use crate::commands;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

const ABOUT: &str =
    "Moves a database-backed site from one host to another, and proves that it arrived whole.";

const AFTER: &str = "\
The usual way, with two sites described in fernweh.toml:
  fernweh survey old                       what the old site consists of
  fernweh pack old                         one archive with database and files
  fernweh unpack ARCHIVE new --preview     what rewriting will change
  fernweh unpack ARCHIVE new               the new site, addresses rewritten
  fernweh scan new                         every page opened and checked
  fernweh trace new ADDRESS                where an address on a page comes from
  fernweh undo new                         back, if something is wrong

Or all of it at once: fernweh move old new

Try it on a sample site first: fernweh demo

Exit codes: 0 done, 1 done with findings, 2 usage or configuration, 3 the outside
refused, 4 data damaged, 5 interrupted.";

/// The whole command line.
#[derive(Debug, Parser)]
#[command(name = "fernweh", version, about = ABOUT, after_help = AFTER)]
pub struct Arguments {
    /// What every command takes.
    #[command(flatten)]
    pub common: Common,
    /// The command.
    #[command(subcommand)]
    pub command: Command,
}

/// What every command takes.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Everywhere")]
pub struct Common {
    /// The configuration (default: fernweh.toml in this folder)
    #[arg(short, long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Print the result as one JSON document
    #[arg(long, global = true)]
    pub json: bool,
    /// Print no progress and no messages, only the result
    #[arg(long, global = true)]
    pub quiet: bool,
    /// Answer what a command would ask with yes
    #[arg(long, global = true)]
    pub yes: bool,
    /// Print more detail
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// When to use colour: auto, always or never
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_possible_values = true
    )]
    pub color: Color,
}

/// When to use colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The site that a command works on.
#[derive(Clone, Debug, Default, Args)]
#[command(next_help_heading = "Without a configuration")]
pub struct SiteArgs {
    /// The site's web address, in place of SITE's configuration
    #[arg(long, value_name = "ADDRESS")]
    pub url: Option<String>,
    /// The site's folder, in place of SITE's configuration
    #[arg(long, value_name = "PLACE")]
    pub files: Option<String>,
    /// The site's database, in place of SITE's configuration, as sqlite:PATH, mariadb://USER@HOST/NAME or postgres://USER@HOST/NAME
    #[arg(long, value_name = "PLACE")]
    pub database: Option<String>,
}

/// Only one half of a site.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Half {
    /// The database.
    Database,
    /// The files.
    Files,
}

/// A layer that is opened only when it is named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Layer {
    /// Values in base64.
    Base64,
}

/// The commands. What each is for stands with its arguments, in its own file.
#[derive(Debug, Subcommand)]
pub enum Command {
    Survey(commands::survey::SurveyArgs),
    Pack(commands::pack::PackArgs),
    Show(commands::show::ShowArgs),
    Unpack(commands::unpack::UnpackArgs),
    Rewrite(commands::rewrite::RewriteArgs),
    Scan(commands::scan::ScanArgs),
    Trace(commands::trace::TraceArgs),
    Move(commands::moving::MoveArgs),
    Undo(commands::undo::UndoArgs),
    Runs(commands::runs::RunsArgs),
    Tell(commands::tell::TellArgs),
    Demo(commands::demo::DemoArgs),
    #[command(hide = true)]
    HandOn(commands::hand_on::HandOnArgs),
}
