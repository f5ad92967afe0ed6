//! Characters as they are spelled in stored text, read forwards and backwards.
//!
//! One character of an address can be written plainly, with a backslash before
//! it (JSON), as `%2F`, `%252F` … or as an HTML entity. Boundaries are judged on
//! the characters that are meant, so both directions decode; what was written
//! is kept as a range, so that it can be written again in the same way.

/// How a character was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Encoding {
    /// As itself.
    Plain,
    /// With a backslash before it, or as `\u002f` (JSON, RFC 8259).
    Json,
    /// `%2F`, also doubled (RFC 3986).
    Percent,
    /// `&#47;`, `&#x2f;` or `&sol;` (HTML).
    Entity,
    /// Within a value in base64.
    Base64,
}

impl Encoding {
    /// The word used in reports.
    pub fn name(self) -> &'static str {
        match self {
            Encoding::Plain => "plain",
            Encoding::Json => "json",
            Encoding::Percent => "percent",
            Encoding::Entity => "entity",
            Encoding::Base64 => "base64",
        }
    }
}

/// One decoded character and the bytes that spell it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unit {
    /// The character meant. Percent-encoded bytes above 127 are all given as `ä`:
    /// they are parts of letters, and only that matters at a boundary.
    pub ch: char,
    /// The first byte of its spelling.
    pub start: usize,
    /// The byte after its spelling.
    pub end: usize,
    /// How it is spelled.
    pub encoding: Encoding,
}

const LETTER: char = 'ä';

/// The character that begins at `pos`, or `None` at the end.
pub fn next(b: &[u8], pos: usize) -> Option<Unit> {
    let first = next_raw(b, pos)?;
    if first.ch != '\\' {
        return Some(first);
    }
    let mut after = first;
    while let Some(unit) = next_raw(b, after.end) {
        if unit.ch != '\\' {
            let encoding = |inner: Encoding| match inner {
                Encoding::Plain => Encoding::Json,
                other => other,
            };
            let made = |ch, end| Unit { ch, start: pos, end, encoding: encoding(unit.encoding) };
            return Some(match unit.ch {
                '/' | '"' | '.' | ':' | '-' => made(unit.ch, unit.end),
                'n' | 'r' | 't' | 'b' | 'f' => made('\n', unit.end),
                'u' => match unicode_escape(b, unit.end) {
                    Some((ch, end)) => made(ch, end),
                    None => first,
                },
                _ => first,
            });
        }
        after = unit;
    }
    Some(first)
}

/// The character that ends right before `pos`, or `None` at the start.
pub fn prev(b: &[u8], pos: usize) -> Option<Unit> {
    let last = prev_raw(b, pos)?;
    let json = |ch, start| Unit {
        ch,
        start,
        end: pos,
        encoding: if last.encoding == Encoding::Plain { Encoding::Json } else { last.encoding },
    };
    if last.ch.is_ascii_hexdigit()
        && pos >= 6
        && b[pos - 6] == b'\\'
        && b[pos - 5] == b'u'
        && let Some((ch, end)) = unicode_escape(b, pos - 4)
        && end == pos
    {
        return Some(json(ch, before_backslashes(b, pos - 5)));
    }
    let before = before_backslashes(b, last.start);
    if before == last.start {
        return Some(last);
    }
    Some(match last.ch {
        '/' | '"' | '.' | ':' => json(last.ch, before),
        'n' | 'r' | 't' | 'b' | 'f' => json('\n', before),
        _ => last,
    })
}

/// Whether the character lets a name or number go on.
pub fn is_word(ch: char) -> bool {
    ch.is_alphanumeric() || ch == '-' || ch == '_'
}

fn before_backslashes(b: &[u8], mut pos: usize) -> usize {
    while let Some(unit) = prev_raw(b, pos) {
        if unit.ch != '\\' {
            break;
        }
        pos = unit.start;
    }
    pos
}

fn unicode_escape(b: &[u8], digits: usize) -> Option<(char, usize)> {
    let text = b.get(digits..digits + 4)?;
    if !text.iter().all(u8::is_ascii_hexdigit) {
        return None;
    }
    let number = u32::from_str_radix(std::str::from_utf8(text).ok()?, 16).ok()?;
    Some((char::from_u32(number).unwrap_or(LETTER), digits + 4))
}

/// Reads percent-encoding, entities and plain UTF-8, but no backslashes.
pub(super) fn next_raw(b: &[u8], pos: usize) -> Option<Unit> {
    let decoded = match b.get(pos)? {
        b'%' => percent_at(b, pos),
        b'&' => entity_at(b, pos),
        _ => None,
    };
    Some(decoded.unwrap_or_else(|| plain_at(b, pos)))
}

pub(super) fn prev_raw(b: &[u8], pos: usize) -> Option<Unit> {
    let last = *b.get(pos.checked_sub(1)?)?;
    if last == b';' {
        let from = pos.saturating_sub(12);
        if let Some(amp) = b[from..pos].iter().rposition(|byte| *byte == b'&')
            && let Some(unit) = entity_at(b, from + amp)
            && unit.end == pos
        {
            return Some(unit);
        }
    }
    if last.is_ascii_hexdigit() && pos >= 3 {
        let mut at = pos - 2;
        while at >= 2 && &b[at - 2..at] == b"25" {
            at -= 2;
        }
        if at >= 1
            && b[at - 1] == b'%'
            && let Some(unit) = percent_at(b, at - 1)
            && unit.end == pos
        {
            return Some(unit);
        }
    }
    let mut start = pos - 1;
    while start > 0 && pos - start < 4 && b[start] & 0xC0 == 0x80 {
        start -= 1;
    }
    let unit = plain_at(b, start);
    Some(if unit.end == pos { unit } else { plain_at(b, pos - 1) })
}

