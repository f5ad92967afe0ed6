//! How results look: a quiet column of labels on the left, the content on the right.

mod comparing;
mod placed;
mod preflight;
mod ready;
mod rewriting;
mod scanning;
mod tracing;
mod unpacking;

pub use comparing::{compare_in_short, compared, places, what_was_read};
pub use fernweh_ports::{count, counted, size};
pub use placed::{closed_text, hidden, placed_text};
pub use preflight::{amount, preflight};
pub use ready::{ready_in_short, ready_text, watched_text};
pub use rewriting::{in_context, rewriting};
pub use scanning::{scan_in_short, within_site};
pub use tracing::{trace_command, traced_place, traced_places};
pub use unpacking::{preview_text, rejected, unpacked};

use crate::hints::pasted;
pub use crate::hints::word;
use fernweh_core::finding::{Check, Verdict};
use fernweh_ports::{LeftOut, Refused, shown};

/// The width of the column of labels.
pub const LABEL: usize = 11;

/// How results are written.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    /// Whether words may be coloured.
    pub color: bool,
    /// Columns of the terminal.
    pub width: usize,
    /// Whether more detail is wanted.
    pub verbose: bool,
}

/// A colour that repeats what a word says.
#[derive(Clone, Copy)]
pub enum Paint {
    /// As it should be.
    Good,
    /// Possible trouble.
    Doubt,
    /// It will not work.
    Bad,
    /// Less important.
    Quiet,
    /// The part that changes.
    Changed,
}

impl Style {
    /// A word in colour, if colours are wanted.
    pub fn paint(&self, paint: Paint, word: &str) -> String {
        if !self.color {
            return word.to_owned();
        }
        let open = PAINTS[paint as usize].0;
        format!("{open}{word}{PLAIN}")
    }
}

/// Inside the program a colour is a character that means nothing (a noncharacter of Unicode):
/// what comes from outside can hold any sequence of a terminal, and none of it may pass. Only
/// when a line is complete it becomes what the terminal understands.
const PAINTS: [(char, &str); 5] = [
    ('\u{FDD1}', "\x1b[32m"),
    ('\u{FDD2}', "\x1b[33m"),
    ('\u{FDD3}', "\x1b[31m"),
    ('\u{FDD4}', "\x1b[2m"),
    ('\u{FDD5}', "\x1b[1;34m"),
];
const PLAIN: char = '\u{FDDF}';

fn is_paint(ch: char) -> bool {
    ch == PLAIN || PAINTS.iter().any(|(paint, _)| *paint == ch)
}

/// Content as it is shown, with its colours still inside.
fn safe(content: &str) -> String {
    let content = pasted(content);
    let mut out = String::with_capacity(content.len());
    let mut rest = content.as_ref();
    while let Some(at) = rest.find(is_paint) {
        out.push_str(&shown(&rest[..at]));
        let length = rest[at..].chars().next().map_or(1, char::len_utf8);
        out.push_str(&rest[at..at + length]);
        rest = &rest[at + length..];
    }
    out.push_str(&shown(rest));
    out
}

/// A finished text: colours become those of the terminal.
fn coloured(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for ch in text.chars() {
        match PAINTS.iter().find(|(paint, _)| *paint == ch) {
            Some((_, code)) => out.push_str(code),
            None if ch == PLAIN => out.push_str("\x1b[0m"),
            None => out.push(ch),
        }
    }
    out
}

/// A result as it is written, line by line.
pub struct Page {
    style: Style,
    text: String,
}

impl Page {
    /// An empty page.
    pub fn new(style: Style) -> Self {
        Self { style, text: String::new() }
    }

    /// A label and its content; long content is wrapped at spaces.
    pub fn row(&mut self, label: &str, content: &str) {
        let mut label = label.to_owned();
        for line in wrapped(&safe(content), self.style.width - LABEL) {
            // A long label does not run into its content.
            let gap = " ".repeat((LABEL - 1).saturating_sub(columns(&label)) + 1);
            self.text.push_str(format!("{label}{gap}{line}").trim_end());
            self.text.push('\n');
            label.clear();
        }
    }

    /// A line that goes on below the last label.
    pub fn more(&mut self, content: &str) {
        self.row("", content);
    }

