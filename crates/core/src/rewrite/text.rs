//! Finding addresses in text, whatever their spelling, and writing the new ones
//! in the same spelling.
//!
//! The search looks for the longest label of the old host, which looks the same
//! in every encoding, and reads the surroundings only where it occurs. DESIGN
//! calls the conditions before and after an address its boundaries.

use super::boundary::{
    Lead, NoLead, Port, back_over, goes_on, lead_before, path_after, port_after, same_letter,
    segment_goes_on,
};
use super::rule::{Place, Rule, Shape, Spelling};
use super::spelling::{Encoding, Unit, is_word, next, prev};
use super::{Edit, Left, Reason};
use super::{windows_hit, windows_path};
use crate::address::WebAddress;
use std::ops::Range;

/// One form of a rule's source, prepared for matching.
pub(super) struct Pattern {
    /// Number of the rule.
    pub rule: usize,
    /// The text searched for, without case.
    pub stem: String,
    /// What stands before the stem in the host or path.
    before: Vec<char>,
    /// What follows the stem.
    after: Vec<char>,
    kind: PatternKind,
    /// For hosts: how the host is written in the new address.
    new_host: String,
}

#[derive(Clone, Copy, PartialEq)]
enum PatternKind {
    Host,
    Path,
    Drive,
    Words,
}

enum Verdict {
    Edit(Edit, usize),
    Left(Left),
    Nothing,
}

impl Pattern {
    /// All forms of one rule: its host in ASCII and in Unicode, or its path.
    pub fn of(number: usize, rule: &Rule) -> Vec<Pattern> {
        match (&rule.from, &rule.to) {
            (Place::Web(from), Place::Web(to)) => {
                let strip = |host: String| match (rule.exact, host.strip_prefix("www.")) {
                    (false, Some(bare)) => bare.to_owned(),
                    _ => host,
                };
                let mut patterns =
                    vec![Self::host(number, &strip(from.host.clone()), to.host.clone())];
                if let Some(unicode) = from.unicode_host() {
                    let new_host = to.unicode_host().unwrap_or_else(|| to.host.clone());
                    patterns.push(Self::host(number, &strip(unicode), new_host));
                }
                patterns
            }
            (Place::Path(path), _) if windows_path::is_drive(path) => {
                let names = windows_path::segments(path).into_iter().skip(1);
                vec![Self::split(number, path, names, PatternKind::Drive, String::new())]
            }
            (Place::Path(path), _) => {
                let segments = path.split('/').filter(|part| !part.is_empty());
                vec![Self::split(number, path, segments, PatternKind::Path, String::new())]
            }
            (Place::Text(words), _) => {
                let whole = std::iter::once(words.as_str());
                vec![Self::split(number, words, whole, PatternKind::Words, String::new())]
            }
            _ => Vec::new(),
        }
    }

    fn host(rule: usize, host: &str, new_host: String) -> Pattern {
        Self::split(rule, host, host.split('.'), PatternKind::Host, new_host)
    }

    fn split<'a>(
        rule: usize,
        whole: &'a str,
        parts: impl Iterator<Item = &'a str>,
        kind: PatternKind,
        new_host: String,
    ) -> Pattern {
        let stem = parts.max_by_key(|part| part.len()).unwrap_or(whole);
        let at = stem.as_ptr() as usize - whole.as_ptr() as usize;
        Pattern {
            rule,
            stem: stem.to_owned(),
            before: whole[..at].chars().collect(),
            after: whole[at + stem.len()..].chars().collect(),
            kind,
            new_host,
        }
    }
}

/// What stands around a host: where it begins and ends, and how it is written.
struct Host {
    start: usize,
    end: usize,
    www: bool,
    dot: Option<Range<usize>>,
}

/// Judges the hit of a stem at `hit`: edits and leftovers are added, and the
/// position up to which the text is used is returned.
pub(super) fn judge(
    b: &[u8],
    hit: usize,
    floor: usize,
    patterns: &[Pattern],
    rules: &[Rule],
    edits: &mut Vec<Edit>,
    left: &mut Vec<Left>,
) -> Option<usize> {
    let mut best: Option<(Edit, usize)> = None;
    let mut remark: Option<Left> = None;
    for pattern in patterns {
        if !b[hit..].get(..pattern.stem.len()).is_some_and(|text| same(text, pattern)) {
            continue;
        }
        let rule = &rules[pattern.rule];
        let verdict = match (pattern.kind, &rule.from, &rule.to) {
            (PatternKind::Host, Place::Web(from), Place::Web(to)) => {
                web(b, hit, floor, pattern, rule, from, to)
            }
            (PatternKind::Path, _, Place::Path(to)) => path(b, hit, floor, pattern, to),
            (PatternKind::Drive, Place::Path(from), Place::Path(to)) => {
                let rule = (pattern.rule, from.as_str(), to.as_str());
                match windows_hit::judge(b, hit, floor, rule, &pattern.stem) {
                    Some(edit) => Verdict::Edit(edit, from.len()),
                    None => Verdict::Nothing,
                }
            }
            (PatternKind::Words, _, Place::Text(to)) => words(b, hit, floor, pattern, to),
            _ => Verdict::Nothing,
        };
        match verdict {
            Verdict::Edit(edit, length) if best.as_ref().is_none_or(|(_, best)| length > *best) => {
                best = Some((edit, length));
            }
            Verdict::Left(note) => remark = remark.or(Some(note)),
            _ => {}
        }
    }
    if let Some((edit, _)) = best {
        let end = edit.range.end;
        edits.push(edit);
        return Some(end);
    }
    left.extend(remark);
    None
}

