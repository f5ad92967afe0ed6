//! Where an address begins and ends in a text, judged on decoded neighbours.

use super::spelling::{Encoding, Unit, is_word, next, prev};
use crate::address::Scheme;
use std::ops::Range;

pub(super) fn same_letter(found: char, wanted: char) -> bool {
    found == wanted || found.to_lowercase().eq(wanted.to_lowercase())
}

/// Reads a text backwards, without case; gives where it begins.
pub(crate) fn back_over(b: &[u8], mut pos: usize, text: &str) -> Option<usize> {
    for wanted in text.chars().rev() {
        pos = prev(b, pos).filter(|unit| same_letter(unit.ch, wanted))?.start;
    }
    Some(pos)
}

/// The two slashes, the colon and the scheme before a host.
pub(super) struct Lead {
    pub start: usize,
    pub scheme: Option<Scheme>,
    pub colon: Range<usize>,
    pub slash: Range<usize>,
    pub encoding: Encoding,
}

pub(super) enum NoLead {
    /// The host is part of a longer name or of a mail address.
    Part,
    /// The host stands alone.
    Bare,
    /// Something like an address stands there; where it begins.
    Unclear(usize),
}

pub(super) fn lead_before(b: &[u8], host: usize) -> Result<Lead, NoLead> {
    let Some(near) = prev(b, host) else {
        return Err(NoLead::Bare);
    };
    if near.ch != '/' {
        let part = is_word(near.ch) || near.ch == '.' || near.ch == '@';
        return Err(if part { NoLead::Part } else { NoLead::Bare });
    }
    let spelled = |unit: &Unit| b[unit.start..unit.end].to_ascii_lowercase();
    let far = match prev(b, near.start) {
        Some(far) if far.ch == '/' && spelled(&far) == spelled(&near) => far,
        _ => return Err(NoLead::Bare),
    };
    let mut lead = Lead {
        start: far.start,
        scheme: None,
        colon: 0..0,
        slash: near.start..near.end,
        encoding: near.encoding,
    };
    let before = prev(b, far.start);
    if let Some(colon) = before.filter(|unit| unit.ch == ':') {
        let schemes = [("https", Scheme::Https), ("http", Scheme::Http)];
        for (name, scheme) in schemes {
            let Some(start) = back_over(b, colon.start, name) else {
                continue;
            };
            // Prose of many scripts knows no spaces; a letter of one is no part of a scheme.
            let goes_back = prev(b, start)
                .is_some_and(|unit| unit.ch.is_ascii_alphanumeric() || "+-.".contains(unit.ch));
            if goes_back {
                break;
            }
            lead.start = start;
            lead.scheme = Some(scheme);
            lead.colon = colon.start..colon.end;
            return Ok(lead);
        }
        return Err(NoLead::Unclear(far.start));
    }
    match before {
        None => Ok(lead),
        Some(unit) if unit.ch.is_whitespace() || "\"'`([{<=,;>".contains(unit.ch) => Ok(lead),
        Some(_) => Err(NoLead::Unclear(far.start)),
    }
}

/// Whether the host or path goes on after `end`, so that it is another one.
pub(crate) fn goes_on(b: &[u8], end: usize) -> bool {
    match next(b, end) {
        None => false,
        Some(unit) if is_word(unit.ch) || unit.ch == '@' => true,
        Some(unit) if unit.ch == '.' => {
            next(b, unit.end).is_some_and(|after| after.ch.is_alphanumeric())
        }
        Some(_) => false,
    }
}

pub(super) enum Port {
    None,
    Number(u16, usize),
    /// A number that is no port; where it ends.
    TooLarge(usize),
    /// A colon that no port follows: user information, or prose.
    Other,
}

pub(super) fn port_after(b: &[u8], end: usize) -> Port {
    let Some(colon) = next(b, end).filter(|unit| unit.ch == ':') else {
        return Port::None;
    };
    let mut at = colon.end;
    let mut number: u32 = 0;
    let mut digits = 0;
    while let Some(unit) = next(b, at).filter(|unit| unit.ch.is_ascii_digit()) {
        number = number.saturating_mul(10).saturating_add(unit.ch as u32 - '0' as u32);
        at = unit.end;
        digits += 1;
    }
    // Behind digits a letter beyond ASCII begins a word of its own.
    let another = next(b, at).is_some_and(|unit| !unit.ch.is_ascii());
    match u16::try_from(number) {
        _ if digits == 0 || !another && goes_on(b, at) => Port::Other,
        Ok(number) => Port::Number(number, at),
        Err(_) => Port::TooLarge(at),
    }
}

/// Matches `path` after the host; gives its end and how its first slash is written.
pub(super) fn path_after(
    b: &[u8],
    end: usize,
    path: &str,
) -> Option<(usize, Option<Range<usize>>)> {
    if path.is_empty() {
        return Some((end, None));
    }
    let mut at = end;
    let mut slash = None;
    for wanted in path.chars() {
        let unit = next(b, at).filter(|unit| unit.ch == wanted)?;
        if wanted == '/' && slash.is_none() {
            slash = Some(unit.start..unit.end);
        }
        at = unit.end;
    }
    (!segment_goes_on(b, at)).then_some((at, slash))
}

pub(super) fn segment_goes_on(b: &[u8], at: usize) -> bool {
    match next(b, at) {
        Some(unit) if unit.ch == '~' || unit.ch == '%' || unit.ch == '+' => true,
        _ => goes_on(b, at),
    }
}
