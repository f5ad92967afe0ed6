//! HTML, read with `lol_html` (the tokenizing rules of the HTML standard).

use super::elements::{Attribute, Reader, Space, Tag};
use super::text_of::words_of;
use super::{Page, Place, Places};
use lol_html::html_content::Element;
use lol_html::{HtmlRewriter, MemorySettings, Settings, element};
use std::cell::RefCell;
use std::rc::Rc;

/// Reads a page. `words` says whether what visitors read is wanted too.
pub fn read_html(html: &str, words: bool) -> Page {
    let reader = Reader::new(read_into);
    let mut page = read(reader, html);
    if words {
        page.text = words_of(html);
    }
    page
}

/// Reads a part of a page.
pub(super) fn read_into(reader: Reader, html: &str) -> Page {
    read(reader, html)
}

struct State<'a> {
    html: &'a str,
    reader: Reader,
    places: Places<'a>,
}

fn read(reader: Reader, html: &str) -> Page {
    let state = RefCell::new(State { html, reader, places: Places::new(html) });
    // Ends of elements are told to handlers that outlive everything else.
    let ends: Rc<RefCell<Vec<usize>>> = Rc::default();
    let told = ends.clone();
    let settings = Settings::new()
        .append_element_content_handler(element!("*", |el| {
            let state = &mut *state.borrow_mut();
            for before in told.borrow_mut().drain(..) {
                state.reader.end(before);
            }
            start(state, el, &told);
            Ok(())
        }))
        .with_memory_settings(MemorySettings::new().with_max_allowed_memory_usage(usize::MAX));
    {
        let mut rewriter = HtmlRewriter::new(settings, |_: &[u8]| {});
        // What follows something unreadable is not reported; what came before is.
        if rewriter.write(html.as_bytes()).is_ok() {
            let _ = rewriter.end();
        }
    }
    state.into_inner().reader.page
}

/// Where the text of an element ends that holds nothing but text (HTML standard, "RAWTEXT end tag
/// name state" and its sisters): at its end tag.
fn raw_end(rest: &str, name: &str) -> usize {
    let bytes = rest.as_bytes();
    // In a script, `<!-- <script>` makes the next `</script>` a part of the text.
    let (mut escaped, mut doubly) = (false, false);
    let is_script = name == "script";
    let named = |at: usize, name: &str| {
        let end = at + name.len();
        bytes.get(at..end).is_some_and(|is| is.eq_ignore_ascii_case(name.as_bytes()))
            && bytes.get(end).is_none_or(|b| b.is_ascii_whitespace() || matches!(b, b'/' | b'>'))
    };
    for at in memchr::memchr2_iter(b'<', b'-', bytes) {
        let here = &bytes[at..];
        if is_script && here.starts_with(b"<!--") {
            escaped = true;
        } else if is_script && here.starts_with(b"-->") {
            (escaped, doubly) = (false, false);
        } else if here.starts_with(b"</") && named(at + 2, name) {
            if !doubly {
                return at;
            }
            doubly = false;
        } else if escaped && here[0] == b'<' && named(at + 1, "script") {
            doubly = true;
        }
    }
    bytes.len()
}

fn start(state: &mut State<'_>, el: &mut Element<'_, '_>, told: &Rc<RefCell<Vec<usize>>>) {
    let name = el.tag_name();
    let space = match el.namespace_uri() {
        "http://www.w3.org/1999/xhtml" => Space::Html,
        "http://www.w3.org/2000/svg" => Space::Svg,
        _ => Space::Other,
    };
    // Most elements have nothing to say here.
    let written = el.attributes();
    if written.is_empty() && space == Space::Html && !speaks_alone(&name) {
        state.reader.passes(&name);
        return;
    }
    let mut attributes = Vec::with_capacity(written.len());
    for attribute in written {
        let name = attribute.name();
        if is_plain(&name) {
            continue;
        }
        let value = attribute.value();
        let value = if value.contains('\0') { value.replace('\0', "\u{fffd}") } else { value };
        let value = match value.contains('&') {
            true => htmlize::unescape_attribute(value).into_owned(),
            false => value,
        };
        let at = attribute.value_source_location().map_or(0, |at| at.bytes().start);
        attributes.push(Attribute { name, value, at });
    }
    let tag =
        Tag { name: &name, space, attributes: &attributes, span: el.source_location().bytes() };
    let before = state.reader.opened();
    let places = &mut state.places;
    let mut place = |at: usize| -> Place { places.at(at) };
    let raw = state.reader.start(&tag, &mut place);
    if Reader::wants_end(&name, space) {
        let told = told.clone();
        // An element that can have no end has none to tell.
        let _ = el.on_end_tag(Box::new(move |_| {
            told.borrow_mut().push(before);
            Ok(())
        }));
    }
    if let Some(raw) = raw {
        let begins = tag.span.end;
        let rest = state.html.get(begins..).unwrap_or_default();
        let text = &rest[..raw_end(rest, &name)];
        // In a drawing such a text may be marked as one.
        let marked = text.trim().strip_prefix("<![CDATA[").and_then(|it| it.strip_suffix("]]>"));
        let text = marked.filter(|_| space == Space::Svg).unwrap_or(text);
        if !text.is_empty() {
            let at = state.places.at(begins);
            state.reader.text(&raw, text, at, tag.span);
        }
    }
}

/// Elements that count without any attribute.
fn speaks_alone(name: &str) -> bool {
    Reader::wants_end(name, Space::Html)
        || matches!(
            name,
            "script" | "style" | "noscript" | "noembed" | "noframes" | "title" | "frameset"
        )
}

/// Attributes that hold no address, whatever the element.
fn is_plain(name: &str) -> bool {
    matches!(
        name,
        "class"
            | "alt"
            | "title"
            | "width"
            | "height"
            | "target"
            | "role"
            | "lang"
            | "dir"
            | "tabindex"
            | "value"
            | "placeholder"
            | "colspan"
            | "rowspan"
            | "align"
            | "valign"
            | "border"
            | "color"
            | "size"
            | "datetime"
            | "label"
            | "for"
            | "checked"
            | "selected"
    ) || name.starts_with("aria-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_ends_at_its_own_end_tag() {
        let of = |rest: &str, name: &str| rest[..raw_end(rest, name)].to_owned();
        assert_eq!(of("a{}</STYLE >b", "style"), "a{}");
        assert_eq!(of("a</styles></style>", "style"), "a</styles>");
        assert_eq!(of("a</style", "style"), "a");
        assert_eq!(
            of("x<!-- <script> </script> --></script>", "script"),
            "x<!-- <script> </script> -->"
        );
        assert_eq!(of("x<!-- </script>", "script"), "x<!-- ");
        assert_eq!(of("no end", "title"), "no end");
    }
}
