//! Arguments that several commands share.

use clap::{Args, ValueEnum};
use fernweh_ports::Halves;
use std::path::PathBuf;

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

impl Half {
    /// The halves that are meant: both where none was named.
    pub fn halves(only: Option<Self>) -> Halves {
        match only {
            None => Halves::BOTH,
            Some(Self::Database) => Halves::DATABASE,
            Some(Self::Files) => Halves::FILES,
        }
    }
}

/// A layer that is opened only when it is named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Layer {
    /// Values in base64.
    Base64,
}

/// Whose SQL a script is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Engine {
    /// MariaDB and MySQL.
    Mariadb,
    /// PostgreSQL.
    Postgres,
    /// SQLite.
    Sqlite,
}
