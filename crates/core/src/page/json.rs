//! Addresses in JSON: manifests of web applications (W3C "Web Application Manifest") and
//! structured data (JSON-LD 1.1).

use super::{Link, LinkKind, Place, Places, Usage};
use serde_json::Value;

/// How deep values may lie in each other.
const DEPTH: usize = 64;

/// The addresses of a manifest; they are relative to the manifest.
pub fn manifest_links(text: &str) -> Vec<Link> {
    let Ok(value) = serde_json::from_str::<Value>(text.trim_start_matches('\u{feff}')) else {
        return Vec::new();
    };
    let mut found = Vec::new();
    let mut add = |kind, element: &'static str, address: Option<&Value>| {
        if let Some(address) = address.and_then(Value::as_str) {
            found.push((kind, element, address.to_owned()));
        }
    };
    add(LinkKind::Page, "manifest start_url", value.get("start_url"));
    let each = |name: &str| value.get(name).and_then(Value::as_array).cloned().unwrap_or_default();
    for icon in each("icons") {
        add(LinkKind::Icon, "manifest icons", icon.get("src"));
    }
    for picture in each("screenshots") {
        add(LinkKind::Icon, "manifest screenshots", picture.get("src"));
    }
    for shortcut in each("shortcuts") {
        add(LinkKind::Page, "manifest shortcuts", shortcut.get("url"));
        for icon in shortcut.get("icons").and_then(Value::as_array).into_iter().flatten() {
            add(LinkKind::Icon, "manifest shortcuts", icon.get("src"));
        }
    }
    placed(text, found)
}

/// The addresses of structured data: whatever is written as an absolute http address, but for the
/// names of the vocabulary itself.
pub fn structured_links(text: &str) -> Vec<Link> {
    let Ok(value) = serde_json::from_str::<Value>(text) else { return Vec::new() };
    let mut found = Vec::new();
    walk(&value, "", 0, &mut found);
    placed(text, found)
}

fn walk(value: &Value, key: &str, depth: usize, found: &mut Vec<(LinkKind, &'static str, String)>) {
    if depth > DEPTH || matches!(key, "@context" | "@type" | "@vocab") {
        return;
    }
    match value {
        Value::String(text) => {
            let web = text.starts_with("http://") || text.starts_with("https://");
            if web && !text.contains(char::is_whitespace) && !text.contains("://schema.org/") {
                let picture = matches!(key, "image" | "logo" | "contentUrl" | "thumbnailUrl");
                let kind = if picture { LinkKind::Preview } else { LinkKind::Alternate };
                found.push((kind, "json-ld", text.clone()));
            }
        }
        Value::Array(items) => items.iter().for_each(|item| walk(item, key, depth + 1, found)),
        Value::Object(map) => map.iter().for_each(|(key, item)| walk(item, key, depth + 1, found)),
        _ => {}
    }
}

/// Looks the values up in the text, in their order; one that is written with escapes has the place
/// of the text's beginning.
fn placed(text: &str, found: Vec<(LinkKind, &'static str, String)>) -> Vec<Link> {
    let mut places = Places::new(text);
    let mut from = 0;
    let link = |(kind, element, address): (LinkKind, &'static str, String)| {
        let at = text[from..].find(&format!("\"{address}\"")).map(|at| from + at + 1);
        from = at.unwrap_or(from);
        let at = at.map_or(Place { line: 1, column: 1 }, |at| places.at(at));
        Link { kind, usage: Usage::Possible, element: element.into(), address, at, span: 0..0 }
    };
    found.into_iter().map(link).collect()
}
