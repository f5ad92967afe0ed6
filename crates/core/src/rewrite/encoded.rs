//! Serialized values and JSON documents that are percent-encoded (RFC 3986) or written with
//! entities (HTML) as a whole.
//!
//! Addresses in encoded text are found where they stand; but behind such an encoding can lie a
//! value with lengths, which must be opened to be rewritten. Each byte that is meant is mapped
//! to where it stands, so that what does not change stays as it is.

use super::json;
use super::serialized::{self, Parsed};
use super::spelling::{Encoding, next};
use super::{Edit, Left, Matches, Rewriter};

/// How a value is encoded as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    Percent,
    Entity,
}

/// A value that has been opened.
pub(super) struct Opened {
    way: Way,
    bytes: Vec<u8>,
    /// Where each byte, and the end, stands.
    origin: Vec<usize>,
    /// Whether digits are written in capitals.
    upper: bool,
}

/// How often a value may be encoded, one way in the other.
const LEVELS: usize = 6;

/// Opens a value if it is encoded as a whole, and a serialized value or a document is behind it.
pub(super) fn opened(value: &[u8]) -> Option<Opened> {
    opened_within(value, LEVELS)
}

fn opened_within(value: &[u8], levels: usize) -> Option<Opened> {
    let way = way_of(value).filter(|_| levels > 0)?;
    let opened = open(value, way);
    let is_value = is_readable(&opened.bytes) || opened_within(&opened.bytes, levels - 1).is_some();
    (is_value && opened.bytes.len() < value.len()).then_some(opened)
}

/// Whether it is a document or meant as a serialized value; one that is damaged is left whole.
fn is_readable(value: &[u8]) -> bool {
    !matches!(serialized::parse(value), Parsed::Other) || json::parse(value).is_some()
}

/// How a value could be encoded, by its beginning.
fn way_of(value: &[u8]) -> Option<Way> {
    // `a%3A`, `%7B%22`, `%5B`, also `%253A` and so on.
    if let Some(sign) = value.iter().take(2).position(|byte| *byte == b'%') {
        let mut rest = &value[sign + 1..];
        while let Some(inner) = rest.strip_prefix(b"25") {
            rest = inner;
        }
        let code = rest.get(..2)?.to_ascii_lowercase();
        return matches!(&code[..], b"3a" | b"7b" | b"5b").then_some(Way::Percent);
    }
    // `a:1:{s:1:&quot;`: it begins like a value, and is none as it stands.
    let begins = matches!(value.first(), Some(b'{' | b'[')) || value.get(1) == Some(&b':');
    let escaped = value.iter().take(ENTITY_WITHIN).any(|byte| *byte == b'&');
    let whole =
        matches!(serialized::parse(value), Parsed::Value(_)) || json::parse(value).is_some();
    (begins && escaped && !whole).then_some(Way::Entity)
}

/// Bytes within which an escaped value has its first quote.
const ENTITY_WITHIN: usize = 64;

fn open(value: &[u8], way: Way) -> Opened {
    let (mut bytes, mut origin) = (Vec::with_capacity(value.len()), Vec::new());
    let mut at = 0;
    while at < value.len() {
        let (length, meant) = match (way, value[at]) {
            (Way::Percent, b'%') => percent(value, at),
            (Way::Entity, b'&') => entity(value, at),
            _ => None,
        }
        .unwrap_or_else(|| (1, vec![value[at]]));
        origin.extend(std::iter::repeat_n(at, meant.len()));
        bytes.extend_from_slice(&meant);
        at += length;
    }
    origin.push(value.len());
    // Once for all edits: the value may be long, and they may be many.
    let capital = |part: &[u8]| part[0] == b'%' && part[1..].iter().any(u8::is_ascii_uppercase);
    let upper = way == Way::Percent && value.windows(3).any(capital);
    Opened { way, bytes, origin, upper }
}

/// One level of percent-encoding: its length, and the byte that is meant.
fn percent(value: &[u8], at: usize) -> Option<(usize, Vec<u8>)> {
    let digits = std::str::from_utf8(value.get(at + 1..at + 3)?).ok()?;
    Some((3, vec![u8::from_str_radix(digits, 16).ok()?]))
}

fn entity(value: &[u8], at: usize) -> Option<(usize, Vec<u8>)> {
    let unit = next(value, at).filter(|unit| unit.encoding == Encoding::Entity)?;
    Some((unit.end - at, unit.ch.encode_utf8(&mut [0; 4]).as_bytes().to_vec()))
}

/// Writes a text as its surroundings are written.
fn close(text: &[u8], way: Way, upper: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len() * 2);
    for byte in text {
        match (way, byte) {
            (Way::Percent, byte) if byte.is_ascii_alphanumeric() || b"-_.~".contains(byte) => {
                out.push(*byte);
            }
            (Way::Percent, byte) if upper => out.extend(format!("%{byte:02X}").bytes()),
            (Way::Percent, byte) => out.extend(format!("%{byte:02x}").bytes()),
            (Way::Entity, b'"') => out.extend_from_slice(b"&quot;"),
            (Way::Entity, b'&') => out.extend_from_slice(b"&amp;"),
            (Way::Entity, b'<') => out.extend_from_slice(b"&lt;"),
            (Way::Entity, b'>') => out.extend_from_slice(b"&gt;"),
            (Way::Entity, byte) => out.push(*byte),
        }
    }
    out
}

/// The edits of an encoded value.
pub(super) fn look(rewriter: &Rewriter, opened: &Opened, depth: usize) -> Matches {
    let inner = rewriter.look_into(&opened.bytes, depth + 1);
    let outer =
        |range: &std::ops::Range<usize>| opened.origin[range.start]..opened.origin[range.end];
    let edits = inner.edits.iter().map(|edit| {
        let mut replaced = edit.replaced;
        if let Some((_, spelling)) = &mut replaced
            && spelling.encoding == Encoding::Plain
        {
            spelling.encoding = match opened.way {
                Way::Percent => Encoding::Percent,
                Way::Entity => Encoding::Entity,
            };
        }
        Edit {
            range: outer(&edit.range),
            text: close(&edit.text, opened.way, opened.upper),
            replaced,
        }
    });
    let left = inner.left.iter().map(|left| Left { range: outer(&left.range), ..left.clone() });
    Matches { edits: edits.collect(), left: left.collect(), ..inner.clone() }
}
