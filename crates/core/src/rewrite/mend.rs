//! Serialized values whose lengths are wrong: where their strings begin and end, if only one
//! reading makes a whole value.
//!
//! Lengths go wrong when a program replaces text in the stored value without knowing the
//! format. The counts of elements are right then, and so is every other byte: a string ends
//! at a `";` behind which the next element begins, and of all ways to cut the value into
//! strings that fit the counts, the one that changes the fewest lengths is meant. Where two
//! change equally few, the value is left.

use super::serialized::{Leaf, Serialized};
use crate::limits::{CONTAINER_DEPTH, MENDING_TRIES};
use std::ops::Range;

/// A container that is open.
#[derive(Clone)]
struct Open {
    number: usize,
    /// Keys and values that are still to come.
    left: usize,
}

/// How far a reading has come.
#[derive(Clone)]
struct Attempt {
    at: usize,
    open: Vec<Open>,
    /// How many strings it has read.
    leaves: usize,
    containers: usize,
    /// Strings whose length is another than it says.
    wrong: usize,
}

/// What comes next in a value.
enum Step {
    /// The value is complete.
    Whole,
    /// A string: where its length stands, and where its text begins.
    Text(Range<usize>, usize),
    /// It cannot be read in this way.
    Dead,
}

/// The strings of a damaged value, if there is one way to read it.
pub(super) fn mend(b: &[u8]) -> Option<Serialized> {
    let b = b.trim_ascii_end();
    let begin = Attempt { at: 0, open: Vec::new(), leaves: 0, containers: 0, wrong: 0 };
    // The strings of the reading at work; those of a state that waits are its beginning.
    let mut leaves: Vec<Leaf> = Vec::new();
    // States that wait, each with the place from where to look for the next end of its text.
    let mut waiting: Vec<(Attempt, Range<usize>, usize, usize)> = Vec::new();
    // The best reading, and whether it is the only one as good.
    let mut best: Option<(usize, Serialized, bool)> = None;
    let mut state = Some(begin);
    let mut tries = 0;
    loop {
        if let Some(mut current) = state.take() {
            match current.advance(b) {
                Step::Whole if current.at == b.len() => {
                    let equal = best.as_ref().is_some_and(|(wrong, ..)| *wrong == current.wrong);
                    let found = Serialized { leaves: leaves.clone(), end: current.at };
                    best = Some((current.wrong, found, !equal));
                }
                Step::Text(length, start) => waiting.push((current, length, start, start)),
                Step::Whole | Step::Dead => {}
            }
        }
        let Some((current, length, start, from)) = waiting.pop() else {
            return best.filter(|(.., only)| *only).map(|(_, found, _)| found);
        };
        tries += 1;
        if tries > MENDING_TRIES {
            return None;
        }
        let Some(end) = next_end(b, from) else { continue };
        leaves.truncate(current.leaves);
        let mut cut = current.clone();
        waiting.push((current, length.clone(), start, end + 1));
        leaves.push(cut.take(b, length, start..end));
        let bound = best.as_ref().map_or(usize::MAX, |(wrong, ..)| *wrong);
        state = Some(cut).filter(|cut| cut.wrong <= bound);
    }
}

/// The next `";` behind which a value can go on.
fn next_end(b: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    loop {
        at += memchr::memmem::find(b.get(at..)?, b"\";")?;
        let goes_on = match b.get(at + 2..)? {
            [] | [b'}', ..] | [b'N', b';', ..] => true,
            [kind, b':', next, ..] => {
                b"bidsSaOCErR".contains(kind) && (next.is_ascii_digit() || *next == b'-')
            }
            _ => false,
        };
        if goes_on {
            return Some(at);
        }
        at += 1;
    }
}

impl Attempt {
    /// Reads up to the next string, or to the end.
    fn advance(&mut self, b: &[u8]) -> Step {
        loop {
            while self.open.last().is_some_and(|open| open.left == 0) {
                if b.get(self.at) != Some(&b'}') {
                    return Step::Dead;
                }
                self.at += 1;
                self.open.pop();
                self.count();
            }
            if self.at > 0 && self.open.is_empty() {
                return Step::Whole;
            }
            let is_key = self.open.last().is_some_and(|open| open.left % 2 == 0);
            let rest = &b[self.at.min(b.len())..];
            match rest.first() {
                Some(b'i' | b's') => {}
                _ if is_key => return Step::Dead,
                _ => {}
            }
            match rest {
                [b'N', b';', ..] => self.at += 2,
                [b's', b':', ..] => {
                    let Some((_, length)) = self.number(b, 2) else { return Step::Dead };
                    let start = length.end + 2;
                    if b.get(length.end..start) != Some(b":\"") {
                        return Step::Dead;
                    }
                    return Step::Text(length, start);
                }
                [b'a', b':', ..] => {
                    let Some((count, digits)) = self.number(b, 2) else { return Step::Dead };
                    if !self.begin(b, count, digits.end) {
                        return Step::Dead;
                    }
                    continue;
                }
                [b'O', b':', ..] => {
                    // Names of classes are not what goes wrong.
                    let Some((size, digits)) = self.number(b, 2) else { return Step::Dead };
                    let Some(end) = (digits.end + 2).checked_add(size) else { return Step::Dead };
                    if b.get(end..end.saturating_add(2)) != Some(b"\":") {
                        return Step::Dead;
                    }
                    self.at = end;
                    let Some((count, digits)) = self.number(b, 2) else { return Step::Dead };
                    if !self.begin(b, count, digits.end) {
                        return Step::Dead;
                    }
                    continue;
                }
                [b'b' | b'i' | b'd' | b'r' | b'R', b':', ..] => {
                    let allowed = |c: &&u8| c.is_ascii_alphanumeric() || b"-+.".contains(c);
                    let length = rest[2..].iter().take_while(allowed).count();
                    if length == 0 || rest.get(2 + length) != Some(&b';') {
                        return Step::Dead;
                    }
                    self.at += length + 3;
                }
                _ => return Step::Dead,
            }
            self.count();
        }
    }

