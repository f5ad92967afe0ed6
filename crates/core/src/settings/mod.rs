//! Connection settings of a site, found by the syntax of the file they stand in and by what their
//! names say: PHP, dotenv, INI, TOML, YAML, JSON, XML, Python, Ruby, JavaScript, and addresses and
//! data source names within any of them.
//!
//! No program is known by name. A connection is a file of an embedded database, or the name of a
//! database and a user, near each other under names that say so. What is written stays to the
//! byte, but for the values. `crates/core/tests/settings.rs` has an example of every form.

mod address;
mod code;
mod lines;
mod meaning;
mod spelling;
mod xml;
mod yaml;

pub use spelling::Layer;

use code::Language;
use meaning::{Found, connections};
use std::borrow::Cow;
use std::ops::Range;

/// What a setting stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// Which engine.
    Engine,
    /// The host, perhaps with `:port`.
    Host,
    /// The port.
    Port,
    /// The socket on the host.
    Socket,
    /// The database.
    Name,
    /// The user.
    User,
    /// The password.
    Password,
    /// The file of an embedded database.
    File,
}

/// One setting: a name, its role, its value and where the value stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Setting {
    /// The name as written.
    pub name: String,
    /// What it stands for.
    pub role: Role,
    /// The value, unescaped.
    pub value: String,
    /// The bytes of the value in the file, without quotes.
    pub range: Range<usize>,
    /// How it is written there, the outermost first.
    pub layers: Vec<Layer>,
    /// The line, counted from 1.
    pub line: usize,
}

/// The settings of one connection, in the order in which they stand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Connection {
    /// The settings.
    pub settings: Vec<Setting>,
}

impl Connection {
    /// What a role is set to.
    pub fn value(&self, role: Role) -> Option<&str> {
        let setting = self.settings.iter().find(|setting| setting.role == role);
        setting.map(|setting| setting.value.as_str())
    }
}

/// The connections that a file names, in the order in which they begin.
pub fn find(text: &[u8]) -> Vec<Connection> {
    let text = in_place(text);
    if !may_hold_any(&text) {
        return Vec::new();
    }
    // What a file is shows itself: the first form that gives a connection is its own.
    let mut read = forms(&text).iter().map(|read| connections(&text, read(&text)));
    read.find(|all| !all.is_empty()).unwrap_or_default()
}

/// The text with as many bytes: those that are no UTF-8 become a sign that no setting holds.
fn in_place(text: &[u8]) -> Cow<'_, str> {
    if let Ok(text) = std::str::from_utf8(text) {
        return Cow::Borrowed(text);
    }
    let mut whole = String::with_capacity(text.len());
    for chunk in text.utf8_chunks() {
        whole.push_str(chunk.valid());
        whole.extend(chunk.invalid().iter().map(|_| '\u{1a}'));
    }
    Cow::Owned(whole)
}

type Read = fn(&str) -> Vec<Found>;

fn forms(text: &str) -> &'static [Read] {
    let start = text.trim_start_matches('\u{feff}').trim_start();
    if text.contains("<?php") || text.contains("<?=") {
        &[|text| code::values(text, Language::Php)]
    } else if start.starts_with('<') {
        &[xml::values]
    } else if start.starts_with('{') || start.starts_with("[{") {
        &[|text| code::values(text, Language::Slash)]
    } else {
        &[
            lines::values,
            yaml::values,
            |text| code::values(text, Language::Hash),
            |text| code::values(text, Language::Slash),
        ]
    }
}

/// Whether a text names anything that every connection has: most files do not.
fn may_hold_any(text: &str) -> bool {
    let small = text.to_ascii_lowercase();
    let named = ["user", "login", "uid", "usr"].iter().any(|word| small.contains(word))
        && ["name", "database", "db", "schema", "catalog"].iter().any(|word| small.contains(word));
    let file = ["file", "path", "storage", "sqlite"].iter().any(|word| small.contains(word));
    let address = ["sql", "maria", "postgres"].iter().any(|word| small.contains(word));
    named || file || address
}

/// Where the quote ends that begins at `at`: a backslash takes the next character along.
fn quote_end(text: &str, at: usize) -> Option<usize> {
    let bytes = text.as_bytes();
    let quote = *bytes.get(at)?;
    let mut end = at + 1;
    loop {
        match *bytes.get(end)? {
            b'\\' => end += 2,
            byte if byte == quote => return Some(end),
            _ => end += 1,
        }
    }
}

/// Writes new values in place of the old ones; everything else stays to the byte.
pub fn write(
    text: &[u8],
    settings: &[Setting],
    mut new: impl FnMut(&Setting) -> Option<String>,
) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut at = 0;
    for setting in settings {
        let Some(value) = new(setting).filter(|value| *value != setting.value) else {
            continue;
        };
        out.extend_from_slice(&text[at..setting.range.start]);
        out.extend_from_slice(spelling::encode(&setting.layers, &value).as_bytes());
        at = setting.range.end;
    }
    out.extend_from_slice(&text[at..]);
    out
}
