//! Which web addresses occur in a value, whatever they are: the counting of a survey.

use super::spelling::{Encoding, next};
use memchr::memmem::Finder;
use regex::bytes::Regex;
use std::sync::LazyLock;

/// Scheme, host and port of an address.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Origin {
    /// `http`, `https`, or nothing for an address that begins with `//`.
    pub scheme: String,
    /// The host, lower case, and the port if one is written.
    pub host: String,
}

impl std::fmt::Display for Origin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.scheme.as_str() {
            "" => write!(f, "//{}", self.host),
            scheme => write!(f, "{scheme}://{}", self.host),
        }
    }
}

const SLASH: &str = r"(?:\\*/|%(?:25)*2f|\\+u002f|&#47;|&#x2f;|&sol;)";
const COLON: &str = r"(?::|%(?:25)*3a|&#58;|&#x3a;|&colon;)";
const DOT: &str = r"(?:\.|&#46;|&#x2e;|&period;)";
const LABEL: &str = r"[a-z0-9\x80-\xff](?:[a-z0-9\x80-\xff_-]*[a-z0-9\x80-\xff])?";

fn ready(pattern: &str) -> Regex {
    Regex::new(&format!("(?i-u){pattern}")).expect("the pattern is valid")
}

/// Where an address can begin: a scheme, or two slashes in the usual spellings.
static BEGINS: LazyLock<Regex> = LazyLock::new(|| {
    ready(r"http|//|/\\|%2f%2f|%252f%252f|u002f\\|&#47;&#47;|&#x2f;&#x2f;|&sol;&sol;")
});

/// An address with its scheme.
static WITH_SCHEME: LazyLock<Regex> = LazyLock::new(|| {
    ready(&format!(
        r"\A(https?){COLON}{SLASH}{SLASH}({LABEL}(?:{DOT}{LABEL})*)(?:{COLON}([0-9]{{1,5}})\b)?"
    ))
});

/// An address that begins with two slashes.
static RELATIVE: LazyLock<Regex> = LazyLock::new(|| {
    ready(&format!(r"\A{SLASH}{SLASH}({LABEL}(?:{DOT}{LABEL})+)(?:{COLON}([0-9]{{1,5}})\b)?"))
});

/// What two slashes are never without, in any spelling.
static SLASHES: LazyLock<[Finder<'static>; 6]> =
    LazyLock::new(|| ["//", "\\/", "%2", "u002", "&#", "&sol;"].map(Finder::new));

/// The longest address that is read (bytes), up to its port.
const LONGEST: usize = 1000;

/// Every address in the value and how its slashes are spelled, once each.
pub fn origins(value: &[u8]) -> Vec<(Origin, Encoding)> {
    let mut found = Vec::new();
    if !SLASHES.iter().any(|slashes| slashes.find(value).is_some()) {
        return found;
    }
    let mut at = 0;
    while let Some(hit) = BEGINS.find_at(value, at) {
        at = hit.start() + 1;
        let is_scheme = value[hit.start()].eq_ignore_ascii_case(&b'h');
        // Backslashes belong to the slash behind them.
        let escapes = value[..hit.start()].iter().rev().take_while(|byte| **byte == b'\\').count();
        let start = if is_scheme { hit.start() } else { hit.start() - escapes };
        if !is_scheme && !may_begin(value, start) {
            continue;
        }
        let rest = &value[start..value.len().min(start + LONGEST)];
        let pattern = if is_scheme { &WITH_SCHEME } else { &RELATIVE };
        let Some(address) = pattern.captures(rest) else { continue };
        let text = |n: usize| {
            address.get(n).map(|part| String::from_utf8_lossy(part.as_bytes()).to_lowercase())
        };
        let (scheme, host, port) = match is_scheme {
            true => (text(1), text(2), text(3)),
            false => (None, text(1), text(2)),
        };
        let Some(host) = host else { continue };
        at = start + address.get(0).map_or(1, |whole| whole.end());
        let host =
            ["&#46;", "&#x2e;", "&period;"].iter().fold(host, |host, dot| host.replace(dot, "."));
        let host = match port {
            Some(port) => format!("{host}:{port}"),
            None => host,
        };
        let slash = is_scheme.then(|| rest.iter().position(|byte| b":%&".contains(byte))).flatten();
        let spelled = next(rest, slash.unwrap_or(0)).map_or(Encoding::Plain, |unit| {
            let behind = next(rest, unit.end).map_or(Encoding::Plain, |unit| unit.encoding);
            // The colon of JSON stands plain before slashes that do not.
            if is_scheme && unit.encoding == Encoding::Plain { behind } else { unit.encoding }
        });
        let origin = Origin { scheme: scheme.unwrap_or_default(), host };
        if !found.contains(&(origin.clone(), spelled)) {
            found.push((origin, spelled));
        }
    }
    found
}

/// Whether two slashes here can begin an address: at the start, or behind a space, a quote or
/// a sign that opens something.
fn may_begin(value: &[u8], start: usize) -> bool {
    match start.checked_sub(1).map(|before| value[before]) {
        None => true,
        Some(byte) => byte.is_ascii_whitespace() || b"\"'`([=,;>".contains(&byte),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_slashes_are_known_in_every_spelling_and_only_where_an_address_can_begin() {
        for (text, expected) in [
            ("\"\\/\\/a.example\\/x\"", "//a.example"),
            ("u=%22%2F%2Fa.example", ""),
            (" %2f%2fa.example", "//a.example"),
            ("(&#47;&#47;a.example)", "//a.example"),
            ("'\\u002f\\u002fa.example'", "//a.example"),
            ("HTTP&colon;&sol;&sol;a&period;example", "http://a.example"),
            ("http:\\\\/\\\\/a.example", "http://a.example"),
            ("http%253A%252F%252Fa.example%252Fx", "http://a.example"),
            ("x//a.example", ""),
            ("https://a.example:81/", "https://a.example:81"),
        ] {
            let found: Vec<String> =
                origins(text.as_bytes()).iter().map(|(origin, _)| origin.to_string()).collect();
            assert_eq!(found.join(" "), expected, "{text}");
        }
    }

    #[test]
    fn each_spelling_of_an_address_is_told() {
        for (text, expected) in [
            ("http://a.example", Encoding::Plain),
            ("http:\\/\\/a.example", Encoding::Json),
            ("http:\\u002f\\u002fa.example", Encoding::Json),
            ("https%3A%2F%2Fa.example", Encoding::Percent),
            ("http&#58;&#47;&#47;a.example", Encoding::Entity),
            ("http:&#47;&#47;a.example", Encoding::Entity),
            ("\"//a.example\"", Encoding::Plain),
            ("\"\\/\\/a.example\"", Encoding::Json),
        ] {
            assert_eq!(origins(text.as_bytes())[0].1, expected, "{text}");
        }
        assert_eq!(origins(b"http://a.example http:\\/\\/a.example http://a.example").len(), 2);
    }

    #[test]
    fn addresses_are_counted_in_every_spelling_and_once_per_value() {
        let text = br#"http://A.example/x http://a.example http:\/\/b.example\/ u=https%3A%2F%2Fc.example
            "//d.example/x" http&#58;&#47;&#47;e&#46;example http://f.example:8080/ // note, a//b.c"#;
        let shown: Vec<String> =
            origins(text).iter().map(|(origin, _)| origin.to_string()).collect();
        assert_eq!(
            shown,
            [
                "http://a.example",
                "http://b.example",
                "https://c.example",
                "//d.example",
                "http://e.example",
                "http://f.example:8080"
            ]
        );
    }
}
