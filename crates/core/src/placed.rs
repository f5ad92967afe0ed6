//! What Fernweh writes into a file of a site: lines between two marker lines, once, before
//! everything else; taken out, the file is again what it was.

/// What the lines are for. Where several stand in one file, they stand in this order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Purpose {
    /// The old site is closed.
    Closed,
    /// Redirects to the right address.
    Redirects,
    /// Search engines are kept out.
    Hidden,
}

impl Purpose {
    const ALL: [Purpose; 3] = [Purpose::Closed, Purpose::Redirects, Purpose::Hidden];

    fn name(self) -> &'static str {
        match self {
            Purpose::Closed => "closed",
            Purpose::Redirects => "redirects",
            Purpose::Hidden => "hidden",
        }
    }

    fn begin(self) -> String {
        format!("# fernweh {}: begin, placed by Fernweh; fernweh undo takes it out", self.name())
    }

    fn end(self) -> String {
        format!("# fernweh {}: end", self.name())
    }
}

/// The mark of an encoding at the beginning of a file.
const MARK: &[u8] = b"\xef\xbb\xbf";

/// Where the lines stand, with their markers and the line end behind them.
fn place(text: &[u8], purpose: Purpose) -> Option<std::ops::Range<usize>> {
    let (begin, end) = (format!("# fernweh {}: begin", purpose.name()), purpose.end());
    let mut at = 0;
    let mut start = None;
    for line in text.split_inclusive(|byte| *byte == b'\n') {
        let (mark, line_of_text) = match line.strip_prefix(MARK) {
            Some(rest) if at == 0 => (MARK.len(), rest),
            _ => (0, line),
        };
        let words = line_of_text.trim_ascii();
        match start {
            None if words.starts_with(begin.as_bytes()) => start = Some(at + mark),
            Some(start) if words == end.as_bytes() => return Some(start..at + line.len()),
            _ => {}
        }
        at += line.len();
    }
    None
}

/// The file with these lines in it, in place of what stood there for the same purpose.
pub fn put(text: &[u8], purpose: Purpose, lines: &[String]) -> Vec<u8> {
    let rest = take(text, purpose);
    // It stays at the beginning.
    let mut at = if rest.starts_with(MARK) { MARK.len() } else { 0 };
    for other in Purpose::ALL.into_iter().filter(|other| *other < purpose) {
        if let Some(there) = place(&rest, other) {
            at = at.max(there.end);
        }
    }
    let windows = rest.windows(2).any(|two| two == b"\r\n");
    let end = if windows { "\r\n" } else { "\n" };
    let mut block = String::new();
    let (begin, last) = (purpose.begin(), purpose.end());
    for line in [&begin].into_iter().chain(lines).chain([&last]) {
        block.push_str(line);
        block.push_str(end);
    }
    [&rest[..at], block.as_bytes(), &rest[at..]].concat()
}

/// The file without the lines of a purpose.
pub fn take(text: &[u8], purpose: Purpose) -> Vec<u8> {
    match place(text, purpose) {
        Some(there) => [&text[..there.start], &text[there.end..]].concat(),
        None => text.to_vec(),
    }
}

/// The file in which Apache reads the rules of a folder.
pub const RULE_FILE: &str = ".htaccess";

/// The program that answers first on most hosts.
pub const FRONT_FILE: &str = "index.php";

/// Lines that ask search engines not to list a site. `robots.txt` is not used for it: who may not
/// read a page does not see that it should not be listed.
pub fn hidden_lines() -> Vec<String> {
    vec![
        "<IfModule mod_headers.c>".into(),
        "Header always set X-Robots-Tag \"noindex, nofollow\"".into(),
        "</IfModule>".into(),
    ]
}

/// The rule file of a site that is hidden or not; what closed the site that it came from goes.
pub fn rule_file(text: &[u8], is_hidden: bool) -> Vec<u8> {
    let open = take(text, Purpose::Closed);
    match is_hidden {
        true => put(&open, Purpose::Hidden, &hidden_lines()),
        false => take(&open, Purpose::Hidden),
    }
}

/// A program of PHP that is placed as a whole, in place of the site's own.
pub fn php_program(lines: &[String]) -> Vec<u8> {
    let (begin, end) = (Purpose::Closed.begin(), Purpose::Closed.end());
    format!("<?php\n{begin}\n{}\n{end}\n", lines.join("\n")).into_bytes()
}

/// Whether a program is one that was placed in place of the site's own.
pub fn is_placed_program(text: &[u8]) -> bool {
    let begin = format!("<?php\n{}\n", Purpose::Closed.begin());
    text.starts_with(begin.as_bytes())
}

/// The file without everything that was placed in it.
pub fn without_placed(text: &[u8]) -> Vec<u8> {
    Purpose::ALL.into_iter().fold(text.to_vec(), |text, purpose| take(&text, purpose))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_put_in_is_taken_out_to_the_byte() {
        let lines = ["RewriteEngine On".to_owned()];
        for text in [
            &b""[..],
            b"\n",
            b"Options -Indexes\n",
            b"Options -Indexes",
            b"\xef\xbb\xbfOptions -Indexes\r\nDeny from all\r\n",
            b"# fernweh redirects: begin\nhalf",
            b"\xff\x00\n",
        ] {
            let mut there = text.to_vec();
            for purpose in [Purpose::Hidden, Purpose::Closed, Purpose::Redirects] {
                there = put(&there, purpose, &lines);
                assert!(place(&there, purpose).is_some());
                assert_eq!(put(&there, purpose, &lines), there, "{purpose:?}");
            }
            let shown = String::from_utf8_lossy(&there).into_owned();
            let at = |purpose: Purpose| shown.find(&purpose.begin()).unwrap();
            assert!(at(Purpose::Closed) < at(Purpose::Redirects));
            assert!(at(Purpose::Redirects) < at(Purpose::Hidden));
            for purpose in Purpose::ALL {
                there = take(&there, purpose);
            }
            assert_eq!(there, text);
        }
    }

    #[test]
    fn other_lines_take_the_place_of_the_first() {
        let once = put(b"rest\n", Purpose::Redirects, &["one".into()]);
        let twice = put(&once, Purpose::Redirects, &["two".into(), "three".into()]);
        let text = String::from_utf8(twice).unwrap();
        assert!(!text.contains("one") && text.contains("two\nthree\n") && text.ends_with("rest\n"));
    }
}
