//! Tokens of the SQL in archives: names, words, literals, signs.

use super::Dialect;
use super::script::begins_comment;
use super::statement::StatementError;
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
    /// Where the last token begins.
    pub from: usize,
    /// Where the last token ends.
    pub at: usize,
}

/// Reads a statement as tokens.
pub fn tokens(dialect: Dialect, statement: &[u8]) -> Tokens<'_> {
    Tokens { dialect, b: statement, from: 0, at: 0 }
}

impl<'a> Tokens<'a> {
    fn skip_space(&mut self) {
        loop {
            let rest = &self.b[self.at..];
            if rest.first().is_some_and(u8::is_ascii_whitespace) {
                self.at += 1;
            } else if rest.starts_with(b"--") && begins_comment(self.dialect, rest)
                || rest.starts_with(b"#") && self.dialect == Dialect::Mariadb
            {
                self.at += memchr::memchr(b'\n', rest).unwrap_or(rest.len());
            } else if rest.starts_with(b"/*") && self.dialect == Dialect::Postgres {
                self.at += nested_comment(rest);
            } else if rest.starts_with(b"/*") && !rest.starts_with(b"/*!") {
                let end = memchr::memmem::find(rest, b"*/").map_or(rest.len(), |end| end + 2);
                self.at += end;
            } else {
                return;
            }
        }
    }

