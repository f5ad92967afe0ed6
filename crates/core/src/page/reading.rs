//! What visitors read of a page, line by line, as two sites are compared by it.
//!
//! A line is the text of one block (a paragraph, a cell, a point of a list), with white space
//! collapsed. Texts that nobody sees (scripts, styles, templates, what is shown without scripts)
//! are no lines.

use lol_html::html_content::{Element, TextType};
use lol_html::{HtmlRewriter, MemorySettings, Settings, element, text};
use std::cell::RefCell;
use std::rc::Rc;

/// One line of a page.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The level of the heading that it is, from 1 to 6; 0 for other text.
    pub heading: u8,
    /// Its words, with one space between them.
    pub text: String,
}

/// Elements that stand within a line of text (HTML standard, phrasing content); every other one
/// begins a line, and ends it.
const WITHIN_LINES: [&str; 43] = [
    "a", "abbr", "acronym", "audio", "b", "bdi", "bdo", "big", "button", "cite", "code", "data",
    "del", "dfn", "em", "font", "i", "img", "input", "ins", "kbd", "label", "mark", "meter",
    "output", "picture", "progress", "q", "ruby", "s", "samp", "small", "source", "span", "strike",
    "strong", "sub", "sup", "time", "tt", "u", "var", "wbr",
];

/// Elements whose text is not read; each has an end tag, or goes on to the end of the page.
const UNREAD: [&str; 3] = ["noscript", "svg", "template"];

#[derive(Default)]
struct Gathering {
    lines: Vec<Line>,
    text: String,
    heading: u8,
    /// How many elements are open whose text is not read.
    unread: usize,
}

impl Gathering {
    fn break_line(&mut self) {
        let written = std::mem::take(&mut self.text);
        let plain =
            if written.contains('&') { htmlize::unescape(&written) } else { written.into() };
        let words: Vec<&str> = plain.split_whitespace().collect();
        if !words.is_empty() {
            self.lines.push(Line { heading: self.heading, text: words.join(" ") });
        }
    }

    fn start(&mut self, name: &str) {
        if WITHIN_LINES.contains(&name) {
            return;
        }
        self.break_line();
        if let Some(level) = heading(name) {
            self.heading = level;
        }
    }

    fn end(&mut self, name: &str, unread: bool) {
        self.break_line();
        self.unread -= usize::from(unread);
        if heading(name).is_some() {
            self.heading = 0;
        }
    }
}

/// The level of a heading, by the name of its element.
fn heading(name: &str) -> Option<u8> {
    match name.as_bytes() {
        [b'h', level @ b'1'..=b'6'] => Some(level - b'0'),
        _ => None,
    }
}

/// The lines of a page. What follows something unreadable is not told.
pub fn lines_of(html: &str) -> Vec<Line> {
    let gathering: Rc<RefCell<Gathering>> = Rc::default();
    let settings = Settings::new()
        .append_element_content_handler(element!("*", |el| {
            start(&gathering, el);
            Ok(())
        }))
        .append_element_content_handler(text!("*", |chunk| {
            let mut gathering = gathering.borrow_mut();
            if gathering.unread == 0 && chunk.text_type() == TextType::Data {
                gathering.text.push_str(chunk.as_str());
            }
            Ok(())
        }))
        .with_memory_settings(MemorySettings::new().with_max_allowed_memory_usage(usize::MAX));
    let mut rewriter = HtmlRewriter::new(settings, |_: &[u8]| {});
    if rewriter.write(html.as_bytes()).is_ok() {
        let _ = rewriter.end();
    }
    let mut gathering = gathering.borrow_mut();
    gathering.break_line();
    std::mem::take(&mut gathering.lines)
}

fn start(gathering: &Rc<RefCell<Gathering>>, el: &mut Element<'_, '_>) {
    let name = el.tag_name();
    gathering.borrow_mut().start(&name);
    let unread = UNREAD.contains(&name.as_str());
    if unread || !WITHIN_LINES.contains(&name.as_str()) {
        let within = gathering.clone();
        let closes = el.on_end_tag(Box::new(move |_| {
            within.borrow_mut().end(&name, unread);
            Ok(())
        }));
        // An element that can have no end has no text either.
        if unread && closes.is_ok() {
            gathering.borrow_mut().unread += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(html: &str) -> Vec<String> {
        let line = |line: Line| match line.heading {
            0 => line.text,
            level => format!("h{level}: {}", line.text),
        };
        lines_of(html).into_iter().map(line).collect()
    }

    #[test]
    fn lines_are_blocks_with_their_white_space_collapsed() {
        let html = "<!doctype html><title>no line</title><h1>The <em>first</em>\n night</h1>\
                    <p>We saw <a href=x>M&nbsp;31</a> &amp;\n M&#160;32.<br>Then it rained.<ul><li>one<li>two</ul>\
                    <table><tr><td>a<td>b</table>tail";
        let expected = [
            "h1: The first night",
            "We saw M 31 & M 32.",
            "Then it rained.",
            "one",
            "two",
            "a",
            "b",
            "tail",
        ];
        assert_eq!(shown(html), expected);
    }

    #[test]
    fn what_nobody_sees_is_no_line() {
        let html = "<head><title>t</title><style>p{}</style></head><body><script>let a = '<p>no</p>'\
                    </script><noscript><p>no</p></noscript><template><p>no</p></template>\
                    <svg><text>no</text></svg><textarea>no</textarea><!-- no --><p>yes</p>";
        assert_eq!(shown(html), ["yes"]);
    }

    #[test]
    fn a_page_that_breaks_off_gives_what_came_before() {
        assert_eq!(shown("<h2>Open</h2><p>at night <b>and"), ["h2: Open", "at night and"]);
    }
}
