//! JSON (RFC 8259): its strings are opened, looked into and written back with
//! the escapes they were found with.

use super::spelling::Encoding;
use super::{Edit, Left, Matches, Reason, Rewriter};
use crate::limits::CONTAINER_DEPTH;
use std::collections::HashSet;
use std::ops::Range;

/// One string of a document, without its quotes.
pub(super) struct JsonString {
    body: Range<usize>,
    /// The number of the object if the string is a key in it.
    key_of: Option<usize>,
}

/// The strings of a complete JSON document whose root is an object, an array or
/// a string; `None` if the value is no such document.
pub(super) fn parse(value: &[u8]) -> Option<Vec<JsonString>> {
    let first = *value.trim_ascii_start().first()?;
    if !matches!(first, b'{' | b'[' | b'"') {
        return None;
    }
    let mut parser = Parser { b: value, at: 0, strings: Vec::new(), objects: 0 };
    parser.value(0)?;
    parser.space();
    (parser.at == value.len()).then_some(parser.strings)
}

struct Parser<'a> {
    b: &'a [u8],
    at: usize,
    strings: Vec<JsonString>,
    objects: usize,
}

impl Parser<'_> {
    fn space(&mut self) {
        while matches!(self.b.get(self.at), Some(b' ' | b'\t' | b'\r' | b'\n')) {
            self.at += 1;
        }
    }

    fn take(&mut self, byte: u8) -> Option<()> {
        self.space();
        (self.b.get(self.at) == Some(&byte)).then(|| self.at += 1)
    }

    fn value(&mut self, depth: usize) -> Option<()> {
        if depth > CONTAINER_DEPTH {
            return None;
        }
        self.space();
        match self.b.get(self.at)? {
            b'"' => self.string(None),
            b'{' => self.object(depth),
            b'[' => self.array(depth),
            b't' => self.word(b"true"),
            b'f' => self.word(b"false"),
            b'n' => self.word(b"null"),
            _ => self.number(),
        }
    }

    fn word(&mut self, word: &[u8]) -> Option<()> {
        self.b[self.at..].starts_with(word).then(|| self.at += word.len())
    }

    fn number(&mut self) -> Option<()> {
        let length = self.b[self.at..]
            .iter()
            .take_while(|c| c.is_ascii_digit() || b"+-.eE".contains(c))
            .count();
        let text = std::str::from_utf8(&self.b[self.at..self.at + length]).ok()?;
        text.parse::<f64>().ok()?;
        self.at += length;
        Some(())
    }

    fn string(&mut self, key_of: Option<usize>) -> Option<()> {
        self.take(b'"')?;
        let start = self.at;
        loop {
            match self.b.get(self.at)? {
                b'"' => break,
                b'\\' => self.escape()?,
                0..=0x1F => return None,
                _ => self.at += 1,
            }
        }
        self.strings.push(JsonString { body: start..self.at, key_of });
        self.at += 1;
        Some(())
    }

    fn escape(&mut self) -> Option<()> {
        match self.b.get(self.at + 1)? {
            b'u' => {
                let digits = self.b.get(self.at + 2..self.at + 6)?;
                digits.iter().all(u8::is_ascii_hexdigit).then(|| self.at += 6)
            }
            byte => b"\"\\/bfnrt".contains(byte).then(|| self.at += 2),
        }
    }

    fn array(&mut self, depth: usize) -> Option<()> {
        self.take(b'[')?;
        if self.take(b']').is_some() {
            return Some(());
        }
        loop {
            self.value(depth + 1)?;
            if self.take(b',').is_none() {
                return self.take(b']');
            }
        }
    }

    fn object(&mut self, depth: usize) -> Option<()> {
        self.take(b'{')?;
        let number = self.objects;
        self.objects += 1;
        if self.take(b'}').is_some() {
            return Some(());
        }
        loop {
            self.string(Some(number))?;
            self.take(b':')?;
            self.value(depth + 1)?;
            if self.take(b',').is_none() {
                return self.take(b'}');
            }
        }
    }
}

/// A string with its escapes resolved, and for each byte where it came from.
struct Opened {
    bytes: Vec<u8>,
    /// One entry per byte and one for the end; empty if there are no escapes.
    origin: Vec<usize>,
}

impl Opened {
    fn at(&self, position: usize) -> usize {
        if self.origin.is_empty() { position } else { self.origin[position] }
    }
}

/// Resolves the escapes of a string's body, which the parser has found valid. Half
/// a surrogate pair becomes the replacement character.
fn open(raw: &[u8]) -> Opened {
    if !raw.contains(&b'\\') {
        return Opened { bytes: raw.to_vec(), origin: Vec::new() };
    }
    let mut opened =
        Opened { bytes: Vec::with_capacity(raw.len()), origin: Vec::with_capacity(raw.len() + 1) };
    let mut at = 0;
    while at < raw.len() {
        let start = at;
        let mut buffer = [0; 4];
        let made: &[u8] = if raw[at] != b'\\' {
            at += 1;
            &raw[start..at]
        } else {
            at += 2;
            match raw[start + 1] {
                b'n' => b"\n",
                b'r' => b"\r",
                b't' => b"\t",
                b'b' => b"\x08",
                b'f' => b"\x0c",
                b'u' => {
                    let (ch, end) = unicode(raw, at);
                    at = end;
                    ch.encode_utf8(&mut buffer).as_bytes()
                }
                _ => &raw[start + 1..start + 2],
            }
        };
        opened.bytes.extend_from_slice(made);
        opened.origin.resize(opened.bytes.len(), start);
    }
    opened.origin.push(raw.len());
    opened
}

