//! Arguments that several commands share.

use crate::hints::word;
use crate::typed::Typed;
use clap::{Args, ValueEnum, ValueHint};
use fernweh_core::sql::Prefix;
use fernweh_ports::{Halves, Result, Trouble};
use std::path::PathBuf;
use std::time::Duration;

/// What every command takes.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Everywhere")]
pub struct Common {
    /// The configuration (default: fernweh.toml in this folder or the nearest one above it)
    #[arg(short, long, global = true, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub config: Option<PathBuf>,
    /// Print the result as one JSON document
    #[arg(long, global = true)]
    pub json: bool,
    /// Print errors only, and the result of commands that only look
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Answer every question with yes
    #[arg(long, short_alias = 'y', global = true)]
    pub yes: bool,
    /// Print more detail: whole lists, and a line for every stage of the work
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Add everything that is printed to this file, with the time
    #[arg(long, global = true, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub log: Option<PathBuf>,
    /// When to use color: auto, always or never
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_possible_values = true
    )]
    pub color: Color,
}

impl Common {
    /// What can be known of a command line that was not understood.
    pub fn of_words(typed: &Typed) -> Self {
        Self {
            config: None,
            json: typed.holds("--json"),
            quiet: false,
            yes: false,
            verbose: false,
            log: None,
            color: Color::Auto,
        }
    }
}

/// When to use color.
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
    #[arg(long, value_name = "PLACE", value_hint = ValueHint::DirPath)]
    pub files: Option<String>,
    /// The site's database, in place of SITE's configuration, as sqlite:PATH, mariadb://USER@HOST/NAME or postgres://USER@HOST/NAME
    #[arg(long, value_name = "PLACE")]
    pub database: Option<String>,
}

impl SiteArgs {
    /// The options as they are typed; nothing if there are none.
    pub fn typed(&self) -> String {
        let all = [("url", &self.url), ("files", &self.files), ("database", &self.database)];
        let typed = all.into_iter().filter_map(|(name, value)| Some((name, value.as_ref()?)));
        let words = typed.map(|(name, value)| format!("--{name} {}", word(value)));
        words.collect::<Vec<_>>().join(" ")
    }
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

/// Two prefixes of tables, as they are typed.
pub fn prefix(text: &str) -> Result<Prefix> {
    Prefix::parse(text).ok_or_else(|| {
        Trouble::usage(format!("`{text}` is not a pair of prefixes"))
            .hint("write the old and the new one, as in --prefix gp_=new_")
    })
}

/// A time as people type it: a number and `m`, `h` or `d`.
pub fn time(text: &str) -> std::result::Result<Duration, String> {
    let wrong = || "write a number and m, h or d, as in 90m, 6h or 2d".to_owned();
    let unit = text.chars().last().ok_or_else(wrong)?;
    let number: u64 = text[..text.len() - unit.len_utf8()].parse().map_err(|_| wrong())?;
    let seconds = match unit {
        'm' => 60,
        'h' => 3600,
        'd' => 86_400,
        _ => return Err(wrong()),
    };
    Ok(Duration::from_secs(number.saturating_mul(seconds)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_is_a_number_with_its_unit() {
        assert_eq!(time("90m"), Ok(Duration::from_secs(5400)));
        assert_eq!(time("6h"), Ok(Duration::from_secs(21_600)));
        assert_eq!(time("2d"), Ok(Duration::from_secs(172_800)));
        for wrong in ["", "6", "h", "-1h", "6 h", "6s", "1.5h", "6ü"] {
            assert!(time(wrong).is_err(), "{wrong}");
        }
    }
}
