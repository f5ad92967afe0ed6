//! Rewriting addresses inside values, whatever they lie in.
//!
//! A value is looked at from the outside in: a serialized value, a JSON
//! document, or text. Each layer gives **edits**, ranges of its own bytes with
//! what replaces them; an outer layer translates the edits of an inner one
//! (escapes, length prefixes) into edits of its own bytes. What no edit touches
//! is therefore the same to the byte, by construction.

mod base64;
mod boundary;
mod cell;
mod encoded;
mod json;
mod mend;
mod origins;
mod rule;
mod serialized;
pub mod spelling;
mod tally;
mod text;
mod windows_hit;
mod windows_path;

pub use cell::{CellOutcome, ColumnText};
pub use origins::{Origin, origins};
pub use rule::{Place, Rule, RuleError, Shape, Spelling, shadowed};
pub use serialized::is_serialized;
pub use tally::{Leftover, Sample, Tally, readable, surroundings};

pub(crate) use boundary::{back_over, goes_on};

use crate::limits;
use regex::bytes::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};
use std::ops::Range;
use text::Pattern;

/// One replacement in a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// The bytes that go.
    pub range: Range<usize>,
    /// What takes their place.
    pub text: Vec<u8>,
    /// The number of the rule and the spelling found; `None` for what follows
    /// from another edit, such as a length prefix.
    pub replaced: Option<(usize, Spelling)>,
}

/// Something that looks like an old address and was left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Left {
    /// Where it stands.
    pub range: Range<usize>,
    /// Why it was left.
    pub reason: Reason,
    /// The rule it belongs to, if one is known.
    pub rule: Option<usize>,
}

/// Why an old address was left.
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
pub enum Reason {
    /// The host stands alone, without scheme or `//`.
    BareHost,
    /// The address names another port: another server.
    OtherPort,
    /// The address carries a user name or a stray colon.
    UserInfo,
    /// The address lies on the old host, but outside the folder of the rule.
    OutsideFolder,
    /// Two slashes and the host, but not clearly an address.
    Unclear,
    /// The lengths of a serialized value are wrong; it is left whole.
    DamagedSerialized,
    /// Two keys would become one.
    KeyCollision,
    /// Values inside values, deeper than Fernweh follows.
    TooDeep,
    /// Binary data that is not text.
    Binary,
    /// A text in a character set that Fernweh does not decode.
    CharacterSet,
    /// The new address has a character that the column's character set has not.
    NoSuchCharacter,
    /// It lies in a value in base64, which is not opened.
    InBase64,
    /// A file that is too large to be rewritten as text.
    TooLarge,
}

impl Reason {
    /// The words of the report.
    pub fn words(self) -> &'static str {
        match self {
            Reason::BareHost => "bare host name",
            Reason::OtherPort => "another port, which is another server",
            Reason::UserInfo => "with user name or stray colon",
            Reason::OutsideFolder => "outside the folder of the rule",
            Reason::Unclear => "not clearly an address",
            Reason::DamagedSerialized => "serialized value that was already damaged",
            Reason::KeyCollision => "two keys would become the same",
            Reason::TooDeep => "nested too deeply",
            Reason::Binary => "binary data",
            Reason::CharacterSet => "unknown character set",
            Reason::NoSuchCharacter => "the column's character set lacks some characters",
            Reason::InBase64 => "inside base64",
            Reason::TooLarge => "file too large to rewrite",
        }
    }
}

impl Reason {
    /// What can be done about it.
    pub fn remedy(self) -> &'static str {
        match self {
            Reason::BareHost => "to rewrite it, add bare-host = true to the rule",
            Reason::OtherPort => "if that server moves too, write a rule with its port",
            Reason::UserInfo | Reason::Unclear => "check it, and correct it by hand if needed",
            Reason::OutsideFolder => "write a rule for the host without the folder",
            Reason::DamagedSerialized => {
                "repair its lengths with --mend-lengths, where only one reading is possible"
            }
            Reason::KeyCollision => "rename one of the keys by hand",
            Reason::TooDeep => "correct it by hand",
            Reason::Binary => "let the program that made it create it again",
            Reason::CharacterSet => "give the column a character set that Fernweh reads, utf8mb4",
            Reason::NoSuchCharacter => "write the new host in its ASCII form, xn--…",
            Reason::InBase64 => "to rewrite it, add --inside base64",
            Reason::TooLarge => "rewrite the file by itself: fernweh rewrite FILE -o NEW",
        }
    }
}

