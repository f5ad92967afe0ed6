//! Settings of a session that decide where texts end; scripts change them on the way.

use super::super::Dialect;
use super::{Lexeme, Literal};
use crate::limits;
use std::collections::BTreeMap;

/// The settings in force.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Modes {
    /// Backslashes are ordinary signs (`NO_BACKSLASH_ESCAPES` of MariaDB and MySQL).
    pub plain_backslash: bool,
    /// Double quotes hold names (`ANSI_QUOTES` of MariaDB and MySQL).
    pub ansi_quotes: bool,
    /// Backslashes escape in every text (`standard_conforming_strings = off` of PostgreSQL).
    pub escaped_strings: bool,
}

/// Modes of MariaDB and MySQL in which double quotes hold names.
const QUOTING: [&str; 7] = ["ANSI_QUOTES", "ANSI", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL"];

impl Modes {
    /// What a value of `sql_mode` means here.
    pub fn of_sql_mode(value: &str) -> Self {
        let has =
            |wanted: &str| value.split(',').any(|mode| mode.trim().eq_ignore_ascii_case(wanted));
        Self {
            plain_backslash: has("NO_BACKSLASH_ESCAPES"),
            ansi_quotes: QUOTING.iter().any(|mode| has(mode)),
            escaped_strings: false,
        }
    }
}

/// The assignments of one statement, and what variables of the user keep.
#[derive(Clone, Debug, Default)]
pub(super) struct Assignments {
    tokens: Vec<(Lexeme, Vec<u8>)>,
    length: usize,
    saved: BTreeMap<String, Modes>,
    /// A setting whose value is computed from what decides about texts.
    pub unknown: Option<&'static str>,
}

/// One assignment: what it sets, and the tokens of its value.
struct Assignment<'a> {
    /// In small letters, without the at signs.
    name: String,
    is_variable: bool,
    is_global: bool,
    value: &'a [(Lexeme, Vec<u8>)],
}

impl Assignments {
    pub fn begin(&mut self) {
        self.tokens.clear();
        self.length = 0;
    }

    pub fn note(&mut self, lexeme: Lexeme, text: &[u8]) {
        self.length += text.len();
        if self.length <= limits::SQL_ASSIGNMENT
            && !matches!(lexeme, Lexeme::MarkOpen | Lexeme::MarkClose)
        {
            self.tokens.push((lexeme, text.to_vec()));
        }
    }

    /// The statement has ended: its settings are in force.
    pub fn end(&mut self, dialect: Dialect, modes: &mut Modes) {
        let tokens = std::mem::take(&mut self.tokens);
        if self.length > limits::SQL_ASSIGNMENT || tokens.is_empty() {
            return;
        }
        match dialect {
            Dialect::Sqlite => {}
            Dialect::Postgres => self.end_postgres(&tokens, modes),
            Dialect::Mariadb if word_of(&tokens[0]) == "set" => {
                for assignment in assignments(&tokens[1..]) {
                    self.assign(&assignment, modes);
                }
            }
            Dialect::Mariadb => {}
        }
    }

