//! The texts of a script while it streams past: everything else is handed on as it is.
//!
//! A script is cut into texts (literals, bodies in dollar quotes, fields of `COPY`) and what
//! stands between them. It need not be a script that Fernweh could run: nothing is understood
//! but what the lexer knows, and the lines behind `COPY … FROM stdin`.

mod notation;

pub use notation::{Notation, TextOutcome};

use super::Dialect;
use super::lexer::{Lexeme, Lexer, Literal, Step};

/// A part of a script.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ScriptPart<'a> {
    /// Anything but a text.
    Rest(&'a [u8]),
    /// A text as it stands there, quotes and all, and how to read it.
    Text(&'a [u8], Notation),
}

/// Where the cutter is in the rows behind a `COPY`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Copy {
    /// Not in them.
    No,
    /// The rest of the line of the statement.
    Head,
    /// At the beginning of a line.
    Line,
    /// Behind a tab.
    Field,
}

/// Cuts a script; it is fed in any pieces.
pub struct TextCutter {
    dialect: Dialect,
    lexer: Lexer,
    copy: Copy,
    held: Vec<u8>,
    /// Up to here `held` has been handed on, or waits as what is no text.
    at: usize,
    /// In a field: up to here its end has been looked for.
    searched: usize,
}

/// What a step came to.
enum Cut {
    /// It needs more bytes.
    Wait,
    /// So many bytes that are no text.
    Rest(usize),
    /// So many bytes that are no text, and so many of a text.
    Text(usize, usize, Notation),
}

impl TextCutter {
    /// Begins a script.
    pub fn new(dialect: Dialect) -> Self {
        let lexer = Lexer::script(dialect);
        Self { dialect, lexer, copy: Copy::No, held: Vec::new(), at: 0, searched: 0 }
    }

    /// Bytes that are held: a text that is not complete yet.
    pub fn held(&self) -> usize {
        self.held.len()
    }

    /// Takes more of the script; hands on what is complete.
    pub fn feed<E>(
        &mut self,
        bytes: &[u8],
        visit: &mut dyn FnMut(ScriptPart<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        self.held.extend_from_slice(bytes);
        self.go(false, visit)
    }

    /// The script has ended; what is left of it is handed on.
    pub fn finish<E>(
        &mut self,
        visit: &mut dyn FnMut(ScriptPart<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        self.go(true, visit)?;
        if !self.held.is_empty() {
            visit(ScriptPart::Rest(&self.held))?;
            self.held.clear();
        }
        Ok(())
    }

    fn go<E>(
        &mut self,
        last: bool,
        visit: &mut dyn FnMut(ScriptPart<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        // What is no text is handed on together, up to the next text.
        let mut done = 0;
        while self.at < self.held.len() {
            match self.step(last) {
                Cut::Wait => break,
                Cut::Rest(length) => self.at += length,
                Cut::Text(before, length, notation) => {
                    let begin = self.at + before;
                    if done < begin {
                        visit(ScriptPart::Rest(&self.held[done..begin]))?;
                    }
                    visit(ScriptPart::Text(&self.held[begin..begin + length], notation))?;
                    self.at = begin + length;
                    done = self.at;
                }
            }
        }
        if done < self.at {
            visit(ScriptPart::Rest(&self.held[done..self.at]))?;
        }
        self.held.drain(..self.at);
        self.at = 0;
        Ok(())
    }

    fn step(&mut self, last: bool) -> Cut {
        if self.copy != Copy::No {
            return self.row(last);
        }
        let rest = &self.held[self.at..];
        let (lexeme, length) = match self.lexer.step(rest, last) {
            Step::Token(lexeme, length) => (lexeme, length),
            Step::More | Step::Open => return Cut::Wait,
        };
        let quoted = |quote, backslash| Notation::Quoted { quote, backslash };
        match lexeme {
            Lexeme::Text(Literal::Quoted { prefix, quote, backslash }) => {
                Cut::Text(prefix, length - prefix, quoted(quote, backslash))
            }
            Lexeme::Text(Literal::Hex) => Cut::Text(1, length - 1, Notation::HexQuoted),
            Lexeme::Text(Literal::Dollar(tag)) => Cut::Text(0, length, Notation::Dollar(tag)),
            Lexeme::Number if self.dialect == Dialect::Mariadb && rest.starts_with(b"0x") => {
                Cut::Text(0, length, Notation::HexDigits)
            }
            Lexeme::End if self.lexer.rows_follow() => {
                self.copy = Copy::Head;
                Cut::Rest(length)
            }
            _ => Cut::Rest(length),
        }
    }

    /// A step in the rows behind a `COPY`: a field, what parts fields, or the line that ends
    /// them.
    fn row(&mut self, last: bool) -> Cut {
        let rest = &self.held[self.at..];
        if self.copy == Copy::Head {
            return match memchr::memchr(b'\n', rest) {
                Some(end) => {
                    self.copy = Copy::Line;
                    Cut::Rest(end + 1)
                }
                None => Cut::Rest(rest.len()),
            };
        }
        if self.copy == Copy::Line {
            if rest.len() < 2 && !last {
                return Cut::Wait;
            }
            if rest.starts_with(b"\\.") {
                self.copy = Copy::No;
                return Cut::Rest(2);
            }
        }
        match rest[0] {
            b'\t' => {
                self.copy = Copy::Field;
                return Cut::Rest(1);
            }
            b'\n' => {
                self.copy = Copy::Line;
                return Cut::Rest(1);
            }
            _ => {}
        }
        match memchr::memchr2(b'\t', b'\n', &rest[self.searched..]) {
            Some(found) => {
                let length = self.searched + found;
                self.searched = 0;
                self.copy = Copy::Field;
                Cut::Text(0, length, Notation::CopyField)
            }
            None => {
                self.searched = rest.len();
                Cut::Wait
            }
        }
    }
}

#[cfg(test)]
mod tests;
