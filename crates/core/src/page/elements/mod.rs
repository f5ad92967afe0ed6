//! What each element of HTML and SVG loads, or where it leads.
//!
//! One reader under HTML and XML alike: they hand over start and end tags, and texts of elements
//! whose text is no content (styles, scripts, what is shown without scripts).

mod head;
mod pictures;
mod raw;

pub(super) use head::link_uses;
pub use head::refresh_target;

use super::css::declared_links;
use super::json::structured_links;
use super::media;
use super::script::{self, ImportMap};
use super::srcset::{candidates, chosen};
use super::{Link, LinkKind, Page, Place, Usage, css_links, fragment_key, is_known_picture};
use raw::style_applies;
use std::borrow::Cow;
use std::ops::Range;

/// Which vocabulary an element belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Space {
    Html,
    Svg,
    Other,
}

/// An attribute, its value decoded.
pub(super) struct Attribute {
    pub name: String,
    pub value: String,
    /// Where its value begins, in bytes.
    pub at: usize,
}

/// A start tag.
pub(super) struct Tag<'a> {
    pub name: &'a str,
    pub space: Space,
    pub attributes: &'a [Attribute],
    /// Its bytes.
    pub span: Range<usize>,
}

impl Tag<'_> {
    /// The first attribute of a name; browsers drop the others.
    fn attribute(&self, name: &str) -> Option<&Attribute> {
        self.attributes.iter().find(|attribute| attribute.name == name)
    }

    pub(super) fn get(&self, name: &str) -> Option<&str> {
        self.attribute(name).map(|attribute| attribute.value.as_str())
    }

    fn has_word(&self, name: &str, word: &str) -> bool {
        let value = self.get(name).unwrap_or_default();
        value.split_ascii_whitespace().any(|is| is.eq_ignore_ascii_case(word))
    }
}

/// Elements whose inside matters: `picture`, `video`, `template` …
#[derive(Debug)]
enum Open {
    /// The link of a source that a picture in it takes.
    Picture(Option<usize>),
    /// Whether a source is chosen already.
    Media {
        decided: bool,
        loads: bool,
    },
    Template,
    /// What is shown if the object itself is not.
    Object,
    Table,
    Frameset,
}

/// Text of an element that is no content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Raw {
    Style {
        applies: bool,
    },
    Script(ScriptKind),
    /// What browsers without scripts show.
    Fallback,
    Title,
}

/// What an inline script is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ScriptKind {
    Classic,
    Module,
    ImportMap,
    /// JSON-LD.
    Data,
    /// Not run by browsers.
    Other,
}

/// Collects what a page says.
#[derive(Default)]
pub(super) struct Reader {
    pub page: Page,
    open: Vec<Open>,
    /// Where a part of a part stands, as `iframe srcdoc`.
    within: String,
    /// Something that only the body holds has begun.
    in_body: bool,
    /// No element inside counts as loaded.
    idle: usize,
    depth: usize,
    /// Reads the HTML of a part.
    parts: Option<fn(Reader, &str) -> Page>,
}

/// How deep pages may lie in attributes of pages.
const DEPTH: usize = 4;

impl Reader {
    /// A reader of a page, parts of which are read by this.
    pub(super) fn new(parts: fn(Reader, &str) -> Page) -> Self {
        Self { parts: Some(parts), ..Self::default() }
    }

    /// A reader of a part of a page that stands in an element of it.
    pub(super) fn part(&self, within: &str, loads: bool) -> Option<Self> {
        let within = match self.within.is_empty() {
            true => within.to_owned(),
            false => format!("{} {within}", self.within),
        };
        let idle = usize::from(!loads || self.idle > 0);
        (self.depth < DEPTH).then(|| Self {
            within,
            idle,
            depth: self.depth + 1,
            parts: self.parts,
            ..Self::default()
        })
    }

    /// Policies count in the head alone.
    fn in_head(&self) -> bool {
        !self.in_body && self.idle == 0
    }

    fn is_within(&self, wanted: fn(&Open) -> bool) -> bool {
        self.open.iter().any(wanted)
    }

