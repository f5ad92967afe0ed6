//! What a page refers to, and what browsers make of it.
//!
//! Mixed content follows the W3C recommendation "Mixed Content" (level 2): pictures,
//! sound and film with a http: address are fetched over https instead or not at all;
//! everything else with a http: address on a https page is refused.

mod css;
mod html;
mod xml;

pub use css::css_links;
pub use html::html_links;
pub use xml::xml_links;

use crate::finding::Code;

/// What role the address plays in the page.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LinkKind {
    /// A page that visitors can go to.
    Page,
    /// A script.
    Script,
    /// A style sheet.
    Style,
    /// A page inside the page.
    Frame,
    /// A font.
    Font,
    /// A picture named by `src` or by a style.
    Picture,
    /// A picture chosen from several (`srcset`); browsers do not fetch it over https instead.
    PictureSet,
    /// Sound or film.
    Media,
    /// Where a form is sent.
    Form,
    /// The address that relative ones start from (`<base href>`).
    Base,
    /// Another part that the browser fetches (`object`, `manifest`, …).
    Other,
}

impl LinkKind {
    /// Whether the browser fetches it to show the page.
    pub fn is_resource(self) -> bool {
        !matches!(self, LinkKind::Page | LinkKind::Form | LinkKind::Base)
    }

    /// The problem that a http: address of this kind is on a https page.
    pub fn mixed(self) -> Option<Code> {
        match self {
            LinkKind::Page | LinkKind::Base => None,
            LinkKind::Form => Some(Code::InsecureForm),
            LinkKind::Picture | LinkKind::Media => Some(Code::MixedUpgraded),
            _ => Some(Code::MixedBlocked),
        }
    }
}

/// One address in a page or style sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// Its role.
    pub kind: LinkKind,
    /// The element and attribute, as `img src`.
    pub element: String,
    /// The address, with entities and escapes resolved, otherwise as written.
    pub address: String,
    /// The line on which its element begins, counted from 1.
    pub line: usize,
}

/// Counts lines as offsets grow.
struct Lines<'a> {
    text: &'a [u8],
    at: usize,
    line: usize,
}

impl<'a> Lines<'a> {
    fn new(text: &'a [u8]) -> Self {
        Lines { text, at: 0, line: 1 }
    }

    fn at(&mut self, offset: usize) -> usize {
        let offset = offset.min(self.text.len());
        if offset < self.at {
            self.at = 0;
            self.line = 1;
        }
        self.line += memchr::memchr_iter(b'\n', &self.text[self.at..offset]).count();
        self.at = offset;
        self.line
    }
}

#[cfg(test)]
mod tests;
