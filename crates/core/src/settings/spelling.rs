//! How a value stands in a file: each layer is taken off when it is read, and put on again when a
//! new value is written. Where every byte of what was read comes from is kept, so that a part of
//! a value (the host of an address) can be written by itself.

use std::ops::Range;

/// One way of writing a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Layer {
    /// As it is: a number, a host.
    Plain,
    /// Without quotes to the end of a line, as in dotenv and INI files.
    Bare,
    /// In quotes that escape themselves and the backslash alone: `'…'` of PHP, Ruby and dotenv.
    Single,
    /// In `"…"` of PHP, Ruby and dotenv, where a `$` would stand for something.
    Double,
    /// In quotes of JavaScript, Python and JSON.
    Script(u8),
    /// Without quotes in YAML.
    YamlPlain,
    /// In `'…'` of YAML, where two quotes stand for one.
    YamlSingle,
    /// Text of an XML element.
    XmlText,
    /// A value of an XML attribute, in this quote.
    XmlAttribute(u8),
    /// A part of an address (RFC 3986, 2.1).
    Percent,
    /// A part of a data source name, to the next semicolon; two stand for one.
    Part,
    /// A part of one without an engine, between quotes, of which two stand for one.
    Doubled(u8),
    /// The same without quotes.
    Undoubled,
    /// A part of one whose parts are parted by spaces.
    Spaced,
}

/// A value without its layer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Decoded {
    pub text: String,
    /// For every byte of the text, and for its end, where in the file it comes from.
    at: Vec<usize>,
}

impl Decoded {
    /// Where a part of the text stands in the file.
    pub fn place(&self, part: &Range<usize>) -> Range<usize> {
        self.at[part.start]..self.at[part.end]
    }
}

/// Takes a layer off what stands at `start`; `None` if that is no literal.
pub(super) fn decode(layer: Layer, raw: &str, start: usize) -> Option<Decoded> {
    let mut decoded = Decoded { text: String::new(), at: Vec::new() };
    let mut rest = raw;
    while let Some(first) = rest.chars().next() {
        let (ch, length) = match layer {
            Layer::Plain | Layer::Bare | Layer::YamlPlain | Layer::Undoubled | Layer::Spaced => {
                (first, first.len_utf8())
            }
            Layer::Part => (first, if rest.starts_with(";;") { 2 } else { first.len_utf8() }),
            Layer::Doubled(quote) => {
                let twice = rest.as_bytes().starts_with(&[quote, quote]);
                (first, if twice { 2 } else { first.len_utf8() })
            }

            Layer::Single => match rest.as_bytes() {
                [b'\\', next @ (b'\\' | b'\''), ..] => (*next as char, 2),
                _ => (first, first.len_utf8()),
            },
            Layer::Double => double(rest, first)?,
            Layer::Script(_) => script(rest, first)?,
            Layer::YamlSingle => (first, if rest.starts_with("''") { 2 } else { first.len_utf8() }),
            Layer::XmlText | Layer::XmlAttribute(_) => entity(rest, first)?,
            Layer::Percent => percent(rest, first),
        };
        decoded.at.extend(std::iter::repeat_n(start + raw.len() - rest.len(), ch.len_utf8()));
        decoded.text.push(ch);
        rest = &rest[length..];
    }
    decoded.at.push(start + raw.len());
    Some(decoded)
}

/// A value is said to be none where a variable stands in it.
fn double(rest: &str, first: char) -> Option<(char, usize)> {
    let next = rest[first.len_utf8()..].chars().next();
    match (first, next) {
        ('\\', Some(next @ ('\\' | '"' | '$' | '`'))) => Some((next, 2)),
        ('\\', Some('n')) => Some(('\n', 2)),
        ('\\', Some('t')) => Some(('\t', 2)),
        ('$', Some(next)) if next.is_alphabetic() || next == '_' || next == '{' => None,
        ('{', Some('$')) => None,
        _ => Some((first, first.len_utf8())),
    }
}

fn script(rest: &str, first: char) -> Option<(char, usize)> {
    if first != '\\' {
        return Some((first, first.len_utf8()));
    }
    let next = rest[1..].chars().next()?;
    let hex = |from: usize, to: usize| {
        let code = u32::from_str_radix(rest.get(from..to)?, 16).ok()?;
        Some((char::from_u32(code)?, to))
    };
    match next {
        'n' => Some(('\n', 2)),
        't' => Some(('\t', 2)),
        'r' => Some(('\r', 2)),
        'b' => Some(('\u{8}', 2)),
        'f' => Some(('\u{c}', 2)),
        'u' => hex(2, 6),
        'x' => hex(2, 4),
        next => Some((next, 1 + next.len_utf8())),
    }
}