/// What was found in one value.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Matches {
    /// The replacements, in order, not overlapping.
    pub edits: Vec<Edit>,
    /// What was left.
    pub left: Vec<Left>,
    /// Whether a replacement lies inside a serialized value.
    pub in_serialized: bool,
    /// Whether wrong lengths of a serialized value are made right.
    pub mended: bool,
}

impl Matches {
    /// The value with the edits made.
    pub fn apply(&self, value: &[u8]) -> Vec<u8> {
        let mut out = Vec::with_capacity(value.len() + 64);
        let mut at = 0;
        for edit in &self.edits {
            out.extend_from_slice(&value[at..edit.range.start]);
            out.extend_from_slice(&edit.text);
            at = edit.range.end;
        }
        out.extend_from_slice(&value[at..]);
        out
    }

    /// How many addresses are replaced.
    pub fn replacements(&self) -> usize {
        self.edits.iter().filter(|edit| edit.replaced.is_some()).count()
    }

    fn is_empty(&self) -> bool {
        self.edits.is_empty() && self.left.is_empty()
    }
}

/// The rules, made ready for searching.
pub struct Rewriter {
    rules: Vec<Rule>,
    patterns: Vec<Pattern>,
    stems: Option<Regex>,
    mends: bool,
    opens_base64: bool,
}

impl Rewriter {
    /// Prepares rules; refuses contradictions.
    pub fn new(rules: Vec<Rule>) -> Result<Self, RuleError> {
        let rules = rule::without_contradiction(rules)?;
        Ok(Self::of(rules, &|_| true))
    }

    /// The same with some of the rules only; they keep their numbers.
    pub fn with_rules(&self, keep: &dyn Fn(usize) -> bool) -> Self {
        Self {
            mends: self.mends,
            opens_base64: self.opens_base64,
            ..Self::of(self.rules.clone(), keep)
        }
    }

    fn of(rules: Vec<Rule>, keep: &dyn Fn(usize) -> bool) -> Self {
        let kept = rules.iter().enumerate().filter(|(number, _)| keep(*number));
        let patterns: Vec<Pattern> =
            kept.flat_map(|(number, rule)| Pattern::of(number, rule)).collect();
        let mut stems: Vec<String> = patterns.iter().map(|p| regex::escape(&p.stem)).collect();
        stems.sort_by_key(|stem| std::cmp::Reverse(stem.len()));
        stems.dedup();
        let stems = (!stems.is_empty()).then(|| {
            RegexBuilder::new(&stems.join("|"))
                .case_insensitive(true)
                .unicode(stems.iter().any(|stem| !stem.is_ascii()))
                .build()
                .expect("escaped literals are a valid pattern")
        });
        Self { rules, patterns, stems, mends: false, opens_base64: false }
    }

    /// The rules in use, without repetitions.
    pub fn rules(&self) -> &[Rule] {
        &self.rules
    }

    /// Wrong lengths in serialized values are made right, where only one reading is possible.
    pub fn mending(self, mends: bool) -> Self {
        Self { mends, ..self }
    }

    /// Values in base64 are opened.
    pub fn opening_base64(self, opens_base64: bool) -> Self {
        Self { opens_base64, ..self }
    }

    /// Whether wrong lengths are made right.
    pub fn mends(&self) -> bool {
        self.mends
    }

    /// Whether values in base64 are opened.
    pub fn opens_base64(&self) -> bool {
        self.opens_base64
    }

    /// Whether there is nothing that it could change.
    pub fn is_idle(&self) -> bool {
        self.rules.is_empty() && !self.mends
    }

    /// Whether a value is to be looked into.
    pub(crate) fn concerns(&self, value: &[u8]) -> bool {
        // Base64 hides what is looked for, also within values that are to be opened.
        self.occurs(value)
            || self.mends && serialized::is_damaged(value)
            || self.opens_base64 && matches!(value.first(), Some(b'a' | b'O' | b's' | b'{' | b'['))
            || base64::opened(self, value).is_some()
    }

    /// Whether any old name occurs, in whatever surroundings. The cheap question
    /// that is asked of every value first.
    pub fn occurs(&self, value: &[u8]) -> bool {
        self.stems.as_ref().is_some_and(|stems| stems.is_match(value))
    }

    /// Counts the occurrences of old names.
    pub fn hits(&self, value: &[u8]) -> usize {
        self.hit_places(value).count()
    }

    /// Where old names begin.
    pub fn hit_places<'a>(&'a self, value: &'a [u8]) -> impl Iterator<Item = usize> + 'a {
        self.stems.iter().flat_map(|stems| stems.find_iter(value)).map(|hit| hit.start())
    }

    /// Looks through a value in UTF-8 (or plain bytes).
    pub fn look(&self, value: &[u8]) -> Matches {
        self.look_into(value, 0)
    }

