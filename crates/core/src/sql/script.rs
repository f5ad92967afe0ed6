//! Cutting a script into statements while it streams past.
//!
//! A semicolon ends a statement, except inside quotes and comments, in the body of
//! a SQLite trigger (which ends with `; END;`, as in the engine's own client) and
//! while a `DELIMITER` line of MariaDB's client names another sign, in PostgreSQL's
//! dollar quotes and in the body of a function that begins with `BEGIN ATOMIC`.

use super::Dialect;
use super::lexer::{dollar_tag, tokens};
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
}

/// Statements out of a stream.
pub struct ScriptReader<R> {
    dialect: Dialect,
    stream: R,
    buffer: Vec<u8>,
    start: usize,
    ended: bool,
    delimiter: Vec<u8>,
    /// Lines that have been passed.
    passed: u64,
    /// The line at which the last statement begins, counted from one.
    line: u64,
}

/// Bytes of a statement above which it is not copied.
const LARGE: usize = if cfg!(test) { 24 } else { 4 << 20 };

#[derive(Default)]
struct Cutter {
    at: usize,
    /// The quote or comment that is open.
    open: Option<Open>,
    /// Whether a SQLite trigger has begun, and whether `;` and `; END` have passed.
    words: Vec<String>,
    word: Option<usize>,
    last_signs: u8,
    /// How many `BEGIN` and `CASE` of a routine's body wait for their `END` (PostgreSQL).
    blocks: u32,
}

#[derive(Clone, PartialEq)]
enum Open {
    /// A quote, and whether a backslash escapes in it.
    Quote(u8, bool),
    /// A dollar quote with its tag.
    Dollar(Vec<u8>),
    Line,
    /// Comments inside each other.
    Block(u32),
}

impl<R: Read> ScriptReader<R> {
    /// Reads statements of `dialect` from `stream`.
    pub fn new(dialect: Dialect, stream: R) -> Self {
        let buffer = Vec::new();
        let delimiter = b";".to_vec();
        Self { dialect, stream, buffer, start: 0, ended: false, delimiter, passed: 0, line: 1 }
    }

