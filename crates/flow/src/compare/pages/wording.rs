//! What two pages say, word by word.
//!
//! Counters, clocks and tokens are different at every visit. They are learnt from a second visit
//! of either side: words that change without anybody's doing are no difference. Nothing is known
//! beforehand of what such words look like.

use fernweh_core::page::Line;
use similar::{Algorithm, DiffOp, DiffTag, capture_diff_slices_deadline};
use std::collections::BTreeSet;
use std::ops::Range;
use std::time::{Duration, Instant};

/// After this time the comparison of two texts becomes coarse; it stays right.
const PATIENCE: Duration = Duration::from_secs(2);

/// Lines in which two texts differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Differing {
    /// Whether a heading is among them.
    pub heading: bool,
    /// The lines of the first text.
    pub expected: String,
    /// The lines of the second text.
    pub there: String,
}

/// A text, and the same of a second visit.
#[derive(Clone, Copy)]
pub(super) struct Visited<'a> {
    pub lines: &'a [Line],
    pub again: Option<&'a [Line]>,
}

struct Words<'a> {
    lines: &'a [Line],
    words: Vec<&'a str>,
    /// The line of each word.
    of_line: Vec<usize>,
    /// Words that were others at the second visit.
    moves: Vec<bool>,
    /// Places before words where the second visit had more.
    grows: BTreeSet<usize>,
}

/// The mark of a heading's level, which counts as a word.
const LEVELS: [&str; 7] = ["", "h1", "h2", "h3", "h4", "h5", "h6"];

fn words_of(lines: &[Line]) -> (Vec<&str>, Vec<usize>) {
    let (mut words, mut of_line) = (Vec::new(), Vec::new());
    for (number, line) in lines.iter().enumerate() {
        let level = Some(LEVELS[usize::from(line.heading.min(6))]);
        let level = level.filter(|_| line.heading > 0);
        for word in level.into_iter().chain(line.text.split(' ')) {
            words.push(word);
            of_line.push(number);
        }
    }
    (words, of_line)
}

fn diff(one: &[&str], other: &[&str]) -> Vec<DiffOp> {
    let until = Instant::now() + PATIENCE;
    capture_diff_slices_deadline(Algorithm::Myers, one, other, Some(until))
}

impl<'a> Words<'a> {
    fn new(visited: Visited<'a>) -> Self {
        let (words, of_line) = words_of(visited.lines);
        let (mut moves, mut grows) = (vec![false; words.len()], BTreeSet::new());
        if let Some(again) = visited.again {
            for op in diff(&words, &words_of(again).0) {
                match op.tag() {
                    DiffTag::Equal => {}
                    DiffTag::Insert => drop(grows.insert(op.old_range().start)),
                    _ => moves[op.old_range()].fill(true),
                }
            }
        }
        Self { lines: visited.lines, words, of_line, moves, grows }
    }

    fn all_move(&self, range: &Range<usize>) -> bool {
        self.moves[range.clone()].iter().all(|moves| *moves)
    }

    /// Whether something changes by itself where words of the other side have no counterpart.
    fn moves_at(&self, at: usize) -> bool {
        let moves = |at: usize| self.moves.get(at).copied().unwrap_or_default();
        self.grows.contains(&at) || moves(at) || at.checked_sub(1).is_some_and(moves)
    }

    /// The lines of these words; none where whole lines have no counterpart.
    fn lines_of(&self, range: &Range<usize>) -> Range<usize> {
        if let (Some(first), false) = (self.of_line.get(range.start), range.is_empty()) {
            return *first..self.of_line[range.end - 1] + 1;
        }
        let before = range.start.checked_sub(1).map(|at| self.of_line[at]);
        let after = self.of_line.get(range.start).copied();
        match (before, after) {
            (Some(before), Some(after)) if before == after => after..after + 1,
            (_, after) => {
                let at = after.unwrap_or(self.lines.len());
                at..at
            }
        }
    }

    fn text(&self, lines: Range<usize>) -> String {
        let each: Vec<&str> = self.lines[lines].iter().map(|line| line.text.as_str()).collect();
        each.join("\n")
    }

    fn has_heading(&self, lines: &Range<usize>) -> bool {
        self.lines[lines.clone()].iter().any(|line| line.heading > 0)
    }
}

/// What remains of a word if what may count on is taken from it.
pub(super) fn shape(word: &str) -> String {
    let (mut digits, mut letters) = (false, false);
    word.chars().for_each(|c| {
        digits |= c.is_numeric();
        letters |= c.is_alphabetic();
    });
    let mut shape = String::new();
    for c in word.chars() {
        // A token of letters and digits is one thing.
        let kind = match c {
            c if c.is_alphanumeric() && digits && letters => 'x',
            c if c.is_numeric() => '9',
            c if c.is_alphabetic() => 'a',
            c => c,
        };
        if !shape.ends_with(kind) {
            shape.push(kind);
        }
    }
    shape
}

/// Whether what differs here only differs because it does so at every visit.
fn moves_by_itself(
    one: &Words<'_>,
    first: &Range<usize>,
    other: &Words<'_>,
    second: &Range<usize>,
) -> bool {
    match (first.is_empty(), second.is_empty()) {
        (true, _) => other.all_move(second) && one.moves_at(first.start),
        (_, true) => one.all_move(first) && other.moves_at(second.start),
        _ => {
            let moves = (one.all_move(first), other.all_move(second));
            let alike = || {
                let (first, second) = (&one.words[first.clone()], &other.words[second.clone()]);
                let mut each = first.iter().zip(second);
                first.len() == second.len() && each.all(|(one, other)| shape(one) == shape(other))
            };
            moves == (true, true) || (moves != (false, false) && alike())
        }
    }
}