    /// A label and as many lines as there are; nothing if there are none.
    pub fn list(&mut self, label: &str, lines: impl IntoIterator<Item = String>) {
        let mut label = label;
        for line in lines {
            self.row(label, &line);
            label = "";
        }
    }

    /// A line below the last label that is not wrapped.
    pub fn exact(&mut self, content: &str) {
        self.text.push_str(format!("{:<LABEL$}{}", "", safe(content)).trim_end());
        self.text.push('\n');
    }

    /// What to do about the line above, which is indented by so much.
    pub fn arrow(&mut self, indent: usize, content: &str) {
        let mut first = "→ ";
        for line in wrapped(&safe(content), self.style.width - LABEL - indent - 2) {
            self.exact(&format!("{:indent$}{first}{line}", ""));
            first = "  ";
        }
    }

    /// An empty line.
    pub fn gap(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with("\n\n") {
            self.text.push('\n');
        }
    }

    /// What was tested, with what to do.
    pub fn checks(&mut self, checks: &[Check]) {
        let mut label = "checks";
        for check in checks {
            let paint = match check.verdict {
                Verdict::Passed => Paint::Good,
                Verdict::Warned => Paint::Doubt,
                Verdict::Failed => Paint::Bad,
            };
            self.worded(label, self.style.paint(paint, check.verdict.name()), 9, &check.what);
            label = "";
            if let Some(hint) = &check.hint {
                self.arrow(9, hint);
            }
        }
    }

    /// A label, a word in a column of its own, and content that is wrapped beside it.
    pub fn worded(&mut self, label: &str, word: String, wide: usize, content: &str) {
        let mut label = label.to_owned();
        let mut word = safe(&word);
        word.push_str(&" ".repeat(wide.saturating_sub(columns(&word))));
        for line in wrapped(&safe(content), self.style.width.saturating_sub(LABEL + wide)) {
            self.text.push_str(format!("{label:<LABEL$}{word}{line}").trim_end());
            self.text.push('\n');
            label.clear();
            word = " ".repeat(wide);
        }
    }

    /// The finished text.
    pub fn finish(self) -> String {
        match self.style.color {
            true => coloured(&self.text),
            false => self.text,
        }
    }
}

/// Lines of at most `width` columns, broken at spaces where that is possible.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is always a line");
        if !line.is_empty() && columns(line) + 1 + columns(word) > width {
            lines.push(word.to_owned());
        } else {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}

/// Columns that a text takes on a terminal, colours not counted.
pub fn columns(text: &str) -> usize {
    let plain: String = text.chars().filter(|ch| !is_paint(*ch)).collect();
    console::measure_text_width(&plain)
}

/// Numbers and what they count, without those that are zero; nothing where all are.
pub fn counts(all: &[(u64, &str, &str)]) -> Vec<String> {
    let there = all.iter().filter(|(number, ..)| *number > 0);
    there.map(|(number, one, many)| counted(*number, one, many)).collect()
}

/// Numbers of files, folders and links, and the size of all.
pub fn tree(files: u64, bytes: u64, folders: u64, links: u64) -> String {
    let files = format!("{}, {}", counted(files, "file", "files"), size(bytes));
    match counts(&[(folders, "folder", "folders"), (links, "link", "links")]).join(", ") {
        none if none.is_empty() => files,
        others => format!("{files}; {others}"),
    }
}

/// What was left out, and why.
pub fn left_out(left: &[LeftOut]) -> impl Iterator<Item = String> + '_ {
    left.iter().map(|left| format!("{}: {}", left.path, left.because))
}

/// What was refused, and why.
pub fn refused(refused: &[Refused]) -> impl Iterator<Item = String> + '_ {
    refused.iter().map(|refused| format!("{}: {}", refused.place, refused.because))
}

/// A moment for people: date and time where they are, to the minute, with the name of the zone.
pub fn moment(rfc3339: &str) -> String {
    match rfc3339.parse::<jiff::Timestamp>() {
        Ok(moment) => {
            let here = moment.to_zoned(jiff::tz::TimeZone::system());
            here.strftime("%Y-%m-%d %H:%M %Z").to_string()
        }
        Err(_) => rfc3339.to_owned(),
    }
}

