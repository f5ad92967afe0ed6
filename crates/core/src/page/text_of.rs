//! What visitors read of a page, in short: a count, a digest, and what a server's program
//! complains about.
//!
//! Two pages are compared by it, and nothing is shown of it: tags are passed over by their brackets
//! alone, which is quick, and the same for both.

use super::Words;

/// Of long texts one in so many words votes on the sketch: those whose key begins so low.
const SAMPLE: u64 = 16;
/// So many words vote in any case.
const ALL: u64 = 64;

/// Reads the words of a page.
pub(super) fn words_of(html: &str) -> Words {
    let mut gathering = Gathering { words: Words::default(), votes: [0; 64] };
    let bytes = html.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        let open = memchr::memchr(b'<', &bytes[at..]).map_or(bytes.len(), |found| at + found);
        gathering.text(&html[at..open]);
        let rest = &bytes[open..];
        let length = if rest.starts_with(b"<!--") {
            memchr::memmem::find(rest, b"-->").map(|end| end + 3)
        } else {
            let close = memchr::memchr(b'>', rest).map(|end| end + 1);
            close.and_then(|close| Some(close + unread(rest, close)?))
        };
        let Some(length) = length else { break };
        at = open + length;
    }
    gathering.finish()
}

/// Bytes behind a start tag that visitors do not read: `None` if they go on to the end.
fn unread(rest: &[u8], close: usize) -> Option<usize> {
    // Most elements begin with another letter.
    if !matches!(rest.get(1).map(u8::to_ascii_lowercase), Some(b's' | b't' | b'n')) {
        return Some(0);
    }
    const RAW: [&[u8]; 6] = [b"script", b"style", b"title", b"textarea", b"noscript", b"template"];
    let name = RAW.iter().find(|name| {
        rest.len() > name.len() + 1 && rest[1..=name.len()].eq_ignore_ascii_case(name)
    });
    let Some(name) = name.filter(|name| !rest[name.len() + 1].is_ascii_alphanumeric()) else {
        return Some(0);
    };
    let mut at = close;
    loop {
        at += memchr::memmem::find(&rest[at..], b"</")?;
        let end = rest.get(at + 2..at + 2 + name.len())?;
        if end.eq_ignore_ascii_case(name) {
            return Some(at - close);
        }
        at += 2;
    }
}

/// An odd number without a pattern in its bits (2⁶⁴ by the golden ratio).
const ODD: u64 = 0x9e37_79b9_7f4a_7c15;

/// A key of a word, eight bytes at a time: good enough for texts that nobody has made to deceive.
fn key_of_word(word: &[u8]) -> u64 {
    let four = |at: usize| {
        let bytes = word.get(at..at + 4).and_then(|bytes| bytes.try_into().ok());
        u64::from(u32::from_le_bytes(bytes.unwrap_or_default()))
    };
    let mix = |key: u64, part: u64| {
        let key = (key ^ part).wrapping_mul(ODD);
        key ^ key >> 32
    };
    let length = word.len();
    match length {
        0 => 0,
        1..4 => {
            let part = [word[0], word[length / 2], word[length - 1]].map(u64::from);
            mix(length as u64, part[0] | part[1] << 8 | part[2] << 16)
        }
        // The last four bytes count, too; they may have counted already.
        _ => {
            let each = (0..=length - 4).step_by(4);
            let key = each.fold(length as u64, |key, at| mix(key, four(at)));
            mix(key, four(length - 4))
        }
    }
}

struct Gathering {
    words: Words,
    /// For each bit of the sketch, how many more words have it than have it not.
    votes: [i32; 64],
}

impl Gathering {
    fn text(&mut self, text: &str) {
        if self.words.complaint.is_none() && text.len() > 8 {
            self.words.complaint = complaint(text);
        }
        let text = if text.contains('&') { htmlize::unescape(text) } else { text.into() };
        for word in text.split_ascii_whitespace() {
            self.words.count += 1;
            let key = key_of_word(word.as_bytes());
            self.words.digest = (self.words.digest.rotate_left(5) ^ key).wrapping_mul(ODD);
            if self.words.count > ALL && key >= u64::MAX / SAMPLE {
                continue;
            }
            // The bits by which a word is chosen do not vote.
            let spread = key.wrapping_mul(ODD);
            for (bit, votes) in self.votes.iter_mut().enumerate() {
                *votes += ((spread >> bit & 1) as i32) * 2 - 1;
            }
        }
    }

    fn finish(mut self) -> Words {
        let each = self.votes.iter().enumerate();
        self.words.sketch =
            each.fold(0, |sketch, (bit, votes)| sketch | u64::from(*votes > 0) << bit);
        self.words
    }
}

/// The line in which a program of the server complains, as PHP and the drivers of databases word
/// it. Prose about such errors stands in sentences; these begin a text of their own.
fn complaint(text: &str) -> Option<String> {
    let text = text.trim_start();
    // What begins in another way is not looked at any closer.
    if !text.starts_with(['W', 'N', 'D', 'F', 'P', 'S', 'Y', 'T', 'U', 'E']) {
        return None;
    }
    let starts = [
        "Warning: ",
        "Notice: ",
        "Deprecated: ",
        "Fatal error: ",
        "Parse error: ",
        "PHP Warning: ",
        "PHP Notice: ",
        "PHP Fatal error: ",
        "SQLSTATE[",
        "You have an error in your SQL syntax",
        "Table '",
        "Unknown column '",
        "Error establishing a database connection",
        "Traceback (most recent call last)",
    ];
    let found = starts.iter().any(|start| text.starts_with(start));
    let line = text.lines().next().unwrap_or_default();
    let certain = match text.split_once(": ") {
        // `Warning: …` alone may be prose: PHP names a file and a line.
        Some(("Warning" | "Notice" | "Deprecated", _)) => {
            line.contains("() ")
                || line.contains("(): ")
                || line.contains("Undefined ")
                || line.contains(" on line ")
        }
        _ if text.starts_with("Table '") => line.contains("doesn't exist"),
        _ if text.starts_with("Unknown column '") => line.contains("' in '"),
        _ => true,
    };
    (found && certain).then(|| line.chars().take(160).collect())
}
