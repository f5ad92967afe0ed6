//! The one lexer of SQL: where tokens begin and end, as the servers see it.
//!
//! Every reader of SQL stands on it: scripts are cut into statements ([`super::ScriptReader`])
//! and into texts ([`super::TextCutter`]), statements are read as [`Tokens`], and comments that
//! servers execute are opened (`foreign::marks`). Two readers that disagree about where a text
//! ends would let a hidden statement through; so there is one.
//!
//! It is incremental: it is given what is there of a script from the beginning of a token, and
//! says how long the token is, or that it needs more. Nothing is looked at twice, however long
//! a text is.
//!
//! Sources: the lexers of the servers as their manuals describe them. SQLite:
//! <https://www.sqlite.org/lang_expr.html>, <https://www.sqlite.org/c3ref/complete.html>;
//! MariaDB: "Comment Syntax", "String Literals", "SQL_MODE"; PostgreSQL: "Lexical Structure".

mod frame;
mod modes;
mod search;
mod tokens;

use search::{Search, dollar_tag, ends_dashes, in_tag, mark};

pub use modes::Modes;
pub use tokens::{Token, Tokens, tokens};

use super::Dialect;
use frame::Frame;
use modes::Assignments;

/// What a piece of a script is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lexeme {
    /// White space.
    Space,
    /// A comment that no server executes.
    Comment,
    /// The beginning of a comment that servers execute, with its version: `/*!40101` (MariaDB).
    MarkOpen,
    /// Its end.
    MarkClose,
    /// A keyword or a name without quotes.
    Word,
    /// A number.
    Number,
    /// A quoted name, with its quotes.
    Name,
    /// A text, with its quotes.
    Text(Literal),
    /// Any other single byte.
    Sign(u8),
    /// What ends a statement.
    End,
    /// A line for the engine's own client (`DELIMITER`, `\connect`, `.mode`), without its break.
    ClientLine,
}

/// How a text is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Literal {
    /// Between quotes, which are doubled in it.
    Quoted {
        /// Bytes before the quote (the `E` of PostgreSQL).
        prefix: usize,
        /// The quote.
        quote: u8,
        /// Whether backslashes escape.
        backslash: bool,
    },
    /// `x'…'`.
    Hex,
    /// Between two tags of so many bytes (PostgreSQL).
    Dollar(usize),
}

/// What a step came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// A token of so many bytes.
    Token(Lexeme, usize),
    /// More bytes are needed.
    More,
    /// The script ends inside this token.
    Open,
}

/// A token whose end is not there yet; `from` is where the search goes on.
#[derive(Clone, Debug)]
enum Pending {
    Space,
    Word,
    Number,
    Name(u8),
    Quoted(Literal),
    Dollar(Vec<u8>),
    Line(Lexeme),
    Block(u32),
}

/// Tokens out of a script that streams past.
#[derive(Clone, Debug)]
pub struct Lexer {
    dialect: Dialect,
    in_force: Modes,
    /// The modes at the beginning of the statement at hand.
    modes: Modes,
    /// What ends a statement; empty where only one is read.
    delimiter: Vec<u8>,
    pending: Option<(Pending, usize)>,
    /// Whether code inside an executed comment is read.
    in_mark: bool,
    /// A text of PostgreSQL that may go on behind a line break.
    continued: Option<Continued>,
    frame: Frame,
    assignments: Assignments,
}

/// A text behind which another one belongs to it, if a line break stands between them
/// (PostgreSQL, "String Constants").
#[derive(Clone, Copy, Debug)]
struct Continued {
    /// Whether backslashes escape in it.
    backslash: bool,
    /// Whether the break has come.
    broken: bool,
}

/// Longest tag of a dollar quote that is waited for: a name of PostgreSQL has 63 bytes, this
/// leaves room for those that it cuts.
const TAG: usize = 128;

impl Lexer {
    /// Reads a script of many statements.
    pub fn script(dialect: Dialect) -> Self {
        Self::new(dialect, Modes::default(), b";".to_vec())
    }

    /// Reads one statement: nothing ends it, and no line is for a client.
    pub fn statement(dialect: Dialect, modes: Modes) -> Self {
        Self::new(dialect, modes, Vec::new())
    }

    fn new(dialect: Dialect, modes: Modes, delimiter: Vec<u8>) -> Self {
        Self {
            dialect,
            in_force: modes,
            modes,
            delimiter,
            pending: None,
            in_mark: false,
            continued: None,
            frame: Frame::default(),
            assignments: Assignments::default(),
        }
    }