    fn add(
        &mut self,
        kind: LinkKind,
        usage: Usage,
        element: impl Into<Cow<'static, str>>,
        address: &str,
        at: Place,
        span: &Range<usize>,
    ) {
        let address = address.trim_matches([' ', '\t', '\n', '\r', '\x0c']);
        // Nothing is fetched for an empty address.
        if address.is_empty() && kind.is_resource() {
            return;
        }
        let usage = if self.idle > 0 { Usage::Possible } else { usage };
        let element = element.into();
        let element = match self.within.is_empty() {
            true => element,
            false => format!("{} {element}", self.within).into(),
        };
        let (address, span) = (address.to_owned(), span.clone());
        self.page.links.push(Link { kind, usage, element, address, at, span });
    }

    /// Takes a start tag; says what its text is, if that is no content.
    pub(super) fn start(
        &mut self,
        tag: &Tag<'_>,
        place: &mut dyn FnMut(usize) -> Place,
    ) -> Option<Raw> {
        for attribute in tag.attributes {
            match attribute.name.as_str() {
                "id" => self.page.places.push(fragment_key(&attribute.value)),
                "name" if tag.name == "a" => {
                    self.page.places.push(fragment_key(&attribute.value));
                }
                _ => {}
            }
        }
        let raw = match tag.space {
            Space::Html => self.html(tag, place),
            Space::Svg => self.svg(tag, place),
            Space::Other => None,
        };
        for attribute in tag.attributes {
            self.anywhere(tag, attribute, place);
        }
        raw
    }

    /// Takes a start tag without attributes, of an element that means nothing by itself.
    pub(super) fn passes(&mut self, name: &str) {
        self.in_body |= !of_head(name);
    }

    /// Whether the end of an element has to be told; its start has been.
    pub(super) fn wants_end(name: &str, space: Space) -> bool {
        let html = ["picture", "video", "audio", "template", "object", "table", "frameset"];
        space == Space::Html && html.contains(&name)
    }

    /// How many elements whose inside matters are open.
    pub(super) fn opened(&self) -> usize {
        self.open.len()
    }

    /// Takes the end of an element, before which so many were open; what in it was not closed ends
    /// with it.
    pub(super) fn end(&mut self, before: usize) {
        while self.open.len() > before {
            if let Some(Open::Template) = self.open.pop() {
                self.idle -= 1;
            }
        }
    }

    /// Attributes that any element may have.
    fn anywhere(
        &mut self,
        tag: &Tag<'_>,
        attribute: &Attribute,
        place: &mut dyn FnMut(usize) -> Place,
    ) {
        let (name, value) = (attribute.name.as_str(), attribute.value.as_str());
        if name == "style" && value.contains('(') {
            let at = place(attribute.at);
            for link in declared_links(value) {
                let element = format!("{} style {}", tag.name, link.element);
                let at = beside(at, link.at);
                self.add(link.kind, link.usage, element, &link.address, at, &tag.span);
            }
        } else if name.starts_with("on") && value.contains("://") {
            let at = place(attribute.at);
            for address in script::addresses_in(value) {
                let element = format!("{} {name}", tag.name);
                let usage = Usage::Possible;
                self.add(LinkKind::Other, usage, element, address, at, &tag.span);
            }
        } else if let Some(rest) = name.strip_prefix("data-") {
            self.lazy(tag, attribute, rest, place);
        }
    }