    /// The line at which the last statement begins, counted from one.
    pub fn line(&self) -> u64 {
        self.line
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
            if searched > limits::STATEMENT {
                return Err(ScriptError::TooLong(limits::STATEMENT));
            }
            self.fill()?;
        }
    }

    /// The next statement, without its delimiter; `None` at the end.
    pub fn next_statement(&mut self) -> Result<Option<Vec<u8>>, ScriptError> {
        let mut cutter = Cutter::default();
        loop {
            self.skip_space(&cutter)?;
            if self.take_delimiter_line()? {
                cutter = Cutter::default();
                continue;
            }
            // A command of PostgreSQL's own client is a line.
            if self.dialect == Dialect::Postgres
                && cutter.at == 0
                && self.buffer.get(self.start) == Some(&b'\\')
            {
                self.line = self.passed + 1;
                return self.next_line();
            }
            let text = &self.buffer[self.start..];
            if let Some(end) = cutter.cut(self.dialect, text, &self.delimiter, self.ended) {
                self.line = self.passed + 1;
                return Ok(Some(self.take(end, self.delimiter.len())));
            }
            if self.ended {
                // Comments may stand behind the last statement.
                let nothing = matches!(tokens(self.dialect, text).next_token(), Ok(None));
                self.line = self.passed + 1;
                return if nothing { Ok(None) } else { Err(ScriptError::Unfinished) };
            }
            if text.len() > limits::STATEMENT {
                return Err(ScriptError::TooLong(limits::STATEMENT));
            }
            self.fill()?;
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

    fn fill(&mut self) -> Result<(), ScriptError> {
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

    /// Skips white space and comments before a statement, so that what is a line of its own
    /// is seen as one; comments that some servers execute stay.
    fn skip_space(&mut self, cutter: &Cutter) -> Result<(), ScriptError> {
        if cutter.at > 0 {
            return Ok(());
        }
        loop {
            let text = &self.buffer[self.start..];
            let space = text.iter().take_while(|c| c.is_ascii_whitespace()).count();
            self.pass(space);
            let text = &self.buffer[self.start..];
            // Four bytes tell what kind of comment it is.
            if text.len() < 4 && !self.ended {
                self.fill()?;
                continue;
            }
            let line = text.starts_with(b"--") && begins_comment(self.dialect, text)
                || text.starts_with(b"#") && self.dialect == Dialect::Mariadb;
            let marked = text.starts_with(b"/*!") || text.starts_with(b"/*M!");
            let block = text.starts_with(b"/*") && !marked && self.dialect != Dialect::Postgres;
            let end: &[u8] = match (line, block) {
                (true, _) => b"\n",
                (_, true) => b"*/",
                _ => return Ok(()),
            };
            match memchr::memmem::find(text, end) {
                Some(length) => self.pass(length + end.len()),
                None if self.ended => {
                    self.pass(text.len());
                    return Ok(());
                }
                None if text.len() > limits::STATEMENT => {
                    return Err(ScriptError::TooLong(limits::STATEMENT));
                }
                None => self.fill()?,
            }
        }
    }

    fn take_delimiter_line(&mut self) -> Result<bool, ScriptError> {
        const WORD: &[u8] = b"DELIMITER ";
        if self.dialect != Dialect::Mariadb {
            return Ok(false);
        }
        loop {
            let text = &self.buffer[self.start..];
            let length = text.len().min(WORD.len());
            if !text[..length].eq_ignore_ascii_case(&WORD[..length]) {
                return Ok(false);
            }
            let line = text.iter().position(|c| *c == b'\n');
            if text.len() >= WORD.len() && (line.is_some() || self.ended) {
                let end = line.unwrap_or(text.len());
                self.delimiter = text[WORD.len()..end].trim_ascii().to_vec();
                self.pass(end);
                return Ok(!self.delimiter.is_empty());
            }
            if self.ended || text.len() > 1024 {
                return Ok(false);
            }
            self.fill()?;
        }
    }
}

/// Two dashes begin a comment; in MariaDB only with white space behind them, so that
/// `5--3` is a difference.
pub(super) fn begins_comment(dialect: Dialect, b: &[u8]) -> bool {
    dialect != Dialect::Mariadb || b.get(2).is_none_or(|c| c.is_ascii_whitespace() || *c < 32)
}

impl Cutter {
    /// Goes on from where it stopped; the end of the statement if it is there.
    fn cut(&mut self, dialect: Dialect, b: &[u8], delimiter: &[u8], ended: bool) -> Option<usize> {
        while self.at < b.len() {
            // Three bytes decide about comments and escapes.
            if b.len() - self.at < 3.max(delimiter.len()) && !ended {
                return None;
            }
            let byte = b[self.at];
            let pair = b.get(self.at + 1).copied();
            match &mut self.open {
                Some(Open::Quote(quote, escapes)) => {
                    let rest = &b[self.at..];
                    let found = match escapes {
                        true => memchr::memchr2(*quote, b'\\', rest),
                        false => memchr::memchr(*quote, rest),
                    };
                    match found {
                        None => self.at = b.len(),
                        Some(0) if byte == b'\\' => self.at += 2,
                        Some(0) => {
                            self.open = None;
                            self.at += 1;
                        }
                        Some(length) => self.at += length,
                    }
                    continue;
                }
                Some(Open::Dollar(tag)) => {
                    match memchr::memmem::find(&b[self.at..], tag) {
                        Some(length) => {
                            self.at += length + tag.len();
                            self.open = None;
                        }
                        // The tag may be cut by the end of what has been read.
                        None if ended => self.at = b.len(),
                        None => {
                            self.at = self.at.max((b.len() + 1).saturating_sub(tag.len()));
                            return None;
                        }
                    }
                    continue;
                }
                Some(Open::Line) if byte == b'\n' => self.open = None,
                Some(Open::Block(depth)) => match (byte, pair) {
                    (b'*', Some(b'/')) => {
                        *depth -= 1;
                        if *depth == 0 {
                            self.open = None;
                        }
                        self.at += 1;
                    }
                    (b'/', Some(b'*')) if dialect == Dialect::Postgres => {
                        *depth += 1;
                        self.at += 1;
                    }
                    _ => {}
                },
                Some(_) => {}
                None => {
                    let prefix = self.word.map(|start| &b[start..self.at]);
                    let escapes = match dialect {
                        Dialect::Mariadb => byte != b'`',
                        Dialect::Sqlite => false,
                        Dialect::Postgres => byte == b'\'' && matches!(prefix, Some(b"e" | b"E")),
                    };
                    let in_word = self.word.is_some();
                    self.note_word(dialect, b, byte);
                    if b[self.at..].starts_with(delimiter) && self.may_end(dialect) {
                        return Some(self.at);
                    }
                    match byte {
                        b'\'' | b'"' | b'`' => self.open = Some(Open::Quote(byte, escapes)),
                        b'-' if pair == Some(b'-') && begins_comment(dialect, &b[self.at..]) => {
                            self.open = Some(Open::Line);
                        }
                        b'#' if dialect == Dialect::Mariadb => self.open = Some(Open::Line),
                        b'/' if pair == Some(b'*') => {
                            self.open = Some(Open::Block(1));
                            self.at += 1;
                        }
                        b'$' if dialect == Dialect::Postgres && !in_word => {
                            let rest = &b[self.at..];
                            if let Some(tag) = dollar_tag(rest) {
                                self.at += tag.len();
                                self.open = Some(Open::Dollar(tag.to_vec()));
                                continue;
                            }
                            // A tag may be cut by the end of what has been read.
                            let cut = !rest[1..].contains(&b'$') && rest.len() < 64;
                            if cut && !ended {
                                return None;
                            }
                        }
                        _ => {}
                    }
                    self.note_sign(byte);
                }
            }
            self.at += 1;
        }
        None
    }

    fn note_word(&mut self, dialect: Dialect, b: &[u8], byte: u8) {
        let in_word = byte.is_ascii_alphanumeric() || byte == b'_';
        match (in_word, self.word) {
            (true, None) => self.word = Some(self.at),
            (false, Some(start)) => {
                self.word = None;
                let word = String::from_utf8_lossy(&b[start..self.at]).to_ascii_uppercase();
                // `; END` has passed when the word follows a semicolon directly.
                self.last_signs = if word == "END" && self.last_signs == 1 { 2 } else { 0 };
                if dialect == Dialect::Postgres && self.is_routine() {
                    match word.as_str() {
                        "BEGIN" => self.blocks += 1,
                        "CASE" if self.blocks > 0 => self.blocks += 1,
                        "END" => self.blocks = self.blocks.saturating_sub(1),
                        _ => {}
                    }
                }
                if self.words.len() < 4 {
                    self.words.push(word);
                }
            }
            _ => {}
        }
    }

    fn note_sign(&mut self, byte: u8) {
        if byte == b';' {
            self.last_signs = 1;
        } else if !byte.is_ascii_whitespace() && !byte.is_ascii_alphanumeric() && byte != b'_' {
            self.last_signs = 0;
        }
    }

    fn is_routine(&self) -> bool {
        self.words.first().is_some_and(|word| word == "CREATE")
            && self.words.iter().any(|word| word == "FUNCTION" || word == "PROCEDURE")
    }

    fn may_end(&self, dialect: Dialect) -> bool {
        if self.blocks > 0 {
            return false;
        }
        let trigger = dialect == Dialect::Sqlite
            && self.words.first().is_some_and(|word| word == "CREATE")
            && self.words.iter().any(|word| word == "TRIGGER");
        !trigger || self.last_signs == 2
    }
}
