//! A report as a document of its own: one HTML page that needs nothing else, readable on
//! paper and without scripts.

mod rewriting;
mod scan;

pub use rewriting::of_rewriting;
pub use scan::of_scan;

use fernweh_ports::{Result, Trouble, shown};
use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{Environment, context};
use serde::Serialize;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::Path;

/// A report, ready to be laid out.
#[derive(Serialize)]
pub struct Document {
    /// What was done, to what.
    pub title: String,
    /// The answer to the reader's question.
    pub headline: String,
    /// A short table of what was looked at: label and content.
    pub facts: Vec<(&'static str, String)>,
    /// The rest, by weight.
    pub sections: Vec<Section>,
    /// When it was made, and by what.
    pub made: String,
}

/// A part of a document.
#[derive(Default, Serialize)]
pub struct Section {
    /// Its heading.
    pub title: String,
    /// `broken` or `warning`, if it is about a fault.
    pub weight: &'static str,
    /// What to do about it.
    pub remedy: String,
    /// Heads of columns; those of numbers begin with `#`.
    pub head: Vec<&'static str>,
    /// Rows of the table.
    pub rows: Vec<Vec<String>>,
    /// Changes, before and after.
    pub samples: Vec<Shown>,
    /// Single things, with what belongs to them.
    pub items: Vec<Item>,
}

/// A change in its surroundings.
#[derive(Serialize)]
pub struct Shown {
    /// Where.
    pub place: String,
    /// The text before it.
    pub lead: String,
    /// What was there.
    pub before: String,
    /// What is there now.
    pub after: String,
    /// The text behind it.
    pub trail: String,
}

/// A thing with what belongs to it.
#[derive(Serialize)]
pub struct Item {
    /// What it is.
    pub title: String,
    /// Lines below it.
    pub lines: Vec<String>,
}

const LAYOUT: &str = include_str!("layout.html");

/// By what, and when, a document is made.
pub fn made() -> String {
    format!("Fernweh {}, {}", env!("CARGO_PKG_VERSION"), fernweh_flow::now())
}

/// The document with its texts as they are shown: HTML hides neither what turns the direction
/// of writing nor controls.
fn safe(document: &Document) -> serde_json::Value {
    fn within(value: &mut serde_json::Value) {
        match value {
            serde_json::Value::String(text) => {
                if let std::borrow::Cow::Owned(safe) = shown(text) {
                    *text = safe;
                }
            }
            serde_json::Value::Array(values) => values.iter_mut().for_each(within),
            serde_json::Value::Object(values) => values.values_mut().for_each(within),
            _ => {}
        }
    }
    let mut value = serde_json::to_value(document).unwrap_or_default();
    within(&mut value);
    value
}

/// Writes a document; a file that is there is not replaced.
pub fn write(path: &Path, document: &Document) -> Result<()> {
    let what = "cannot write the report";
    let mut layout = Environment::new();
    // Lines of the layout that are only instructions leave nothing behind.
    let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).build();
    layout.set_syntax(syntax.map_err(|error| Trouble::damaged(what).because(error))?);
    let page = layout
        .add_template("layout.html", LAYOUT)
        .and_then(|()| layout.get_template("layout.html"))
        .and_then(|template| template.render(context! { document => Serde(safe(document)) }))
        .map_err(|error| Trouble::damaged(what).because(error))?;
    let mut options = OpenOptions::new();
    let mut file =
        options.write(true).create_new(true).open(path).map_err(|error| match error.kind() {
            std::io::ErrorKind::AlreadyExists => Trouble::already_there(what, path),
            _ => Trouble::file(what, path, &error),
        })?;
    file.write_all(page.as_bytes()).map_err(|error| Trouble::file(what, path, &error))
}

/// Refuses a report that could not be written later, before any work is done.
pub fn check(path: Option<&Path>) -> Result<()> {
    match path {
        Some(path) if path.exists() => Err(Trouble::already_there("cannot write the report", path)),
        _ => Ok(()),
    }
}
