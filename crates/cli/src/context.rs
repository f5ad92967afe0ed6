//! What every command needs beside its arguments: configuration, progress, and how to
//! print.

use crate::config::Config;
use crate::hints::{self, pasted};
use crate::messages::{self, is_lively, say};
use crate::options::{Color, Common};
use crate::progress::Terminal;
use crate::render::Style;
use crate::typed::Typed;
use fernweh_flow::journal::Records;
use fernweh_flow::run::Surroundings;
use fernweh_ports::{Result, is_unsafe, shown};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};
use std::io::Write;
use std::path::Path;

/// How much of a command is heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Speaks {
    /// All that its options ask for.
    Fully,
    /// Its result alone: it is a step of something larger.
    OfResults,
}

/// The version of the JSON documents. It changes when a name goes or gets another meaning; new
/// names may come at any time.
pub const FORMAT: u32 = 1;

/// Columns where nobody knows them.
const WIDTH: usize = 80;

/// The surroundings of one command.
pub struct Context {
    common: Common,
    /// What was typed.
    pub typed: Typed,
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

/// Texts of a document in which every command can be pasted.
fn with_commands(value: &mut Value) {
    match value {
        Value::String(text) => {
            if let std::borrow::Cow::Owned(complete) = pasted(text) {
                *text = complete;
            }
        }
        Value::Array(values) => values.iter_mut().for_each(with_commands),
        Value::Object(values) => values.values_mut().for_each(with_commands),
        _ => {}
    }
}

impl Context {
    /// Looks at the terminal once.
    pub fn new(common: &Common, typed: Typed, speaks: Speaks) -> Self {
        fernweh_connect::stop::when(crate::progress::stops());
        let quiet = common.quiet || speaks == Speaks::OfResults;
        messages::only_errors(quiet);
        // What moves on the terminal is drawn anew below it.
        fernweh_connect::word::goes(|line| say(&format!("{}\n", shown(&pasted(line)))));
        hints::configuration(common.config.as_deref());
        let on_terminal = is_lively(&std::io::stdout());
        fernweh_ports::group_digits(on_terminal);
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let color = match common.color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => on_terminal && !no_color,
        };
        let width = match std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok()) {
            Some(width) => width,
            None => console::Term::stdout().size_checked().map_or(WIDTH, |(_, width)| width.into()),
        };
        let style = Style { color, width: usize::clamp(width, 60, 120), verbose: common.verbose };
        Self {
            common: common.clone(),
            typed,
            progress: Terminal::new(quiet, common.verbose && !quiet),
            style,
        }
    }

    /// Opens the log that was asked for.
    pub fn open_log(&self) -> Result<()> {
        self.common.log.as_ref().map_or(Ok(()), |path| self.log_to(path))
    }

    /// Reads the configuration; an empty one if none is there and none was named.
    pub fn config(&self) -> Result<Config> {
        let config = Config::load(self.common.config.as_deref())?;
        if let (None, Some(section)) = (&self.common.log, &config.content.log) {
            self.log_to(&config.folder.join(&section.file))?;
        }
        Ok(config)
    }

    fn log_to(&self, path: &Path) -> Result<()> {
        crate::log::open(path, &shown(&pasted(&self.typed.again())))
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

    /// The configuration that was named.
    pub fn named_config(&self) -> Option<&Path> {
        self.common.config.as_deref()
    }

    /// Says something beside the result that nobody needs who wants errors only.
    pub fn tell(&self, text: &str) {
        say(text);
    }

    /// Says something beside the result, also to whoever wants errors only.
    pub fn say(&self, text: &str) {
        messages::always(text);
    }

    /// Prints the result of a command that only looks: the text, or the same report as JSON.
    pub fn print(&self, report: &(impl Serialize + JsonSchema), text: &str) {
        match self.json() {
            true => self.document(report),
            false => self.write(text),
        }
    }

    /// Prints what a command has done: with `--quiet` its exit code says enough.
    pub fn print_done(&self, report: &(impl Serialize + JsonSchema), text: &str) {
        match self.json() || !self.common.quiet {
            true => self.print(report, text),
            false => crate::log::add(text),
        }
    }

    /// Prints a document, with the version of its format.
    pub fn document(&self, report: &(impl Serialize + JsonSchema)) {
        let mut document = Map::from_iter([("format".to_owned(), Value::from(FORMAT))]);
        if let Ok(Value::Object(values)) = serde_json::to_value(report) {
            document.extend(values);
        }
        let mut document = Value::Object(document);
        with_commands(&mut document);
        self.write(&format!("{}\n", safe_json(&format!("{document:#}"))));
    }

    fn write(&self, text: &str) {
        self.progress.part();
        crate::log::add(text);
        let mut out = std::io::stdout().lock();
        let _ = out.write_all(text.as_bytes());
        let _ = out.flush();
    }
}
