//! The character set of a page, a sheet or a feed, and its text.
//!
//! HTML standard, "Determining the character encoding": a byte order mark, the server's header, the
//! beginning of the text itself, and windows-1252 where nothing is said. Nothing is guessed from
//! the bytes, with one exception that browsers make too: what is valid UTF-8 beyond ASCII and says
//! nothing is taken as that.

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use std::borrow::Cow;
use url::Url;

/// How far the beginning of a page is searched for its character set, in bytes.
const PRESCAN: usize = 1024;

/// What the beginning of a text may say about its character set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextKind {
    /// `<meta charset>`, `<meta http-equiv="content-type">`.
    Html,
    /// `<?xml encoding?>`; UTF-8 where nothing is said.
    Xml,
    /// `@charset "…";`; UTF-8 where nothing is said.
    Css,
    /// Nothing; always UTF-8 unless the server says otherwise.
    Plain,
}

/// A decoded text.
#[derive(Clone, Debug)]
pub struct Decoded<'a> {
    /// The text; what is not valid is U+FFFD.
    pub text: Cow<'a, str>,
    /// In which queries of addresses are written.
    pub encoding: &'static Encoding,
}

impl Decoded<'_> {
    /// An address of this text, made absolute. The query is written in the character set of the
    /// text (URL standard, "percent-encode after encoding").
    pub fn join(&self, base: &Url, address: &str) -> Option<Url> {
        if self.encoding == UTF_8 || address.is_ascii() {
            return base.join(address).ok();
        }
        let encode: &dyn Fn(&str) -> Cow<'_, [u8]> =
            &|query| Cow::Owned(encoded(self.encoding, query));
        Url::options().base_url(Some(base)).encoding_override(Some(encode)).parse(address).ok()
    }

    /// What relative addresses start from, if the page names it; a script or a text of its own is
    /// none (HTML standard, "set the frozen base URL").
    pub fn base(&self, page: &Url, written: &str) -> Option<Url> {
        let base = self.join(page, written)?;
        (!matches!(base.scheme(), "data" | "javascript")).then_some(base)
    }
}

/// A query in a character set; what it does not have is written as its number.
fn encoded(encoding: &'static Encoding, query: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(query.len());
    for c in query.chars() {
        let text = c.encode_utf8(&mut [0; 4]).to_owned();
        match encoding.encode(&text) {
            (bytes, _, false) => out.extend_from_slice(&bytes),
            _ => out.extend_from_slice(format!("%26%23{}%3B", u32::from(c)).as_bytes()),
        }
    }
    out
}

/// Decodes a body; `charset` is that of the server's header.
pub fn decode<'a>(body: &'a [u8], charset: Option<&str>, kind: TextKind) -> Decoded<'a> {
    if let Some((encoding, mark)) = Encoding::for_bom(body) {
        return decoded(&body[mark..], encoding);
    }
    let label =
        |label: &str| Encoding::for_label(label.trim().trim_matches(['"', '\'']).as_bytes());
    let said = charset.and_then(label).or_else(|| {
        let start = &body[..body.len().min(PRESCAN)];
        match kind {
            TextKind::Html => meta_charset(start),
            TextKind::Xml => xml_charset(start),
            TextKind::Css => css_charset(start),
            TextKind::Plain => None,
        }
    });
    let usual = match kind {
        TextKind::Html if std::str::from_utf8(body).is_err() => WINDOWS_1252,
        TextKind::Html if body.is_ascii() => WINDOWS_1252,
        _ => UTF_8,
    };
    decoded(body, said.unwrap_or(usual))
}

fn decoded<'a>(body: &'a [u8], encoding: &'static Encoding) -> Decoded<'a> {
    let (text, _) = encoding.decode_without_bom_handling(body);
    Decoded { text, encoding: encoding.output_encoding() }
}

/// Of an encoding that a text of single bytes names, the one that is meant.
fn meant(encoding: &'static Encoding) -> &'static Encoding {
    if encoding == UTF_16BE || encoding == UTF_16LE {
        UTF_8
    } else if encoding.name() == "x-user-defined" {
        WINDOWS_1252
    } else {
        encoding
    }
}

/// HTML standard, "prescan a byte stream to determine its encoding".
fn meta_charset(start: &[u8]) -> Option<&'static Encoding> {
    let mut at = 0;
    while at < start.len() {
        let rest = &start[at..];
        if rest.starts_with(b"<!--") {
            // `<!-->` is a whole comment.
            at += 2 + memchr::memmem::find(&rest[2..], b"-->")? + 3;
        } else if rest.len() > 5
            && rest[..5].eq_ignore_ascii_case(b"<meta")
            && (rest[5].is_ascii_whitespace() || rest[5] == b'/')
        {
            at += 5;
            let (attributes, end) = attributes(start, at);
            at = end;
            if let Some(found) = of_meta(&attributes) {
                return Some(meant(found));
            }
        } else if rest[0] == b'<'
            && (rest.get(1).is_some_and(u8::is_ascii_alphabetic)
                || (rest.get(1) == Some(&b'/') && rest.get(2).is_some_and(u8::is_ascii_alphabetic)))
        {
            let name = rest.iter().position(|b| b.is_ascii_whitespace() || *b == b'>');
            at = attributes(start, at + name?).1;
        } else if rest.len() > 1 && rest[0] == b'<' && matches!(rest[1], b'!' | b'/' | b'?') {
            at += memchr::memchr(b'>', rest)? + 1;
        } else {
            at += 1 + memchr::memchr(b'<', &rest[1..]).unwrap_or(rest.len());
        }
    }
    None
}

