//! Addresses made absolute. Pages of a site name the same addresses again and again, so what is
//! known of one is kept: making it absolute and looking at its words costs more than reading it.

use super::acting::does_something;
use super::site::{Site, key_of};
use fernweh_core::page::{Decoded, fragment_key};
use std::collections::HashMap;
use std::sync::Arc;
use url::{Position, Url};

/// Addresses that are remembered; beyond, all are forgotten.
const REMEMBERED: usize = 20_000;

/// An absolute address of the web, and what does not depend on who names it.
#[derive(Debug)]
pub(super) struct Joined {
    /// Without the place in the page.
    pub url: Url,
    pub key: u64,
    /// The key of the place in the page, if one is named.
    pub fragment: Option<u64>,
    pub inside: bool,
    pub acts: bool,
}

impl Joined {
    /// An absolute address; `None` if it is none of the web.
    pub fn new(site: &Site<'_>, mut url: Url) -> Option<Self> {
        if !matches!(url.scheme(), "http" | "https") {
            return None;
        }
        let fragment = url.fragment().filter(|it| !it.is_empty() && !it.starts_with(":~:"));
        let fragment = fragment.map(|fragment| {
            let decoded = percent_encoding::percent_decode_str(fragment).decode_utf8_lossy();
            fragment_key(decoded.split(":~:").next().unwrap_or_default())
        });
        url.set_fragment(None);
        let (inside, acts) = (site.holds(&url), does_something(&url));
        let key = key_of(url.as_str());
        Some(Self { url, key, fragment, inside, acts })
    }

    pub fn target(&self) -> &str {
        self.url.as_str()
    }
}

/// What a reader remembers.
#[derive(Default)]
pub(super) struct Memory(HashMap<u64, Option<Arc<Joined>>>);

impl Memory {
    /// An address of a text, made absolute.
    pub fn join(
        &mut self,
        site: &Site<'_>,
        decoded: &Decoded<'_>,
        base: &Url,
        address: &str,
    ) -> Option<Arc<Joined>> {
        let make = || {
            let url = decoded.join(base, address)?;
            Joined::new(site, url).map(Arc::new)
        };
        // What an address depends on, beside itself.
        let around = if address.starts_with("http://") || address.starts_with("https://") {
            0
        } else if address.starts_with('/')
            && !address.starts_with("//")
            && !address[1..].starts_with('\\')
        {
            fragment_key(&base[..Position::BeforePath])
        } else if address.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '.' || c == '_') {
            let path = &base[..Position::AfterPath];
            fragment_key(&path[..path.rfind('/').unwrap_or(path.len())]).rotate_left(1)
        } else {
            return make();
        };
        if !address.is_ascii() {
            return make();
        }
        if self.0.len() >= REMEMBERED {
            self.0.clear();
        }
        self.0.entry(fragment_key(address) ^ around.rotate_left(23)).or_insert_with(make).clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::page::{TextKind, decode};

    #[test]
    fn what_is_remembered_is_what_would_be_made_anew() {
        let start = Url::parse("https://a.example/sub/").unwrap();
        let site = Site { start: &start, old: None };
        let decoded = decode(b"", None, TextKind::Plain);
        let mut memory = Memory::default();
        let bases = [
            "https://a.example/sub/x/y?q",
            "https://a.example/sub/x/",
            "https://a.example/sub/",
            "http://a.example/sub/x/y",
            "https://b.example:81/sub/x/y",
        ];
        let addresses = [
            "a",
            "/a",
            "//c.example/a",
            "../a",
            "./a#b",
            "?a",
            "#a",
            "",
            "https://c.example/",
            "http:a",
            "https:a",
            "/\\c.example/a",
            "\\a",
            "mailto:a@b.example",
            "a?delete=1",
            "/sub",
            "/sub/x",
        ];
        for _ in 0..2 {
            for base in bases {
                let base = Url::parse(base).unwrap();
                for address in addresses {
                    let kept = memory.join(&site, &decoded, &base, address);
                    let made = base.join(address).ok().and_then(|url| Joined::new(&site, url));
                    let show = |it: &Joined| (it.url.to_string(), it.fragment, it.inside, it.acts);
                    let (kept, made) = (kept.as_deref().map(show), made.as_ref().map(show));
                    assert_eq!(kept, made, "{address} on {base}");
                }
            }
        }
    }
}
