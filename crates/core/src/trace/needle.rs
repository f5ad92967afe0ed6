//! A text that is searched for, understood: an address, a path, or any text.

use super::{Form, NeedleError, byte_of};
use crate::address::Scheme;
use crate::rewrite::spelling::{Encoding, next};

/// A text and what it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Needle {
    /// A web address: its scheme if it has one, its host with the port, and the rest from the
    /// first slash on.
    Web(Option<Scheme>, String, String),
    /// A path or part of one.
    Path(String),
    /// Any other text.
    Text(String),
}

/// What the surroundings of a pattern must be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NeedleKind {
    /// Two slashes and a host; what stands before them is the scheme.
    Web(Option<Scheme>),
    /// A path that begins with a slash, wherever it stands.
    Rooted,
    /// A path without its first slash, which may stand before it.
    Relative(Form),
    /// Anything.
    Text,
}

/// One form of a text, as characters.
pub(super) struct Pattern {
    pub needle: usize,
    pub chars: Vec<char>,
    /// Characters from the beginning that are compared without case.
    pub caseless: usize,
    /// Where the stem begins, in characters.
    pub stem_at: usize,
    stem: String,
    pub kind: NeedleKind,
}

impl Needle {
    /// Understands a text, however it is encoded.
    pub fn read(text: &str) -> Result<Self, NeedleError> {
        let plain = decoded(text.trim());
        if !plain.chars().any(char::is_alphanumeric) {
            return Err(NeedleError::Empty(text.to_owned()));
        }
        let lower = plain.to_ascii_lowercase();
        let schemes = [("https:", Some(Scheme::Https)), ("http:", Some(Scheme::Http)), ("", None)];
        for (name, scheme) in schemes {
            let Some(rest) = lower.strip_prefix(name).and_then(|rest| rest.strip_prefix("//"))
            else {
                continue;
            };
            let rest = &plain[plain.len() - rest.len()..];
            let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
            if !rest[..end].chars().any(char::is_alphanumeric) {
                return Err(NeedleError::NoHost(text.to_owned()));
            }
            let path = if &rest[end..] == "/" { "" } else { &rest[end..] };
            return Ok(Needle::Web(scheme, rest[..end].to_lowercase(), path.to_owned()));
        }
        let is_path = plain.contains('/') && !plain.contains(char::is_whitespace);
        Ok(if is_path { Needle::Path(plain) } else { Needle::Text(plain) })
    }

    /// The forms that are searched for.
    pub(super) fn patterns(&self, needle: usize) -> Vec<Pattern> {
        let made = |text: String, caseless, kind| Pattern::new(needle, &text, caseless, kind);
        match self {
            Needle::Text(text) => vec![made(text.clone(), 0, NeedleKind::Text)],
            Needle::Path(path) if path.starts_with('/') => {
                vec![made(path.clone(), 0, NeedleKind::Rooted)]
            }
            Needle::Path(path) => vec![made(path.clone(), 0, NeedleKind::Relative(Form::Same))],
            Needle::Web(scheme, host, path) => {
                let ascii = idna::domain_to_ascii(host);
                let (unicode, readable) = idna::domain_to_unicode(host);
                let mut hosts = vec![host.clone()];
                hosts.extend(ascii.ok());
                hosts.extend(readable.is_ok().then_some(unicode));
                hosts.sort();
                hosts.dedup();
                let mut all: Vec<Pattern> = hosts
                    .iter()
                    .map(|host| {
                        let caseless = 2 + host.chars().count() + 1;
                        made(format!("//{host}{path}"), caseless, NeedleKind::Web(*scheme))
                    })
                    .collect();
                let relative = path.trim_start_matches('/');
                if path.starts_with('/')
                    && relative.chars().filter(|c| c.is_alphanumeric()).count() > 2
                {
                    all.push(made(relative.to_owned(), 0, NeedleKind::Relative(Form::PathAlone)));
                }
                all
            }
        }
    }
}

impl Pattern {
    fn new(needle: usize, text: &str, caseless: usize, kind: NeedleKind) -> Self {
        let chars: Vec<char> = text.chars().collect();
        // Its stem is chosen once all texts are known.
        Self { needle, chars, caseless, stem_at: 0, stem: String::new(), kind }
    }

    /// The parts that could be the stem, in lower case.
    pub fn candidates(&self) -> impl Iterator<Item = String> + '_ {
        let part = |(at, length): (usize, usize)| self.chars[at..at + length].iter();
        runs(&self.chars).into_iter().map(move |run| part(run).collect::<String>().to_lowercase())
    }

    /// Chooses the stem: what few texts share, and then what is long, is found quickly. Hosts
    /// are on every page, so a path decides where it can.
    pub fn choose_stem(&mut self, shared_by: &dyn Fn(&str) -> usize) {
        let runs = runs(&self.chars);
        let worth = |(at, length): &(usize, usize)| {
            let text: String = self.chars[*at..at + length].iter().collect();
            let rare = std::cmp::Reverse(shared_by(&text.to_lowercase()));
            (*length >= 2, rare, *at + 1 >= self.caseless, *length)
        };
        let (at, length) =
            runs.iter().max_by_key(|run| worth(run)).copied().unwrap_or((0, self.chars.len()));
        self.stem_at = at;
        self.stem = self.chars[at..at + length].iter().collect();
    }

    /// The part that looks the same in every encoding.
    pub fn stem(&self) -> &str {
        &self.stem
    }

    /// The character behind the stem.
    pub fn stem_end(&self) -> usize {
        self.stem_at + self.stem.chars().count()
    }
}

/// Runs of ASCII letters and digits: where they begin, and how long they are.
fn runs(chars: &[char]) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    let mut begun = None;
    for (place, ch) in chars.iter().chain([&' ']).enumerate() {
        match (ch.is_ascii_alphanumeric(), begun) {
            (true, None) => begun = Some(place),
            (false, Some(start)) => {
                found.push((start, place - start));
                begun = None;
            }
            _ => {}
        }
    }
    found
}

/// The characters that are meant.
fn decoded(text: &str) -> String {
    let b = text.as_bytes();
    let mut plain = Vec::with_capacity(b.len());
    let mut at = 0;
    while let Some(unit) = next(b, at) {
        match byte_of(&b[unit.start..unit.end]) {
            Some(byte) if unit.encoding == Encoding::Percent => plain.push(byte),
            _ => plain.extend_from_slice(unit.ch.encode_utf8(&mut [0; 4]).as_bytes()),
        }
        at = unit.end;
    }
    String::from_utf8_lossy(&plain).into_owned()
}
