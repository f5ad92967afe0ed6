//! The texts of a script while it streams past: everything else is handed on as it is.
//!
//! A script is cut into texts (literals, bodies in dollar quotes, fields of `COPY`) and what
//! stands between them. It need not be a script that Fernweh could run: nothing is understood
//! but quotes, comments and the lines behind `COPY … FROM stdin`.

mod notation;

pub use notation::{Notation, TextOutcome};

use super::Dialect;
use super::lexer::dollar_tag;
use std::ops::Range;

/// A part of a script.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part<'a> {
    /// Anything but a text.
    Rest(&'a [u8]),
    /// A text as it stands there, quotes and all, and how to read it.
    Text(&'a [u8], Notation),
}

/// Bytes of a statement that are kept to see whether it is a `COPY`.
const HEAD: usize = 1 << 16;
/// The longest tag of a dollar quote that is waited for.
const TAG: usize = 128;

#[derive(Clone, Debug, PartialEq)]
enum State {
    Code,
    /// A text up to its quote.
    Text(Notation),
    /// A name up to this sign.
    Name(u8),
    LineComment,
    /// How many are open.
    BlockComment(u32),
    Dollar(Vec<u8>),
    Hex,
    /// The rest of the line of a `COPY`.
    CopyHead,
    CopyLines,
}

/// What a step came to.
enum Step {
    /// It needs more bytes.
    Wait,
    /// There may be more in what is here.
    On,
    /// A text is complete.
    Text(Range<usize>, Notation),
}

/// Cuts a script; it is fed in any pieces.
pub struct TextCutter {
    dialect: Dialect,
    state: State,
    held: Vec<u8>,
    /// Up to here `held` has been looked at.
    at: usize,
    /// Up to here it has been handed on.
    done: usize,
    /// Where a text that is open begins.
    open: Option<usize>,
    /// The beginning of a statement (PostgreSQL).
    head: Vec<u8>,
    /// The byte before `held`.
    before: u8,
}

impl TextCutter {
    /// Begins a script.
    pub fn new(dialect: Dialect) -> Self {
        let (held, head) = (Vec::new(), Vec::new());
        Self { dialect, state: State::Code, held, at: 0, done: 0, open: None, head, before: b'\n' }
    }

    /// Bytes that are held: a text that is not complete yet.
    pub fn held(&self) -> usize {
        self.held.len()
    }

    /// Takes more of the script; hands on what is complete.
    pub fn feed<E>(
        &mut self,
        bytes: &[u8],
        visit: &mut dyn FnMut(Part<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        self.held.extend_from_slice(bytes);
        self.go(false, visit)
    }

    /// The script has ended; what is left of it is handed on.
    pub fn finish<E>(&mut self, visit: &mut dyn FnMut(Part<'_>) -> Result<(), E>) -> Result<(), E> {
        self.go(true, visit)?;
        if self.done < self.held.len() {
            visit(Part::Rest(&self.held[self.done..]))?;
        }
        Ok(())
    }

    fn go<E>(
        &mut self,
        last: bool,
        visit: &mut dyn FnMut(Part<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        loop {
            match self.step(last) {
                Step::Wait => break,
                Step::On => {}
                Step::Text(range, notation) => {
                    if self.done < range.start {
                        visit(Part::Rest(&self.held[self.done..range.start]))?;
                    }
                    visit(Part::Text(&self.held[range.clone()], notation))?;
                    self.done = range.end;
                }
            }
        }
        // What is no text goes on at once.
        let free = self.open.unwrap_or(self.at);
        if self.done < free {
            visit(Part::Rest(&self.held[self.done..free]))?;
            self.done = free;
        }
        if let Some(last) = self.done.checked_sub(1) {
            self.before = self.held[last];
            self.held.drain(..self.done);
            self.at -= self.done;
            self.open = self.open.map(|open| open - self.done);
            self.done = 0;
        }
        Ok(())
    }

    /// Goes on by one token.
    fn step(&mut self, last: bool) -> Step {
        let Some(rest) = self.held.get(self.at..).filter(|rest| !rest.is_empty()) else {
            return Step::Wait;
        };
        match self.state.clone() {
            State::Code => self.code(last),
            State::Text(notation) => self.text(notation, last),
            State::Name(sign) => self.pass(sign, State::Code),
            State::LineComment => self.pass(b'\n', State::Code),
            State::BlockComment(depth) => self.block_comment(depth, last),
            State::Dollar(tag) => match memchr::memmem::find(rest, &tag) {
                Some(found) => {
                    self.at += found + tag.len();
                    self.close(Notation::Dollar(tag.len()))
                }
                None => {
                    // The tag can be cut by the end of what is here.
                    self.at = self.held.len().saturating_sub(tag.len()).max(self.at);
                    Step::Wait
                }
            },
            State::Hex => {
                self.at += rest.iter().take_while(|byte| byte.is_ascii_hexdigit()).count();
                match self.at == self.held.len() && !last {
                    true => Step::Wait,
                    false => self.close(Notation::HexDigits),
                }
            }
            State::CopyHead => self.pass(b'\n', State::CopyLines),
            State::CopyLines => self.copy_field(last),
        }
    }

    /// A text begins here.
    fn begin(&mut self, at: usize, length: usize, state: State) -> Step {
        self.open = Some(at);
        self.at = at + length;
        self.state = state;
        Step::On
    }

    /// The text that is open ends here.
    fn close(&mut self, notation: Notation) -> Step {
        self.state = State::Code;
        let begin = self.open.take().unwrap_or(self.at);
        Step::Text(begin..self.at, notation)
    }

    fn text(&mut self, notation: Notation, last: bool) -> Step {
        let (quote, rest) = (notation.quote(), &self.held[self.at..]);
        let found = match notation.has_backslashes() {
            true => memchr::memchr2(quote, b'\\', rest),
            false => memchr::memchr(quote, rest),
        };
        self.at += found.unwrap_or(rest.len());
        if found.is_none() {
            return Step::Wait;
        }
        let second = self.held.get(self.at + 1);
        if second.is_none() && !last {
            return Step::Wait;
        }
        if self.held[self.at] == b'\\' || second == Some(&quote) {
            self.at = (self.at + 2).min(self.held.len());
            return Step::On;
        }
        self.at += 1;
        self.close(notation)
    }

    /// Passes everything up to a sign.
    fn pass(&mut self, sign: u8, then: State) -> Step {
        match memchr::memchr(sign, &self.held[self.at..]) {
            Some(found) => {
                self.at += found + 1;
                self.state = then;
            }
            None => self.at = self.held.len(),
        }
        Step::On
    }

    fn block_comment(&mut self, depth: u32, last: bool) -> Step {
        let Some(found) = memchr::memchr2(b'*', b'/', &self.held[self.at..]) else {
            self.at = self.held.len();
            return Step::Wait;
        };
        self.at += found;
        let Some(second) = self.held.get(self.at + 1) else {
            self.at += usize::from(last);
            return Step::Wait;
        };
        let depth = match (self.held[self.at], second) {
            (b'*', b'/') => depth - 1,
            // Comments nest in PostgreSQL only.
            (b'/', b'*') if self.dialect == Dialect::Postgres => depth + 1,
            _ => {
                self.at += 1;
                return Step::On;
            }
        };
        self.at += 2;
        self.state = if depth == 0 { State::Code } else { State::BlockComment(depth) };
        Step::On
    }

    /// A field of a row, or the line that ends the rows.
    fn copy_field(&mut self, last: bool) -> Step {
        if self.open.is_none() {
            let rest = &self.held[self.at..];
            let previous = if self.at == 0 { self.before } else { self.held[self.at - 1] };
            if previous == b'\n' {
                if rest.len() < 2 && !last {
                    return Step::Wait;
                }
                if rest.starts_with(b"\\.") {
                    self.state = State::Code;
                    self.at += 2;
                    return Step::On;
                }
            }
            if matches!(rest[0], b'\t' | b'\n') {
                self.at += 1;
                return Step::On;
            }
            self.open = Some(self.at);
        }
        let rest = &self.held[self.at..];
        let found = memchr::memchr2(b'\t', b'\n', rest);
        self.at += found.unwrap_or(rest.len());
        match found {
            Some(_) => {
                let begin = self.open.take().unwrap_or(self.at);
                Step::Text(begin..self.at, Notation::CopyField)
            }
            None => Step::Wait,
        }
    }

    fn code(&mut self, last: bool) -> Step {
        let special = |byte: &u8| b"'\"`[-#/$0;".contains(byte);
        let found = self.held[self.at..].iter().position(special);
        let at = found.map_or(self.held.len(), |found| self.at + found);
        if self.dialect == Dialect::Postgres && self.head.len() < HEAD {
            self.head.extend_from_slice(&self.held[self.at..at]);
        }
        self.at = at;
        let Some(sign) = self.held.get(at).copied() else { return Step::Wait };
        // The longest beginnings are comments and tags.
        let rest = &self.held[at..];
        if rest.len() < 3 && !last && b"-/0".contains(&sign) {
            return Step::Wait;
        }
        let (second, third) = (rest.get(1).copied(), rest.get(2).copied());
        let previous = if at == 0 { self.before } else { self.held[at - 1] };
        let in_word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_' || byte > 127;
        let is = |dialect| self.dialect == dialect;
        let (mariadb, postgres) = (is(Dialect::Mariadb), is(Dialect::Postgres));
        match (sign, second) {
            (b'\'', _) => {
                let notation = self.quoted(previous, at);
                return self.begin(at, 1, State::Text(notation));
            }
            (b'"', _) if mariadb => {
                let notation = Notation::Quoted { quote: b'"', backslash: true };
                return self.begin(at, 1, State::Text(notation));
            }
            (b'"' | b'`', _) => self.state = State::Name(sign),
            (b'[', _) if is(Dialect::Sqlite) => self.state = State::Name(b']'),
            // `5--3` is arithmetic in MariaDB.
            (b'-', Some(b'-')) if !mariadb || third.is_none_or(|b| b.is_ascii_whitespace()) => {
                self.state = State::LineComment;
            }
            (b'#', _) if mariadb => self.state = State::LineComment,
            (b'/', Some(b'*')) => {
                // What stands in such a comment of MariaDB is run.
                let is_code = mariadb && matches!(third, Some(b'!' | b'M'));
                self.at = at + 2;
                self.state = if is_code { State::Code } else { State::BlockComment(1) };
                return Step::On;
            }
            (b'$', _) if postgres && !in_word(previous) => {
                if let Some(tag) = dollar_tag(rest) {
                    let tag = tag.to_vec();
                    return self.begin(at, tag.len(), State::Dollar(tag));
                }
                if !last && rest.len() < TAG && rest[1..].iter().all(|byte| in_word(*byte)) {
                    return Step::Wait;
                }
            }
            (b'0', Some(b'x')) if mariadb && !in_word(previous) => {
                return self.begin(at, 2, State::Hex);
            }
            (b';', _) => {
                let copies = postgres && is_copy(&self.head);
                self.head.clear();
                self.state = if copies { State::CopyHead } else { State::Code };
            }
            _ => {}
        }
        self.at = at + 1;
        Step::On
    }

    fn quoted(&self, previous: u8, at: usize) -> Notation {
        let before_that = match at {
            0 | 1 => b' ',
            at => self.held[at - 2],
        };
        let prefix = !(before_that.is_ascii_alphanumeric() || before_that == b'_');
        match previous {
            b'x' | b'X' if prefix => Notation::HexQuoted,
            b'e' | b'E' if prefix && self.dialect == Dialect::Postgres => {
                Notation::Quoted { quote: b'\'', backslash: true }
            }
            _ => Notation::Quoted { quote: b'\'', backslash: self.dialect == Dialect::Mariadb },
        }
    }
}

/// Whether a statement reads rows from the script itself.
fn is_copy(head: &[u8]) -> bool {
    let words: Vec<String> = String::from_utf8_lossy(head)
        .split_ascii_whitespace()
        .map(str::to_ascii_lowercase)
        .collect();
    words.first().is_some_and(|word| word == "copy")
        && words.windows(2).any(|pair| pair[0] == "from" && pair[1] == "stdin")
}

#[cfg(test)]
mod tests;
