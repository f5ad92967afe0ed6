//! Addresses in sitemaps (sitemaps.org protocol) and feeds (RSS 2.0, Atom RFC 4287).

use super::{Lines, Link, LinkKind};
use quick_xml::Reader;
use quick_xml::events::Event;

/// The pages that a sitemap or a feed names; what follows a fault in the XML is not read.
pub fn xml_links(xml: &[u8]) -> Vec<Link> {
    let mut reader = Reader::from_reader(xml);
    let mut lines = Lines::new(xml);
    let mut found = Vec::new();
    let mut open: Option<(&'static str, String, usize)> = None;
    loop {
        let offset = reader.buffer_position() as usize;
        match reader.read_event() {
            Ok(Event::Start(tag) | Event::Empty(tag)) => {
                let name = match tag.local_name().as_ref() {
                    b"loc" => Some("loc"),
                    b"link" => Some("link"),
                    b"enclosure" => Some("enclosure"),
                    _ => None,
                };
                let line = lines.at(offset);
                let attribute = tag
                    .attributes()
                    .flatten()
                    .find(|a| matches!(a.key.local_name().as_ref(), b"href" | b"url"));
                if let (Some(name), Some(attribute)) = (name, attribute) {
                    let value = String::from_utf8_lossy(&attribute.value).into_owned();
                    let address = super::html::decode_entities(&value);
                    found.push(Link { kind: LinkKind::Page, element: name.into(), address, line });
                } else {
                    open = name.map(|name| (name, String::new(), line));
                }
            }
            Ok(Event::Text(text)) => {
                if let Some((_, collected, _)) = &mut open {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Ok(Event::CData(text)) => {
                if let Some((_, collected, _)) = &mut open {
                    collected.push_str(&String::from_utf8_lossy(&text));
                }
            }
            Ok(Event::GeneralRef(name)) => {
                if let Some((_, collected, _)) = &mut open {
                    let entity = format!("&{};", String::from_utf8_lossy(&name));
                    collected.push_str(&super::html::decode_entities(&entity));
                }
            }
            Ok(Event::End(_)) => {
                if let Some((element, collected, line)) = open.take() {
                    let address = collected.trim().to_owned();
                    if !address.is_empty() {
                        let element = element.into();
                        found.push(Link { kind: LinkKind::Page, element, address, line });
                    }
                }
            }
            Ok(Event::Eof) | Err(_) => return found,
            Ok(_) => {}
        }
    }
}
