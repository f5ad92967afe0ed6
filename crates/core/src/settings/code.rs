//! Literals in programs: arrays, variables, constants and properties of PHP; dictionaries, objects
//! and hashes of Python, JavaScript and Ruby; JSON. Code is not understood: a name, a sign that
//! gives it a value, and a literal behind it.

use super::meaning::{Found, path};
use super::spelling::{Layer, decode};
use std::ops::Range;

/// Which program a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Language {
    Php,
    /// Comments begin with `#`: Python and Ruby.
    Hash,
    /// Comments begin with `//`: JavaScript and JSON.
    Slash,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Token {
    Word(Range<usize>),
    Number(Range<usize>),
    Text(Range<usize>, Layer),
    Sign(u8),
    /// The end of a line, which ends a statement where no sign does.
    Line,
}

/// Folders within folders within a file; deeper is no settings file.
const DEEPEST: usize = 64;

pub(super) fn values(text: &str, language: Language) -> Vec<Found> {
    let tokens = tokens(text, language);
    let mut reader = Reader { text, tokens: &tokens, at: 0, found: Vec::new(), calls: 0 };
    while reader.at < tokens.len() {
        reader.items(&[], 0);
        // A closing sign that nothing has opened.
        reader.at += 1;
    }
    reader.found
}

fn tokens(text: &str, language: Language) -> Vec<Token> {
    let bytes = text.as_bytes();
    let mut found = Vec::new();
    let mut at = if language == Language::Php { php_begins(text, 0) } else { 0 };
    while at < bytes.len() {
        let rest = &text[at..];
        let end_of = |end: &str, from: usize| {
            rest[from..].find(end).map_or(bytes.len(), |found| at + from + found + end.len())
        };
        let line_comment = match language {
            Language::Php => {
                rest.starts_with('#') && !rest.starts_with("#[") || rest.starts_with("//")
            }
            Language::Hash => rest.starts_with('#'),
            Language::Slash => rest.starts_with("//"),
        };
        match bytes[at] {
            _ if line_comment => at = rest.find('\n').map_or(bytes.len(), |end| at + end),
            b'/' if rest.starts_with("/*") && language != Language::Hash => at = end_of("*/", 2),
            b'?' if language == Language::Php && rest.starts_with("?>") => {
                at = php_begins(text, at)
            }
            _ if rest.starts_with("\"\"\"") || rest.starts_with("'''") => {
                at = end_of(&rest[..3], 3)
            }
            quote @ (b'"' | b'\'') => {
                let Some(end) = super::quote_end(text, at) else { break };
                let layer = match (language, quote) {
                    (Language::Php, b'\'') => Layer::Single,
                    (Language::Php, _) => Layer::Double,
                    _ => Layer::Script(quote),
                };
                found.push(Token::Text(at + 1..end, layer));
                at = end + 1;
            }
            b'`' if language == Language::Slash => at = end_of("`", 1),
            b'\n' => {
                found.push(Token::Line);
                at += 1;
            }
            byte if byte.is_ascii_digit() => {
                let end = at + word_length(rest);
                found.push(Token::Number(at..end));
                at = end;
            }
            byte if byte.is_ascii_alphabetic() || matches!(byte, b'_' | b'$') => {
                let end = at + 1 + word_length(&rest[1..]);
                found.push(Token::Word(at..end));
                at = end;
            }
            byte if byte.is_ascii_whitespace() => at += 1,
            byte if byte.is_ascii() => {
                found.push(Token::Sign(byte));
                at += 1;
            }
            _ => at += rest.chars().next().map_or(1, char::len_utf8),
        }
    }
    found
}

/// Where the next part in PHP begins.
fn php_begins(text: &str, from: usize) -> usize {
    text[from..].find("<?").map_or(text.len(), |at| {
        let begin = from + at;
        let tag = ["<?php", "<?="].iter().find(|tag| text[begin..].starts_with(**tag));
        begin + tag.map_or(2, |tag| tag.len())
    })
}

fn word_length(text: &str) -> usize {
    text.bytes().take_while(|byte| byte.is_ascii_alphanumeric() || *byte == b'_').count()
}

/// Names below others.
fn below(above: &[String], names: &[String]) -> Vec<String> {
    path(above.iter().chain(names).map(String::as_str))
}

struct Reader<'a> {
    text: &'a str,
    tokens: &'a [Token],
    at: usize,
    found: Vec<Found>,
    calls: usize,
}

