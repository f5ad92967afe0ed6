//! Mappings of YAML, nested by their indentation. Anchors, block texts and lists within one line
//! are passed over.

use super::meaning::Found;
use super::spelling::{Layer, decode};

pub(super) fn values(text: &str) -> Vec<Found> {
    let mut found = Vec::new();
    // The keys that are open, with their indentation.
    let mut open: Vec<(usize, String)> = Vec::new();
    let mut start = 0;
    for line in text.split('\n') {
        let trimmed = line.trim_start();
        let mut indent = line.len() - trimmed.len();
        let mut rest = trimmed;
        // An entry of a list is a step deeper, and apart from the others.
        while let Some(entry) = rest.strip_prefix("- ") {
            close(&mut open, indent);
            open.push((indent, format!("- {start}")));
            indent += 2 + entry.len() - entry.trim_start().len();
            rest = entry.trim_start();
        }
        if let Some((key, value)) = entry_of(rest) {
            close(&mut open, indent);
            let at = start + line.len() - value.len();
            if value.is_empty() || value.starts_with('#') || value.starts_with('&') {
                open.push((indent, key.to_owned()));
            } else if let Some((layer, raw, from)) = scalar(value)
                && let Some(decoded) = decode(layer, raw, at + from)
            {
                let names = open.iter().map(|(_, key)| key.as_str()).chain([key]);
                found.push(Found::new(names, layer, decoded));
            }
        }
        start += line.len() + 1;
    }
    found
}

/// Closes what is not above an indentation.
fn close(open: &mut Vec<(usize, String)>, indent: usize) {
    while open.last().is_some_and(|(depth, _)| *depth >= indent) {
        open.pop();
    }
}

/// Key and value of a line; the value without the space before it.
fn entry_of(line: &str) -> Option<(&str, &str)> {
    if line.starts_with(['#', '%', '{', '[']) {
        return None;
    }
    let key_end = match line.as_bytes().first()? {
        b'"' | b'\'' => super::quote_end(line, 0)? + 1,
        _ => line.find(':')?,
    };
    let rest = line[key_end..].trim_start().strip_prefix(':')?;
    if !(rest.is_empty() || rest.starts_with([' ', '\t', '\r'])) {
        return None;
    }
    Some((line[..key_end].trim().trim_matches(['"', '\'']), rest.trim_start()))
}

/// The value of a line: how it is written, its text, and where that begins.
fn scalar(value: &str) -> Option<(Layer, &str, usize)> {
    match value.as_bytes().first()? {
        b'"' => Some((Layer::Script(b'"'), &value[1..super::quote_end(value, 0)?], 1)),
        b'\'' => {
            let mut end = 1;
            loop {
                end += value[end..].find('\'')?;
                if !value[end + 1..].starts_with('\'') {
                    return Some((Layer::YamlSingle, &value[1..end], 1));
                }
                end += 2;
            }
        }
        b'|' | b'>' | b'*' | b'!' | b'{' | b'[' | b'@' | b'`' => None,
        _ => {
            let end = value.find(" #").unwrap_or(value.len());
            Some((Layer::YamlPlain, value[..end].trim_end(), 0))
        }
    }
}