    fn number(&self, b: &[u8], behind: usize) -> Option<(usize, Range<usize>)> {
        let start = self.at + behind;
        let length = b.get(start..)?.iter().take_while(|c| c.is_ascii_digit()).count();
        let digits = std::str::from_utf8(&b[start..start + length]).ok()?;
        Some((digits.parse().ok()?, start..start + length))
    }

    /// Opens a container whose count ends at `end`.
    fn begin(&mut self, b: &[u8], count: usize, end: usize) -> bool {
        let fits = count <= b.len() && self.open.len() < CONTAINER_DEPTH;
        if !fits || b.get(end..end + 2) != Some(b":{") {
            return false;
        }
        self.at = end + 2;
        self.open.push(Open { number: self.containers, left: count * 2 });
        self.containers += 1;
        true
    }

    /// One key or value more has been read.
    fn count(&mut self) {
        if let Some(open) = self.open.last_mut() {
            open.left = open.left.saturating_sub(1);
        }
    }

    /// Takes a string that ends here.
    fn take(&mut self, b: &[u8], length: Range<usize>, body: Range<usize>) -> Leaf {
        let declared = &b[length.clone()];
        self.wrong += usize::from(declared != body.len().to_string().as_bytes());
        self.at = body.end + 2;
        let key_of = self.open.last().filter(|open| open.left % 2 == 0).map(|open| open.number);
        self.leaves += 1;
        self.count();
        Leaf { length, body, key_of, escaped: false }
    }
}

#[cfg(test)]
mod tests {
    use crate::rewrite::{Reason, Rewriter, Rule};

    fn mended(value: &str) -> (String, bool) {
        let rule = Rule::new("http://old.example", "https://new.example").unwrap();
        let rewriter = Rewriter::new(vec![rule]).unwrap().mending(true);
        let found = rewriter.look(value.as_bytes());
        let left = found.left.iter().any(|left| left.reason == Reason::DamagedSerialized);
        assert_eq!(found.mended, found.apply(value.as_bytes()) != value.as_bytes() && !left);
        (String::from_utf8(found.apply(value.as_bytes())).unwrap(), left)
    }

    #[test]
    fn wrong_lengths_are_made_right_and_addresses_rewritten_on_the_way() {
        for (value, expected) in [
            (
                r#"a:2:{s:3:"url";s:11:"http://old.example/x";s:1:"n";i:5;}"#,
                r#"a:2:{s:3:"url";s:21:"https://new.example/x";s:1:"n";i:5;}"#,
            ),
            (r#"s:99:"https://other.example";"#, r#"s:21:"https://other.example";"#),
            (
                r#"O:4:"Site":1:{s:3:"url";s:1:"http://old.example";}"#,
                r#"O:4:"Site":1:{s:3:"url";s:19:"https://new.example";}"#,
            ),
            // A serialized value in a serialized value, both wrong.
            (
                r#"a:1:{s:1:"x";s:5:"a:1:{s:3:"url";s:4:"http://old.example";}";}"#,
                r#"a:1:{s:1:"x";s:43:"a:1:{s:3:"url";s:19:"https://new.example";}";}"#,
            ),
            // A key whose length is wrong.
            (r#"a:1:{s:9:"http://old.example";i:1;}"#, r#"a:1:{s:19:"https://new.example";i:1;}"#),
            // What looks like an end within a text.
            (
                r#"a:1:{i:0;s:3:"say "yes"; then http://old.example";}"#,
                r#"a:1:{i:0;s:35:"say "yes"; then https://new.example";}"#,
            ),
        ] {
            assert_eq!(mended(value), (expected.to_owned(), false), "{value}");
        }
    }

    #[test]
    fn what_can_be_read_in_two_ways_or_in_none_is_left() {
        for value in [
            // One element or the other could hold the inner end.
            r#"a:2:{i:0;s:1:"a";i:1;s:1:"http://old.example";i:1;s:1:"b";}"#,
            r#"a:2:{i:0;s:1:"http://old.example";}"#,
            r#"a:1:{i:0;s:1:"http://old.example";"#,
        ] {
            assert_eq!(mended(value), (value.to_owned(), true), "{value}");
        }
    }

    #[test]
    fn a_value_full_of_possible_ends_takes_no_longer_than_it_may() {
        let ends = r#"x";s:1:""#.repeat(5_000);
        let value = format!(r#"a:900:{{i:0;s:1:"{ends} http://old.example";}}"#);
        assert_eq!(mended(&value), (value.clone(), true));
    }
}
