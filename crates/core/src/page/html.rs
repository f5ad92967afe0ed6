//! Addresses in HTML, read with `lol_html` (the parsing rules of the HTML standard).

use super::{Lines, Link, LinkKind, css_links};
use crate::rewrite::spelling;
use lol_html::html_content::Element;
use lol_html::{HtmlRewriter, Settings, element, text};
use std::cell::RefCell;

/// Every address of a page, with its role, in the order of the page.
pub fn html_links(html: &[u8]) -> Vec<Link> {
    let found: RefCell<Vec<Link>> = RefCell::default();
    let lines = RefCell::new(Lines::new(html));
    // The text of a style element may come in several pieces.
    let style: RefCell<(String, usize)> = RefCell::default();
    let settings = Settings::new()
        .append_element_content_handler(element!("*", |el| {
            let line = lines.borrow_mut().at(el.source_location().bytes().start);
            of_element(el, line, &mut found.borrow_mut());
            Ok(())
        }))
        .append_element_content_handler(text!("style", |chunk| {
            let mut style = style.borrow_mut();
            if style.0.is_empty() {
                style.1 = lines.borrow_mut().at(chunk.source_location().bytes().start);
            }
            style.0.push_str(chunk.as_str());
            if chunk.last_in_text_node() {
                let first = style.1;
                let links = css_links(&std::mem::take(&mut style.0));
                found.borrow_mut().extend(links.into_iter().map(|link| Link {
                    element: format!("style {}", link.element),
                    line: first + link.line - 1,
                    ..link
                }));
            }
            Ok(())
        }));
    let mut reader = HtmlRewriter::new(settings, |_: &[u8]| {});
    // What follows something unreadable is not reported; what came before is.
    if reader.write(html).is_ok() {
        let _ = reader.end();
    }
    found.take()
}

fn of_element(el: &Element<'_, '_>, line: usize, found: &mut Vec<Link>) {
    let tag = el.tag_name();
    let rel = el.get_attribute("rel").unwrap_or_default().to_ascii_lowercase();
    let kind_of = |attribute: &str| -> Option<LinkKind> {
        Some(match (tag.as_str(), attribute) {
            ("a" | "area", "href") => LinkKind::Page,
            ("link", "href") => return link_kind(&rel, el.get_attribute("as")),
            ("script", "src") => LinkKind::Script,
            ("img", "src") | ("input", "src") | ("video", "poster") => LinkKind::Picture,
            ("image", "href" | "xlink:href") => LinkKind::Picture,
            ("img" | "source", "srcset") => LinkKind::PictureSet,
            ("audio" | "video" | "source" | "track", "src") => LinkKind::Media,
            ("iframe" | "frame", "src") => LinkKind::Frame,
            ("embed", "src") | ("object", "data") => LinkKind::Other,
            ("form", "action") | ("button" | "input", "formaction") => LinkKind::Form,
            ("base", "href") => LinkKind::Base,
            (_, "background") => LinkKind::Picture,
            _ => return None,
        })
    };
    for attribute in el.attributes() {
        let name = attribute.name();
        let value = decode_entities(&attribute.value());
        if name == "style" {
            found.extend(css_links(&value).into_iter().map(|link| Link {
                element: format!("{tag} style {}", link.element),
                line,
                ..link
            }));
            continue;
        }
        let Some(kind) = kind_of(&name) else { continue };
        let element = format!("{tag} {name}");
        let mut add = |address: &str| {
            let (element, address) = (element.clone(), address.trim().to_owned());
            found.push(Link { kind, element, address, line });
        };
        if kind == LinkKind::PictureSet {
            srcset(&value).into_iter().for_each(add);
        } else {
            add(&value);
        }
    }
    let refresh = el.get_attribute("http-equiv").is_some_and(|v| v.eq_ignore_ascii_case("refresh"));
    if tag == "meta" && refresh {
        let content = decode_entities(&el.get_attribute("content").unwrap_or_default());
        let lower = content.to_ascii_lowercase();
        if let Some(at) = lower.find("url=") {
            let address = content[at + 4..].trim().trim_matches(['"', '\'']).to_owned();
            found.push(Link {
                kind: LinkKind::Page,
                element: "meta refresh".into(),
                address,
                line,
            });
        }
    }
}

fn link_kind(rel: &str, preload: Option<String>) -> Option<LinkKind> {
    let has = |word: &str| rel.split_ascii_whitespace().any(|part| part == word);
    if has("stylesheet") {
        return Some(LinkKind::Style);
    }
    if has("icon") || has("apple-touch-icon") {
        return Some(LinkKind::Picture);
    }
    if has("preload") || has("modulepreload") || has("manifest") {
        return Some(match preload.as_deref() {
            Some("font") => LinkKind::Font,
            Some("style") => LinkKind::Style,
            Some("image") => LinkKind::Picture,
            Some("script") => LinkKind::Script,
            _ => LinkKind::Other,
        });
    }
    let page = ["canonical", "alternate", "next", "prev", "shortlink"];
    page.iter().any(|word| has(word)).then_some(LinkKind::Page)
}

/// The addresses of a `srcset`: candidates are separated by commas, but a comma can
/// also stand inside an address; one that follows white space or ends a word parts.
fn srcset(value: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let mut rest = value.trim_start_matches([' ', '\n', '\t', '\r', ',']);
    while !rest.is_empty() {
        let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
        let word = &rest[..end];
        let address = word.trim_end_matches(',');
        found.push(address);
        rest = &rest[end..];
        if address.len() == word.len() {
            rest = rest.find(',').map_or("", |comma| &rest[comma + 1..]);
        }
        rest = rest.trim_start_matches([' ', '\n', '\t', '\r', ',']);
    }
    found
}

/// Resolves the entities that occur in addresses.
pub(super) fn decode_entities(text: &str) -> String {
    if !text.contains('&') {
        return text.to_owned();
    }
    let b = text.as_bytes();
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    while at < b.len() {
        let next = spelling::entity(b, at);
        match next {
            Some((ch, end)) => {
                out.push(ch);
                at = end;
            }
            None => {
                let ch = text[at..].chars().next().unwrap_or_default();
                out.push(ch);
                at += ch.len_utf8().max(1);
            }
        }
    }
    out
}
