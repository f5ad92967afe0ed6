//! Where a lexeme that has begun ends.

use super::{Lexeme, Lexer, Literal, Pending};
use crate::sql::Dialect;

impl Lexer {
    /// Looks for the end of a token, from `from` on.
    pub(super) fn search(&self, pending: &Pending, rest: &[u8], from: usize, last: bool) -> Search {
        let again = |from: usize| Search::On(pending.clone(), from);
        // What ends with the first byte that does not belong to it.
        let run = |lexeme, length: usize| match from + length == rest.len() && !last {
            true => again(from + length),
            false => Search::Found(lexeme, from + length),
        };
        let body = &rest[from..];
        match pending {
            Pending::Space => {
                run(Lexeme::Space, body.iter().take_while(|byte| self.is_space(**byte)).count())
            }
            Pending::Word => {
                let length = body.iter().take_while(|byte| self.in_word(**byte)).count();
                match self.delimiter_in(&rest[..from + length]) {
                    Some(end) => Search::Found(Lexeme::Word, end),
                    None => run(Lexeme::Word, length),
                }
            }
            Pending::Number => {
                let mut at = from;
                while let Some(&byte) = rest.get(at) {
                    let exponent = matches!(rest[at - 1], b'e' | b'E') && !rest.starts_with(b"0x");
                    let sign = exponent && matches!(byte, b'-' | b'+');
                    if !(byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'_') || sign) {
                        break;
                    }
                    // `1E'…'` is a number and a text in PostgreSQL.
                    let text = byte.is_ascii_alphabetic() && self.dialect == Dialect::Postgres;
                    match rest.get(at + 1) {
                        None if text && !last => return again(at),
                        Some(b'\'') if text => break,
                        _ => at += 1,
                    }
                }
                run(Lexeme::Number, at - from)
            }
            Pending::Name(quote) => {
                let mut from = from;
                loop {
                    let Some(found) = memchr::memchr(*quote, &rest[from..]) else {
                        return again(rest.len());
                    };
                    let at = from + found;
                    // Only brackets cannot hold their own end.
                    match rest.get(at + 1) {
                        _ if *quote == b']' => return Search::Found(Lexeme::Name, at + 1),
                        None if !last => return again(at),
                        Some(next) if next == quote => from = at + 2,
                        _ => return Search::Found(Lexeme::Name, at + 1),
                    }
                }
            }
            Pending::Quoted(literal) => search_quoted(*literal, rest, from, last),
            Pending::Dollar(tag) => match memchr::memmem::find(body, tag) {
                Some(found) => Search::Found(
                    Lexeme::Text(Literal::Dollar(tag.len())),
                    from + found + tag.len(),
                ),
                // The tag may be cut by the end of what is here.
                None => again((rest.len() + 1).saturating_sub(tag.len()).max(from)),
            },
            Pending::Line(lexeme) => {
                let end = match self.dialect {
                    Dialect::Postgres => memchr::memchr2(b'\n', b'\r', body),
                    _ => memchr::memchr(b'\n', body),
                };
                match end {
                    Some(end) => Search::Found(*lexeme, from + end),
                    None if last => Search::Found(*lexeme, rest.len()),
                    None => again(rest.len()),
                }
            }
            Pending::Block(depth) => self.search_block(*depth, rest, from, last),
        }
    }

    pub(super) fn search_block(
        &self,
        mut depth: u32,
        rest: &[u8],
        mut from: usize,
        last: bool,
    ) -> Search {
        let nests = self.dialect == Dialect::Postgres;
        loop {
            let Some(found) = memchr::memchr2(b'*', b'/', &rest[from..]) else {
                return self.open_block(depth, rest.len(), last);
            };
            let at = from + found;
            match (rest[at], rest.get(at + 1)) {
                (_, None) if !last => return Search::On(Pending::Block(depth), at),
                (b'*', Some(b'/')) => {
                    depth -= 1;
                    from = at + 2;
                    if depth == 0 {
                        return Search::Found(Lexeme::Comment, from);
                    }
                }
                (b'/', Some(b'*')) if nests => {
                    depth += 1;
                    from = at + 2;
                }
                _ => from = at + 1,
            }
        }
    }

    /// A comment that is not closed: SQLite ends it with the script.
    pub(super) fn open_block(&self, depth: u32, length: usize, last: bool) -> Search {
        match last && self.dialect == Dialect::Sqlite {
            true => Search::Found(Lexeme::Comment, length),
            false => Search::On(Pending::Block(depth), length),
        }
    }

    /// Where a delimiter of words begins inside a word: clients look for it everywhere.
    pub(super) fn delimiter_in(&self, word: &[u8]) -> Option<usize> {
        let usual = self.delimiter.len() < 2 && self.delimiter != b"$";
        if usual || self.dialect != Dialect::Mariadb {
            return None;
        }
        memchr::memmem::find(word, &self.delimiter).filter(|at| *at > 0)
    }
}

pub(super) enum Search {
    Found(Lexeme, usize),
    On(Pending, usize),
}

pub(super) fn search_quoted(literal: Literal, rest: &[u8], mut from: usize, last: bool) -> Search {
    let (quote, backslash) = match literal {
        Literal::Quoted { quote, backslash, .. } => (quote, backslash),
        _ => (b'\'', false),
    };
    loop {
        let body = rest.get(from..).unwrap_or_default();
        let found = match backslash {
            true => memchr::memchr2(quote, b'\\', body),
            false => memchr::memchr(quote, body),
        };
        let Some(found) = found else {
            return Search::On(Pending::Quoted(literal), from.max(rest.len()));
        };
        let at = from + found;
        let next = rest.get(at + 1);
        if next.is_none() && !last {
            return Search::On(Pending::Quoted(literal), at);
        }
        if rest[at] == b'\\' || next == Some(&quote) {
            from = at + 2;
            continue;
        }
        return Search::Found(Lexeme::Text(literal), at + 1);
    }
}

/// Whether a byte behind two dashes makes a comment of them in MariaDB: white space or a
/// control, so that `5--3` is a difference.
pub(super) fn ends_dashes(byte: u8) -> bool {
    byte <= b' ' || byte == 0x7F
}

/// The length of `/*!40101` or `/*M!100301`.
pub(super) fn mark(rest: &[u8]) -> Option<usize> {
    let body = rest.strip_prefix(b"/*!").or_else(|| rest.strip_prefix(b"/*M!"))?;
    let digits = body.iter().take(6).take_while(|byte| byte.is_ascii_digit()).count();
    // A version has five or six digits; fewer belong to the code.
    Some(rest.len() - body.len() + if digits >= 5 { digits } else { 0 })
}

/// The tag with which a dollar-quoted text begins: `$$` or `$word$`.
pub(super) fn dollar_tag(b: &[u8]) -> Option<&[u8]> {
    let word = b.strip_prefix(b"$")?;
    let length = word.iter().take_while(|byte| in_tag(byte)).count();
    let is_number = word.first().is_some_and(u8::is_ascii_digit);
    (!is_number && word.get(length) == Some(&b'$')).then(|| &b[..length + 2])
}

pub(super) fn in_tag(byte: &u8) -> bool {
    byte.is_ascii_alphanumeric() || *byte == b'_' || *byte >= 0x80
}