    /// Attributes from which scripts take addresses later.
    fn lazy(
        &mut self,
        tag: &Tag<'_>,
        attribute: &Attribute,
        name: &str,
        place: &mut dyn FnMut(usize) -> Place,
    ) {
        let value = attribute.value.trim();
        let named = |word: &str| name.split('-').any(|part| part == word);
        let kind = if named("srcset") {
            LinkKind::PictureSet
        } else if ["bg", "background", "poster", "image", "img"].iter().any(|word| named(word)) {
            LinkKind::Picture
        } else if ["src", "original", "lazy"].iter().any(|word| named(word)) {
            match tag.name {
                "iframe" => LinkKind::Frame,
                "script" => LinkKind::Script,
                "video" | "audio" | "source" => LinkKind::Media,
                _ => LinkKind::Picture,
            }
        } else if ["href", "url", "link"].iter().any(|word| named(word)) {
            LinkKind::Page
        } else {
            return;
        };
        let element = format!("{} {}", tag.name, attribute.name);
        let mut add = |address: &str, at: usize| {
            if looks_like_address(address) {
                let place = place(at);
                self.add(kind, Usage::Possible, element.clone(), address, place, &tag.span);
            }
        };
        if kind == LinkKind::PictureSet {
            candidates(value).iter().for_each(|one| add(one.address, attribute.at + one.at));
        } else if let Some(inner) =
            value.strip_prefix("url(").and_then(|rest| rest.strip_suffix(')'))
        {
            add(inner.trim_matches(['"', '\'']), attribute.at);
        } else {
            add(value, attribute.at);
        }
    }

    /// One attribute with one address.
    fn plain(
        &mut self,
        tag: &Tag<'_>,
        attribute: &str,
        kind: LinkKind,
        usage: Usage,
        element: &'static str,
        place: &mut dyn FnMut(usize) -> Place,
    ) -> bool {
        let Some(found) = tag.attribute(attribute) else { return false };
        let at = place(found.at);
        self.add(kind, usage, element, &found.value, at, &tag.span);
        true
    }

    fn svg(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) -> Option<Raw> {
        let name = if tag.attribute("href").is_some() { "href" } else { "xlink:href" };
        let mut plain = |kind, usage, element| self.plain(tag, name, kind, usage, element, place);
        match tag.name {
            "a" => drop(plain(LinkKind::Page, Usage::Followed, "a href")),
            "image" => drop(plain(LinkKind::Picture, Usage::Loaded, "image href")),
            "feimage" | "feImage" => drop(plain(LinkKind::Picture, Usage::Styled, "feImage href")),
            "script" => drop(plain(LinkKind::Script, Usage::Loaded, "script href")),
            "use" | "pattern" | "linearGradient" | "radialGradient" | "mpath" | "textPath" => {
                let value = tag.get(name).unwrap_or_default().trim();
                // A place in the same document is no request.
                if !value.starts_with('#') && !value.is_empty() {
                    let used = tag.name == "use";
                    let usage = if used { Usage::Loaded } else { Usage::Possible };
                    let element = if used { "use href" } else { "svg href" };
                    self.plain(tag, name, LinkKind::Drawing, usage, element, place);
                }
            }
            "style" => return Some(Raw::Style { applies: style_applies(tag) }),
            _ => {}
        }
        (tag.name == "script").then_some(Raw::Script(ScriptKind::Classic))
    }