/// The character of `XXXX` at `at`, with a second half if it is a surrogate.
fn unicode(raw: &[u8], at: usize) -> (char, usize) {
    let four = |at: usize| -> Option<u32> {
        u32::from_str_radix(std::str::from_utf8(raw.get(at..at + 4)?).ok()?, 16).ok()
    };
    let high = four(at).unwrap_or(0xFFFD);
    if (0xD800..0xDC00).contains(&high)
        && raw.get(at + 4..at + 6) == Some(b"\\u")
        && let Some(low) = four(at + 6).filter(|low| (0xDC00..0xE000).contains(low))
    {
        let number = 0x10000 + ((high - 0xD800) << 10) + (low - 0xDC00);
        return (char::from_u32(number).unwrap_or('\u{FFFD}'), at + 10);
    }
    (char::from_u32(high).unwrap_or('\u{FFFD}'), at + 4)
}

/// How the slashes and the letters beyond ASCII of a string are written.
struct Style<'a> {
    slash: &'a [u8],
    ascii_only: bool,
}

/// Reads the style off a model, escape by escape: `\\/` is an escaped backslash and a
/// plain slash.
fn style_of(model: &[u8]) -> Style<'_> {
    let mut style = Style { slash: b"/", ascii_only: false };
    let mut at = 0;
    while let Some(next) = memchr::memchr(b'\\', &model[at..]) {
        at += next;
        match model.get(at + 1) {
            Some(b'/') => style.slash = &model[at..at + 2],
            Some(b'u') => {
                style.ascii_only = true;
                let escape = &model[at..model.len().min(at + 6)];
                if escape.eq_ignore_ascii_case(b"\\u002f") {
                    style.slash = escape;
                }
            }
            _ => {}
        }
        at += 2;
        if at >= model.len() {
            break;
        }
    }
    style
}

/// Writes `text` with escapes, slashes and non-ASCII letters as in `model`.
fn close(text: &[u8], model: &[u8]) -> Vec<u8> {
    let Style { slash, ascii_only } = style_of(model);
    let mut out = Vec::with_capacity(text.len() + 16);
    for chunk in text.utf8_chunks() {
        for ch in chunk.valid().chars() {
            match ch {
                '/' => out.extend_from_slice(slash),
                '"' => out.extend_from_slice(b"\\\""),
                '\\' => out.extend_from_slice(b"\\\\"),
                '\n' => out.extend_from_slice(b"\\n"),
                '\r' => out.extend_from_slice(b"\\r"),
                '\t' => out.extend_from_slice(b"\\t"),
                ch if ch < ' ' || (ascii_only && !ch.is_ascii()) => {
                    for half in ch.encode_utf16(&mut [0; 2]) {
                        out.extend_from_slice(format!("\\u{half:04x}").as_bytes());
                    }
                }
                ch => out.extend_from_slice(ch.encode_utf8(&mut [0; 4]).as_bytes()),
            }
        }
        out.extend_from_slice(chunk.invalid());
    }
    out
}

/// The edits of a JSON document.
pub(super) fn look(rewriter: &Rewriter, b: &[u8], strings: &[JsonString], depth: usize) -> Matches {
    let mut found = Matches::default();
    let mut changed_keys = HashSet::new();
    for string in strings {
        let raw = &b[string.body.clone()];
        if !rewriter.concerns(raw) {
            continue;
        }
        let start = string.body.start;
        let opened = open(raw);
        let inner = rewriter.look_into(&opened.bytes, depth + 1);
        let outer =
            |range: &Range<usize>| start + opened.at(range.start)..start + opened.at(range.end);
        found.in_serialized |= inner.in_serialized;
        found.mended |= inner.mended;
        if !inner.edits.is_empty() {
            changed_keys.extend(string.key_of);
        }
        for edit in inner.edits {
            let range = outer(&edit.range);
            let model = &b[range.clone()];
            let text = close(&edit.text, model);
            let mut replaced = edit.replaced;
            if let Some((_, spelling)) = &mut replaced
                && spelling.encoding == Encoding::Plain
                && model.contains(&b'\\')
            {
                spelling.encoding = Encoding::Json;
            }
            found.edits.push(Edit { range, text, replaced });
        }
        for left in inner.left {
            found.left.push(Left { range: outer(&left.range), ..left });
        }
    }
    if !changed_keys.is_empty() && keys_collide(b, strings, &found, &changed_keys) {
        let rule = found.edits.iter().find_map(|edit| edit.replaced).map(|(rule, _)| rule);
        let left = Left { range: 0..b.len(), reason: Reason::KeyCollision, rule };
        return Matches { left: vec![left], ..Matches::default() };
    }
    found
}

fn keys_collide(
    b: &[u8],
    strings: &[JsonString],
    found: &Matches,
    changed: &HashSet<usize>,
) -> bool {
    let mut seen: HashSet<(usize, Vec<u8>)> = HashSet::new();
    for string in strings {
        let Some(object) = string.key_of.filter(|number| changed.contains(number)) else {
            continue;
        };
        let body = &string.body;
        let from = found.edits.partition_point(|edit| edit.range.start < body.start);
        let to = found.edits.partition_point(|edit| edit.range.end <= body.end);
        let edits = found.edits[from..to.max(from)].iter().map(|edit| Edit {
            range: edit.range.start - body.start..edit.range.end - body.start,
            ..edit.clone()
        });
        let inner = Matches { edits: edits.collect(), ..Matches::default() };
        let key = inner.apply(&b[body.clone()]);
        if !seen.insert((object, open(&key).bytes)) {
            return true;
        }
    }
    false
}