/// The entities that XML knows by itself (XML 1.0, 4.6), and numbers.
fn entity(rest: &str, first: char) -> Option<(char, usize)> {
    if first != '&' {
        return Some((first, first.len_utf8()));
    }
    let end = rest.find(';')?;
    let ch = match &rest[1..end] {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        number => {
            let number = number.strip_prefix('#')?;
            let code = match number.strip_prefix('x') {
                Some(hex) => u32::from_str_radix(hex, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(code)?
        }
    };
    Some((ch, end + 1))
}

/// A character of one to four bytes; what is none stays as it stands.
fn percent(rest: &str, first: char) -> (char, usize) {
    let byte = |at: usize| {
        let code = rest.get(3 * at..3 * at + 3)?.strip_prefix('%')?;
        u8::from_str_radix(code, 16).ok()
    };
    let mut bytes = Vec::new();
    for at in 0..4 {
        let Some(next) = byte(at) else { break };
        bytes.push(next);
        if let Some(ch) = std::str::from_utf8(&bytes).ok().and_then(|text| text.chars().next()) {
            return (ch, 3 * bytes.len());
        }
    }
    (first, first.len_utf8())
}

/// Puts layers on a value, the innermost first; `layers` names the outermost first.
pub(super) fn encode(layers: &[Layer], value: &str) -> String {
    let Some((inner, outer)) = layers.split_last() else { return value.to_owned() };
    let mut text = match inner {
        Layer::Bare => bare(value),
        Layer::YamlPlain => yaml_plain(value),
        Layer::Undoubled if value.contains([';', '\'', '"']) || value.trim() != value => {
            format!("\"{}\"", escape(Layer::Doubled(b'"'), value))
        }
        Layer::Spaced if value.contains([' ', '\'', '\\']) => {
            format!("'{}'", escape(Layer::Single, value))
        }
        inner => escape(*inner, value),
    };
    for layer in outer.iter().rev() {
        text = escape(*layer, &text);
    }
    text
}

fn escape(layer: Layer, value: &str) -> String {
    let mut out = String::new();
    for ch in value.chars() {
        let quote = |quote: u8| ch == quote as char;
        match (layer, ch) {
            (Layer::Single, '\\' | '\'')
            | (Layer::Double, '\\' | '"' | '$' | '`')
            | (Layer::Script(_), '\\') => out.extend(['\\', ch]),
            (Layer::Script(by), _) if quote(by) => out.extend(['\\', ch]),
            (Layer::Script(_), '\n') => out.push_str("\\n"),
            (Layer::Script(_), ch) if ch.is_control() => {
                out.push_str(&format!("\\u{:04x}", ch as u32));
            }
            (Layer::YamlSingle, '\'') => out.push_str("''"),
            (Layer::Part, ';') => out.push_str(";;"),
            (Layer::Doubled(by), _) if quote(by) => out.extend([ch, ch]),
            (Layer::XmlText | Layer::XmlAttribute(_), '&') => out.push_str("&amp;"),
            (Layer::XmlText | Layer::XmlAttribute(_), '<') => out.push_str("&lt;"),
            (Layer::XmlText, '>') => out.push_str("&gt;"),
            (Layer::XmlAttribute(by), _) if quote(by) => out.push_str(&format!("&#{by};")),
            (Layer::Percent, ch) if !(ch.is_ascii_alphanumeric() || "-._~".contains(ch)) => {
                let mut bytes = [0; 4];
                for byte in ch.encode_utf8(&mut bytes).bytes() {
                    out.push_str(&format!("%{byte:02X}"));
                }
            }
            (_, ch) => out.push(ch),
        }
    }
    out
}

/// What would end a value without quotes, or stand for something else, goes into quotes.
fn bare(value: &str) -> String {
    let awkward = |ch: char| ch.is_whitespace() || "#;'\"\\$`=".contains(ch);
    match value.contains(awkward) {
        false => value.to_owned(),
        true if !value.contains('\'') => format!("'{value}'"),
        true => format!("\"{}\"", escape(Layer::Double, value)),
    }
}

fn yaml_plain(value: &str) -> String {
    let plain = |ch: char| ch.is_ascii_alphanumeric() || "-_./@".contains(ch);
    let starts = value.starts_with(|ch: char| ch.is_ascii_alphanumeric() || ch == '/');
    // A name that YAML takes for something else than text.
    let other = ["true", "false", "yes", "no", "on", "off", "null"];
    let is_other = other.contains(&value.to_ascii_lowercase().as_str());
    match starts && value.chars().all(plain) && !is_other {
        true => value.to_owned(),
        false => format!("'{}'", escape(Layer::YamlSingle, value)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const QUOTED: [Layer; 9] = [
        Layer::Single,
        Layer::Double,
        Layer::Script(b'"'),
        Layer::Script(b'\''),
        Layer::YamlSingle,
        Layer::XmlText,
        Layer::XmlAttribute(b'"'),
        Layer::XmlAttribute(b'\''),
        Layer::Percent,
    ];

    proptest! {
        #[test]
        fn what_is_written_is_read_again(value in "[ -~]{0,20}", layer in 0..QUOTED.len()) {
            let layer = QUOTED[layer];
            let raw = encode(&[layer], &value);
            let decoded = decode(layer, &raw, 100).unwrap();
            prop_assert_eq!(&decoded.text, &value);
            prop_assert_eq!(decoded.place(&(0..value.len())), 100..100 + raw.len());
        }

        #[test]
        fn nothing_that_is_read_ends_in_a_panic(raw in "\\PC{0,30}", layer in 0..QUOTED.len()) {
            if let Some(decoded) = decode(QUOTED[layer], &raw, 0) {
                prop_assert_eq!(decoded.at.len(), decoded.text.len() + 1);
            }
        }
    }

    #[test]
    fn a_value_with_a_variable_in_it_is_none() {
        assert_eq!(decode(Layer::Double, "${HOST}", 0), None);
        assert_eq!(decode(Layer::Double, "$host", 0), None);
        assert_eq!(decode(Layer::Double, "5$ a night", 0).unwrap().text, "5$ a night");
    }

    #[test]
    fn what_cannot_stand_without_quotes_gets_some() {
        assert_eq!(encode(&[Layer::Bare], "glimmer"), "glimmer");
        assert_eq!(encode(&[Layer::Bare], "a #b"), "'a #b'");
        assert_eq!(encode(&[Layer::Bare], "it's $5"), "\"it's \\$5\"");
        assert_eq!(encode(&[Layer::YamlPlain], "yes"), "'yes'");
        assert_eq!(encode(&[Layer::YamlPlain], "it's"), "'it''s'");
        assert_eq!(encode(&[Layer::Script(b'"'), Layer::Percent], "a\"/b"), "a%22%2Fb");
    }
}