/// Line numbers for people: `5–9, 12`.
pub fn lines(numbers: &[usize]) -> String {
    let mut ranges: Vec<(usize, usize)> = Vec::new();
    for &number in numbers {
        match ranges.last_mut() {
            Some((_, end)) if *end + 1 == number => *end = number,
            _ => ranges.push((number, number)),
        }
    }
    let word = |(start, end): &(usize, usize)| match start == end {
        true => start.to_string(),
        false => format!("{start}–{end}"),
    };
    let words: Vec<String> = ranges.iter().map(word).collect();
    format!("{} {}", if numbers.len() == 1 { "line" } else { "lines" }, words.join(", "))
}

/// A duration for people.
pub fn duration(seconds: f64) -> String {
    match seconds {
        ..0.1 => "less than 0.1 s".into(),
        ..120.0 => format!("{seconds:.1} s"),
        _ => format!("{:.0} min", seconds / 60.0),
    }
}

/// Two texts in so much room each: where they do not fit, from a little before the place where they
/// begin to differ.
pub fn cut_alike(one: &str, other: &str, room: usize) -> (String, String) {
    if one.chars().count() <= room && other.chars().count() <= room {
        return (one.to_owned(), other.to_owned());
    }
    let same = one.chars().zip(other.chars()).take_while(|(a, b)| a == b).count();
    let begin = if same < room / 2 { 0 } else { same - room / 3 };
    let cut = |text: &str| {
        let mut left = text.chars().skip(begin);
        let lead = if begin > 0 { "…" } else { "" };
        let mut part: String = left.by_ref().take(room.saturating_sub(2)).collect();
        if left.next().is_some() {
            part.push('…');
        }
        format!("{lead}{part}")
    };
    (cut(one), cut(other))
}

/// A long name cut in the middle, so that its end stays.
pub fn cut_middle(text: &str, width: usize) -> String {
    let length = text.chars().count();
    if length <= width || width < 5 {
        return text.to_owned();
    }
    let head = (width - 1) / 3;
    let tail = width - 1 - head;
    let start: String = text.chars().take(head).collect();
    let end: String = text.chars().skip(length - tail).collect();
    format!("{start}…{end}")
}

/// Rows of cells in aligned columns; numbers, and what stands for them, to the right.
pub fn aligned(rows: &[Vec<String>], right: &[usize]) -> Vec<String> {
    let widths: Vec<usize> = (0..rows.first().map_or(0, Vec::len))
        .map(|n| rows.iter().map(|row| columns(&row[n])).max().unwrap_or(0))
        .collect();
    let line = |row: &Vec<String>| {
        let cells = row.iter().enumerate().map(|(n, cell)| {
            let space = " ".repeat(widths[n] - columns(cell));
            if right.contains(&n) { format!("{space}{cell}") } else { format!("{cell}{space}") }
        });
        cells.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    rows.iter().map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_cut_in_the_middle_and_keep_their_end() {
        assert_eq!(cut_middle("abcdefghijkl", 7), "ab…ijkl");
        assert_eq!(cut_middle("short", 7), "short");
    }

    #[test]
    fn nothing_from_outside_reaches_the_terminal_raw() {
        for color in [false, true] {
            let style = Style { color, width: 60, verbose: false };
            let mut page = Page::new(style);
            let evil = "a\x1b[2Jb\nfernweh: done \u{202e}x";
            page.row("name", evil);
            page.exact(evil);
            page.arrow(2, evil);
            page.list("names", [evil.to_owned()]);
            page.checks(&[Check::warned(evil, evil)]);
            page.row("word", &style.paint(Paint::Good, "passed"));
            let text = page.finish();
            assert!(!text.contains("\x1b[2J") && !text.contains('\u{202e}'), "{text}");
            assert!(!text.lines().any(|line| line.starts_with("fernweh")), "{text}");
            assert_eq!(text.contains("\x1b[32mpassed\x1b[0m"), color);
        }
    }

    #[test]
    fn neighbouring_lines_are_drawn_together() {
        assert_eq!(lines(&[5, 6, 7, 9]), "lines 5–7, 9");
        assert_eq!(lines(&[3]), "line 3");
    }

    #[test]
    fn long_content_is_wrapped_below_its_label() {
        let mut page = Page::new(Style { color: false, width: 31, verbose: false });
        page.row("label", "one two three four five six");
        assert_eq!(page.finish(), "label      one two three four\n           five six\n");
    }
}
