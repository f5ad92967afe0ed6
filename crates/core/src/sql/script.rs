//! Cutting a script into statements while it streams past.
//!
//! Where a statement ends is the lexer's to say: a semicolon outside texts and comments, what a
//! `DELIMITER` line names in its place, `; END;` for a trigger of SQLite.

use super::Dialect;
use super::lexer::{Lexeme, Lexer, Modes, Step};
use crate::limits;
use std::io::Read;
use thiserror::Error;

/// Why a script cannot be read.
#[derive(Debug, Error)]
pub enum ScriptError {
    /// The stream failed.
    #[error("the script cannot be read: {0}")]
    Read(#[from] std::io::Error),
    /// A statement is larger than Fernweh accepts.
    #[error("a statement of more than {0} bytes")]
    TooLong(usize),
    /// The script ends in the middle of a statement.
    #[error("the script ends in the middle of a statement")]
    Unfinished,
    /// Records that packing would have parted.
    #[error("a statement with too many records or columns")]
    TooMany,
    /// It computes a setting that decides where texts end.
    #[error("{0} is set to a computed value, so it is unclear where its texts end")]
    Computed(&'static str),
}

/// Statements out of a stream.
pub struct ScriptReader<R> {
    stream: R,
    lexer: Lexer,
    buffer: Vec<u8>,
    start: usize,
    ended: bool,
    /// Whether long statements hold one record each.
    bounded: bool,
    /// Bytes of a statement at most.
    longest: usize,
    /// Lines that have been passed.
    passed: u64,
    /// The line at which the last statement begins, counted from one.
    line: u64,
}

/// Bytes of a statement above which it is not copied.
const LARGE: usize = if cfg!(test) { 24 } else { 4 << 20 };

impl<R: Read> ScriptReader<R> {
    /// Reads statements of `dialect` from `stream`.
    pub fn new(dialect: Dialect, stream: R) -> Self {
        let (buffer, lexer) = (Vec::new(), Lexer::script(dialect));
        let (start, ended, bounded) = (0, false, false);
        let longest = limits::STATEMENT;
        Self { stream, lexer, buffer, start, ended, bounded, longest, passed: 0, line: 1 }
    }

    /// A statement beyond [`limits::INSERT_OF_MANY`] that begins another record is refused as
    /// soon as it does: what packing writes has one large record, at its end.
    pub fn bounding_records(self) -> Self {
        Self { bounded: true, ..self }
    }

    /// Statements may have so many bytes.
    pub fn with_longest(self, longest: usize) -> Self {
        Self { longest, ..self }
    }

    /// The line at which the last statement begins, counted from one.
    pub fn line(&self) -> u64 {
        self.line
    }

    /// The modes in which the last statement is written.
    pub fn modes(&self) -> Modes {
        self.lexer.modes()
    }

    /// Whether the last statement is followed by the rows of a `COPY`.
    pub fn rows_follow(&self) -> bool {
        self.lexer.rows_follow()
    }

    /// Passes so many bytes.
    fn pass(&mut self, length: usize) {
        let passed = &self.buffer[self.start..self.start + length];
        self.passed += memchr::memchr_iter(b'\n', passed).count() as u64;
        self.start += length;
    }

    /// The next raw line, without its line break; `None` at the end of the stream. For the
    /// rows that follow a `COPY … FROM stdin`.
    pub fn next_line(&mut self) -> Result<Option<Vec<u8>>, ScriptError> {
        let mut searched = 0;
        loop {
            let text = &self.buffer[self.start..];
            if let Some(length) = memchr::memchr(b'\n', &text[searched..]) {
                return Ok(Some(self.take(searched + length, 1)));
            }
            if self.ended {
                let line = text.to_vec();
                self.start = self.buffer.len();
                return Ok(Some(line).filter(|line| !line.is_empty()));
            }
            searched = text.len();
            self.fill_within(searched)?;
        }
    }

    /// The next statement, without its delimiter, or a line for the engine's own client (but no
    /// `DELIMITER`); `None` at the end.
    pub fn next_statement(&mut self) -> Result<Option<Vec<u8>>, ScriptError> {
        // Up to here the statement has been looked at, and whether it holds more than comments.
        let (mut at, mut holds) = (0, false);
        // Open parentheses, and the commas in the outermost of them.
        let (mut depth, mut commas) = (0_usize, 0_usize);
        loop {
            let rest = &self.buffer[self.start + at..];
            if rest.is_empty() && self.ended {
                self.line = self.passed + 1;
                return if holds { Err(ScriptError::Unfinished) } else { Ok(None) };
            }
            match self.lexer.step(rest, self.ended) {
                Step::More => self.fill_within(at)?,
                Step::Open => {
                    self.line = self.passed + 1;
                    return Err(ScriptError::Unfinished);
                }
                Step::Token(lexeme, length) => match lexeme {
                    // Nothing has begun yet: what stands before a statement is passed.
                    Lexeme::Space | Lexeme::Comment if !holds => self.pass(length),
                    Lexeme::ClientLine => {
                        let delimiter = rest[..length]
                            .get(..9)
                            .is_some_and(|word| word.eq_ignore_ascii_case(b"DELIMITER"));
                        self.line = self.passed + 1;
                        let line = self.take(length, 0);
                        if !delimiter {
                            return Ok(Some(line));
                        }
                    }
                    Lexeme::End => {
                        if let Some(setting) = self.lexer.unknown_mode() {
                            return Err(ScriptError::Computed(setting));
                        }
                        self.line = self.passed + 1;
                        let statement = self.take(at, length);
                        if holds {
                            return Ok(Some(statement));
                        }
                        at = 0;
                    }
                    _ => {
                        match lexeme {
                            Lexeme::Sign(b'(') => {
                                if self.bounded && depth == 0 && at > limits::INSERT_OF_MANY {
                                    return Err(ScriptError::TooMany);
                                }
                                commas = if depth == 0 { 0 } else { commas };
                                depth += 1;
                            }
                            Lexeme::Sign(b',') if self.bounded && depth == 1 => {
                                commas += 1;
                                if commas > limits::COLUMNS {
                                    return Err(ScriptError::TooMany);
                                }
                            }
                            Lexeme::Sign(b')') => depth = depth.saturating_sub(1),
                            _ => {}
                        }
                        holds = true;
                        at += length;
                    }
                },
            }
        }
    }

    /// Takes so many bytes, and passes what ends them.
    fn take(&mut self, length: usize, end: usize) -> Vec<u8> {
        let start = self.start;
        self.pass(length + end);
        if length < LARGE {
            return self.buffer[start..start + length].to_vec();
        }
        // A very large one is not copied: the buffer becomes the statement.
        let rest = self.buffer.split_off(self.start);
        let mut statement = std::mem::replace(&mut self.buffer, rest);
        self.start = 0;
        statement.truncate(start + length);
        statement.drain(..start);
        statement
    }

    /// Reads more, unless what is held is larger than a statement may be.
    fn fill_within(&mut self, held: usize) -> Result<(), ScriptError> {
        if held > self.longest || self.buffer.len() - self.start > self.longest {
            self.line = self.passed + 1;
            return Err(ScriptError::TooLong(self.longest));
        }
        if self.start > 0 {
            self.buffer.drain(..self.start);
            self.start = 0;
        }
        let had = self.buffer.len();
        self.buffer.resize(had + (256 << 10), 0);
        let length = self.stream.read(&mut self.buffer[had..])?;
        self.buffer.truncate(had + length);
        self.ended = length == 0;
        Ok(())
    }
}