fn of_meta(attributes: &[(String, String)]) -> Option<&'static Encoding> {
    let get = |name: &str| attributes.iter().find(|(is, _)| is == name).map(|(_, value)| value);
    if let Some(label) = get("charset") {
        return Encoding::for_label(label.as_bytes());
    }
    let pragma = get("http-equiv").is_some_and(|value| value == "content-type");
    let content = get("content").filter(|_| pragma)?;
    charset_of(content)
}

/// The `charset` of a media type as `Content-Type` writes it (HTML standard, "extracting a
/// character encoding from a meta element").
fn charset_of(content: &str) -> Option<&'static Encoding> {
    let mut rest = content;
    loop {
        rest = &rest[rest.find("charset")? + 7..];
        let value = rest.trim_start();
        let Some(value) = value.strip_prefix('=') else { continue };
        let value = value.trim_start();
        let label = match value.chars().next()? {
            quote @ ('"' | '\'') => value[1..].split(quote).next()?,
            _ => value.split([' ', '\t', '\n', '\r', ';']).next()?,
        };
        return Encoding::for_label(label.as_bytes());
    }
}

/// Names and values in lower case, and where the tag ends.
fn attributes(text: &[u8], mut at: usize) -> (Vec<(String, String)>, usize) {
    let mut found: Vec<(String, String)> = Vec::new();
    let lower = |bytes: &[u8]| String::from_utf8_lossy(bytes).to_ascii_lowercase();
    loop {
        while at < text.len() && (text[at].is_ascii_whitespace() || text[at] == b'/') {
            at += 1;
        }
        if at >= text.len() || text[at] == b'>' {
            return (found, at + 1);
        }
        let name = at;
        while at < text.len() && !(text[at].is_ascii_whitespace() || b"/>".contains(&text[at])) {
            if text[at] == b'=' && at > name {
                break;
            }
            at += 1;
        }
        let name = lower(&text[name..at]);
        while at < text.len() && text[at].is_ascii_whitespace() {
            at += 1;
        }
        let mut value = String::new();
        if text.get(at) == Some(&b'=') {
            at += 1;
            while at < text.len() && text[at].is_ascii_whitespace() {
                at += 1;
            }
            let begins = at;
            match text.get(at) {
                Some(quote @ (b'"' | b'\'')) => {
                    let end = memchr::memchr(*quote, &text[at + 1..]);
                    let end = end.map_or(text.len(), |end| at + 1 + end);
                    value = lower(&text[begins + 1..end]);
                    at = (end + 1).min(text.len());
                }
                _ => {
                    while at < text.len() && !text[at].is_ascii_whitespace() && text[at] != b'>' {
                        at += 1;
                    }
                    value = lower(&text[begins..at]);
                }
            }
        }
        if !found.iter().any(|(known, _)| *known == name) {
            found.push((name, value));
        }
    }
}

fn xml_charset(start: &[u8]) -> Option<&'static Encoding> {
    let end = memchr::memmem::find(start, b"?>")?;
    let head = start[..end].strip_prefix(b"<?xml")?;
    let at = memchr::memmem::find(head, b"encoding")?;
    let text = std::str::from_utf8(&head[at + 8..]).ok()?;
    let value = text.trim_start().strip_prefix('=')?.trim_start();
    let quote = value.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    Encoding::for_label(value[1..].split(quote).next()?.as_bytes()).map(meant)
}

fn css_charset(start: &[u8]) -> Option<&'static Encoding> {
    let rest = start.strip_prefix(b"@charset \"")?;
    let end = memchr::memmem::find(rest, b"\";")?;
    Encoding::for_label(&rest[..end]).map(meant)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_character_set_is_found_where_browsers_look_for_it() {
        let of = |body: &[u8], header| decode(body, header, TextKind::Html).encoding.name();
        assert_eq!(of(b"<meta charset=koi8-r>", None), "KOI8-R");
        assert_eq!(of(b"<meta charset=koi8-r>", Some("iso-8859-1")), "windows-1252");
        assert_eq!(of(b"\xef\xbb\xbf<meta charset=koi8-r>", Some("latin1")), "UTF-8");
        assert_eq!(of(b"<!-- <meta charset=koi8-r> --><p>", None), "windows-1252");
        let pragma = b"<META content='text/html; charset = \"gbk\"' HTTP-EQUIV=Content-Type>";
        assert_eq!(of(pragma, None), "GBK");
        assert_eq!(of(b"<p title='<meta charset=koi8-r>'>", None), "windows-1252");
        assert_eq!(of("<p>größer".as_bytes(), None), "UTF-8");
        assert_eq!(of(b"<p>gr\xf6\xdfer", None), "windows-1252");
        assert_eq!(of(b"<meta charset=utf-16>", None), "UTF-8");
        assert_eq!(
            of(&[b" ".repeat(1024), b"<meta charset=gbk>".to_vec()].concat(), None).len(),
            12
        );
        let xml = b"<?xml version='1.0' encoding='iso-8859-2'?>";
        assert_eq!(decode(xml, None, TextKind::Xml).encoding.name(), "ISO-8859-2");
        assert_eq!(decode(b"@charset \"gbk\";", None, TextKind::Css).encoding.name(), "GBK");
    }

    #[test]
    fn texts_of_two_bytes_a_letter_are_read() {
        let body: Vec<u8> =
            "\u{feff}<a href=x>".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let decoded = decode(&body, None, TextKind::Html);
        assert_eq!((&*decoded.text, decoded.encoding.name()), ("<a href=x>", "UTF-8"));
    }
}
