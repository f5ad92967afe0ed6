//! Where texts occur in stored values, whatever they are spelled like: the search of
//! `trace`.
//!
//! All texts are searched for in one pass: the part of each that looks the same in every
//! encoding (its stem) is looked for first, and its surroundings are read, decoded, only
//! where it occurs. What a layer does to text (serialized values, JSON, entities, percent
//! signs) does not hide a stem, so no layer is opened.

mod needle;

pub use needle::Needle;

use crate::address::Scheme;
use crate::rewrite::spelling::{Encoding, is_word, next, prev};
use crate::rewrite::{ColumnText, back_over, goes_on};
use aho_corasick::{AhoCorasick, AhoCorasickBuilder, AhoCorasickKind};
use encoding_rs::WINDOWS_1252;
use needle::{NeedleKind, Pattern};
use regex::bytes::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use thiserror::Error;

/// In which form a text was found.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// As asked for, in whatever encoding.
    Same,
    /// The address with the other scheme, or with none.
    OtherScheme,
    /// The path of the address without scheme and host, so that code puts the rest before it.
    PathAlone,
}

/// One occurrence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hit {
    /// The number of the text.
    pub needle: usize,
    /// Where it stands.
    pub range: Range<usize>,
    /// In which form.
    pub form: Form,
    /// How its slashes are spelled; of a text without any, how its first character is.
    pub encoding: Encoding,
}

/// Why a text cannot be searched for.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum NeedleError {
    /// There is nothing in it to search for.
    #[error("`{0}` has no letter or digit to search for")]
    Empty(String),
    /// Only a scheme.
    #[error("`{0}` names no host")]
    NoHost(String),
}

/// Texts, made ready for searching.
pub struct Needles {
    texts: Vec<String>,
    patterns: Vec<Pattern>,
    /// The patterns of each stem.
    of_stem: Vec<Vec<usize>>,
    stems: AhoCorasick,
    /// A quicker question for few stems: whether any of them occurs.
    gate: Option<Regex>,
}

/// Stems for which a table of every step is made.
const TABLE: usize = 4000;
/// Stems that are asked for together first.
const FEW: usize = 12;

impl Needles {
    /// Prepares texts; repetitions count once.
    pub fn new(texts: &[String]) -> Result<Self, NeedleError> {
        let mut known = HashSet::new();
        let unique: Vec<String> =
            texts.iter().filter(|text| known.insert(*text)).cloned().collect();
        let mut patterns = Vec::new();
        for (number, text) in unique.iter().enumerate() {
            patterns.extend(Needle::read(text)?.patterns(number));
        }
        let mut shared: HashMap<String, usize> = HashMap::new();
        for part in patterns.iter().flat_map(Pattern::candidates) {
            *shared.entry(part).or_default() += 1;
        }
        for pattern in &mut patterns {
            pattern.choose_stem(&|part| shared.get(part).copied().unwrap_or(0));
        }
        let mut numbers: HashMap<String, usize> = HashMap::new();
        let mut stems: Vec<String> = Vec::new();
        let mut of_stem: Vec<Vec<usize>> = Vec::new();
        for (number, pattern) in patterns.iter().enumerate() {
            let stem = pattern.stem().to_ascii_lowercase();
            let place = *numbers.entry(stem).or_insert_with_key(|stem| {
                stems.push(stem.clone());
                of_stem.push(Vec::new());
                stems.len() - 1
            });
            of_stem[place].push(number);
        }
        // A table of every step is fast, and worth its room for this many texts.
        let kind = (stems.len() <= TABLE).then_some(AhoCorasickKind::DFA);
        let few = stems.len() <= FEW;
        let stem = |stem: &String| regex::escape(stem);
        let gate = few.then(|| stems.iter().map(stem).collect::<Vec<_>>().join("|"));
        let gate = gate.and_then(|gate| {
            RegexBuilder::new(&gate).case_insensitive(true).unicode(false).build().ok()
        });
        let stems = AhoCorasickBuilder::new()
            .ascii_case_insensitive(true)
            .kind(kind)
            .build(&stems)
            .map_err(|_| NeedleError::Empty(unique.join(", ")))?;
        Ok(Self { texts: unique, patterns, of_stem, stems, gate })
    }

    /// The texts, by number.
    pub fn texts(&self) -> &[String] {
        &self.texts
    }

    /// The longest that a text can be in any usual spelling (bytes): portions of a stream
    /// must overlap by so much.
    pub fn reach(&self) -> usize {
        let longest = self.patterns.iter().map(|pattern| pattern.chars.len()).max();
        longest.unwrap_or(0) * 12 + 64
    }

    /// Searches a cell; gives the text that was looked at, if anything was found in it.
    pub fn cell<'a>(&self, text: ColumnText, value: &'a [u8]) -> Option<(Cow<'a, [u8]>, Vec<Hit>)> {
        let view = match text {
            ColumnText::Latin1 if !value.is_ascii() && self.stems.is_match(value) => {
                let decoded = WINDOWS_1252.decode_without_bom_handling(value).0;
                Cow::Owned(decoded.into_owned().into_bytes())
            }
            _ => Cow::Borrowed(value),
        };
        let hits = self.find(&view);
        (!hits.is_empty()).then_some((view, hits))
    }

    /// Every occurrence in a value, in order. Where a whole address stands, its path alone
    /// does not count.
    pub fn find(&self, value: &[u8]) -> Vec<Hit> {
        let mut hits: Vec<Hit> = Vec::new();
        if self.gate.as_ref().is_some_and(|gate| !gate.is_match(value)) {
            return hits;
        }
        for found in self.stems.find_overlapping_iter(value) {
            for number in &self.of_stem[found.pattern().as_usize()] {
                hits.extend(self.patterns[*number].judge(value, found.start()));
            }
        }
        hits.sort_by_key(|hit| (hit.needle, hit.range.start, hit.form));
        hits.dedup_by(|later, earlier| {
            later.needle == earlier.needle && later.range.start < earlier.range.end
        });
        hits.sort_by_key(|hit| (hit.range.start, hit.needle));
        hits
    }
}

