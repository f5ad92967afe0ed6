//! The numbers of a rewriting: the same in a preview and in the real run.

use super::{Edit, Matches, Reason};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ops::Range;

const SAMPLES: usize = 3;
const LEFT_SAMPLES: usize = 20;
const CONTEXT: usize = 28;

/// The counts of one place: a column of a table, or a file.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Tally {
    /// Cells or files looked at.
    pub seen: u64,
    /// Of these, how many change.
    pub changed: u64,
    /// Addresses replaced.
    pub replacements: u64,
    /// Changed cells whose change lies inside a serialized value.
    pub in_serialized: u64,
    /// Changed cells in which wrong lengths of serialized values were made right.
    #[serde(default)]
    pub mended: u64,
    /// The first of these, by record.
    #[serde(default)]
    pub mended_in: Vec<String>,
    /// Replacements by spelling.
    pub spellings: BTreeMap<String, u64>,
    /// Replacements by the number of the rule.
    pub rules: BTreeMap<usize, u64>,
    /// Old addresses left, by reason.
    pub left: BTreeMap<Reason, u64>,
    /// A few changes, before and after.
    pub samples: Vec<Sample>,
    /// A few of the leftovers.
    pub leftovers: Vec<Leftover>,
}

/// One change as it is shown to people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Sample {
    /// The record or file.
    pub place: String,
    /// The unchanged text before.
    pub lead: String,
    /// What was there.
    pub before: String,
    /// What is there now.
    pub after: String,
    /// The unchanged text behind.
    pub trail: String,
}

/// One old address that is still there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Leftover {
    /// The record or file.
    pub place: String,
    /// Why it was left.
    pub reason: Reason,
    /// The address and a little of what surrounds it.
    pub excerpt: String,
}

impl Tally {
    /// Counts what was found in one value; `place` names the record, or the line for an
    /// offset in the value, if it is needed.
    pub fn add(&mut self, view: &[u8], found: &Matches, place: impl Fn(usize) -> String) {
        let replacements = found.replacements() as u64;
        self.replacements += replacements;
        self.changed += u64::from(!found.edits.is_empty());
        self.in_serialized += u64::from(found.in_serialized);
        if found.mended {
            self.mended += 1;
            if self.mended_in.len() < LEFT_SAMPLES {
                self.mended_in.push(place(0));
            }
        }
        for edit in &found.edits {
            let Some((rule, spelling)) = edit.replaced else {
                continue;
            };
            *self.spellings.entry(spelling.to_string()).or_default() += 1;
            *self.rules.entry(rule).or_default() += 1;
            if self.samples.len() < SAMPLES && self.is_new_kind(&spelling.to_string()) {
                self.samples.push(sample(view, edit, place(edit.range.start)));
            }
        }
        for left in &found.left {
            *self.left.entry(left.reason).or_default() += 1;
            if self.leftovers.len() < LEFT_SAMPLES {
                let excerpt = excerpt(view, left.range.clone());
                let place = place(left.range.start);
                self.leftovers.push(Leftover { place, reason: left.reason, excerpt });
            }
        }
    }

    /// Only the first change of each spelling is worth showing.
    fn is_new_kind(&self, spelling: &str) -> bool {
        self.spellings.get(spelling) == Some(&1)
    }

    /// Adds the counts of another place; its samples are taken as long as there is room.
    pub fn merge(&mut self, other: &Tally) {
        self.seen += other.seen;
        self.changed += other.changed;
        self.replacements += other.replacements;
        self.in_serialized += other.in_serialized;
        self.mended += other.mended;
        let room = LEFT_SAMPLES.saturating_sub(self.mended_in.len());
        self.mended_in.extend(other.mended_in.iter().take(room).cloned());
        for (spelling, count) in &other.spellings {
            *self.spellings.entry(spelling.clone()).or_default() += count;
        }
        for (rule, count) in &other.rules {
            *self.rules.entry(*rule).or_default() += count;
        }
        for (reason, count) in &other.left {
            *self.left.entry(*reason).or_default() += count;
        }
        let room = SAMPLES.saturating_sub(self.samples.len());
        self.samples.extend(other.samples.iter().take(room).cloned());
        let room = LEFT_SAMPLES.saturating_sub(self.leftovers.len());
        self.leftovers.extend(other.leftovers.iter().take(room).cloned());
    }

    /// How many old addresses were left, all reasons together.
    pub fn left_total(&self) -> u64 {
        self.left.values().sum()
    }
}

fn sample(view: &[u8], edit: &Edit, place: String) -> Sample {
    let (lead, trail) = surroundings(view, edit.range.clone(), CONTEXT);
    let before = readable(&view[edit.range.clone()]);
    Sample { place, lead, before, after: readable(&edit.text), trail }
}

/// What stands before and behind a part of a text, for people: at most `context` bytes each,
/// cut with `…`.
pub fn surroundings(view: &[u8], range: Range<usize>, context: usize) -> (String, String) {
    let Range { start, end } = range;
    let lead = readable(&view[start.saturating_sub(context)..start]);
    let trail = readable(&view[end..view.len().min(end + context)]);
    (cut_start(lead, start > context), cut_end(trail, view.len() > end + context))
}

fn excerpt(view: &[u8], range: Range<usize>) -> String {
    let start = range.start.saturating_sub(CONTEXT / 3);
    let end = range.end.min(range.start + 60).saturating_add(CONTEXT / 3).min(view.len());
    cut_start(cut_end(readable(&view[start..end]), end < view.len()), start > 0)
}

fn cut_start(text: String, cut: bool) -> String {
    if cut { format!("…{text}") } else { text }
}

fn cut_end(text: String, cut: bool) -> String {
    if cut { format!("{text}…") } else { text }
}

/// Text for people: one line; a dot for what is not printable, however much of it.
pub fn readable(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    let mut out = String::new();
    for ch in text.trim_matches('\u{FFFD}').chars() {
        let hidden = ch.is_control() || ch == '\u{FFFD}';
        if !hidden {
            out.push(ch);
        } else if !out.ends_with('·') {
            out.push('·');
        }
    }
    out
}