    fn html(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) -> Option<Raw> {
        use LinkKind as K;
        use Usage as U;
        self.in_body |= !of_head(tag.name);
        let mut plain = |this: &mut Self, attribute: &str, kind, usage, element| {
            this.plain(tag, attribute, kind, usage, element, place)
        };
        match tag.name {
            "a" => {
                plain(self, "href", K::Page, U::Followed, "a href");
                plain(self, "ping", K::Service, U::Possible, "a ping");
            }
            "area" => drop(plain(self, "href", K::Page, U::Followed, "area href")),
            "img" | "image" => self.picture(tag, place),
            "source" => self.source(tag, place),
            "picture" => self.open.push(Open::Picture(None)),
            "video" | "audio" => {
                let loads = !tag.get("preload").is_some_and(|it| it.eq_ignore_ascii_case("none"))
                    || tag.attribute("autoplay").is_some();
                let usage = if loads { U::Loaded } else { U::Followed };
                let element = if tag.name == "video" { "video src" } else { "audio src" };
                let decided = plain(self, "src", K::Media, usage, element);
                if tag.name == "video" {
                    plain(self, "poster", K::Picture, U::Loaded, "video poster");
                }
                self.open.push(Open::Media { decided, loads });
            }
            "track" => {
                let shown = tag.attribute("default").is_some();
                let usage = if shown { U::Loaded } else { U::Possible };
                plain(self, "src", K::Track, usage, "track src");
            }
            "link" => self.link(tag, place),
            "script" => return Some(Raw::Script(self.script(tag, place))),
            "style" => return Some(Raw::Style { applies: style_applies(tag) }),
            "noscript" | "noembed" | "noframes" => return Some(Raw::Fallback),
            "title" => return Some(Raw::Title),
            "iframe" => {
                let part = tag.attribute("srcdoc");
                let usage = if part.is_some() { U::Possible } else { U::Loaded };
                plain(self, "src", K::Frame, usage, "iframe src");
                if let Some(part) = part {
                    self.srcdoc(tag, part, place);
                }
            }
            "frameset" => self.open.push(Open::Frameset),
            "frame" => {
                let usage = match self.is_within(|open| matches!(open, Open::Frameset)) {
                    true => U::Loaded,
                    false => U::Possible,
                };
                plain(self, "src", K::Frame, usage, "frame src");
            }
            "embed" => {
                let usage = self.embedded();
                plain(self, "src", K::Embedded, usage, "embed src");
            }
            "object" => {
                let usage = self.embedded();
                plain(self, "data", K::Embedded, usage, "object data");
                plain(self, "codebase", K::Service, U::Possible, "object codebase");
                self.open.push(Open::Object);
            }
            // A template that is a shadow tree is shown at once.
            "template" if tag.attribute("shadowrootmode").is_none() => {
                self.idle += 1;
                self.open.push(Open::Template);
            }
            "form" => drop(plain(self, "action", K::Form, U::Followed, "form action")),
            "button" => drop(plain(self, "formaction", K::Form, U::Followed, "button formaction")),
            "input" => {
                let is = |wanted: &str| {
                    tag.get("type").is_some_and(|it| it.eq_ignore_ascii_case(wanted))
                };
                self.page.asks_password |= is("password");
                let usage = if is("image") { U::Loaded } else { U::Possible };
                plain(self, "src", K::Picture, usage, "input src");
                plain(self, "formaction", K::Form, U::Followed, "input formaction");
            }
            "body" => drop(plain(self, "background", K::Picture, U::Styled, "background")),
            "table" => {
                plain(self, "background", K::Picture, U::Styled, "background");
                self.open.push(Open::Table);
            }
            // Outside a table there are no parts of one.
            "tr" | "td" | "th" | "thead" | "tbody" | "tfoot"
                if self.is_within(|open| matches!(open, Open::Table)) =>
            {
                plain(self, "background", K::Picture, U::Styled, "background");
            }
            "base" if self.page.base.is_none() && self.idle == 0 => {
                self.page.base = tag.get("href").map(|it| it.trim().to_owned());
                self.page.before_base = self.page.links.len();
            }
            "blockquote" | "q" | "ins" | "del" => {
                plain(self, "cite", K::Page, U::Possible, "cite");
            }
            "meta" => self.meta(tag, place),
            _ => {}
        }
        None
    }

    fn embedded(&self) -> Usage {
        // What stands in for an object is not asked for while the object is shown.
        match self.is_within(|open| matches!(open, Open::Object)) {
            true => Usage::Possible,
            false => Usage::Loaded,
        }
    }
}

/// Elements that stand in the head, or around it.
fn of_head(name: &str) -> bool {
    let head = [
        "html", "head", "base", "basefont", "bgsound", "link", "meta", "noframes", "noscript",
        "script", "style", "template", "title",
    ];
    head.contains(&name)
}

/// Values of `data-…` are anything; these are taken for addresses.
fn looks_like_address(value: &str) -> bool {
    let value = value.trim();
    !value.is_empty()
        && value.len() < 2048
        && !value.contains(char::is_whitespace)
        && !value.starts_with(['{', '[', '#'])
        && (value.contains("://") || value.contains('/') || value.contains('.'))
        && !value.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.' || byte == b'/')
}

/// A place in a text that begins at another place.
fn beside(begin: Place, within: Place) -> Place {
    match within.line {
        1 => Place { line: begin.line, column: begin.column + within.column - 1 },
        line => Place { line: begin.line + line - 1, column: within.column },
    }
}
