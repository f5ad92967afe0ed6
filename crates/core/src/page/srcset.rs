//! Pictures of which the browser chooses one (HTML standard, "Images": `srcset` and `sizes`).

use super::media::{self, WIDTH};
use cssparser::{Parser, ParserInput};

/// One of several addresses.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Candidate<'a> {
    pub address: &'a str,
    /// Where the address begins in the attribute, in bytes.
    pub at: usize,
    /// Device pixels to a CSS pixel.
    pub density: f32,
    /// The width in pixels, if the density follows from it.
    pub width: Option<f32>,
}

const SPACE: [char; 5] = [' ', '\t', '\n', '\r', '\x0c'];

/// The candidates of a `srcset`. A comma that ends a word parts, one within an address does not;
/// a candidate with a descriptor that cannot be read is dropped, as browsers do.
pub(super) fn candidates(value: &str) -> Vec<Candidate<'_>> {
    let mut found = Vec::new();
    let mut at = 0;
    loop {
        let skipped = value[at..].trim_start_matches(|c| SPACE.contains(&c) || c == ',');
        at = value.len() - skipped.len();
        if skipped.is_empty() {
            return found;
        }
        let end = skipped.find(SPACE).unwrap_or(skipped.len());
        let word = &skipped[..end];
        let address = word.trim_end_matches(',');
        let start = at;
        at += end;
        let descriptors = if address.len() < word.len() {
            ""
        } else {
            let length = descriptors_length(&value[at..]);
            let descriptors = &value[at..at + length];
            at += length;
            descriptors
        };
        if let Some((density, width)) = described(descriptors) {
            found.push(Candidate { address, at: start, density, width });
        }
    }
}

/// Bytes up to the comma that ends the descriptors; commas in brackets do not.
fn descriptors_length(rest: &str) -> usize {
    let mut open = false;
    for (at, c) in rest.char_indices() {
        match c {
            '(' => open = true,
            ')' => open = false,
            ',' if !open => return at,
            _ => {}
        }
    }
    rest.len()
}

fn described(descriptors: &str) -> Option<(f32, Option<f32>)> {
    let (mut density, mut width, mut height) = (None, None, None);
    for word in descriptors.split(SPACE).filter(|word| !word.is_empty()) {
        let unit = word.chars().last()?;
        let number = &word[..word.len() - unit.len_utf8()];
        let whole = || number.parse::<u32>().ok().filter(|n| *n > 0 && !number.starts_with('+'));
        match unit {
            'w' if width.is_none() && density.is_none() => width = Some(whole()? as f32),
            'h' if height.is_none() && density.is_none() => height = Some(whole()? as f32),
            'x' if density.is_none() && width.is_none() && height.is_none() => {
                let value: f32 = number.parse().ok()?;
                density = (value >= 0.0 && value.is_finite()).then_some(value);
                density?;
            }
            _ => return None,
        }
    }
    match (height, width) {
        // A height needs a width beside it.
        (Some(_), None) => None,
        _ => Some((density.unwrap_or(1.0), width)),
    }
}

/// Which of these candidates a browser takes for the stated viewport, at one device pixel to a CSS
/// pixel. `fallback` is the address of `src`, which counts as one more of density 1 unless widths
/// are given: then `None` stands for it.
pub(super) fn chosen(candidates: &[Candidate<'_>], sizes: &str, fallback: bool) -> Option<usize> {
    let by_width = candidates.iter().any(|candidate| candidate.width.is_some());
    let room = if by_width { source_size(sizes) } else { WIDTH };
    let density = |candidate: &Candidate<'_>| match candidate.width {
        Some(width) if room > 0.0 => width / room,
        Some(_) => f32::INFINITY,
        None => candidate.density,
    };
    let mut all: Vec<(f32, Option<usize>)> =
        candidates.iter().enumerate().map(|(number, each)| (density(each), Some(number))).collect();
    if fallback && !by_width {
        all.push((1.0, None));
    }
    // Of two with the same density the first counts.
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all.dedup_by(|later, earlier| later.0 == earlier.0);
    let mut best = all.last()?.1;
    for pair in all.windows(2) {
        let ((here, number), (next, following)) = (pair[0], pair[1]);
        if next < 1.0 {
            continue;
        }
        best = if here < 1.0 || (here * next).sqrt() <= 1.0 { following } else { number };
        break;
    }
    best
}