    /// The modes in which the statement at hand, or the one that has just ended, is read.
    pub fn modes(&self) -> Modes {
        self.modes
    }

    /// Whether the statement that has just ended is followed by the rows of a `COPY`.
    pub fn rows_follow(&self) -> bool {
        self.frame.copied()
    }

    /// Whether no token of a statement has come yet.
    pub fn is_between(&self) -> bool {
        self.frame.is_empty() && self.pending.is_none()
    }

    /// A computed setting that decides where texts end, if one was met.
    pub fn unknown_mode(&self) -> Option<&'static str> {
        self.assignments.unknown
    }

    /// Reads the next token; `rest` begins with it, and `last` says that nothing follows `rest`.
    pub fn step(&mut self, rest: &[u8], last: bool) -> Step {
        let (pending, from) = match self.pending.take() {
            Some(pending) => pending,
            None => match self.begin(rest, last) {
                Ok(pending) => pending,
                Err(Step::Token(lexeme, length)) => return self.done(lexeme, rest, length),
                Err(other) => return other,
            },
        };
        match self.search(&pending, rest, from, last) {
            Search::Found(lexeme, length) => self.done(lexeme, rest, length),
            Search::On(pending, from) if !last => {
                self.pending = Some((pending, from));
                Step::More
            }
            Search::On(..) => Step::Open,
        }
    }

    /// What begins here, or a token that is complete at once.
    fn begin(&mut self, rest: &[u8], last: bool) -> Result<(Pending, usize), Step> {
        let Some(&byte) = rest.first() else { return Err(Step::More) };
        let wait = |length: usize| rest.len() < length && !last;
        let (second, third) = (rest.get(1).copied(), rest.get(2).copied());
        let token = |lexeme, length| Err(Step::Token(lexeme, length));
        let (mariadb, postgres, sqlite) = (
            self.dialect == Dialect::Mariadb,
            self.dialect == Dialect::Postgres,
            self.dialect == Dialect::Sqlite,
        );
        if self.is_space(byte) {
            return Ok((Pending::Space, 1));
        }
        if !self.delimiter.is_empty() {
            let one = self.delimiter == b";";
            if !one && wait(self.delimiter.len()) {
                return Err(Step::More);
            }
            if rest.starts_with(&self.delimiter) && self.frame.may_end(self.dialect) {
                return token(Lexeme::End, self.delimiter.len());
            }
            if self.frame.is_empty() {
                let client = (postgres && byte == b'\\') || (sqlite && byte == b'.');
                if client {
                    return Ok((Pending::Line(Lexeme::ClientLine), 1));
                }
                if mariadb && byte.eq_ignore_ascii_case(&b'd') {
                    if wait(DELIMITER.len()) {
                        return Err(Step::More);
                    }
                    let word = rest.get(..DELIMITER.len()).unwrap_or_default();
                    if word[..word.len().min(9)].eq_ignore_ascii_case(&DELIMITER[..9])
                        && word.last().is_some_and(|byte| matches!(byte, b' ' | b'\t'))
                    {
                        return Ok((Pending::Line(Lexeme::ClientLine), DELIMITER.len()));
                    }
                }
            }
        }
        match byte {
            b'-' if wait(2) || (mariadb && second == Some(b'-') && wait(3)) => Err(Step::More),
            b'-' if second == Some(b'-') && (!mariadb || third.is_none_or(ends_dashes)) => {
                Ok((Pending::Line(Lexeme::Comment), 2))
            }
            b'#' if mariadb => Ok((Pending::Line(Lexeme::Comment), 1)),
            b'/' if wait(if mariadb { 10 } else { 2 }) => Err(Step::More),
            b'/' if second == Some(b'*') => match mark(rest).filter(|_| mariadb) {
                Some(length) => {
                    self.in_mark = true;
                    token(Lexeme::MarkOpen, length)
                }
                None => Ok((Pending::Block(1), 2)),
            },
            b'*' if self.in_mark && wait(2) => Err(Step::More),
            b'*' if self.in_mark && second == Some(b'/') => {
                self.in_mark = false;
                token(Lexeme::MarkClose, 2)
            }
            b'\'' => {
                let backslash = match (self.dialect, self.continued) {
                    (Dialect::Mariadb, _) => !self.in_force.plain_backslash,
                    (Dialect::Postgres, Some(Continued { backslash, broken: true })) => backslash,
                    (Dialect::Postgres, _) => self.in_force.escaped_strings,
                    (Dialect::Sqlite, _) => false,
                };
                Ok((Pending::Quoted(Literal::Quoted { prefix: 0, quote: byte, backslash }), 1))
            }
            b'"' if mariadb && !self.in_force.ansi_quotes => {
                let backslash = !self.in_force.plain_backslash;
                Ok((Pending::Quoted(Literal::Quoted { prefix: 0, quote: byte, backslash }), 1))
            }
            b'"' => Ok((Pending::Name(b'"'), 1)),
            b'`' if !postgres => Ok((Pending::Name(b'`'), 1)),
            b'[' if sqlite => Ok((Pending::Name(b']'), 1)),
            b'x' | b'X' | b'e' | b'E' | b'b' | b'B' if wait(2) => Err(Step::More),
            b'x' | b'X' if second == Some(b'\'') => Ok((Pending::Quoted(Literal::Hex), 2)),
            // Bits have no escapes, whatever the mode.
            b'b' | b'B' if postgres && second == Some(b'\'') => Ok((
                Pending::Quoted(Literal::Quoted { prefix: 1, quote: b'\'', backslash: false }),
                2,
            )),
            b'e' | b'E' if postgres && second == Some(b'\'') => Ok((
                Pending::Quoted(Literal::Quoted { prefix: 1, quote: b'\'', backslash: true }),
                2,
            )),
            b'$' if postgres => match dollar_tag(rest) {
                Some(tag) => Ok((Pending::Dollar(tag.to_vec()), tag.len())),
                None if !last && rest.len() < TAG && rest[1..].iter().all(in_tag) => {
                    Err(Step::More)
                }
                None => token(Lexeme::Sign(byte), 1),
            },
            b'0'..=b'9' => Ok((Pending::Number, 1)),
            b'.' if wait(2) => Err(Step::More),
            // Behind a name a dot is followed by a name, even by one that begins with a digit.
            b'.' if second.is_some_and(|b| b.is_ascii_digit()) && !self.frame.behind_name() => {
                Ok((Pending::Number, 2))
            }
            _ if self.in_word(byte) => Ok((Pending::Word, 1)),
            _ => token(Lexeme::Sign(byte), 1),
        }
    }

    /// Notes a token; the statement's own state follows.
    fn done(&mut self, lexeme: Lexeme, rest: &[u8], length: usize) -> Step {
        let text = &rest[..length];
        self.continued = match (lexeme, self.continued) {
            (Lexeme::Text(Literal::Quoted { quote: b'\'', backslash, .. }), _) => {
                Some(Continued { backslash, broken: false })
            }
            (Lexeme::Space, Some(mut continued)) => {
                continued.broken |= text.iter().any(|byte| matches!(byte, b'\n' | b'\r'));
                Some(continued)
            }
            (Lexeme::Comment, continued) if text.starts_with(b"--") => continued,
            _ => None,
        };
        match lexeme {
            Lexeme::Space | Lexeme::Comment => {}
            Lexeme::ClientLine => self.take_client_line(text),
            Lexeme::End => {
                self.assignments.end(self.dialect, &mut self.in_force);
                self.frame.end();
                self.in_mark = false;
            }
            _ => {
                if self.frame.is_empty() {
                    self.modes = self.in_force;
                    self.assignments.begin();
                }
                self.frame.note(self.dialect, lexeme, text);
                if self.frame.may_set() {
                    self.assignments.note(lexeme, text);
                }
            }
        }
        Step::Token(lexeme, length)
    }

    fn take_client_line(&mut self, line: &[u8]) {
        if self.dialect != Dialect::Mariadb {
            return;
        }
        let rest = line.get(DELIMITER.len()..).unwrap_or_default();
        let word = rest.split(u8::is_ascii_whitespace).find(|word| !word.is_empty());
        if let Some(word) = word {
            self.delimiter = word.to_vec();
        }
    }

    /// White space as the server reads it; SQLite knows no vertical tab.
    fn is_space(&self, byte: u8) -> bool {
        byte.is_ascii_whitespace() || (byte == 0x0B && self.dialect != Dialect::Sqlite)
    }

    fn in_word(&self, byte: u8) -> bool {
        byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'$' || byte >= 0x80
    }
}

/// The line of MariaDB's client that names another delimiter.
const DELIMITER: &[u8] = b"DELIMITER ";

#[cfg(test)]
mod tests;