/// Where two texts differ, and whether something was left out because it changes by itself.
pub(super) fn differing(one: Visited<'_>, other: Visited<'_>) -> (Vec<Differing>, bool) {
    if one.lines == other.lines {
        return (Vec::new(), false);
    }
    let (one, other) = (Words::new(one), Words::new(other));
    let mut places: Vec<(Range<usize>, Range<usize>)> = Vec::new();
    let mut moved = false;
    for op in diff(&one.words, &other.words) {
        if op.tag() == DiffTag::Equal {
            continue;
        }
        let (first, second) = (op.old_range(), op.new_range());
        if moves_by_itself(&one, &first, &other, &second) {
            moved = true;
            continue;
        }
        let (first, second) = (one.lines_of(&first), other.lines_of(&second));
        // Several places of one line are one difference.
        match places.last_mut() {
            Some((a, b)) if first.start < a.end || second.start < b.end => {
                (a.end, b.end) = (a.end.max(first.end), b.end.max(second.end));
            }
            _ => places.push((first, second)),
        }
    }
    let shown = places.into_iter().map(|(first, second)| Differing {
        heading: one.has_heading(&first) || other.has_heading(&second),
        expected: one.text(first),
        there: other.text(second),
    });
    (shown.collect(), moved)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Vec<Line> {
        let line = |text: &str| match text.strip_prefix("# ") {
            Some(text) => Line { heading: 1, text: text.to_owned() },
            None => Line { heading: 0, text: text.to_owned() },
        };
        text.split('|').filter(|text| !text.is_empty()).map(line).collect()
    }

    /// Differences as `expected → there`, for two visits of each side.
    fn told(one: [&str; 2], other: [&str; 2]) -> Vec<String> {
        let [a, a2, b, b2] = [one[0], one[1], other[0], other[1]].map(lines);
        let one = Visited { lines: &a, again: Some(&a2) };
        let other = Visited { lines: &b, again: Some(&b2) };
        let each = differing(one, other).0.into_iter();
        each.map(|it| format!("{} → {}", it.expected, it.there)).collect()
    }

    #[test]
    fn a_line_that_says_something_else_is_shown_with_both_sides() {
        let found = told(["Open on Fridays|bye"; 2], ["Open on Mondays, too|bye"; 2]);
        assert_eq!(found, ["Open on Fridays → Open on Mondays, too"]);
    }

    #[test]
    fn a_line_that_one_side_alone_has_has_no_counterpart() {
        assert_eq!(told(["a b|c d|e"; 2], ["a b|e"; 2]), ["c d → "]);
        assert_eq!(told(["a b|e"; 2], ["a b|c d|e"; 2]), [" → c d"]);
        assert_eq!(told(["a"; 2], ["a|b"; 2]), [" → b"]);
        assert_eq!(told([""; 2], ["a"; 2]), [" → a"]);
    }

    #[test]
    fn headings_differ_by_text_and_level() {
        let (a, b) = (lines("# Nights|text"), lines("Nights|text"));
        let visited = |lines| Visited { lines, again: None };
        let found = differing(visited(&a), visited(&b)).0;
        assert_eq!((found.len(), found[0].heading), (1, true));
    }

    #[test]
    fn what_changes_at_every_visit_is_no_difference() {
        // A counter on both sides.
        assert!(
            told(["seen 100 times", "seen 101 times"], ["seen 7 times", "seen 8 times"]).is_empty()
        );
        // One side answers from a cache.
        assert!(told(["it is 12:30:01", "it is 12:30:02"], ["it is 11:00:00"; 2]).is_empty());
        assert!(told(["it is 12:30:01"; 2], ["it is 11:00:00", "it is 11:00:02"]).is_empty());
        // A saying of another length each time.
        let sayings = ["tip: look up", "tip: bring a warm coat"];
        assert!(told(sayings, ["tip: be early", "tip: be on time and wait"]).is_empty());
    }

    #[test]
    fn a_change_beside_a_counter_is_found() {
        let found = told(
            ["seen 100 times since May", "seen 101 times since May"],
            ["seen 7 times since June", "seen 8 times since June"],
        );
        assert_eq!(found, ["seen 100 times since May → seen 7 times since June"]);
        // A complaint in place of the counter.
        let found = told(["seen 100 times", "seen 101 times"], ["seen Warning: no file times"; 2]);
        assert_eq!(found.len(), 1);
        // What changes by itself on one side alone, where the other has nothing.
        assert_eq!(told(["a b"; 2], ["a 1 b", "a 2 b"]), ["a b → a 1 b"]);
    }

    #[test]
    fn texts_without_anything_in_common_are_compared_in_a_moment() {
        let text = |word: &str| {
            let line = |n: usize| Line { heading: 0, text: format!("{word}{n} {word}{}", n * 7) };
            (0..30_000).map(line).collect::<Vec<_>>()
        };
        let (a, b) = (text("a"), text("b"));
        let visited = |lines| Visited { lines, again: None };
        assert!(!differing(visited(&a), visited(&b)).0.is_empty());
    }
}
