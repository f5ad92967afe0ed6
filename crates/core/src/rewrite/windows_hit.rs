//! Paths that begin with the letter of a drive, as `C:\sites\a`: with backslashes, however often
//! they are escaped, or with slashes, which such systems take as well.

use super::Edit;
use super::rule::{Shape, Spelling};
use super::spelling::{Encoding, Unit, is_word, next, next_raw, prev, prev_raw};
use super::windows_path::{is_drive, segments};
use std::ops::Range;

/// Judges a hit of one segment; gives the edit if the whole path stands there.
pub(super) fn judge(
    b: &[u8],
    hit: usize,
    floor: usize,
    (rule, from, to): (usize, &str, &str),
    stem: &str,
) -> Option<Edit> {
    let parts = segments(from);
    let place = parts.iter().position(|part| *part == stem)?;
    let mut start = hit;
    let (mut separator, mut colon) = (None, &b":"[..]);
    for part in parts[..place].iter().rev() {
        let found = separator_before(b, start)?;
        start = found.start;
        separator = Some(found);
        if std::ptr::eq(*part, parts[0]) {
            let unit = prev_raw(b, start).filter(|unit| unit.ch == ':')?;
            colon = &b[unit.start..unit.end];
            start = unit.start;
        }
        start = back_over(b, start, part)?;
    }
    let mut end = hit + stem.len();
    for part in &parts[place + 1..] {
        let found = separator_after(b, end)?;
        end = found.end + part.len();
        if !b.get(found.end..end)?.eq_ignore_ascii_case(part.as_bytes()) {
            return None;
        }
    }
    let goes_back = prev(b, start).is_some_and(|unit| is_word(unit.ch));
    let goes_on = next_raw(b, end).is_some_and(|unit| {
        is_word(unit.ch) || unit.ch == '.' && next(b, unit.end).is_some_and(|u| is_word(u.ch))
    });
    if start < floor || goes_back || goes_on {
        return None;
    }
    let separator = separator.map_or(&b"\\"[..], |range| &b[range]);
    let encoding =
        prev_raw(separator, separator.len()).map_or(Encoding::Plain, |unit| unit.encoding);
    let mut text = Vec::new();
    if is_drive(to) {
        write(&segments(to), separator, colon, &mut text);
    } else {
        // The path goes on with separators that the new system does not know.
        for part in to.split('/').filter(|part| !part.is_empty()) {
            text.push(b'/');
            text.extend_from_slice(part.as_bytes());
        }
        end = follow(b, end, &mut text);
    }
    let spelling = Spelling { shape: Shape::Path, encoding };
    Some(Edit { range: start..end, text, replaced: Some((rule, spelling)) })
}

fn write(parts: &[&str], separator: &[u8], colon: &[u8], out: &mut Vec<u8>) {
    for (n, part) in parts.iter().enumerate() {
        if n > 0 {
            out.extend_from_slice(separator);
        }
        out.extend_from_slice(part.as_bytes());
        if n == 0 {
            out.extend_from_slice(colon);
        }
    }
}

/// Writes what follows of a path with slashes; gives where it ends.
fn follow(b: &[u8], mut end: usize, out: &mut Vec<u8>) -> usize {
    while let Some(separator) = separator_after(b, end) {
        let in_name = |byte: &&u8| byte.is_ascii_alphanumeric() || b"._-".contains(byte);
        let length = b[separator.end..].iter().take_while(in_name).count();
        if length == 0 {
            break;
        }
        out.push(b'/');
        out.extend_from_slice(&b[separator.end..separator.end + length]);
        end = separator.end + length;
    }
    end
}

fn back_over(b: &[u8], end: usize, part: &str) -> Option<usize> {
    let start = end.checked_sub(part.len())?;
    b[start..end].eq_ignore_ascii_case(part.as_bytes()).then_some(start)
}

/// A separator: a slash with the backslashes that escape it, or a run of backslashes.
fn separator_before(b: &[u8], at: usize) -> Option<Range<usize>> {
    let last = prev_raw(b, at).filter(is_separator)?;
    let mut start = last.start;
    while let Some(unit) = prev_raw(b, start).filter(|unit| unit.ch == '\\') {
        start = unit.start;
    }
    Some(start..at)
}

fn separator_after(b: &[u8], at: usize) -> Option<Range<usize>> {
    let mut unit = next_raw(b, at).filter(is_separator)?;
    while unit.ch == '\\' {
        match next_raw(b, unit.end).filter(is_separator) {
            Some(more) => unit = more,
            None => break,
        }
    }
    Some(at..unit.end)
}

fn is_separator(unit: &Unit) -> bool {
    matches!(unit.ch, '\\' | '/')
}