fn same(text: &[u8], pattern: &Pattern) -> bool {
    match pattern.kind {
        PatternKind::Host | PatternKind::Drive => {
            text.eq_ignore_ascii_case(pattern.stem.as_bytes())
        }
        PatternKind::Path | PatternKind::Words => text == pattern.stem.as_bytes(),
    }
}

fn web(
    b: &[u8],
    hit: usize,
    floor: usize,
    pattern: &Pattern,
    rule: &Rule,
    from: &WebAddress,
    to: &WebAddress,
) -> Verdict {
    let Some(host) = host_around(b, hit, pattern, rule.exact, from) else {
        return Verdict::Nothing;
    };
    let whole = |start: usize, end: usize, reason| {
        Verdict::Left(Left { range: start..end, reason, rule: Some(pattern.rule) })
    };
    let lead = match lead_before(b, host.start) {
        Ok(lead) if lead.start >= floor => lead,
        Ok(_) => return Verdict::Nothing,
        Err(NoLead::Part) => return Verdict::Nothing,
        Err(NoLead::Bare) => {
            if goes_on(b, host.end) {
                return Verdict::Nothing;
            }
            if rule.bare_host && host.start >= floor {
                let text = written_host(&pattern.new_host, host.dot.clone().map(|dot| &b[dot]));
                let spelling = Spelling { shape: Shape::Host, encoding: Encoding::Plain };
                let range = host.start..host.end;
                let length = range.len();
                let edit = Edit { range, text, replaced: Some((pattern.rule, spelling)) };
                return Verdict::Edit(edit, length);
            }
            return whole(host.start, host.end, Reason::BareHost);
        }
        Err(NoLead::Unclear(start)) => {
            if goes_on(b, host.end) {
                return Verdict::Nothing;
            }
            return whole(start, host.end, Reason::Unclear);
        }
    };
    let (end, port) = match port_after(b, host.end) {
        Port::None => (host.end, None),
        Port::Number(number, end) => (end, Some(number)),
        Port::TooLarge(end) => return whole(lead.start, end, Reason::OtherPort),
        Port::Other => return whole(lead.start, host.end, Reason::UserInfo),
    };
    let default = match lead.scheme {
        Some(scheme) => port == Some(scheme.default_port()),
        None => matches!(port, Some(80 | 443)),
    };
    let port = if default { None } else { port };
    if port.is_none() && !default && goes_on(b, end) {
        return Verdict::Nothing;
    }
    if port != from.port {
        return whole(lead.start, end, Reason::OtherPort);
    }
    if is_already_new(b, &host, end, port, &lead, rule, from, to) {
        return Verdict::Nothing;
    }
    let Some((end, slash)) = path_after(b, end, &from.path) else {
        return whole(lead.start, end, Reason::OutsideFolder);
    };
    let slash = slash.map_or(&b[lead.slash.clone()], |range| &b[range]);
    let text = written_address(b, &lead, &host, slash, &pattern.new_host, to);
    let shape = lead.scheme.map_or(Shape::Relative, Shape::Scheme);
    let spelling = Spelling { shape, encoding: lead.encoding };
    let range = lead.start..end;
    // The longest match is the one with the longest folder, whatever its spelling.
    let length = 1 + from.path.len();
    Verdict::Edit(Edit { range, text, replaced: Some((pattern.rule, spelling)) }, length)
}

fn host_around(
    b: &[u8],
    hit: usize,
    pattern: &Pattern,
    exact: bool,
    from: &WebAddress,
) -> Option<Host> {
    let mut dot = None;
    let mut note_dot = |unit: &Unit| {
        if unit.ch == '.' && dot.is_none() {
            dot = Some(unit.start..unit.end);
        }
    };
    let mut end = hit + pattern.stem.len();
    for wanted in &pattern.after {
        let unit = next(b, end).filter(|unit| same_letter(unit.ch, *wanted))?;
        note_dot(&unit);
        end = unit.end;
    }
    let mut start = hit;
    for wanted in pattern.before.iter().rev() {
        let unit = prev(b, start).filter(|unit| same_letter(unit.ch, *wanted))?;
        note_dot(&unit);
        start = unit.start;
    }
    let mut www = exact && from.host.starts_with("www.");
    if !exact && let Some(at) = back_over(b, start, "www.") {
        start = at;
        www = true;
    }
    Some(Host { start, end, www, dot })
}

