//! What visitors read of a page, in short: a count, a digest, and what a server's program
//! complains about.

use super::{Words, fragment_key};
use lol_html::html_content::TextType;

/// Votes of words for each bit of a sketch.
struct Votes([i32; 64]);

impl Default for Votes {
    fn default() -> Self {
        Self([0; 64])
    }
}

/// Gathers the text of a page.
#[derive(Default)]
pub(super) struct Visible {
    words: Words,
    node: String,
    /// For each bit of the sketch, how many more words have it than have it not.
    votes: Box<Votes>,
    /// The text of this element is not read by visitors.
    hidden: bool,
}

impl Visible {
    pub fn element(&mut self, name: &str) {
        self.hidden = matches!(name, "title" | "option" | "textarea");
    }

    pub fn text(&mut self, text: &str, kind: TextType, last: bool) {
        if kind != TextType::Data {
            return;
        }
        self.node.push_str(text);
        if last {
            let node = std::mem::take(&mut self.node);
            self.node(&node);
        }
    }

    fn node(&mut self, text: &str) {
        if self.hidden {
            return;
        }
        if self.words.complaint.is_none() {
            self.words.complaint = complaint(text);
        }
        let text = htmlize::unescape(text);
        for word in text.split_whitespace() {
            self.words.count += 1;
            let key = fragment_key(word);
            self.words.digest = self.words.digest.rotate_left(5) ^ key;
            // The bits of FNV are not equally good; a multiplication spreads them.
            let spread = key.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            for (bit, votes) in self.votes.0.iter_mut().enumerate() {
                *votes += ((spread >> bit & 1) as i32) * 2 - 1;
            }
        }
    }

    pub fn finish(mut self) -> Words {
        let node = std::mem::take(&mut self.node);
        self.node(&node);
        let each = self.votes.0.iter().enumerate();
        self.words.sketch =
            each.fold(0, |sketch, (bit, votes)| sketch | u64::from(*votes > 0) << bit);
        self.words
    }
}

/// The line in which a program of the server complains, as PHP and the drivers of databases word
/// it. Prose about such errors stands in sentences; these begin a text of their own.
fn complaint(text: &str) -> Option<String> {
    let text = text.trim_start();
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
