//! PHP's `serialize` format: reading it strictly, and rewriting the strings in
//! it together with the lengths before them.
//!
//! Source of the format: the manual page of `serialize()` and the behaviour of
//! PHP 8. Types: `N b i d s S a O C E r R`. Lengths count bytes. `unserialize()`
//! ignores what follows a complete value; that tail is treated as text.

use super::{Edit, Left, Matches, Reason, Rewriter};
use crate::limits::CONTAINER_DEPTH;
use std::collections::HashSet;
use std::ops::Range;

/// What a value turned out to be.
pub(super) enum Parsed {
    /// A complete serialized value, perhaps with text after it.
    Value(Serialized),
    /// Clearly meant as a serialized value, but not readable as one.
    Damaged,
    /// Something else.
    Other,
}

/// The strings of a serialized value.
pub(super) struct Serialized {
    pub leaves: Vec<Leaf>,
    pub end: usize,
}

#[derive(Clone)]
pub(super) struct Leaf {
    pub length: Range<usize>,
    pub body: Range<usize>,
    /// The number of the container if the string is a key in it.
    pub key_of: Option<usize>,
    /// Written as `S:`, with `\xx` for bytes.
    pub escaped: bool,
}

/// Whether the whole value is one complete serialized value (nothing after it).
pub fn is_serialized(value: &[u8]) -> bool {
    matches!(parse(value), Parsed::Value(parsed) if parsed.end == value.len())
}

/// Whether a value is clearly meant as a serialized value, and cannot be read as one.
pub(super) fn is_damaged(value: &[u8]) -> bool {
    matches!(parse(value), Parsed::Damaged)
}

pub(super) fn parse(value: &[u8]) -> Parsed {
    if !could_begin(value) {
        return Parsed::Other;
    }
    let mut parser = Parser::new(value);
    if parser.value(0, None).is_some() {
        return Parsed::Value(Serialized { leaves: parser.leaves, end: parser.at });
    }
    // Prose may begin like a value; only one that breaks at a length, or is cut, is meant as one.
    let cut = parser.at >= value.len() && !parser.leaves.is_empty();
    match Parser::new(value).has_header() && (parser.wrong_length || cut) {
        true => Parsed::Damaged,
        false => Parsed::Other,
    }
}

fn could_begin(value: &[u8]) -> bool {
    match value {
        [b'N', b';', ..] => true,
        [kind, b':', ..] => b"bidsSaOCErR".contains(kind),
        _ => false,
    }
}

struct Parser<'a> {
    b: &'a [u8],
    at: usize,
    leaves: Vec<Leaf>,
    containers: usize,
    /// It broke where a length or a number of elements does not fit what follows.
    wrong_length: bool,
}

impl<'a> Parser<'a> {
    fn new(b: &'a [u8]) -> Self {
        Self { b, at: 0, leaves: Vec::new(), containers: 0, wrong_length: false }
    }

    /// What a length says must be there.
    fn fits(&mut self, text: &[u8]) -> Option<()> {
        let fits = self.expect(text);
        self.wrong_length |= fits.is_none();
        fits
    }

    /// As many bytes as a length says.
    fn counted(&mut self, size: usize) -> Option<Range<usize>> {
        let body = self.at.checked_add(size).filter(|end| *end <= self.b.len());
        self.wrong_length |= body.is_none();
        let body = self.at..body?;
        self.at = body.end;
        Some(body)
    }

    /// One value; `key_of` names the container when the value is a key.
    fn value(&mut self, depth: usize, key_of: Option<usize>) -> Option<()> {
        let kind = *self.b.get(self.at)?;
        self.at += 1;
        if kind == b'N' {
            return self.expect(b";");
        }
        self.expect(b":")?;
        match kind {
            b'b' => self.scalar(|c| matches!(c, b'0' | b'1')),
            b'i' | b'r' | b'R' => self.scalar(|c| c.is_ascii_digit() || matches!(c, b'-' | b'+')),
            b'd' => self.scalar(|c| c.is_ascii_alphanumeric() || matches!(c, b'-' | b'+' | b'.')),
            b's' => self.string(key_of, b";"),
            b'S' => self.escaped_string(key_of),
            b'E' => self.name().and_then(|()| self.expect(b";")),
            b'a' => self.container(depth),
            b'O' => {
                self.name()?;
                self.expect(b":")?;
                self.container(depth)
            }
            b'C' => self.custom(),
            _ => None,
        }
    }

    fn expect(&mut self, text: &[u8]) -> Option<()> {
        self.b[self.at.min(self.b.len())..].starts_with(text).then(|| self.at += text.len())
    }

    fn scalar(&mut self, allowed: impl Fn(u8) -> bool) -> Option<()> {
        let length = self.b[self.at..].iter().take_while(|c| allowed(**c)).count();
        if length == 0 || length > 64 {
            return None;
        }
        self.at += length;
        self.expect(b";")
    }

    fn number(&mut self) -> Option<(usize, Range<usize>)> {
        let start = self.at;
        let length = self.b[start..].iter().take_while(|c| c.is_ascii_digit()).count();
        let digits = std::str::from_utf8(&self.b[start..start + length]).ok()?;
        self.at += length;
        Some((digits.parse().ok()?, start..start + length))
    }

    /// `N:"…"` and what must follow; the string becomes a leaf.
    fn string(&mut self, key_of: Option<usize>, after: &[u8]) -> Option<()> {
        let (size, length) = self.number()?;
        self.expect(b":\"")?;
        let body = self.counted(size)?;
        self.fits(b"\"")?;
        self.fits(after)?;
        self.leaves.push(Leaf { length, body, key_of, escaped: false });
        Some(())
    }

