//! What every command needs beside its arguments: configuration, progress, and how to
//! print.

use crate::config::Config;
use crate::options::{Color, Common};
use crate::progress::Terminal;
use crate::render::Style;
use fernweh_flow::journal::Records;
use fernweh_flow::run::Surroundings;
use fernweh_ports::{Result, is_unsafe};
use std::io::{IsTerminal, Write};

/// The surroundings of one command.
pub struct Context {
    common: Common,
    /// Progress and the wish to stop.
    pub progress: Terminal,
    /// How results are written.
    pub style: Style,
}

/// A JSON document in which what would do something to a terminal is escaped. Such characters
/// stand in texts only, where they may be written so.
pub fn safe_json(document: &str) -> String {
    let mut out = String::with_capacity(document.len());
    for ch in document.chars() {
        match ch != '\n' && is_unsafe(ch) {
            true => {
                let units = ch.encode_utf16(&mut [0; 2]).to_vec();
                units.iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
            }
            false => out.push(ch),
        }
    }
    out
}

impl Context {
    /// Looks at the terminal once.
    pub fn new(common: &Common) -> Self {
        fernweh_connect::stop::when(crate::progress::stops());
        if !common.quiet {
            // What moves on the terminal is drawn anew below it.
            fernweh_connect::word::goes(|line| eprintln!("{}", fernweh_ports::shown(line)));
        }
        let on_terminal = std::io::stdout().is_terminal();
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let color = match common.color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => on_terminal && !no_color,
        };
        let width = match std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok()) {
            Some(width) => width,
            None => console::Term::stdout().size_checked().map_or(100, |(_, width)| width.into()),
        };
        let style = Style { color, width: usize::clamp(width, 60, 120), verbose: common.verbose };
        Self { common: common.clone(), progress: Terminal::new(common.quiet), style }
    }

    /// Reads the configuration; an empty one if none is there and none was named.
    pub fn config(&self) -> Result<Config> {
        Config::load(self.common.config.as_deref())
    }

    /// Where the records of runs are kept: beside the configuration.
    pub fn records(&self, config: &Config) -> Records {
        Records::beside(&config.folder)
    }

    /// What a run needs beside its site and its options.
    pub fn around<'a>(&'a self, records: &'a Records) -> Surroundings<'a> {
        Surroundings { records, progress: &self.progress, program: env!("CARGO_PKG_VERSION") }
    }

    /// Whether a JSON document is wanted.
    pub fn json(&self) -> bool {
        self.common.json
    }

    /// Whether questions are answered with yes beforehand.
    pub fn yes(&self) -> bool {
        self.common.yes
    }

    /// Prints the result: the text, or the same report as JSON.
    pub fn print(&self, report: &impl serde::Serialize, text: &str) {
        self.progress.part();
        let mut out = std::io::stdout().lock();
        let _ = if self.json() {
            let document = serde_json::to_string_pretty(report).unwrap_or_default();
            writeln!(out, "{}", safe_json(&document))
        } else {
            out.write_all(text.as_bytes())
        };
        let _ = out.flush();
    }
}
