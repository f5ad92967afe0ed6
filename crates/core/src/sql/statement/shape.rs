//! A statement that is made anew while it is parsed.
//!
//! What the grammar takes is written, token by token; what it does not take is refused. So
//! nothing is run that was merely not noticed: comments vanish, texts and names are written in
//! one notation, and a statement ends where the grammar says. White space stays, so that what
//! packing has written comes out as it went in.

use super::StatementError;
use super::reader::Reader;
use crate::sql::lexer::{Modes, Token};
use crate::sql::{Dialect, quote_name};
use std::ops::Range;

/// How deep parentheses may lie in a statement.
const DEPTH: usize = 200;

/// Whether a body may be made of several statements.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Several {
    /// It is one.
    None,
    /// Several stand in parentheses.
    InParentheses,
    /// Several stand before an `END`.
    UpToEnd,
}

/// A statement, half parsed and half made.
pub(super) struct Shape<'a> {
    dialect: Dialect,
    reader: Reader<'a>,
    out: String,
    /// The end of what has been taken.
    end: usize,
    in_mark: bool,
}

impl<'a> Shape<'a> {
    pub fn new(dialect: Dialect, modes: Modes, statement: &'a [u8]) -> Self {
        let reader = Reader::in_modes(dialect, modes, statement);
        Self { dialect, reader, out: String::new(), end: 0, in_mark: false }
    }

    /// Why it is refused, at the token at hand.
    pub fn refused(&self) -> StatementError {
        let all = self.reader.tokens.statement();
        let text = String::from_utf8_lossy(&all[..all.len().min(400)]);
        let first: String = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let mut after = self.reader.copied();
        let at = match after.next() {
            Ok(Some(_)) => {
                String::from_utf8_lossy(&all[after.tokens.from..after.tokens.at]).into_owned()
            }
            Ok(None) => "its end".into(),
            Err(_) => "what cannot be read".into(),
        };
        let short = |text: &str, most: usize| text.chars().take(most).collect::<String>();
        StatementError::Shape(format!("{} (at {})", short(&first, 60), short(&at, 30)))
    }

