//! Tokens, one after another, with what is expected of them.

use super::StatementError;
use crate::sql::Dialect;
use crate::sql::lexer::{Modes, Token, Tokens, tokens};
use std::ops::Range;

/// Tokens, one after another, with what is expected of them.
pub(in crate::sql) struct Reader<'a> {
    pub tokens: Tokens<'a>,
}

impl<'a> Reader<'a> {
    /// Reads a statement in the usual modes.
    pub fn new(dialect: Dialect, statement: &'a [u8]) -> Self {
        Self::in_modes(dialect, Modes::default(), statement)
    }

    /// Reads a statement in the modes in which it stands.
    pub fn in_modes(dialect: Dialect, modes: Modes, statement: &'a [u8]) -> Self {
        Self { tokens: tokens(dialect, modes, statement) }
    }

    pub fn next(&mut self) -> Result<Option<Token<'a>>, StatementError> {
        self.tokens.next_token()
    }

    /// Another reader at the same place, to look ahead.
    pub fn copied(&self) -> Self {
        Self { tokens: self.tokens.clone() }
    }

    pub fn is_empty(&self) -> bool {
        matches!(self.copied().next(), Ok(None))
    }

    pub fn next_is_dot(&self) -> bool {
        matches!(self.copied().next(), Ok(Some(Token::Sign(b'.'))))
    }

    pub fn some(&mut self) -> Result<Token<'a>, StatementError> {
        self.next()?.ok_or(StatementError::Unreadable)
    }

    pub fn word(&mut self) -> Result<String, StatementError> {
        match self.some()? {
            Token::Word(word) => Ok(word.to_owned()),
            _ => Err(StatementError::Unreadable),
        }
    }

    pub fn expect(&mut self, word: &str) -> Result<(), StatementError> {
        if self.some()?.is(word) { Ok(()) } else { Err(StatementError::Unreadable) }
    }

    pub fn sign(&mut self, sign: u8) -> Result<(), StatementError> {
        if self.some()? == Token::Sign(sign) { Ok(()) } else { Err(StatementError::Unreadable) }
    }

    /// `true` for a comma, `false` for the closing sign.
    pub fn comma_or(&mut self, close: u8) -> Result<bool, StatementError> {
        match self.some()? {
            Token::Sign(b',') => Ok(true),
            Token::Sign(sign) if sign == close => Ok(false),
            _ => Err(StatementError::Unreadable),
        }
    }

    /// A name, quoted or not, and where it stands.
    pub fn name(&mut self) -> Result<(String, Range<usize>), StatementError> {
        let token = self.some()?;
        let range = self.tokens.from..self.tokens.at;
        match token {
            Token::Word(word) => Ok((word.to_owned(), range)),
            Token::Name(name) => Ok((name, range)),
            _ => Err(StatementError::Unreadable),
        }
    }

    /// Names in parentheses.
    pub fn names(&mut self) -> Result<Vec<String>, StatementError> {
        self.sign(b'(')?;
        let mut names = Vec::new();
        loop {
            names.push(self.name()?.0);
            if !self.comma_or(b')')? {
                return Ok(names);
            }
        }
    }

    /// Names in parentheses, if a parenthesis follows; none otherwise.
    pub fn names_if_any(&mut self) -> Result<Vec<String>, StatementError> {
        match self.copied().some()? {
            Token::Sign(b'(') => self.names(),
            _ => Ok(Vec::new()),
        }
    }
}
