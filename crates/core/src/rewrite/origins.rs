//! Which web addresses occur in a value, whatever they are: the counting of a survey.

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

static ADDRESS: LazyLock<Regex> = LazyLock::new(|| {
    let slash = r"(?:\\*/|%(?:25)*2f|\\+u002f|&#47;|&#x2f;|&sol;)";
    let colon = r"(?::|%(?:25)*3a|&#58;|&#x3a;|&colon;)";
    let dot = r"(?:\.|&#46;|&#x2e;|&period;)";
    let label = r"[a-z0-9\x80-\xff](?:[a-z0-9\x80-\xff_-]*[a-z0-9\x80-\xff])?";
    let host = format!(r"{label}(?:{dot}{label})*");
    let pattern = format!(
        r#"(?i-u)(?:(https?){colon}{slash}{slash}({host})|(?:^|[\s"'`(\[=,;>]){slash}{slash}({label}(?:{dot}{label})+))(?:{colon}([0-9]{{1,5}})\b)?"#
    );
    Regex::new(&pattern).expect("the pattern is valid")
});

/// Every address in the value, once each.
pub fn origins(value: &[u8]) -> Vec<Origin> {
    let mut found = Vec::new();
    // Without two slashes in some spelling there is no address; `//` is the cheap case.
    if memchr::memchr3(b'/', b'%', b'&', value).is_none()
        && memchr::memmem::find(value, b"u002").is_none()
    {
        return found;
    }
    for address in ADDRESS.captures_iter(value) {
        let text = |n: usize| {
            address.get(n).map(|part| String::from_utf8_lossy(part.as_bytes()).to_lowercase())
        };
        let Some(host) = text(2).or_else(|| text(3)) else { continue };
        let host =
            ["&#46;", "&#x2e;", "&period;"].iter().fold(host, |host, dot| host.replace(dot, "."));
        let host = match text(4) {
            Some(port) => format!("{host}:{port}"),
            None => host,
        };
        let origin = Origin { scheme: text(1).unwrap_or_default(), host };
        if !found.contains(&origin) {
            found.push(origin);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_counted_in_every_spelling_and_once_per_value() {
        let text = br#"http://A.example/x http://a.example http:\/\/b.example\/ u=https%3A%2F%2Fc.example
            "//d.example/x" http&#58;&#47;&#47;e&#46;example http://f.example:8080/ // note, a//b.c"#;
        let shown: Vec<String> = origins(text).iter().map(ToString::to_string).collect();
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