    /// Looks through a value, and tells as well where an old name stands that is no address
    /// of a rule: part of another name, of a mail address, or already new.
    pub fn explain(&self, value: &[u8]) -> (Matches, Vec<Range<usize>>) {
        let found = self.look(value);
        let whole = |left: &Left| {
            matches!(
                left.reason,
                Reason::DamagedSerialized | Reason::TooDeep | Reason::KeyCollision
            )
        };
        if found.left.iter().any(whole) {
            return (found, Vec::new());
        }
        let mut judged: Vec<&Range<usize>> = found
            .edits
            .iter()
            .map(|edit| &edit.range)
            .chain(found.left.iter().map(|left| &left.range))
            .collect();
        judged.sort_by_key(|range| (range.start, range.end));
        // Hits come in order: the end of what has begun before them says whether they lie in it.
        let (mut next, mut reach) = (0, 0);
        let hits = self.stems.iter().flat_map(|stems| stems.find_iter(value));
        let other = hits.map(|hit| hit.range()).filter(|hit| {
            while let Some(range) = judged.get(next).filter(|range| range.start <= hit.start) {
                reach = reach.max(range.end);
                next += 1;
            }
            hit.end > reach
        });
        let mut names: Vec<Range<usize>> = Vec::new();
        for hit in other {
            let from = names.last().map_or(0, |name| name.end);
            if hit.start >= from {
                names.push(whole_name(value, from, hit));
            }
        }
        (found, names)
    }

    fn look_into(&self, value: &[u8], depth: usize) -> Matches {
        if !self.concerns(value) {
            return Matches::default();
        }
        if depth > limits::VALUE_DEPTH {
            return self.left_whole(value, Reason::TooDeep);
        }
        if let Some(inner) = base64::opened(self, value) {
            return base64::look(self, value, &inner, depth);
        }
        if let Some(opened) = encoded::opened(value) {
            return encoded::look(self, &opened, depth);
        }
        match serialized::parse(value) {
            serialized::Parsed::Value(parsed) => {
                serialized::look(self, value, &parsed, depth, false)
            }
            serialized::Parsed::Damaged if self.mends => match mend::mend(value) {
                Some(parsed) => serialized::look(self, value, &parsed, depth, true),
                None => self.left_whole(value, Reason::DamagedSerialized),
            },
            serialized::Parsed::Damaged => self.left_whole(value, Reason::DamagedSerialized),
            serialized::Parsed::Other => match json::parse(value) {
                Some(strings) => json::look(self, value, &strings, depth),
                None => self.look_in_text(value),
            },
        }
    }

    /// Looks for addresses in text, opening no layers but their own spelling.
    fn look_in_text(&self, value: &[u8]) -> Matches {
        let mut found = Matches::default();
        let Some(stems) = &self.stems else {
            return found;
        };
        let mut at = 0;
        let mut floor = 0;
        while let Some(hit) = stems.find_at(value, at) {
            let used = text::judge(
                value,
                hit.start(),
                floor,
                &self.patterns,
                &self.rules,
                &mut found.edits,
                &mut found.left,
            );
            floor = used.unwrap_or(floor);
            at = used.unwrap_or(0).max(hit.start() + 1);
        }
        found
    }

    /// A value that is not touched at all; a leftover if it holds an old address.
    fn left_whole(&self, value: &[u8], reason: Reason) -> Matches {
        let mut found = self.look_in_text(value);
        if found.is_empty() {
            return found;
        }
        let rule = found.edits.first().and_then(|edit| edit.replaced).map(|(rule, _)| rule);
        let edits = found.edits.drain(..).map(|edit| edit.range);
        let ranges = edits.chain(found.left.drain(..).map(|left| left.range));
        let range = ranges.min_by_key(|range| range.start).unwrap_or(0..value.len());
        found.left = vec![Left { range, reason, rule }];
        found
    }
}

/// Bytes of a name that are shown before and behind the part that was found; names of hosts
/// are no longer (RFC 1035, 2.3.4).
const NAME: usize = 255;

/// The name of which a part was found, with what belongs to it behind `from`.
fn whole_name(value: &[u8], from: usize, part: Range<usize>) -> Range<usize> {
    let belongs =
        |byte: &u8| byte.is_ascii_alphanumeric() || b"-_.@:/".contains(byte) || *byte > 127;
    let before = value[from..part.start].iter().rev().take(NAME);
    let before = before.take_while(|byte| belongs(byte)).count();
    let behind = value[part.end..].iter().take(NAME).take_while(|byte| belongs(byte)).count();
    part.start - before..part.end + behind
}

#[cfg(test)]
mod tests;
