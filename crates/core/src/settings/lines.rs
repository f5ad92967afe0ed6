//! Lines `NAME=value` of dotenv files, `name = value` of INI and TOML files with their sections.

use super::meaning::Found;
use super::spelling::{Layer, decode};

pub(super) fn values(text: &str) -> Vec<Found> {
    let mut found = Vec::new();
    let mut section: Vec<&str> = Vec::new();
    let mut start = 0;
    for line in text.split('\n') {
        if let Some(name) = section_of(line) {
            section = name.split(['.', ':']).map(str::trim).collect();
        } else {
            found.extend(assignment(line, start, &section));
        }
        start += line.len() + 1;
    }
    found
}

fn section_of(line: &str) -> Option<&str> {
    let name = line.trim().strip_prefix('[')?.strip_suffix(']')?;
    Some(name.trim_matches(['[', ']', '"']))
}

fn assignment(line: &str, start: usize, section: &[&str]) -> Option<Found> {
    let equals = line.find('=')?;
    let name = line[..equals].trim();
    let name = name.strip_prefix("export ").unwrap_or(name).trim();
    let good = |c: char| c.is_ascii_alphanumeric() || "_.-".contains(c);
    if name.is_empty() || !name.chars().all(good) {
        return None;
    }
    let value = equals + 1 + line[equals + 1..].len() - line[equals + 1..].trim_start().len();
    let (layer, range) = match line.as_bytes().get(value) {
        Some(quote @ (b'"' | b'\'')) => {
            let end = super::quote_end(line, value)?;
            (if *quote == b'"' { Layer::Double } else { Layer::Single }, value + 1..end)
        }
        _ => {
            // A comment begins behind a space, or where nothing stands before it.
            let rest = &line[value..];
            let comment = rest
                .match_indices(['#', ';'])
                .map(|(at, _)| at)
                .find(|at| *at == 0 || rest[..*at].ends_with([' ', '\t']));
            let end = value + rest[..comment.unwrap_or(rest.len())].trim_end().len();
            (Layer::Bare, value..end)
        }
    };
    let decoded = decode(layer, &line[range.clone()], start + range.start)?;
    Some(Found::new(section.iter().copied().chain(name.split('.')), layer, decoded))
}