    /// A class or enumeration name: a string that is never rewritten.
    fn name(&mut self) -> Option<()> {
        self.string(None, b"")?;
        self.leaves.pop();
        Some(())
    }

    fn escaped_string(&mut self, key_of: Option<usize>) -> Option<()> {
        let (size, length) = self.number()?;
        self.expect(b":\"")?;
        let start = self.at;
        for _ in 0..size {
            self.at += if *self.b.get(self.at)? == b'\\' { 3 } else { 1 };
        }
        let body = start..self.at;
        self.fits(b"\";")?;
        let escaped = self.b[body.clone()].contains(&b'\\');
        self.leaves.push(Leaf { length, body, key_of, escaped });
        Some(())
    }

    fn custom(&mut self) -> Option<()> {
        self.name()?;
        self.expect(b":")?;
        let (size, length) = self.number()?;
        self.expect(b":{")?;
        let body = self.counted(size)?;
        self.fits(b"}")?;
        self.leaves.push(Leaf { length, body, key_of: None, escaped: false });
        Some(())
    }

    fn container(&mut self, depth: usize) -> Option<()> {
        if depth >= CONTAINER_DEPTH {
            return None;
        }
        let (count, _) = self.number()?;
        self.expect(b":{")?;
        let number = self.containers;
        self.containers += 1;
        for _ in 0..count {
            if !matches!(self.b.get(self.at), Some(b'i' | b's' | b'S')) {
                // There are fewer than it says.
                self.wrong_length |= self.b.get(self.at) == Some(&b'}');
                return None;
            }
            self.value(depth + 1, Some(number))?;
            self.value(depth + 1, None)?;
        }
        // There are more than it says.
        let more = matches!(self.b.get(self.at..), Some([b'i' | b's', b':', b'0'..=b'9', ..]));
        self.wrong_length |= more;
        self.expect(b"}")
    }

    /// `a:3:{`, `s:5:"` and the like: more than a letter and a colon.
    fn has_header(mut self) -> bool {
        let kind = self.b[0];
        self.at = 2;
        match kind {
            b'a' => self.number().is_some() && self.expect(b":{").is_some(),
            b's' | b'S' | b'O' | b'C' | b'E' => {
                self.number().is_some() && self.expect(b":\"").is_some()
            }
            _ => false,
        }
    }
}

/// The edits of a serialized value: in its strings, and in the lengths before them; also in
/// lengths that were wrong, if it had to be `mended` to be read.
pub(super) fn look(
    rewriter: &Rewriter,
    b: &[u8],
    parsed: &Serialized,
    depth: usize,
    mended: bool,
) -> Matches {
    let mut found = Matches { mended, ..Matches::default() };
    let mut changed_keys = HashSet::new();
    for leaf in &parsed.leaves {
        let body = &b[leaf.body.clone()];
        if leaf.escaped {
            let mut inner = rewriter.left_whole(body, Reason::Unclear);
            shift(&mut inner, leaf.body.start);
            found.left.append(&mut inner.left);
            continue;
        }
        let mut inner = rewriter.look_into(body, depth + 1);
        let declared = &b[leaf.length.clone()];
        let is_wrong = mended && declared != body.len().to_string().as_bytes();
        if !inner.edits.is_empty() || is_wrong {
            let size = body.len() + inner.edits.iter().map(|e| e.text.len()).sum::<usize>()
                - inner.edits.iter().map(|e| e.range.len()).sum::<usize>();
            let text = size.to_string().into_bytes();
            // A length that was wrong can be right for what the text becomes.
            if text != declared {
                found.edits.push(Edit { range: leaf.length.clone(), text, replaced: None });
            }
        }
        if !inner.edits.is_empty() {
            changed_keys.extend(leaf.key_of);
        }
        found.mended |= inner.mended;
        shift(&mut inner, leaf.body.start);
        found.edits.append(&mut inner.edits);
        found.left.append(&mut inner.left);
    }
    if !changed_keys.is_empty() && keys_collide(b, parsed, &found, &changed_keys) {
        let rule = found.edits.iter().find_map(|edit| edit.replaced).map(|(rule, _)| rule);
        let left = Left { range: 0..parsed.end, reason: Reason::KeyCollision, rule };
        found = Matches { left: vec![left], ..Matches::default() };
    }
    found.in_serialized = found.replacements() > 0;
    let mut tail = rewriter.look_in_text(&b[parsed.end..]);
    shift(&mut tail, parsed.end);
    found.edits.append(&mut tail.edits);
    found.left.append(&mut tail.left);
    found
}

fn shift(found: &mut Matches, by: usize) {
    for edit in &mut found.edits {
        edit.range = edit.range.start + by..edit.range.end + by;
    }
    for left in &mut found.left {
        left.range = left.range.start + by..left.range.end + by;
    }
}

/// Whether, with the edits made, two string keys of one container are the same.
/// Lengths need no comparing: equal strings have equal lengths.
fn keys_collide(b: &[u8], parsed: &Serialized, found: &Matches, changed: &HashSet<usize>) -> bool {
    let mut seen: HashSet<(usize, Vec<u8>)> = HashSet::new();
    let mut edits = found.edits.iter().peekable();
    for leaf in &parsed.leaves {
        while edits.next_if(|edit| edit.range.start < leaf.body.start).is_some() {}
        let mut inner = Matches::default();
        while let Some(edit) = edits.next_if(|edit| edit.range.end <= leaf.body.end) {
            inner.edits.push(edit.clone());
        }
        for edit in &mut inner.edits {
            edit.range = edit.range.start - leaf.body.start..edit.range.end - leaf.body.start;
        }
        let Some(container) = leaf.key_of.filter(|number| changed.contains(number)) else {
            continue;
        };
        if !seen.insert((container, inner.apply(&b[leaf.body.clone()]))) {
            return true;
        }
    }
    false
}
