//! Numbers as people read them; every crate that speaks uses the same form.

use std::borrow::Cow;

/// A number in groups of three.
pub fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && (digits.len() - n).is_multiple_of(3) {
            text.push(' ');
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

/// A size in kB, MB or GB.
pub fn size(bytes: u64) -> String {
    let number = bytes as f64;
    match bytes {
        0..1_000 => format!("{bytes} bytes"),
        1_000..1_000_000 => format!("{:.0} kB", number / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", number / 1e6),
        _ => format!("{:.1} GB", number / 1e9),
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
        assert_eq!(count(1_234_567), "1 234 567");
        assert_eq!(counted(1, "file", "files"), "1 file");
        assert_eq!(counted(0, "file", "files"), "0 files");
        let names = ["a".to_owned(), "b".to_owned(), "c".to_owned()];
        assert_eq!(named(&names, 3), "a, b, c");
        assert_eq!(named(&names, 1), "a and 2 more");
    }
}