    fn assign(&mut self, assignment: &Assignment<'_>, modes: &mut Modes) {
        let value = assignment.value;
        // `@@sql_mode`, `@@session.sql_mode`
        let reads_mode = value.first().is_some_and(|token| token.0 == Lexeme::Sign(b'@'))
            && value.get(1).is_some_and(|token| token.0 == Lexeme::Sign(b'@'))
            && value.last().is_some_and(|token| word_of(token) == "sql_mode");
        let variable = match value {
            [(Lexeme::Sign(b'@'), _), name] if !reads_mode => self.saved.get(&word_of(name)),
            _ => None,
        };
        let new = match value {
            _ if reads_mode => Some(*modes),
            _ if variable.is_some() => variable.copied(),
            [(Lexeme::Text(_) | Lexeme::Name | Lexeme::Word | Lexeme::Number, _)] => {
                Some(Modes::of_sql_mode(&word_of(&value[0])))
            }
            _ => None,
        };
        if assignment.is_variable {
            match new {
                Some(new) => self.saved.insert(assignment.name.clone(), new),
                None => self.saved.remove(&assignment.name),
            };
            return;
        }
        if assignment.name != "sql_mode" || assignment.is_global {
            return;
        }
        match new {
            Some(new) => *modes = new,
            // A variable that the script has not set holds what was before: the usual mode.
            None if matches!(value, [(Lexeme::Sign(b'@'), _), _]) => *modes = Modes::default(),
            None => {
                let decides = |text: &[u8]| {
                    let text = String::from_utf8_lossy(text).to_ascii_uppercase();
                    text.contains("BACKSLASH") || QUOTING.iter().any(|mode| text.contains(mode))
                };
                if value.iter().any(|(_, text)| decides(text)) {
                    self.unknown = Some("sql_mode");
                }
            }
        }
    }

    fn end_postgres(&mut self, tokens: &[(Lexeme, Vec<u8>)], modes: &mut Modes) {
        const SETTING: &str = "standard_conforming_strings";
        let Some(place) = tokens.iter().position(|token| word_of(token) == SETTING) else {
            return;
        };
        let before: Vec<String> = tokens[..place].iter().map(word_of).collect();
        let set = before.first().is_some_and(|word| word == "set");
        let call = before.iter().any(|word| word == "set_config");
        if !set && !call {
            return;
        }
        // SET … = off, SET … TO off, set_config('…', 'off', false)
        let value = tokens.get(place + 2).map(word_of).unwrap_or_default();
        match value.as_str() {
            "off" | "false" | "no" | "0" | "f" | "n" | "of" => modes.escaped_strings = true,
            "on" | "true" | "yes" | "1" | "t" | "y" | "default" => modes.escaped_strings = false,
            _ => self.unknown = Some(SETTING),
        }
    }
}

/// `[SESSION | @@] name = value`, parted by commas.
fn assignments(tokens: &[(Lexeme, Vec<u8>)]) -> Vec<Assignment<'_>> {
    let mut found = Vec::new();
    let mut depth = 0;
    let mut parts: Vec<&[(Lexeme, Vec<u8>)]> = Vec::new();
    let mut from = 0;
    for (at, (lexeme, _)) in tokens.iter().enumerate() {
        match lexeme {
            Lexeme::Sign(b'(') => depth += 1,
            Lexeme::Sign(b')') => depth -= 1,
            Lexeme::Sign(b',') if depth == 0 => {
                parts.push(&tokens[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&tokens[from..]);
    for part in parts {
        let Some(equal) = part.iter().position(|token| token.0 == Lexeme::Sign(b'=')) else {
            continue;
        };
        let left = &part[..equal];
        let left = left.strip_suffix(&[(Lexeme::Sign(b':'), b":".to_vec())]).unwrap_or(left);
        let Some(name) = left.last() else { continue };
        let at = |place: usize| left.get(place).is_some_and(|t| t.0 == Lexeme::Sign(b'@'));
        found.push(Assignment {
            name: word_of(name),
            is_variable: at(0) && !at(1),
            is_global: left.iter().any(|token| word_of(token) == "global"),
            value: &part[equal + 1..],
        });
    }
    found
}

/// A token as a word: in small letters, without its quotes.
fn word_of((lexeme, text): &(Lexeme, Vec<u8>)) -> String {
    let text = match lexeme {
        Lexeme::Name => &text[1..text.len().saturating_sub(1).max(1)],
        Lexeme::Text(Literal::Quoted { prefix, .. }) => {
            &text[prefix + 1..text.len().saturating_sub(1).max(prefix + 1)]
        }
        _ => &text[..],
    };
    String::from_utf8_lossy(text).to_ascii_lowercase()
}