/// The width that the picture will have, in CSS pixels.
fn source_size(sizes: &str) -> f32 {
    let mut input = ParserInput::new(sizes);
    let mut parser = Parser::new(&mut input);
    let found = parser.parse_comma_separated(|part| {
        let start = part.position();
        while part.next_including_whitespace().is_ok() {}
        Ok::<_, cssparser::ParseError<'_, ()>>(one_size(part.slice_from(start).trim()))
    });
    found.unwrap_or_default().into_iter().flatten().next().unwrap_or(WIDTH)
}

/// A length, if the condition before it holds: the last word, or the last brackets.
fn one_size(text: &str) -> Option<f32> {
    let split = match text.ends_with(')') {
        true => {
            let mut depth = 0;
            let open = text.char_indices().rev().find(|(_, c)| {
                depth += match c {
                    ')' => 1,
                    '(' => -1,
                    _ => 0,
                };
                depth == 0
            });
            let open = open?.0;
            text[..open].rfind(|c: char| SPACE.contains(&c) || c == ')').map_or(0, |at| at + 1)
        }
        false => text.rfind(|c: char| SPACE.contains(&c) || c == ')').map_or(0, |at| at + 1),
    };
    let (condition, size) = text.split_at(split);
    let mut input = ParserInput::new(size);
    let mut parser = Parser::new(&mut input);
    let length = media::length(&mut parser).ok().filter(|length| *length >= 0.0)?;
    let condition = condition.trim();
    (condition.is_empty() || media::applies(condition)).then_some(length)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picked(srcset: &str, sizes: &str, fallback: bool) -> Option<String> {
        let all = candidates(srcset);
        chosen(&all, sizes, fallback).map(|number| all[number].address.to_owned())
    }

    #[test]
    fn commas_part_candidates_only_where_browsers_say_so() {
        let of = |text| candidates(text).iter().map(|one| one.address).collect::<Vec<_>>();
        assert_eq!(of("a.png 1x, b,c.png 2x"), ["a.png", "b,c.png"]);
        assert_eq!(of("a.png, b.png"), ["a.png", "b.png"]);
        assert_eq!(of(" ,, a.png 100w ,b.png 200w,"), ["a.png", "b.png"]);
        assert_eq!(of("a.png 1q, b.png 2x"), ["b.png"]);
        assert_eq!(of("a.png 1x 2x"), Vec::<&str>::new());
        assert_eq!(of("a.png 100h, b.png 100w 50h"), ["b.png"]);
        assert_eq!(candidates("x.png 1x, y.png 2x")[1].at, 10);
    }

    #[test]
    fn one_candidate_is_chosen_for_the_viewport() {
        assert_eq!(picked("a 1x, b 2x", "", true).as_deref(), Some("a"));
        assert_eq!(picked("b 2x", "", true), None);
        assert_eq!(picked("b 2x", "", false).as_deref(), Some("b"));
        assert_eq!(picked("s 320w, m 640w, l 1280w, h 2560w", "", true).as_deref(), Some("l"));
        let sizes = "(max-width: 600px) 100vw, 50vw";
        assert_eq!(picked("s 320w, m 640w, l 1280w", sizes, false).as_deref(), Some("m"));
        assert_eq!(picked("s 320w, m 640w", "calc(25vw + 0px)", false).as_deref(), Some("s"));
        assert_eq!(picked("h .5x, b 3x", "", false).as_deref(), Some("b"));
    }
}
