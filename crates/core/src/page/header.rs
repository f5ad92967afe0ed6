//! Addresses in header lines of an answer: `Link` (RFC 8288) and `Refresh`.

use super::elements::link_uses;
use super::{Link, Place, media};

/// The links of a `Link:` header.
pub fn header_links(value: &str) -> Vec<Link> {
    let mut found = Vec::new();
    let mut rest = value;
    while let Some(open) = rest.find('<') {
        let Some(close) = rest[open..].find('>') else { break };
        let address = &rest[open + 1..open + close];
        let (parameters, after) = parameters(&rest[open + close + 1..]);
        rest = after;
        let get = |name: &str| -> Option<&str> {
            parameters.iter().find(|(is, _)| is == name).map(|(_, value)| value.as_str())
        };
        let applies = get("media").is_none_or(media::applies);
        for (kind, usage) in link_uses(get("rel").unwrap_or_default(), &get, applies) {
            // Browsers take no style sheet from a header.
            let usage = match kind {
                super::LinkKind::Style if get("as").is_none() => super::Usage::Possible,
                _ => usage,
            };
            let (address, at) = (address.trim().to_owned(), Place::default());
            found.push(Link {
                kind,
                usage,
                element: "Link header".into(),
                address,
                at,
                span: 0..0,
            });
        }
    }
    found
}

/// `; name=value; name="value"` up to the comma before the next link, and what follows.
fn parameters(mut rest: &str) -> (Vec<(String, String)>, &str) {
    let mut found = Vec::new();
    loop {
        rest = rest.trim_start();
        let Some(next) = rest.strip_prefix(';') else { return (found, rest) };
        let next = next.trim_start();
        let end = next.find(['=', ';', ',']).unwrap_or(next.len());
        let name = next[..end].trim().to_ascii_lowercase();
        rest = &next[end..];
        let mut value = String::new();
        if let Some(written) = rest.strip_prefix('=') {
            let written = written.trim_start();
            rest = if let Some(quoted) = written.strip_prefix('"') {
                let mut escaped = false;
                let end = quoted.char_indices().find(|(_, c)| {
                    let ends = *c == '"' && !escaped;
                    escaped = *c == '\\' && !escaped;
                    ends
                });
                let end = end.map_or(quoted.len(), |(at, _)| at);
                value = quoted[..end].replace('\\', "");
                quoted.get(end + 1..).unwrap_or_default()
            } else {
                let end = written.find([';', ',']).unwrap_or(written.len());
                written[..end].trim().clone_into(&mut value);
                &written[end..]
            };
        }
        found.push((name, value));
    }
}

#[cfg(test)]
mod tests {
    use super::super::{LinkKind, Usage};
    use super::*;

    #[test]
    fn links_of_a_header_have_their_relation() {
        let text = "<a.png>; rel=\"preload\"; as=image, </b,c>; title=\"x, <no>\"; rel=canonical";
        let found = header_links(text);
        let found: Vec<_> = found.iter().map(|l| (l.kind, l.usage, l.address.as_str())).collect();
        let expected = [
            (LinkKind::Picture, Usage::Loaded, "a.png"),
            (LinkKind::Alternate, Usage::Possible, "/b,c"),
        ];
        assert_eq!(found, expected);
    }
}