#[allow(clippy::too_many_arguments)]
fn is_already_new(
    b: &[u8],
    host: &Host,
    end: usize,
    port: Option<u16>,
    lead: &Lead,
    rule: &Rule,
    from: &WebAddress,
    to: &WebAddress,
) -> bool {
    let same_host =
        if rule.exact { from.host == to.host } else { from.stem_host() == to.stem_host() };
    let below = same_host
        && from.port == to.port
        && (to.path == from.path
            || to.path.strip_prefix(&from.path).is_some_and(|rest| rest.starts_with('/')));
    below
        && host.www == to.host.starts_with("www.")
        && port == to.port
        && lead.scheme.is_none_or(|scheme| scheme == to.scheme)
        && path_after(b, end, &to.path).is_some()
}

fn written_host(host: &str, dot: Option<&[u8]>) -> Vec<u8> {
    match dot {
        Some(dot) if dot != b"." => {
            host.split('.').map(str::as_bytes).collect::<Vec<_>>().join(dot)
        }
        _ => host.as_bytes().to_vec(),
    }
}

fn written_address(
    b: &[u8],
    lead: &Lead,
    host: &Host,
    path_slash: &[u8],
    new_host: &str,
    to: &WebAddress,
) -> Vec<u8> {
    let slash = &b[lead.slash.clone()];
    let mut text = Vec::new();
    if lead.scheme.is_some() {
        text.extend_from_slice(to.scheme.name().as_bytes());
        text.extend_from_slice(&b[lead.colon.clone()]);
    }
    text.extend_from_slice(slash);
    text.extend_from_slice(slash);
    text.extend_from_slice(&written_host(new_host, host.dot.clone().map(|dot| &b[dot])));
    if let Some(port) = to.port {
        let colon = if lead.colon.is_empty() { b":" } else { &b[lead.colon.clone()] };
        text.extend_from_slice(colon);
        text.extend_from_slice(port.to_string().as_bytes());
    }
    extend_path(&mut text, &to.path, path_slash);
    text
}

fn extend_path(text: &mut Vec<u8>, path: &str, slash: &[u8]) {
    for byte in path.bytes() {
        match byte {
            b'/' => text.extend_from_slice(slash),
            other => text.push(other),
        }
    }
}

fn path(b: &[u8], hit: usize, floor: usize, pattern: &Pattern, to: &str) -> Verdict {
    let mut slash = None;
    let mut encoding = Encoding::Plain;
    let mut start = hit;
    for wanted in pattern.before.iter().rev() {
        let Some(unit) = prev(b, start).filter(|unit| unit.ch == *wanted) else {
            return Verdict::Nothing;
        };
        if unit.ch == '/' {
            slash = Some(unit.start..unit.end);
            encoding = unit.encoding;
        }
        start = unit.start;
    }
    let after: String = pattern.after.iter().collect();
    let Some((end, _)) = path_after(b, hit + pattern.stem.len(), &after) else {
        return Verdict::Nothing;
    };
    let goes_back = prev(b, start).is_some_and(|unit| is_word(unit.ch) || unit.ch == '.');
    if start < floor || goes_back || segment_goes_on(b, end) {
        return Verdict::Nothing;
    }
    let mut text = Vec::new();
    // A drive's path is understood with slashes, too.
    extend_path(&mut text, &to.replace('\\', "/"), slash.map_or(b"/", |range| &b[range]));
    let spelling = Spelling { shape: Shape::Path, encoding };
    let length = pattern.before.len() + pattern.stem.len() + pattern.after.len();
    Verdict::Edit(
        Edit { range: start..end, text, replaced: Some((pattern.rule, spelling)) },
        length,
    )
}

/// Words count where no letter or digit goes on before or behind them.
fn words(b: &[u8], hit: usize, floor: usize, pattern: &Pattern, to: &str) -> Verdict {
    let end = hit + pattern.stem.len();
    let in_word = |ch: Option<char>| ch.is_some_and(|ch| ch.is_alphanumeric() || ch == '_');
    let (first, last) = (pattern.stem.chars().next(), pattern.stem.chars().last());
    let goes_back = in_word(first) && in_word(prev(b, hit).map(|unit| unit.ch));
    let goes_on = in_word(last) && in_word(next(b, end).map(|unit| unit.ch));
    if hit < floor || goes_back || goes_on {
        return Verdict::Nothing;
    }
    let spelling = Spelling { shape: Shape::Words, encoding: Encoding::Plain };
    let replaced = Some((pattern.rule, spelling));
    let edit = Edit { range: hit..end, text: to.as_bytes().to_vec(), replaced };
    Verdict::Edit(edit, pattern.stem.len())
}