fn plain_at(b: &[u8], pos: usize) -> Unit {
    let byte = b[pos];
    let length = match byte {
        0..=0x7F => 1,
        0xC0..=0xDF => 2,
        0xE0..=0xEF => 3,
        0xF0..=0xF7 => 4,
        _ => 1,
    };
    let unit = |ch, end| Unit { ch, start: pos, end, encoding: Encoding::Plain };
    if byte < 0x80 {
        return unit(byte as char, pos + 1);
    }
    match b.get(pos..pos + length).and_then(|bytes| std::str::from_utf8(bytes).ok()) {
        Some(text) => unit(text.chars().next().unwrap_or(LETTER), pos + length),
        None => unit(LETTER, pos + 1),
    }
}

fn percent_at(b: &[u8], pos: usize) -> Option<Unit> {
    let pair = |at: usize| -> Option<u8> {
        let text = b.get(at..at + 2)?;
        let digit = |d: u8| (d as char).to_digit(16);
        Some((digit(text[0])? * 16 + digit(text[1])?) as u8)
    };
    let mut at = pos + 1;
    while pair(at) == Some(b'%') && pair(at + 2).is_some() {
        at += 2;
    }
    let byte = pair(at)?;
    let ch = if byte < 0x80 { byte as char } else { LETTER };
    Some(Unit { ch, start: pos, end: at + 2, encoding: Encoding::Percent })
}

fn entity_at(b: &[u8], pos: usize) -> Option<Unit> {
    let mut at = pos + 1;
    // `&amp;#47;` is an entity that was escaped once more.
    while b[at..].starts_with(b"amp;") && entity_body(b, at + 4).is_some() {
        at += 4;
    }
    let (ch, end) = entity_body(b, at)?;
    Some(Unit { ch, start: pos, end, encoding: Encoding::Entity })
}

fn entity_body(b: &[u8], at: usize) -> Option<(char, usize)> {
    let rest = b.get(at..)?;
    let length = rest.iter().take(10).position(|byte| *byte == b';')?;
    let name = std::str::from_utf8(&rest[..length]).ok()?;
    let ch = if let Some(number) = name.strip_prefix('#') {
        let code = match number.strip_prefix(['x', 'X']) {
            Some(hex) => u32::from_str_radix(hex, 16).ok()?,
            None => number.parse().ok()?,
        };
        char::from_u32(code)?
    } else {
        match name {
            "sol" => '/',
            "colon" => ':',
            "period" => '.',
            "quot" => '"',
            "apos" => '\'',
            "lt" => '<',
            "gt" => '>',
            "amp" => '&',
            "nbsp" => '\u{a0}',
            "bsol" => '\\',
            "equals" => '=',
            "commat" => '@',
            _ => return None,
        }
    };
    Some((ch, at + length + 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(text: &str, expected: char, encoding: Encoding) {
        let b = text.as_bytes();
        let forwards = next(b, 0).unwrap();
        let backwards = prev(b, b.len()).unwrap();
        assert_eq!(
            forwards,
            Unit { ch: expected, start: 0, end: b.len(), encoding },
            "{text} forwards"
        );
        assert_eq!(backwards, forwards, "{text} backwards");
    }

    #[test]
    fn every_spelling_of_a_slash_reads_the_same_in_both_directions() {
        one("/", '/', Encoding::Plain);
        for text in ["\\/", "\\\\/", "\\\\\\/", "\\u002f", "\\\\u002F"] {
            one(text, '/', Encoding::Json);
        }
        for text in ["%2F", "%2f", "%252F", "%25252f", "%5C%2F"] {
            one(text, '/', Encoding::Percent);
        }
        for text in ["&#47;", "&#x2f;", "&#X2F;", "&sol;", "&amp;#47;"] {
            one(text, '/', Encoding::Entity);
        }
    }

    #[test]
    fn an_escaped_newline_is_a_newline_and_not_the_letter_n() {
        assert_eq!(prev(b"one\\n", 5).unwrap().ch, '\n');
        assert_eq!(next(b"\\nhttp", 0).unwrap().ch, '\n');
        assert_eq!(prev(b"%22", 3).unwrap().ch, '"');
        assert_eq!(prev("größe".as_bytes(), 6).unwrap().ch, 'ß');
    }

    #[test]
    fn what_is_no_encoding_is_read_as_it_stands() {
        assert_eq!(next(b"%zz", 0).unwrap().ch, '%');
        assert_eq!(next(b"&nothing;", 0).unwrap().ch, '&');
        assert_eq!(next(b"\\x", 0).unwrap().ch, '\\');
        assert_eq!(next(b"\xff\xfe", 0).unwrap().end, 1);
        assert_eq!(prev(b"100%", 4).unwrap().ch, '%');
        assert_eq!(next(b"%25 off", 0).unwrap().ch, '%');
        assert!(next(b"", 0).is_none() && prev(b"x", 0).is_none());
    }
}