    /// The next token, `None` at the end of the statement.
    pub fn next_token(&mut self) -> Result<Option<Token<'a>>, StatementError> {
        self.skip_space();
        self.from = self.at;
        let Some(&byte) = self.b.get(self.at) else {
            return Ok(None);
        };
        let postgres = self.dialect == Dialect::Postgres;
        let token = match byte {
            b'\'' => Token::Text(self.string(self.dialect == Dialect::Mariadb)?),
            b'e' | b'E' if postgres && self.b.get(self.at + 1) == Some(&b'\'') => {
                self.at += 1;
                Token::Text(self.string(true)?)
            }
            b'$' if postgres && dollar_tag(&self.b[self.at..]).is_some() => {
                Token::Text(self.dollar_quoted()?)
            }
            b'`' => Token::Name(self.name(b'`')?),
            b'"' => Token::Name(self.name(b'"')?),
            b'x' | b'X' if !postgres && self.b.get(self.at + 1) == Some(&b'\'') => {
                Token::Bytes(self.hex()?)
            }
            b'0'..=b'9' | b'-' | b'+' | b'.' if self.number_follows() => self.number(),
            c if c.is_ascii_alphabetic() || c == b'_' || c >= 0x80 => self.word()?,
            other => {
                self.at += 1;
                Token::Sign(other)
            }
        };
        Ok(Some(token))
    }

    fn word(&mut self) -> Result<Token<'a>, StatementError> {
        let start = self.at;
        let in_word = |c: &u8| c.is_ascii_alphanumeric() || *c == b'_' || *c == b'$' || *c >= 0x80;
        self.at += self.b[start..].iter().take_while(|c| in_word(c)).count();
        let text = std::str::from_utf8(&self.b[start..self.at]);
        text.map(Token::Word).map_err(|_| StatementError::Unreadable)
    }

    fn number_follows(&self) -> bool {
        let rest = &self.b[self.at..];
        let rest = rest.strip_prefix(b"-").or(rest.strip_prefix(b"+")).unwrap_or(rest);
        let rest = rest.strip_prefix(b".").unwrap_or(rest);
        rest.first().is_some_and(u8::is_ascii_digit)
    }

    fn number(&mut self) -> Token<'a> {
        let start = self.at;
        self.at += 1;
        while let Some(&c) = self.b.get(self.at) {
            let after_exponent = matches!(self.b[self.at - 1], b'e' | b'E');
            let goes_on = c.is_ascii_alphanumeric()
                || c == b'.'
                || (after_exponent && matches!(c, b'-' | b'+'));
            if !goes_on {
                break;
            }
            self.at += 1;
        }
        Token::Number(std::str::from_utf8(&self.b[start..self.at]).unwrap_or("0"))
    }

    fn name(&mut self, quote: u8) -> Result<String, StatementError> {
        let mut name = Vec::new();
        self.at += 1;
        loop {
            let rest = &self.b[self.at..];
            let end = memchr::memchr(quote, rest).ok_or(StatementError::Unreadable)?;
            name.extend_from_slice(&rest[..end]);
            self.at += end + 1;
            if self.b.get(self.at) != Some(&quote) {
                return String::from_utf8(name).map_err(|_| StatementError::Unreadable);
            }
            name.push(quote);
            self.at += 1;
        }
    }

    fn dollar_quoted(&mut self) -> Result<Cow<'a, [u8]>, StatementError> {
        let rest = &self.b[self.at..];
        let tag = dollar_tag(rest).ok_or(StatementError::Unreadable)?;
        let body = &rest[tag.len()..];
        let end = memchr::memmem::find(body, tag).ok_or(StatementError::Unreadable)?;
        self.at += tag.len() + end + tag.len();
        Ok(Cow::Borrowed(&body[..end]))
    }

    fn string(&mut self, backslash: bool) -> Result<Cow<'a, [u8]>, StatementError> {
        self.at += 1;
        let start = self.at;
        let mut owned: Option<Vec<u8>> = None;
        let mut from = start;
        loop {
            let rest = &self.b[self.at..];
            let found = if backslash {
                memchr::memchr2(b'\'', b'\\', rest)
            } else {
                memchr::memchr(b'\'', rest)
            };
            self.at += found.ok_or(StatementError::Unreadable)?;
            let escape = self.b[self.at] == b'\\';
            let doubled = !escape && self.b.get(self.at + 1) == Some(&b'\'');
            if !escape && !doubled {
                let body = &self.b[from..self.at];
                self.at += 1;
                return Ok(match owned {
                    None => Cow::Borrowed(body),
                    Some(mut text) => {
                        text.extend_from_slice(body);
                        Cow::Owned(text)
                    }
                });
            }
            let text = owned.get_or_insert_default();
            text.extend_from_slice(&self.b[from..self.at]);
            let second = *self.b.get(self.at + 1).ok_or(StatementError::Unreadable)?;
            text.push(if escape { unescaped(second) } else { b'\'' });
            self.at += 2;
            from = self.at;
        }
    }

    fn hex(&mut self) -> Result<Vec<u8>, StatementError> {
        self.at += 2;
        let rest = &self.b[self.at..];
        let length = memchr::memchr(b'\'', rest).ok_or(StatementError::Unreadable)?;
        let digits = &rest[..length];
        self.at += length + 1;
        let digit = |c: u8| (c as char).to_digit(16).ok_or(StatementError::Unreadable);
        if length % 2 == 1 {
            return Err(StatementError::Unreadable);
        }
        digits.chunks(2).map(|pair| Ok((digit(pair[0])? * 16 + digit(pair[1])?) as u8)).collect()
    }
}

/// The tag with which a dollar-quoted text begins: `$$` or `$word$`.
pub(super) fn dollar_tag(b: &[u8]) -> Option<&[u8]> {
    let word = b.strip_prefix(b"$")?;
    let in_tag = |c: &u8| c.is_ascii_alphanumeric() || *c == b'_' || *c >= 0x80;
    let length = word.iter().take_while(|c| in_tag(c)).count();
    let is_number = word.first().is_some_and(u8::is_ascii_digit);
    (!is_number && word.get(length) == Some(&b'$')).then(|| &b[..length + 2])
}

/// The length of a comment in which others may lie.
fn nested_comment(b: &[u8]) -> usize {
    let mut depth = 0_usize;
    let mut at = 0;
    while at < b.len() {
        if b[at..].starts_with(b"/*") {
            depth += 1;
            at += 2;
        } else if b[at..].starts_with(b"*/") {
            depth -= 1;
            at += 2;
            if depth == 0 {
                break;
            }
        } else {
            at += 1;
        }
    }
    at
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
