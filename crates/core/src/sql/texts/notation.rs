//! How a text is written in a script, and how it is changed there without touching the rest.

use crate::digest::{from_hex, hex};
use crate::rewrite::{CellOutcome, ColumnText, Matches, Rewriter};
use std::borrow::Cow;

/// How a text is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Notation {
    /// Between quotes, which are doubled in it; with backslashes before other signs, or not.
    Quoted {
        /// The quote.
        quote: u8,
        /// Whether backslashes escape.
        backslash: bool,
    },
    /// `x'…'`: bytes as digits; the `x` is not part of it.
    HexQuoted,
    /// `0x…`
    HexDigits,
    /// Between two tags of so many bytes (PostgreSQL), as it is.
    Dollar(usize),
    /// A field of a row behind `COPY … FROM stdin`.
    CopyField,
}

/// What became of a text.
pub struct TextOutcome {
    /// The text that is meant.
    pub view: Vec<u8>,
    /// What was found in it.
    pub found: Matches,
    /// How it is to be written now, if it changes.
    pub new: Option<Vec<u8>>,
}

impl Notation {
    /// What stands before the text itself, and what behind it (bytes).
    fn frame(self) -> (usize, usize) {
        match self {
            Notation::Quoted { .. } | Notation::HexQuoted => (1, 1),
            Notation::HexDigits => (2, 0),
            Notation::Dollar(tag) => (tag, tag),
            Notation::CopyField => (0, 0),
        }
    }

    /// Looks into a text; `None` if nothing is found. `raw` is the text as it stands.
    pub fn look(self, rewriter: &Rewriter, raw: &[u8]) -> Option<TextOutcome> {
        let (before, behind) = self.frame();
        let body = raw.get(before..raw.len().checked_sub(behind)?)?;
        if matches!(self, Notation::HexQuoted | Notation::HexDigits) {
            return look_into_digits(rewriter, raw, body, before);
        }
        // Escapes do not hide the names that are looked for, and a damaged value is looked for
        // by its beginning.
        if !rewriter.concerns(body) {
            return None;
        }
        let (view, origin) = self.open(body);
        let kind = match self {
            // The server's own notation for bytes: digits hide what they mean.
            Notation::CopyField if view.starts_with(b"\\x") => return None,
            _ => kind_of(&view),
        };
        let CellOutcome { view: seen, found, new: whole } = rewriter.cell(kind, &view)?;
        let framed = |body: &[u8]| [&raw[..before], body, &raw[raw.len() - behind..]].concat();
        let new = match (&seen, whole) {
            (_, None) => None,
            // What was decoded from another character set is written as a whole.
            (Cow::Owned(_), Some(whole)) => {
                let mut body = Vec::new();
                self.write(&whole, &mut body);
                Some(framed(&body))
            }
            (Cow::Borrowed(_), Some(_)) => {
                let mut new = Vec::with_capacity(body.len() + 64);
                let mut at = 0;
                let place = |at: usize| origin.as_ref().map_or(at, |origin| origin[at]);
                for edit in &found.edits {
                    new.extend_from_slice(&body[at..place(edit.range.start)]);
                    self.write(&edit.text, &mut new);
                    at = place(edit.range.end);
                }
                new.extend_from_slice(&body[at..]);
                Some(framed(&new))
            }
        };
        Some(TextOutcome { view: seen.into_owned(), found, new })
    }

    /// The text that is meant, and for each of its bytes, and its end, where it stands in the
    /// body; no places if all stand where they are.
    fn open(self, body: &[u8]) -> (Vec<u8>, Option<Vec<usize>>) {
        let (quote, backslash) = match self {
            Notation::Quoted { quote, backslash } => (Some(quote), backslash),
            Notation::CopyField => (None, true),
            _ => (None, false),
        };
        let is_escape = |byte: &u8| Some(*byte) == quote || backslash && *byte == b'\\';
        if !body.iter().any(is_escape) {
            return (body.to_vec(), None);
        }
        let (mut view, mut origin) = (Vec::with_capacity(body.len()), Vec::new());
        let mut at = 0;
        while at < body.len() {
            let (meant, length) = match (body[at], body.get(at + 1)) {
                (b'\\', Some(next)) if backslash => (self.meant(*next), 2),
                (byte, Some(next)) if Some(byte) == quote && byte == *next => (byte, 2),
                (byte, _) => (byte, 1),
            };
            origin.push(at);
            view.push(meant);
            at += length;
        }
        origin.push(body.len());
        (view, Some(origin))
    }

    /// The byte that an escape means.
    fn meant(self, letter: u8) -> u8 {
        match (letter, self) {
            (b'n', _) => b'\n',
            (b'r', _) => b'\r',
            (b't', _) => b'\t',
            (b'b', _) => 8,
            (b'f', Notation::CopyField) => 12,
            (b'v', Notation::CopyField) => 11,
            (b'0', Notation::Quoted { .. }) => 0,
            (b'Z', Notation::Quoted { .. }) => 26,
            (other, _) => other,
        }
    }

    /// Writes a part of a text.
    fn write(self, text: &[u8], out: &mut Vec<u8>) {
        for byte in text {
            match (self, byte) {
                (Notation::Quoted { quote, .. }, byte) if *byte == quote => {
                    out.extend_from_slice(&[quote, quote]);
                }
                (Notation::Quoted { backslash: true, .. } | Notation::CopyField, b'\\') => {
                    out.extend_from_slice(b"\\\\");
                }
                (Notation::Quoted { backslash: true, .. } | Notation::CopyField, b'\n') => {
                    out.extend_from_slice(b"\\n");
                }
                (Notation::Quoted { backslash: true, .. }, 0) => out.extend_from_slice(b"\\0"),
                (Notation::CopyField, b'\t') => out.extend_from_slice(b"\\t"),
                (Notation::CopyField, b'\r') => out.extend_from_slice(b"\\r"),
                _ => out.push(*byte),
            }
        }
    }
}

/// What a text of a script is, which does not say it: bytes that are no UTF-8 are those of a
/// program if control characters are among them, and otherwise a text in latin1.
fn kind_of(view: &[u8]) -> ColumnText {
    let control = |byte: &u8| *byte < b' ' && !b"\t\n\r".contains(byte);
    match std::str::from_utf8(view) {
        Ok(_) => ColumnText::Utf8,
        Err(_) if view.iter().any(control) => ColumnText::Binary,
        Err(_) => ColumnText::Latin1,
    }
}

/// Bytes written as digits are rewritten where they are text.
fn look_into_digits(
    rewriter: &Rewriter,
    raw: &[u8],
    digits: &[u8],
    before: usize,
) -> Option<TextOutcome> {
    let view = from_hex(digits)?;
    let outcome = rewriter.cell(ColumnText::Binary, &view)?;
    let found = outcome.found;
    let new = outcome.new.map(|bytes| {
        let text = hex(&bytes);
        let upper = digits.iter().any(u8::is_ascii_uppercase);
        let text = if upper { text.to_uppercase() } else { text };
        [&raw[..before], text.as_bytes(), &raw[before + digits.len()..]].concat()
    });
    Some(TextOutcome { view, found, new })
}