impl Reader<'_> {
    fn sign(&self, ahead: usize) -> Option<u8> {
        match self.tokens.get(self.at + ahead) {
            Some(Token::Sign(sign)) => Some(*sign),
            _ => None,
        }
    }

    fn are_signs(&self, signs: &[u8]) -> bool {
        signs.iter().enumerate().all(|(ahead, sign)| self.sign(ahead) == Some(*sign))
    }

    /// Everything up to a closing sign, which is not taken.
    fn items(&mut self, path: &[String], depth: usize) {
        while let Some(token) = self.tokens.get(self.at) {
            match token {
                Token::Sign(b')' | b']' | b'}') => return,
                Token::Sign(b'(' | b'[' | b'{') => self.within(path, depth),
                Token::Word(_) | Token::Text(..) | Token::Number(_) => self.entry(path, depth),
                _ => self.at += 1,
            }
        }
    }

    /// What stands in brackets.
    fn within(&mut self, path: &[String], depth: usize) {
        self.at += 1;
        self.rest(path, depth);
    }

    /// The same behind the opening one.
    fn rest(&mut self, path: &[String], depth: usize) {
        if depth < DEEPEST {
            self.items(path, depth + 1);
            self.at += usize::from(self.at < self.tokens.len());
        }
    }

    /// A name, perhaps of several steps, and its value, if it has one.
    fn entry(&mut self, path: &[String], depth: usize) {
        let word = matches!(self.tokens[self.at], Token::Word(_));
        let Some(first) = self.name() else { return };
        if matches!(first.as_str(), "array" | "dict") && self.sign(0) == Some(b'(') {
            return;
        }
        if word && self.sign(0) == Some(b'(') {
            return self.call(&first, path, depth);
        }
        let mut names = vec![first];
        loop {
            let here = self.at;
            let step = if self.sign(0) == Some(b'[') {
                self.at += 1;
                let name = self.name();
                let closed = self.sign(0) == Some(b']');
                self.at += usize::from(closed);
                name.filter(|_| closed)
            } else if self.are_signs(b"->") || self.are_signs(b"::") {
                self.at += 2;
                self.word()
            } else if self.sign(0) == Some(b'.') {
                self.at += 1;
                self.word()
            } else {
                None
            };
            match step {
                Some(name) => names.push(name),
                None => {
                    self.at = here;
                    break;
                }
            }
        }
        names.retain(|name| !matches!(name.as_str(), "this" | "self" | "static"));
        let signs = if self.are_signs(b"=>") {
            2
        } else if self.are_signs(b"==") || self.are_signs(b"::") {
            0
        } else {
            usize::from(matches!(self.sign(0), Some(b'=' | b':')))
        };
        if signs > 0 && !names.is_empty() {
            self.at += signs;
            self.value(&below(path, &names), depth);
        }
    }

    /// A word or a text as a name; `$` is no part of it.
    fn name(&mut self) -> Option<String> {
        let name = match self.tokens.get(self.at)? {
            Token::Word(range) => self.text[range.clone()].trim_start_matches('$').to_owned(),
            Token::Number(range) => self.text[range.clone()].to_owned(),
            Token::Text(range, layer) => {
                let raw = &self.text[range.clone()];
                match decode(*layer, raw, 0) {
                    Some(decoded) => decoded.text,
                    None => raw.to_owned(),
                }
            }
            _ => return None,
        };
        self.at += 1;
        Some(name)
    }

    fn word(&mut self) -> Option<String> {
        matches!(self.tokens.get(self.at), Some(Token::Word(_))).then(|| self.name()).flatten()
    }

    fn value(&mut self, path: &[String], depth: usize) {
        loop {
            match self.tokens.get(self.at).cloned() {
                Some(Token::Line) => self.at += 1,
                Some(Token::Text(range, layer)) => {
                    self.at += 1;
                    // Two texts with a sign between them are not one.
                    if !matches!(self.sign(0), Some(b'.' | b'+' | b'%' | b'[' | b'?')) {
                        self.add(path, range, layer);
                    }
                    return;
                }
                Some(Token::Number(range)) => {
                    self.at += 1;
                    return self.add(path, range, Layer::Plain);
                }
                Some(Token::Sign(b'[' | b'{' | b'(')) => return self.within(path, depth),
                Some(Token::Word(range)) => {
                    let word = &self.text[range];
                    self.at += 1;
                    match self.sign(0) {
                        _ if ["new", "await", "array", "dict", "static", "return"]
                            .contains(&word) => {}
                        // A type, and the value behind it.
                        Some(b'=') if !self.are_signs(b"==") && !self.are_signs(b"=>") => {
                            self.at += 1;
                        }
                        Some(b'(') => return self.call(word, path, depth),
                        _ => return,
                    }
                }
                _ => return,
            }
        }
    }

    fn add(&mut self, path: &[String], range: Range<usize>, layer: Layer) {
        if let Some(decoded) = decode(layer, &self.text[range.clone()], range.start) {
            self.found.push(Found::new(path.iter().map(String::as_str), layer, decoded));
        }
    }

    /// Arguments in brackets. Those of some functions of PHP are known by their places.
    fn call(&mut self, name: &str, path: &[String], depth: usize) {
        self.calls += 1;
        let by_place: &[&str] = match name {
            "define" => return self.definition(path, depth),
            "PDO" => &["dsn", "username", "password"],
            "mysqli" | "mysqli_connect" => {
                &["host", "username", "password", "database", "port", "socket"]
            }
            _ => &[],
        };
        let (tokens, mut place, mut nested) = (self.tokens, 0, 0);
        for token in &tokens[self.at..] {
            match token {
                _ if place >= by_place.len() || nested > DEEPEST => break,
                Token::Sign(b'(' | b'[' | b'{') => nested += 1,
                Token::Sign(b')' | b']' | b'}') if nested <= 1 => break,
                Token::Sign(b')' | b']' | b'}') => nested -= 1,
                Token::Sign(b',') if nested == 1 => place += 1,
                Token::Text(range, layer) if nested == 1 => {
                    let names = [format!("{name} {}", self.calls), by_place[place].to_owned()];
                    self.add(&below(path, &names), range.clone(), *layer);
                }
                _ => {}
            }
        }
        self.within(path, depth);
    }

    /// `define('NAME', 'value')`
    fn definition(&mut self, path: &[String], depth: usize) {
        self.at += 1;
        if let Some(name) = self.name()
            && self.sign(0) == Some(b',')
        {
            self.at += 1;
            // Its value may be a definition, too.
            if depth < DEEPEST {
                self.value(&below(path, &[name]), depth + 1);
            }
        }
        self.rest(path, depth);
    }
}
