//! One statement as tokens that say what they mean.

use super::super::Dialect;
use super::super::refused::StatementError;
use super::{Lexeme, Lexer, Literal, Modes, Step};
use crate::digest::from_hex;
use std::borrow::Cow;

/// One token of a statement.
#[derive(Clone, Debug, PartialEq)]
pub enum Token<'a> {
    /// A bare word: a keyword or an unquoted name.
    Word(&'a str),
    /// A quoted name, unquoted.
    Name(String),
    /// A string literal, unescaped.
    Text(Cow<'a, [u8]>),
    /// A hexadecimal literal, decoded.
    Bytes(Vec<u8>),
    /// A number as written, with its sign.
    Number(&'a str),
    /// Any other single character.
    Sign(u8),
    /// The beginning of a comment that some servers execute.
    MarkOpen,
    /// Its end.
    MarkClose,
}

impl Token<'_> {
    /// Whether it is this word, in any letter case.
    pub fn is(&self, word: &str) -> bool {
        matches!(self, Token::Word(found) if found.eq_ignore_ascii_case(word))
    }
}

/// The tokens of one statement, one at a time.
#[derive(Clone)]
pub struct Tokens<'a> {
    dialect: Dialect,
    b: &'a [u8],
    lexer: Lexer,
    /// Where the last token begins.
    pub from: usize,
    /// Where the last token ends.
    pub at: usize,
}

/// Reads a statement as tokens, in the modes in which it stands.
pub fn tokens(dialect: Dialect, modes: Modes, statement: &[u8]) -> Tokens<'_> {
    Tokens { dialect, b: statement, lexer: Lexer::statement(dialect, modes), from: 0, at: 0 }
}

impl<'a> Tokens<'a> {
    /// The dialect that is read.
    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    /// The modes in which it is read.
    pub fn modes(&self) -> Modes {
        self.lexer.modes()
    }

    /// The statement.
    pub fn statement(&self) -> &'a [u8] {
        self.b
    }

    /// The next lexeme that is neither space nor comment.
    fn lexeme(&mut self) -> Result<Option<Lexeme>, StatementError> {
        loop {
            let rest = &self.b[self.at..];
            if rest.is_empty() {
                self.from = self.at;
                return Ok(None);
            }
            match self.lexer.step(rest, true) {
                Step::Token(lexeme, length) => {
                    self.from = self.at;
                    self.at += length;
                    match lexeme {
                        // Servers end a comment, or the whole statement, at a zero byte.
                        Lexeme::Comment if rest[..length].contains(&0) => {
                            return Err(StatementError::Unreadable);
                        }
                        Lexeme::Space | Lexeme::Comment => {}
                        Lexeme::Sign(0) => return Err(StatementError::Unreadable),
                        _ => return Ok(Some(lexeme)),
                    }
                }
                Step::More | Step::Open => return Err(StatementError::Unreadable),
            }
        }
    }

    /// The next token, `None` at the end of the statement.
    pub fn next_token(&mut self) -> Result<Option<Token<'a>>, StatementError> {
        let Some(lexeme) = self.lexeme()? else { return Ok(None) };
        let raw = &self.b[self.from..self.at];
        let text = |raw: &'a [u8]| std::str::from_utf8(raw).map_err(|_| StatementError::Unreadable);
        Ok(Some(match lexeme {
            Lexeme::Word => Token::Word(text(raw)?),
            Lexeme::Number => Token::Number(text(raw)?),
            Lexeme::Name => Token::Name(name(raw)?),
            Lexeme::Text(literal) => match literal {
                Literal::Hex if self.dialect != Dialect::Postgres => {
                    let digits = &raw[2..raw.len() - 1];
                    Token::Bytes(from_hex(digits).ok_or(StatementError::Unreadable)?)
                }
                literal => Token::Text(text_of(literal, raw)),
            },
            Lexeme::Sign(sign @ (b'-' | b'+')) => match self.signed_number()? {
                Some(number) => number,
                None => Token::Sign(sign),
            },
            Lexeme::Sign(sign) => Token::Sign(sign),
            Lexeme::MarkOpen => Token::MarkOpen,
            Lexeme::MarkClose => Token::MarkClose,
            Lexeme::Space | Lexeme::Comment | Lexeme::End | Lexeme::ClientLine => {
                return Err(StatementError::Unreadable);
            }
        }))
    }

    /// A number that stands directly behind its sign.
    fn signed_number(&mut self) -> Result<Option<Token<'a>>, StatementError> {
        let digit = |place: usize| self.b.get(self.at + place).is_some_and(u8::is_ascii_digit);
        let follows = digit(0) || (self.b.get(self.at) == Some(&b'.') && digit(1));
        if !follows {
            return Ok(None);
        }
        let from = self.from;
        self.lexeme()?;
        self.from = from;
        let raw = std::str::from_utf8(&self.b[from..self.at]);
        raw.map(|raw| Some(Token::Number(raw))).map_err(|_| StatementError::Unreadable)
    }
}

/// A quoted name without its quotes.
fn name(raw: &[u8]) -> Result<String, StatementError> {
    let quote = raw[0];
    let body = &raw[1..raw.len() - 1];
    let text = std::str::from_utf8(body).map_err(|_| StatementError::Unreadable)?;
    if quote == b'[' {
        return Ok(text.to_owned());
    }
    let quote = char::from(quote);
    Ok(text.replace(&format!("{quote}{quote}"), &quote.to_string()))
}

/// A text without its quotes and escapes.
fn text_of(literal: Literal, raw: &[u8]) -> Cow<'_, [u8]> {
    let (begin, end, quote, backslash) = match literal {
        Literal::Quoted { prefix, quote, backslash } => (prefix + 1, 1, quote, backslash),
        // Digits of PostgreSQL stay a text.
        Literal::Hex => (2, 1, b'\'', false),
        Literal::Dollar(tag) => return Cow::Borrowed(&raw[tag..raw.len() - tag]),
    };
    let body = &raw[begin..raw.len() - end];
    let special = |rest: &[u8]| match backslash {
        true => memchr::memchr2(quote, b'\\', rest),
        false => memchr::memchr(quote, rest),
    };
    let Some(mut at) = special(body) else { return Cow::Borrowed(body) };
    let mut text = Vec::with_capacity(body.len());
    text.extend_from_slice(&body[..at]);
    // Behind every quote and every backslash another byte stands, or the text had not ended.
    while let Some(second) = body.get(at + 1) {
        text.push(if body[at] == b'\\' { unescaped(*second) } else { quote });
        at += 2;
        let rest = &body[at..];
        let next = special(rest).unwrap_or(rest.len());
        text.extend_from_slice(&rest[..next]);
        at += next;
    }
    Cow::Owned(text)
}

fn unescaped(second: u8) -> u8 {
    match second {
        b'0' => 0,
        b'n' => b'\n',
        b'r' => b'\r',
        b't' => b'\t',
        b'b' => 8,
        b'Z' => 0x1A,
        other => other,
    }
}
