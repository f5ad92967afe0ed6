//! What a page refers to, and what browsers make of it.
//!
//! Readers of HTML, XML, style sheets, scripts and the like give every address with its role, its
//! place and what a browser does with it. [`policy`] and [`mixed`] say which of the requests are
//! made, made over https instead, or refused.

mod css;
mod elements;
mod header;
mod html;
mod json;
pub mod media;
pub mod mixed;
pub mod policy;
mod reading;
mod robots;
mod script;
mod srcset;
mod text;
mod text_of;
mod xml;

pub use css::css_links;
pub use elements::refresh_target;
pub use header::header_links;
pub use html::read_html;
pub use json::{manifest_links, structured_links};
pub use reading::{Line, lines_of};
pub use robots::Robots;
pub use script::{ImportMap, script_links};
pub use text::{Decoded, TextKind, decode};
pub use xml::{read_xml, xml_links};

use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::ops::Range;

/// What role the address plays in the page.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum LinkKind {
    /// A page that visitors can go to.
    Page,
    /// The same page under another address: canonical, another language, another form.
    Alternate,
    /// A picture or page that is shown where the page is quoted (Open Graph and the like).
    Preview,
    /// A script.
    Script,
    /// A script that imports others.
    Module,
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
    /// A part of a drawing that stands in another file, which must be of the same site.
    Drawing,
    /// The picture of a tab or a bookmark.
    Icon,
    /// Sound or film.
    Media,
    /// Subtitles.
    Track,
    /// Where a form is sent.
    Form,
    /// The description of a web application.
    Manifest,
    /// Something whose type only the answer tells (`object`, `embed`).
    Embedded,
    /// Another part that the browser fetches.
    Other,
    /// Where programs ask, not people: not fetched.
    Service,
}

impl LinkKind {
    /// Whether the browser fetches it to show the page.
    pub fn is_resource(self) -> bool {
        !matches!(
            self,
            LinkKind::Page
                | LinkKind::Alternate
                | LinkKind::Preview
                | LinkKind::Form
                | LinkKind::Service
        )
    }
}

/// What a browser does with an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum Usage {
    /// It is fetched when the page is shown.
    Loaded,
    /// It is fetched if a rule of a style applies to something that is drawn.
    Styled,
    /// A click leads there.
    Followed,
    /// It may be fetched: a template, a candidate that is not chosen, a script.
    Possible,
}

/// A place in a text.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
)]
pub struct Place {
    /// The line, counted from 1.
    pub line: usize,
    /// The character of the line, counted from 1.
    pub column: usize,
}

/// One address in a page or style sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// Its role.
    pub kind: LinkKind,
    /// What a browser does with it.
    pub usage: Usage,
    /// The element and attribute, as `img src`.
    pub element: Cow<'static, str>,
    /// The address, with entities and escapes resolved, otherwise as written.
    pub address: String,
    /// Where it begins.
    pub at: Place,
    /// The bytes of the element as written, in the decoded text; empty if there is none.
    pub span: Range<usize>,
}

/// What a page says, beside its content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// Every address, in the order of the page.
    pub links: Vec<Link>,
    /// What relative addresses start from, if the page says so (`<base href>`).
    pub base: Option<String>,
    /// How many links stand before it: what is loaded for them does not start from it.
    pub before_base: usize,
    /// Names of places in the page, each as [`fragment_key`] makes it.
    pub places: Vec<u64>,
    /// Content security policies of `meta` elements.
    pub policies: Vec<String>,
    /// The title, with white space collapsed.
    pub title: String,
    /// What `meta name="robots"` says, in lower case.
    pub robots: String,
    /// Whether it asks for a password.
    pub asks_password: bool,
    /// The inline import map, if there is one.
    pub imports: Option<ImportMap>,
    /// What visitors read.
    pub text: Words,
}

/// What visitors read of a page, in short.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Words {
    /// How many words.
    pub count: u64,
    /// A digest of all words in their order.
    pub digest: u64,
    /// Like texts have like sketches: most bits are the same (Charikar 2002).
    pub sketch: u64,
    /// Something that a program of the server reports in the page (an error of PHP or of SQL), as
    /// far as the first line goes.
    pub complaint: Option<String>,
}

/// A short key of the name of a place in a page.
pub fn fragment_key(name: &str) -> u64 {
    // FNV-1a, 64 bit: stable, and one wrong match in ten million pages hides one finding.
    name.bytes().fold(0xcbf2_9ce4_8422_2325, |key, byte| {
        (key ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
    })
}

/// Whether browsers show pictures of this media type.
fn is_known_picture(media_type: &str) -> bool {
    let known = [
        "image/png",
        "image/jpeg",
        "image/jpg",
        "image/gif",
        "image/webp",
        "image/avif",
        "image/svg+xml",
        "image/bmp",
        "image/x-icon",
        "image/vnd.microsoft.icon",
        "image/apng",
    ];
    let plain = media_type.split(';').next().unwrap_or_default().trim();
    known.iter().any(|known| plain.eq_ignore_ascii_case(known))
}

/// Counts lines and characters as offsets grow.
struct Places<'a> {
    text: &'a str,
    at: usize,
    place: Place,
}

impl<'a> Places<'a> {
    fn new(text: &'a str) -> Self {
        Places { text, at: 0, place: Place { line: 1, column: 1 } }
    }

    fn at(&mut self, offset: usize) -> Place {
        let offset = offset.min(self.text.len());
        if offset < self.at {
            *self = Places::new(self.text);
        }
        let mut rest = &self.text.as_bytes()[self.at..offset];
        if let Some(end) = memchr::memrchr(b'\n', rest) {
            self.place.line += memchr::memchr_iter(b'\n', rest).count();
            self.place.column = 1;
            rest = &rest[end + 1..];
        }
        self.at = offset;
        self.place.column += rest.iter().filter(|byte| **byte & 0xc0 != 0x80).count();
        self.place
    }
}

#[cfg(test)]
mod tests;
