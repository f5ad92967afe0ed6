//! XML: pages of XHTML and SVG, sitemaps (sitemaps.org protocol) and feeds (RSS 2.0, Atom RFC 4287).

use super::elements::{Attribute, Raw, Reader, Space, Tag};
use super::html::read_into;
use super::{Link, LinkKind, Page, Place, Places, Usage};
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;
use std::ops::Range;

/// Reads a page of XHTML or SVG; browsers show nothing behind a fault in the XML.
pub fn read_xml(xml: &str) -> Page {
    let mut reader = NsReader::from_str(xml);
    reader.config_mut().check_end_names = true;
    let mut places = Places::new(xml);
    let mut page = Reader::new(read_into);
    let mut open: Vec<(usize, bool)> = Vec::new();
    let mut gathered: Option<(Raw, String, usize, Range<usize>, usize)> = None;
    loop {
        let offset = reader.buffer_position() as usize;
        let Ok(event) = reader.read_event() else { break };
        let end = reader.buffer_position() as usize;
        match event {
            Event::Start(ref tag) | Event::Empty(ref tag) => {
                let (space, name) = named(&reader, tag);
                let attributes = attributes(tag, xml);
                let span = offset..end;
                let tag = Tag { name: &name, space, attributes: &attributes, span: span.clone() };
                let before = page.opened();
                let raw = page.start(&tag, &mut |at| places.at(at));
                let wants = Reader::wants_end(&name, space);
                if matches!(event, Event::Empty(_)) {
                    if wants {
                        page.end(before);
                    }
                    continue;
                }
                open.push((before, wants));
                if let Some(raw) = raw
                    && gathered.is_none()
                    && raw != Raw::Fallback
                {
                    gathered = Some((raw, String::new(), end, span, open.len()));
                }
            }
            Event::End(_) => {
                if gathered.as_ref().is_some_and(|gathered| gathered.4 == open.len())
                    && let Some((raw, text, at, span, _)) = gathered.take()
                {
                    page.text(&raw, &text, places.at(at), span);
                }
                if let Some((before, true)) = open.pop() {
                    page.end(before);
                }
            }
            Event::Text(text) => {
                if let Some((_, collected, ..)) = &mut gathered {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Event::CData(text) => {
                if let Some((_, collected, ..)) = &mut gathered {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Event::GeneralRef(name) => {
                if let Some((_, collected, ..)) = &mut gathered {
                    collected.push_str(&entity(&name));
                }
            }
            Event::PI(instruction) => {
                let text = String::from_utf8_lossy(&instruction).into_owned();
                if let Some(rest) = text.strip_prefix("xml-stylesheet")
                    && let Some(address) = pseudo_attribute(rest, "href")
                {
                    let style = pseudo_attribute(rest, "type").is_none_or(|it| it == "text/css");
                    let usage = if style { Usage::Loaded } else { Usage::Possible };
                    page.page.links.push(Link {
                        kind: LinkKind::Style,
                        usage,
                        element: "xml-stylesheet href".into(),
                        address: htmlize::unescape_attribute(address).into_owned(),
                        at: places.at(offset),
                        span: offset..end,
                    });
                }
            }
            Event::Eof => break,
            _ => {}
        }
    }
    page.page
}

fn named(reader: &NsReader<&[u8]>, tag: &BytesStart<'_>) -> (Space, String) {
    let (space, local) = reader.resolver().resolve_element(tag.name());
    let space = match space {
        ResolveResult::Bound(found) if found.as_ref() == b"http://www.w3.org/1999/xhtml" => {
            Space::Html
        }
        ResolveResult::Bound(found) if found.as_ref() == b"http://www.w3.org/2000/svg" => {
            Space::Svg
        }
        _ => Space::Other,
    };
    (space, String::from_utf8_lossy(local.as_ref()).into_owned())
}

fn attributes(tag: &BytesStart<'_>, xml: &str) -> Vec<Attribute> {
    let begins = xml.as_ptr() as usize;
    let read = tag.attributes().flatten().map(|attribute| {
        let value = String::from_utf8_lossy(&attribute.value).into_owned();
        // Values that are borrowed lie in the text itself.
        let at = (attribute.value.as_ptr() as usize).wrapping_sub(begins);
        Attribute {
            name: String::from_utf8_lossy(attribute.key.as_ref()).into_owned(),
            value: htmlize::unescape_attribute(value).into_owned(),
            at: if at < xml.len() { at } else { 0 },
        }
    });
    read.collect()
}

fn entity(name: &[u8]) -> String {
    htmlize::unescape(format!("&{};", String::from_utf8_lossy(name))).into_owned()
}

/// A value of a processing instruction (W3C "Associating Style Sheets with XML documents").
fn pseudo_attribute<'a>(text: &'a str, name: &str) -> Option<&'a str> {
    let at = text.find(&format!("{name}="))?;
    let rest = &text[at + name.len() + 1..];
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    rest[1..].split(quote).next()
}

/// The pages that a sitemap or a feed names; what follows a fault in the XML is not read.
pub fn xml_links(xml: &str) -> Vec<Link> {
    let mut reader = NsReader::from_str(xml);
    let mut places = Places::new(xml);
    let mut found = Vec::new();
    let mut open: Option<(&'static str, LinkKind, String, Place, Range<usize>)> = None;
    loop {
        let offset = reader.buffer_position() as usize;
        let Ok(event) = reader.read_event() else { return found };
        let end = reader.buffer_position() as usize;
        match event {
            Event::Start(ref tag) | Event::Empty(ref tag) => {
                let Some((name, kind)) = of_feed(tag.name().as_ref()) else {
                    open = None;
                    continue;
                };
                let attributes = attributes(tag, xml);
                let address =
                    attributes.iter().find(|it| matches!(it.name.as_str(), "href" | "url"));
                let permanent =
                    !attributes.iter().any(|it| it.name == "isPermaLink" && it.value == "false");
                if let Some(address) = address {
                    let rel =
                        attributes.iter().find(|it| it.name == "rel").map(|it| it.value.as_str());
                    let kind = match rel {
                        Some("alternate") | None if name == "link" => kind,
                        Some(rel) if rel.contains("://") || rel == "hub" => LinkKind::Service,
                        _ => kind,
                    };
                    found.push(Link {
                        kind,
                        usage: Usage::Followed,
                        element: name.into(),
                        address: address.value.trim().to_owned(),
                        at: places.at(address.at.max(offset)),
                        span: offset..end,
                    });
                } else if matches!(event, Event::Start(_)) && (name != "guid" || permanent) {
                    open = Some((name, kind, String::new(), places.at(end), offset..end));
                }
            }
            Event::Text(text) => {
                if let Some((_, _, collected, ..)) = &mut open {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Event::CData(text) => {
                if let Some((_, _, collected, ..)) = &mut open {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Event::GeneralRef(name) => {
                if let Some((_, _, collected, ..)) = &mut open {
                    collected.push_str(&entity(&name));
                }
            }
            Event::End(_) => {
                if let Some((element, kind, collected, at, span)) = open.take() {
                    let address = collected.trim().to_owned();
                    let web = element != "guid" || address.contains("://");
                    if !address.is_empty() && web {
                        let (element, usage) = (element.into(), Usage::Followed);
                        found.push(Link { kind, usage, element, address, at, span });
                    }
                }
            }
            Event::Eof => return found,
            _ => {}
        }
    }
}

/// Elements of sitemaps and feeds that hold an address.
fn of_feed(name: &[u8]) -> Option<(&'static str, LinkKind)> {
    Some(match name {
        b"loc" => ("loc", LinkKind::Page),
        b"link" | b"atom:link" => ("link", LinkKind::Page),
        b"xhtml:link" => ("xhtml:link", LinkKind::Alternate),
        b"enclosure" => ("enclosure", LinkKind::Media),
        b"guid" => ("guid", LinkKind::Page),
        b"image:loc" => ("image:loc", LinkKind::Picture),
        b"video:content_loc" => ("video:content_loc", LinkKind::Media),
        b"video:thumbnail_loc" => ("video:thumbnail_loc", LinkKind::Picture),
        b"media:content" => ("media:content", LinkKind::Media),
        b"media:thumbnail" => ("media:thumbnail", LinkKind::Picture),
        b"comments" => ("comments", LinkKind::Page),
        _ => return None,
    })
}
