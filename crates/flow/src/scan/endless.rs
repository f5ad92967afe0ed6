//! Pages without end: calendars that lead on to the next month for ever, lists in every order.
//!
//! Addresses that differ in numbers or in values of their query alone have one shape. A shape whose
//! pages say nearly the same, one after the other, and which goes on and on, is not followed any
//! more, and is named.

use fernweh_core::page::Words;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use url::Url;

/// So many pages of one shape, each found through the one before, make a shape suspicious.
const GENERATIONS: u32 = 80;
/// Bits in which sketches of nearly the same text differ at most.
const NEAR: u32 = 8;
/// Of the pages of an endless shape at least these are nearly the same, in hundredths.
const ALIKE: u64 = 90;

/// Pages of one shape, of which the rest was not read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Endless {
    /// The shape: numbers and values are replaced by `…`.
    pub shape: String,
    /// Pages of it that were read.
    pub read: u64,
    /// Addresses of it that were not asked for.
    pub left: u64,
    /// The first of these.
    pub example: String,
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Seen {
    read: u64,
    alike: u64,
    sketch: Option<u64>,
    cut: Option<(u64, String)>,
}

/// The shapes of a scan.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Shapes {
    seen: HashMap<String, Seen>,
}

impl Shapes {
    /// Takes note of a page that was read.
    pub fn read(&mut self, url: &Url, words: &Words) {
        let Some(shape) = shape(url) else { return };
        let seen = self.seen.entry(shape).or_default();
        seen.read += 1;
        let near = seen.sketch.is_some_and(|before| (before ^ words.sketch).count_ones() <= NEAR);
        seen.alike += u64::from(near);
        seen.sketch = Some(words.sketch);
    }

    /// How many pages of its own shape led to an address, one through the other, if a page that so
    /// many led to names it.
    pub fn generation(&self, page: &Url, generation: u32, url: &Url) -> u32 {
        match (shape(page), shape(url)) {
            (Some(one), Some(other)) if one == other => generation + 1,
            _ => 0,
        }
    }

    /// Whether an address is one too many. Pages that a list names, however many, are not.
    pub fn is_endless(&mut self, url: &Url, generation: u32) -> bool {
        if generation < GENERATIONS {
            return false;
        }
        let Some(shape) = shape(url) else { return false };
        let Some(seen) = self.seen.get_mut(&shape) else { return false };
        let endless = seen.cut.is_some()
            || (seen.read >= u64::from(GENERATIONS) && seen.alike * 100 >= seen.read * ALIKE);
        if endless {
            seen.cut.get_or_insert_with(|| (0, url.to_string())).0 += 1;
        }
        endless
    }

    /// The shapes that were cut off.
    pub fn cut(self) -> Vec<Endless> {
        let cut = self.seen.into_iter().filter_map(|(shape, seen)| {
            let (left, example) = seen.cut?;
            Some(Endless { shape, read: seen.read, left, example })
        });
        let mut cut: Vec<Endless> = cut.collect();
        cut.sort_by(|a, b| a.shape.cmp(&b.shape));
        cut
    }
}

/// What an address has in common with others; `None` if nothing of it changes.
fn shape(url: &Url) -> Option<String> {
    let path = url.path();
    if url.query().is_none() && !path.bytes().any(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let mut out = String::with_capacity(path.len() + 16);
    let mut digits = false;
    for c in path.chars() {
        if c.is_ascii_digit() {
            if !std::mem::replace(&mut digits, true) {
                out.push('…');
            }
        } else {
            digits = false;
            out.push(c);
        }
    }
    if url.query().is_some() {
        let mut names: Vec<String> = url.query_pairs().map(|(name, _)| name.into_owned()).collect();
        names.sort();
        names.dedup();
        out.push('?');
        out.push_str(&names.iter().map(|name| format!("{name}=…")).collect::<Vec<_>>().join("&"));
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::page::read_html;

    fn words(text: &str) -> Words {
        read_html(text, true).text
    }

    #[test]
    fn a_calendar_is_cut_off_and_an_archive_is_not() {
        let mut shapes = Shapes::default();
        let around =
            "one two three four five six seven eight nine ten sky moon dome night ".repeat(6);
        for n in 0..400 {
            let url = Url::parse(&format!("https://a.example/calendar?month={n}")).unwrap();
            shapes.read(&url, &words(&format!("<p>{around} Month {n}")));
            let url = Url::parse(&format!("https://a.example/article/{n}")).unwrap();
            let own: String =
                (0..90).map(|word| format!("w{} ", (n * 97 + word * 31) % 7919)).collect();
            shapes.read(&url, &words(&format!("<p>{around} {own}")));
        }
        let url = |path: &str| Url::parse(&format!("https://a.example{path}")).unwrap();
        // What a list names is no calendar, however much alike it is.
        assert!(!shapes.is_endless(&url("/calendar?month=2031"), 3));
        assert!(shapes.is_endless(&url("/calendar?month=2031"), 400));
        assert!(!shapes.is_endless(&url("/article/2031"), 400));
        assert!(!shapes.is_endless(&url("/about"), 400));
        let next = shapes.generation(&url("/calendar?month=1"), 7, &url("/calendar?month=2"));
        assert_eq!((next, shapes.generation(&url("/"), 7, &url("/calendar?month=2"))), (8, 0));
        let cut = shapes.cut();
        assert_eq!((cut.len(), cut[0].shape.as_str(), cut[0].left), (1, "/calendar?month=…", 1));
    }
}