    pub fn peek(&self) -> Result<Option<Token<'a>>, StatementError> {
        self.reader.copied().next()
    }

    pub fn is_empty(&self) -> bool {
        self.reader.is_empty()
    }

    /// Takes the next token as it comes.
    pub fn take(&mut self) -> Result<Token<'a>, StatementError> {
        let token = match self.reader.next()? {
            Some(Token::Sign(b';')) | None => return Err(self.refused()),
            Some(token) => token,
        };
        let all = self.reader.tokens.statement();
        let range = self.reader.tokens.from..self.reader.tokens.at;
        let gap = &all[self.end..range.start];
        let text = |bytes: &[u8]| {
            String::from_utf8(bytes.to_vec()).map_err(|_| StatementError::Unreadable)
        };
        // What is no white space was a comment.
        match gap.iter().all(u8::is_ascii_whitespace) {
            true => self.out.push_str(&text(gap)?),
            false => self.out.push(' '),
        }
        let raw = &all[range.clone()];
        let mariadb = self.dialect == Dialect::Mariadb;
        match &token {
            Token::Name(name) if mariadb && raw[0] != b'`' => {
                self.out.push_str(&quote_name(self.dialect, name));
            }
            Token::Text(value) if mariadb && (raw[0] != b'\'' || self.plain_backslash()) => {
                self.out.push_str(&mariadb_text(value)?);
            }
            // A text in which backslashes escape says so.
            Token::Text(_) if self.is_escaped_without_saying(raw) => {
                self.out.push('E');
                self.out.push_str(&text(raw)?);
            }
            _ => self.out.push_str(&text(raw)?),
        }
        self.end = range.end;
        Ok(token)
    }

    fn plain_backslash(&self) -> bool {
        self.reader.tokens.modes().plain_backslash
    }

    fn is_escaped_without_saying(&self, raw: &[u8]) -> bool {
        self.dialect == Dialect::Postgres
            && raw[0] == b'\''
            && raw.contains(&b'\\')
            && self.reader.tokens.modes().escaped_strings
    }

    /// Takes a word if it comes.
    pub fn word(&mut self, word: &str) -> Result<bool, StatementError> {
        self.words(&[word])
    }

    /// Takes all these words if they come.
    pub fn words(&mut self, words: &[&str]) -> Result<bool, StatementError> {
        let mut after = self.reader.copied();
        for word in words {
            match after.next()? {
                Some(token) if token.is(word) => {}
                _ => return Ok(false),
            }
        }
        for _ in words {
            self.take()?;
        }
        Ok(true)
    }

    /// Takes one of these words if it comes.
    pub fn one_of(&mut self, words: &[&str]) -> Result<bool, StatementError> {
        match self.peek()? {
            Some(token) if words.iter().any(|word| token.is(word)) => self.take().map(|_| true),
            _ => Ok(false),
        }
    }

    pub fn need(&mut self, words: &[&str]) -> Result<(), StatementError> {
        if self.words(words)? { Ok(()) } else { Err(self.refused()) }
    }

    pub fn sign_if(&mut self, sign: u8) -> Result<bool, StatementError> {
        match self.peek()? {
            Some(Token::Sign(found)) if found == sign => self.take().map(|_| true),
            _ => Ok(false),
        }
    }

    pub fn sign(&mut self, sign: u8) -> Result<(), StatementError> {
        if self.sign_if(sign)? { Ok(()) } else { Err(self.refused()) }
    }

    /// A name, and where it stands in what is made.
    pub fn name_at(&mut self) -> Result<(String, Range<usize>), StatementError> {
        let name = match self.peek()? {
            Some(Token::Word(word)) => word.to_owned(),
            Some(Token::Name(name)) => name,
            _ => return Err(self.refused()),
        };
        self.take()?;
        let end = self.out.len();
        // The name is the last thing that was written.
        let written = match self.out.ends_with(&name) {
            true => name.len(),
            false => quote_name(self.dialect, &name).len(),
        };
        Ok((name, end - written.min(end)..end))
    }

    pub fn name(&mut self) -> Result<String, StatementError> {
        Ok(self.name_at()?.0)
    }

    /// One item, and as many more as commas follow.
    pub fn each(
        &mut self,
        item: &mut dyn FnMut(&mut Self) -> Result<(), StatementError>,
    ) -> Result<(), StatementError> {
        item(self)?;
        while self.sign_if(b',')? {
            item(self)?;
        }
        Ok(())
    }

    /// Names in parentheses.
    pub fn names(&mut self) -> Result<Vec<String>, StatementError> {
        self.sign(b'(')?;
        let mut names = vec![self.name()?];
        while self.sign_if(b',')? {
            names.push(self.name()?);
        }
        self.sign(b')')?;
        Ok(names)
    }

    pub fn text(&mut self) -> Result<Vec<u8>, StatementError> {
        match self.peek()? {
            Some(Token::Text(text)) => {
                let text = text.into_owned();
                self.take()?;
                Ok(text)
            }
            _ => Err(self.refused()),
        }
    }

    pub fn number(&mut self) -> Result<(), StatementError> {
        match self.peek()? {
            Some(Token::Number(_)) => self.take().map(drop),
            _ => Err(self.refused()),
        }
    }

    /// A word, a number or a text.
    pub fn value(&mut self) -> Result<(), StatementError> {
        match self.peek()? {
            Some(Token::Word(_) | Token::Name(_) | Token::Number(_) | Token::Text(_)) => {
                self.take().map(drop)
            }
            _ => Err(self.refused()),
        }
    }

    /// Whatever stands in one pair of parentheses.
    pub fn group(&mut self) -> Result<(), StatementError> {
        self.sign(b'(')?;
        let mut depth = 1;
        while depth > 0 {
            match self.take()? {
                Token::Sign(b'(') => depth += 1,
                Token::Sign(b')') => depth -= 1,
                Token::MarkOpen | Token::MarkClose => return Err(self.refused()),
                _ => {}
            }
            if depth > DEPTH {
                return Err(StatementError::Deep);
            }
        }
        Ok(())
    }

    /// An expression: up to a comma, a parenthesis that closes what lies around it, one of the
    /// words in `ends`, or the end. At least one token.
    pub fn expression(&mut self, ends: &[&[&str]]) -> Result<(), StatementError> {
        let mut any = false;
        loop {
            match self.peek()? {
                None | Some(Token::Sign(b',' | b')') | Token::MarkOpen | Token::MarkClose) => break,
                Some(Token::Sign(b'(')) => self.group()?,
                Some(Token::Word(_)) if any && self.begins_one(ends)? => break,
                Some(_) => drop(self.take()?),
            }
            any = true;
        }
        if any { Ok(()) } else { Err(self.refused()) }
    }

    fn begins_one(&self, ends: &[&[&str]]) -> Result<bool, StatementError> {
        for words in ends {
            let mut after = self.reader.copied();
            let mut all = true;
            for word in *words {
                all &= after.next()?.is_some_and(|token| token.is(word));
            }
            if all {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// What stands in a comment that some servers execute: it must be whole for those that do
    /// not, so no text in it may look like its end.
    pub fn mark(
        &mut self,
        inside: &mut dyn FnMut(&mut Self) -> Result<(), StatementError>,
    ) -> Result<bool, StatementError> {
        if self.peek()? != Some(Token::MarkOpen) {
            return Ok(false);
        }
        if std::mem::replace(&mut self.in_mark, true) {
            return Err(self.refused());
        }
        self.take()?;
        let from = self.end;
        let written = self.out.len();
        inside(self)?;
        if self.peek()? != Some(Token::MarkClose) {
            return Err(self.refused());
        }
        let all = self.reader.tokens.statement();
        let odd = |text: &[u8]| text.windows(2).any(|pair| pair == b"*/" || pair == b"/*");
        if odd(&all[from..self.end]) || odd(&self.out.as_bytes()[written..]) {
            return Err(self.refused());
        }
        self.take()?;
        self.in_mark = false;
        Ok(true)
    }

    /// Whatever follows, opaque, as it stands: the body of an object.
    pub fn body(&mut self, several: Several) -> Result<(), StatementError> {
        let mut after = self.reader.copied();
        if after.is_empty() {
            return Err(self.refused());
        }
        let all = self.reader.tokens.statement();
        // Comments before and behind it belong to it.
        let mut end = all.trim_ascii_end().len();
        let (mut depth, mut holds_several) = (0_usize, false);
        // How many words ago an END came.
        let mut since_end = usize::MAX;
        while let Some(token) = after.next()? {
            let before = since_end;
            since_end = since_end.saturating_add(1);
            match token {
                Token::Sign(b'(') => depth += 1,
                Token::Sign(b')') => depth = depth.saturating_sub(1),
                Token::Sign(b';') => {
                    let fits = match several {
                        Several::None => false,
                        Several::InParentheses => depth > 0,
                        Several::UpToEnd => true,
                    };
                    let last = after.copied().next()?.is_none();
                    if last {
                        // One at the very end says nothing.
                        end = after.tokens.from;
                        since_end = before;
                        break;
                    }
                    if !fits {
                        return Err(self.refused());
                    }
                    holds_several = true;
                    since_end = usize::MAX;
                }
                token if token.is("END") => since_end = 0,
                _ => {}
            }
            if depth > DEPTH {
                return Err(StatementError::Deep);
            }
        }
        // END, END IF, END label
        if holds_several && several == Several::UpToEnd && since_end > 2 {
            return Err(self.refused());
        }
        let body = &all[self.end..end];
        self.out.push_str(std::str::from_utf8(body).map_err(|_| StatementError::Unreadable)?);
        self.end = all.len();
        while self.reader.next()?.is_some() {}
        Ok(())
    }

    /// The statement, if nothing is left of it.
    pub fn finish(self) -> Result<String, StatementError> {
        if self.is_empty() { Ok(self.out) } else { Err(self.refused()) }
    }
}

/// A text in the notation that every mode of ours reads.
fn mariadb_text(value: &[u8]) -> Result<String, StatementError> {
    let mut out = Vec::new();
    let value = crate::record::Value::Text(value.to_vec());
    crate::sql::write_row(Dialect::Mariadb, &[value], &mut out);
    String::from_utf8(out[1..out.len() - 1].to_vec()).map_err(|_| StatementError::Unreadable)
}
