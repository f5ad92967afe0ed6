//! HTML, read with `lol_html` (the tokenizing rules of the HTML standard).

use super::elements::{Attribute, Raw, Reader, Space, Tag};
use super::text_of::Visible;
use super::{Page, Place, Places};
use lol_html::html_content::Element;
use lol_html::{HtmlRewriter, MemorySettings, Settings, doc_text, element, text};
use std::cell::RefCell;
use std::ops::Range;
use std::rc::Rc;

/// Reads a page. `words` says whether what visitors read is wanted too.
pub fn read_html(html: &str, words: bool) -> Page {
    let visible = words.then(|| Rc::new(RefCell::new(Visible::default())));
    let mut page = read(Reader::default(), html, visible.clone());
    if let Some(visible) = visible {
        page.text = visible.take().finish();
    }
    page
}

/// Reads a part of a page.
pub(super) fn read_into(reader: Reader, html: &str) -> Page {
    read(reader, html, None)
}

/// Text of an element that is no content, as it comes.
struct Gathered {
    raw: Raw,
    text: String,
    at: Option<usize>,
    span: Range<usize>,
}

struct State<'a> {
    reader: Reader,
    places: Places<'a>,
    gathered: Option<Gathered>,
}

impl State<'_> {
    fn finish_text(&mut self) {
        if let Some(Gathered { raw, text, at, span }) = self.gathered.take()
            && let Some(at) = at
        {
            let at = self.places.at(at);
            self.reader.text(&raw, &text, at, span);
        }
    }
}

fn read(reader: Reader, html: &str, visible: Option<Rc<RefCell<Visible>>>) -> Page {
    // Without a `<` there is no element.
    let state = RefCell::new(State { reader, places: Places::new(html), gathered: None });
    // Ends of elements are told to handlers that outlive everything else.
    let ends: Rc<RefCell<Vec<usize>>> = Rc::default();
    let (told, seen) = (ends.clone(), visible.clone());
    let mut settings = Settings::new()
        .append_element_content_handler(element!("*", |el| {
            let state = &mut *state.borrow_mut();
            state.finish_text();
            for before in told.borrow_mut().drain(..) {
                state.reader.end(before);
            }
            start(state, el, &told);
            if let Some(visible) = &seen {
                visible.borrow_mut().element(&el.tag_name());
            }
            Ok(())
        }))
        .append_element_content_handler(text!(
            "style, script, noscript, noembed, noframes, title",
            |chunk| {
                let state = &mut *state.borrow_mut();
                if let Some(gathered) = &mut state.gathered {
                    let start = chunk.source_location().bytes().start;
                    gathered.at.get_or_insert(start);
                    gathered.text.push_str(chunk.as_str());
                    if chunk.last_in_text_node() {
                        state.finish_text();
                    }
                }
                Ok(())
            }
        ))
        .with_memory_settings(MemorySettings::new().with_max_allowed_memory_usage(usize::MAX));
    if let Some(visible) = visible {
        settings = settings.append_document_content_handler(doc_text!(move |chunk| {
            visible.borrow_mut().text(chunk.as_str(), chunk.text_type(), chunk.last_in_text_node());
            Ok(())
        }));
    }
    {
        let mut rewriter = HtmlRewriter::new(settings, |_: &[u8]| {});
        // What follows something unreadable is not reported; what came before is.
        if rewriter.write(html.as_bytes()).is_ok() {
            let _ = rewriter.end();
        }
    }
    let mut state = state.into_inner();
    state.finish_text();
    state.reader.page
}

fn start(state: &mut State<'_>, el: &mut Element<'_, '_>, told: &Rc<RefCell<Vec<usize>>>) {
    let name = el.tag_name();
    let space = match el.namespace_uri() {
        "http://www.w3.org/1999/xhtml" => Space::Html,
        "http://www.w3.org/2000/svg" => Space::Svg,
        _ => Space::Other,
    };
    let attributes: Vec<Attribute> = el
        .attributes()
        .iter()
        .map(|attribute| Attribute {
            name: attribute.name(),
            value: htmlize::unescape_attribute(attribute.value().replace('\0', "\u{fffd}"))
                .into_owned(),
            at: attribute.value_source_location().map_or(0, |at| at.bytes().start),
        })
        .collect();
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
    state.gathered = raw.map(|raw| Gathered { raw, text: String::new(), at: None, span: tag.span });
}