impl Pattern {
    /// Whether the text stands around a hit of its stem.
    fn judge(&self, b: &[u8], hit: usize) -> Option<Hit> {
        let stem = self.stem();
        let caseless = self.caseless > self.stem_at + stem.chars().count();
        if !caseless && b.get(hit..hit + stem.len()) != Some(stem.as_bytes()) {
            return None;
        }
        let (before, after) = (&self.chars[..self.stem_at], &self.chars[self.stem_end()..]);
        let mut encoding = None;
        let mut note = |found: (usize, Encoding), wanted: char| {
            if wanted == '/' && encoding.is_none() {
                encoding = Some(found.1);
            }
            found.0
        };
        let mut start = hit;
        for (place, wanted) in before.iter().enumerate().rev() {
            start = note(back(b, start, *wanted, place < self.caseless)?, *wanted);
        }
        let mut end = hit + stem.len();
        for (place, wanted) in after.iter().enumerate() {
            let caseless = self.stem_end() + place < self.caseless;
            end = note(on(b, end, *wanted, caseless)?, *wanted);
        }
        let encoding = encoding.or_else(|| next(b, start).map(|unit| unit.encoding));
        let (start, form) = self.form(b, start, end)?;
        let encoding = encoding.unwrap_or(Encoding::Plain);
        Some(Hit { needle: self.needle, range: start..end, form, encoding })
    }

    /// Judges what stands before and behind: where it begins, and in which form it is.
    fn form(&self, b: &[u8], start: usize, end: usize) -> Option<(usize, Form)> {
        if self.kind != NeedleKind::Text && goes_on(b, end) && !is_no_text(b, end) {
            return None;
        }
        match self.kind {
            NeedleKind::Text => Some((start, Form::Same)),
            NeedleKind::Web(wanted) => {
                let Some(colon) = prev(b, start).filter(|unit| unit.ch == ':') else {
                    let form = if wanted.is_none() { Form::Same } else { Form::OtherScheme };
                    return Some((start, form));
                };
                let (scheme, from) = [(Scheme::Https, "https"), (Scheme::Http, "http")]
                    .into_iter()
                    .find_map(|(scheme, name)| Some((scheme, back_over(b, colon.start, name)?)))?;
                let same = wanted.is_none_or(|wanted| wanted == scheme);
                Some((from, if same { Form::Same } else { Form::OtherScheme }))
            }
            NeedleKind::Rooted => Some((start, Form::Same)),
            NeedleKind::Relative(form) => {
                let mut from = start;
                if let Some(slash) = prev(b, start).filter(|unit| unit.ch == '/') {
                    from = slash.start;
                    if form == Form::Same {
                        return Some((start, form));
                    }
                }
                let part =
                    prev(b, from).is_some_and(|unit| is_word(unit.ch) || "./:".contains(unit.ch));
                (!part).then_some((from, form))
            }
        }
    }
}

/// Whether a byte stands here that is no part of a text in UTF-8: the end of a text in binary
/// data.
fn is_no_text(b: &[u8], at: usize) -> bool {
    let rest = &b[at..b.len().min(at + 4)];
    match std::str::from_utf8(rest) {
        Ok(_) => false,
        Err(error) => error.valid_up_to() == 0 && error.error_len().is_some(),
    }
}

/// Reads one character forwards: the byte behind it and how it is spelled.
fn on(b: &[u8], at: usize, wanted: char, caseless: bool) -> Option<(usize, Encoding)> {
    let unit = next(b, at)?;
    if same(unit.ch, wanted, caseless) && (wanted.is_ascii() || unit.encoding != Encoding::Percent)
    {
        return Some((unit.end, unit.encoding));
    }
    if wanted.is_ascii() || unit.encoding != Encoding::Percent {
        return None;
    }
    let mut end = at;
    for byte in wanted.encode_utf8(&mut [0; 4]).bytes() {
        let unit = next(b, end).filter(|unit| byte_of(&b[unit.start..unit.end]) == Some(byte))?;
        end = unit.end;
    }
    Some((end, Encoding::Percent))
}

/// The same backwards.
fn back(b: &[u8], at: usize, wanted: char, caseless: bool) -> Option<(usize, Encoding)> {
    let unit = prev(b, at)?;
    if same(unit.ch, wanted, caseless) && (wanted.is_ascii() || unit.encoding != Encoding::Percent)
    {
        return Some((unit.start, unit.encoding));
    }
    if wanted.is_ascii() || unit.encoding != Encoding::Percent {
        return None;
    }
    let mut start = at;
    for byte in wanted.encode_utf8(&mut [0; 4]).bytes().rev() {
        let unit = prev(b, start).filter(|unit| byte_of(&b[unit.start..unit.end]) == Some(byte))?;
        start = unit.start;
    }
    Some((start, Encoding::Percent))
}

fn same(found: char, wanted: char, caseless: bool) -> bool {
    found == wanted || caseless && found.to_lowercase().eq(wanted.to_lowercase())
}

/// The byte that a percent-encoding stands for: its last two digits.
fn byte_of(spelled: &[u8]) -> Option<u8> {
    let digits = spelled.get(spelled.len().checked_sub(2)?..)?;
    u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

#[cfg(test)]
mod tests;
