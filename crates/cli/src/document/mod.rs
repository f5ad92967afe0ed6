//! A report as a document of its own: one HTML page that needs nothing else, readable on
//! paper and without scripts.

mod comparing;
mod rewriting;
mod scan;

pub use comparing::of_comparing;
pub use rewriting::of_rewriting;
pub use scan::write_scan;

use crate::render::{Page, Style};
use fernweh_ports::{Result, Trouble, shown};
use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;
use std::fs::Permissions;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
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

/// A number on a page: in groups of three, whoever reads it.
fn count(number: u64) -> String {
    fernweh_ports::grouped(number)
}

/// The same with what it counts.
fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// By what, and when, a document is made.
pub fn made() -> String {
    format!("Fernweh {}, {}", env!("CARGO_PKG_VERSION"), fernweh_flow::now())
}

/// What a page shows, with its texts as they are shown: HTML hides neither what turns the direction
/// of writing nor controls.
fn safe(shows: &impl Serialize) -> serde_json::Value {
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
    let mut value = serde_json::to_value(shows).unwrap_or_default();
    within(&mut value);
    value
}

/// By this a report of our own is known.
const MARK: &str = "<meta name=\"generator\" content=\"Fernweh";

/// Writes a document; a report of an earlier run is replaced, and no other file.
pub fn write(path: &Path, document: &Document) -> Result<()> {
    #[derive(Serialize)]
    struct Shows<'a> {
        document: &'a Document,
    }
    write_page(path, LAYOUT, &Shows { document })
}

/// Writes a page by a layout.
fn write_page(path: &Path, layout: &str, shows: &impl Serialize) -> Result<()> {
    let mut layouts = Environment::new();
    // Lines of the layout that are only instructions leave nothing behind.
    let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).build();
    layouts.set_syntax(syntax.map_err(|error| Trouble::damaged(WHAT).because(error))?);
    layouts.set_formatter(|out, state, value| match (value.as_str(), state.auto_escape()) {
        // Addresses are most of a page: a slash stays one.
        (Some(text), AutoEscape::Html) if !value.is_safe() => {
            out.write_str(&htmlize::escape_all_quotes(text)).map_err(Into::into)
        }
        _ => minijinja::escape_formatter(out, state, value),
    });
    let page = layouts
        .add_template("layout.html", layout)
        .and_then(|()| layouts.get_template("layout.html"))
        .and_then(|template| template.render(Serde(safe(shows))))
        .map_err(|error| Trouble::damaged(WHAT).because(error))?;
    check(Some(path))?;
    let wrong = |error: std::io::Error| Trouble::file(WHAT, path, &error);
    // A reader never sees half a page, and a full disk keeps the old one.
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let mut builder = tempfile::Builder::new();
    // As any new file: what the user's mask allows.
    builder.permissions(Permissions::from_mode(0o666));
    let mut file = builder.tempfile_in(folder.unwrap_or(Path::new("."))).map_err(wrong)?;
    file.write_all(page.as_bytes()).map_err(wrong)?;
    file.persist(path).map_err(|error| wrong(error.error))?;
    Ok(())
}

const WHAT: &str = "cannot write the report";

/// Refuses a report that could not be written later, before any work is done.
pub fn check(path: Option<&Path>) -> Result<()> {
    let Some(path) = path else { return Ok(()) };
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty())
        && !folder.is_dir()
    {
        return Err(Trouble::usage(WHAT)
            .at(path.display().to_string())
            .because("its folder does not exist")
            .hint("create the folder, or choose another place"));
    }
    let mut start = Vec::new();
    let open = std::fs::File::open(path);
    let is_there = open.is_ok() || path.exists();
    if let Ok(file) = open {
        let _ = file.take(2000).read_to_end(&mut start);
    }
    let own = String::from_utf8_lossy(&start).contains(MARK);
    match is_there && !own {
        true => Err(Trouble::already_there(WHAT, path)
            .because("a file of this name is there, and it is no report of Fernweh")),
        false => Ok(()),
    }
}

/// A result with the line that names the report, before what comes next.
pub fn named_in(text: String, path: Option<&Path>, style: Style) -> String {
    let Some(path) = path else { return text };
    let mut page = Page::new(style);
    page.row("report", &path.display().to_string());
    let line = page.finish();
    match text.rfind("\nnext ") {
        Some(at) => format!("{}\n{line}{}", &text[..at], &text[at + 1..]),
        None => text + &line,
    }
}
