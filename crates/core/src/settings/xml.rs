//! Elements and attributes of XML: `<host>…</host>`, `<database host="…"/>`, and
//! `<add name="…" value="…"/>`.

use super::meaning::Found;
use super::spelling::{Layer, decode};

pub(super) fn values(text: &str) -> Vec<Found> {
    let mut found = Vec::new();
    let mut open: Vec<&str> = Vec::new();
    let mut at = 0;
    while let Some(less) = text[at..].find('<').map(|found| at + found) {
        let rest = &text[less..];
        let skipped = [("<!--", "-->"), ("<![CDATA[", "]]>"), ("<?", "?>"), ("<!", ">")];
        if let Some((_, end)) = skipped.iter().find(|(begin, _)| rest.starts_with(begin)) {
            at = rest.find(end).map_or(text.len(), |found| less + found + end.len());
            continue;
        }
        let Some(end) = tag_end(text, less) else { break };
        at = end + 1;
        if rest.starts_with("</") {
            open.pop();
            continue;
        }
        let inside = text[less + 1..end].trim_end_matches('/');
        let name_end = inside.find(char::is_whitespace).unwrap_or(inside.len());
        open.push(&inside[..name_end]);
        attributes(text, less + 1 + name_end..less + 1 + inside.len(), &open, &mut found);
        if text[..end].ends_with('/') {
            open.pop();
            continue;
        }
        // The text of an element that holds nothing else.
        let content_end = text[at..].find('<').map_or(text.len(), |found| at + found);
        let content = &text[at..content_end];
        if text[content_end..].starts_with("</") && !content.trim().is_empty() {
            let from = at + content.len() - content.trim_start().len();
            if let Some(decoded) = decode(Layer::XmlText, content.trim(), from) {
                found.push(Found::new(open.iter().copied(), Layer::XmlText, decoded));
            }
        }
    }
    found
}

/// Where a tag ends: not within quotes.
fn tag_end(text: &str, from: usize) -> Option<usize> {
    let mut quote = None;
    for (at, byte) in text.bytes().enumerate().skip(from) {
        match (quote, byte) {
            (None, b'>') => return Some(at),
            (None, b'"' | b'\'') => quote = Some(byte),
            (Some(open), byte) if open == byte => quote = None,
            _ => {}
        }
    }
    None
}

fn attributes(text: &str, range: std::ops::Range<usize>, open: &[&str], found: &mut Vec<Found>) {
    let mut named = None;
    let mut all = Vec::new();
    let (mut at, end) = (range.start, range.end);
    while let Some(equals) = text[at..end].find('=').map(|found| at + found) {
        let name = text[at..equals].trim();
        let rest = &text[equals + 1..end];
        let open_quote = equals + 1 + rest.len() - rest.trim_start().len();
        let Some(quote @ (b'"' | b'\'')) = text.as_bytes().get(open_quote).copied() else { break };
        let Some(close) = text[open_quote + 1..end].find(quote as char) else { break };
        let value = open_quote + 1..open_quote + 1 + close;
        at = value.end + 1;
        let layer = Layer::XmlAttribute(quote);
        let Some(decoded) = decode(layer, &text[value.clone()], value.start) else { continue };
        if matches!(name, "name" | "key") {
            named = Some(decoded.text.clone());
        }
        all.push((name, layer, decoded));
    }
    // A name beside a value is the name of that value.
    let valued = all.iter().any(|(name, ..)| ["value", "connectionString"].contains(name));
    named = named.filter(|_| valued);
    for (name, layer, decoded) in all {
        let own = match &named {
            Some(named) if name == "value" => vec![named.as_str()],
            Some(named) => vec![named, name],
            None => vec![name],
        };
        found.push(Found::new(open.iter().copied().chain(own), layer, decoded));
    }
}
