//! Numbers as people read them; every crate that speaks uses the same form.

use std::borrow::Cow;
use std::sync::atomic::{AtomicBool, Ordering};

/// Between groups of three digits: narrow, and no line is broken there (U+202F).
const GROUP: char = '\u{202F}';

/// Whether digits are grouped: only where a person looks at a terminal. What reads a pipe takes
/// a number as one word.
static GROUPED: AtomicBool = AtomicBool::new(false);

/// Says for the whole program whether digits are grouped.
pub fn group_digits(grouped: bool) {
    GROUPED.store(grouped, Ordering::Relaxed);
}

/// A number as it is read where the result goes: in groups of three on a terminal, as plain
/// digits in a pipe.
pub fn count(number: u64) -> String {
    if GROUPED.load(Ordering::Relaxed) { grouped(number) } else { number.to_string() }
}

/// A number in groups of three.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && (digits.len() - n).is_multiple_of(3) {
            text.push(GROUP);
        }
        text.push(digit);
    }
    text
}

/// A number and what it counts, in the singular for one.
pub fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// Whether a character does something to a terminal, or to the order of what is read, in place
/// of being shown: controls, line breaks among them, and what turns the direction of writing
/// (Unicode Standard Annex 9).
pub fn is_unsafe(ch: char) -> bool {
    ch.is_control()
        || matches!(
            ch,
            '\u{061C}'
                | '\u{200E}'
                | '\u{200F}'
                | '\u{2028}'..='\u{202E}'
                | '\u{2066}'..='\u{2069}'
                | '\u{FDD0}'..='\u{FDEF}'
                | '\u{FEFF}'
        )
}

/// A text from outside as it is shown: on one line, with what would do something escaped. The
/// one place where this is done.
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.contains(is_unsafe) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for ch in text.chars() {
        match ch {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            ch if is_unsafe(ch) && u32::from(ch) < 0x100 => {
                out.push_str(&format!("\\x{:02x}", u32::from(ch)));
            }
            ch if is_unsafe(ch) => out.push_str(&format!("\\u{{{:x}}}", u32::from(ch))),
            ch => out.push(ch),
        }
    }
    Cow::Owned(out)
}

/// Names in a row, at most so many of them.
pub fn named(names: &[String], most: usize) -> String {
    let shown = names.iter().take(most).cloned().collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(most) {
        0 => shown,
        more => format!("{shown} and {} more", count(more as u64)),
    }
}

/// The unit in which a size is read, how many bytes it is, and how many decimals it shows.
fn unit_of(bytes: u64) -> (&'static str, f64, usize) {
    match bytes {
        0..1_000 => ("bytes", 1.0, 0),
        // What would be shown as 1000 of a unit is 1 of the next.
        1_000..999_500 => ("kB", 1e3, 0),
        999_500..999_950_000 => ("MB", 1e6, 1),
        999_950_000..999_950_000_000 => ("GB", 1e9, 1),
        _ => ("TB", 1e12, 1),
    }
}

/// A size in bytes, kB, MB, GB or TB (decimal).
pub fn size(bytes: u64) -> String {
    let (unit, one, decimals) = unit_of(bytes);
    let unit = if bytes == 1 { "byte" } else { unit };
    format!("{:.decimals$} {unit}", bytes as f64 / one)
}

/// A part of a size, both in the unit of the whole: `1.3 of 2.1 GB`.
pub fn size_of(part: u64, whole: u64) -> String {
    let (unit, one, decimals) = unit_of(whole);
    let number = |bytes: u64| format!("{:.decimals$}", bytes as f64 / one);
    format!("{} of {} {unit}", number(part), number(whole))
}

/// Compares names as people sort them: runs of digits by their value, letters without regard to
/// case; equal ones by their characters.
pub fn natural(one: &str, other: &str) -> std::cmp::Ordering {
    let (mut a, mut b) = (one.chars().peekable(), other.chars().peekable());
    loop {
        let (Some(x), Some(y)) = (a.peek().copied(), b.peek().copied()) else {
            let left = (a.peek().is_some(), b.peek().is_some());
            return left.0.cmp(&left.1).then_with(|| one.cmp(other));
        };
        let order = if x.is_ascii_digit() && y.is_ascii_digit() {
            let digits = |from: &mut std::iter::Peekable<std::str::Chars<'_>>| {
                let mut text = String::new();
                while let Some(digit) = from.next_if(char::is_ascii_digit) {
                    text.push(digit);
                }
                text.trim_start_matches('0').to_owned()
            };
            let (x, y) = (digits(&mut a), digits(&mut b));
            x.len().cmp(&y.len()).then(x.cmp(&y))
        } else {
            a.next();
            b.next();
            x.to_lowercase().cmp(y.to_lowercase())
        };
        if order.is_ne() {
            return order;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_do_something_is_shown_escaped() {
        assert_eq!(shown("gp_äß 星 e\u{301}"), "gp_äß 星 e\u{301}");
        assert_eq!(shown("a\u{1b}[2Jb\nc\td\u{9b}1m"), "a\\x1b[2Jb\\nc\\td\\x9b1m");
        assert_eq!(shown("x\u{202e}gpj.exe"), "x\\u{202e}gpj.exe");
    }

    #[test]
    fn numbers_are_grouped_and_counted_things_agree() {
        assert_eq!(count(1), "1");
        assert_eq!(grouped(1_234_567), "1\u{202f}234\u{202f}567");
        assert_eq!(count(1_234_567), "1234567");
        assert_eq!(counted(1, "file", "files"), "1 file");
        assert_eq!(counted(0, "file", "files"), "0 files");
        let names = ["a".to_owned(), "b".to_owned(), "c".to_owned()];
        assert_eq!(named(&names, 3), "a, b, c");
        assert_eq!(named(&names, 1), "a and 2 more");
    }

    #[test]
    fn sizes_have_one_family_of_units() {
        assert_eq!(size(1), "1 byte");
        assert_eq!(size(999), "999 bytes");
        assert_eq!(size(999_499), "999 kB");
        assert_eq!(size(999_500), "1.0 MB");
        assert_eq!(size(2_100_000_000), "2.1 GB");
        assert_eq!(size(3_000_000_000_000), "3.0 TB");
        assert_eq!(size_of(1_300_000_000, 2_100_000_000), "1.3 of 2.1 GB");
    }

    #[test]
    fn names_are_sorted_as_people_do() {
        let mut names = ["night-10", "night-9", "Night-1", "dome", "night-09", "night"];
        names.sort_by(|a, b| natural(a, b));
        assert_eq!(names, ["dome", "night", "Night-1", "night-09", "night-9", "night-10"]);
    }
}
