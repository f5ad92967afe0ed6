//! What a page allows itself to load (W3C "Content Security Policy Level 3").

use super::LinkKind;
use serde::{Deserialize, Serialize};
use url::{Host, Url};

/// The policies of a page: each of them must allow a request.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Policies {
    policies: Vec<Vec<Directive>>,
    /// `upgrade-insecure-requests`: every http: request of the page is made over https.
    pub upgrade: bool,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Directive {
    name: String,
    sources: Vec<String>,
}

impl Policies {
    /// The policies of a page that stands within another: it makes its requests over https if the
    /// outer one does.
    pub fn within(&self) -> Self {
        Self { policies: Vec::new(), upgrade: self.upgrade }
    }

    /// Adds a policy of a header, in which a comma parts policies.
    pub fn add_header(&mut self, text: &str) {
        text.split(',').for_each(|policy| self.add(policy));
    }

    /// Adds a policy of a `meta` element, which cannot hold every directive.
    pub fn add_meta(&mut self, text: &str) {
        self.add(text);
    }

    fn add(&mut self, text: &str) {
        let mut policy: Vec<Directive> = Vec::new();
        for part in text.split(';') {
            let mut words = part.split_ascii_whitespace();
            let Some(name) = words.next().map(str::to_ascii_lowercase) else { continue };
            if name == "upgrade-insecure-requests" {
                self.upgrade = true;
            }
            // Of two with the same name the first counts.
            if !policy.iter().any(|known| known.name == name) {
                policy.push(Directive { name, sources: words.map(str::to_owned).collect() });
            }
        }
        if !policy.is_empty() {
            self.policies.push(policy);
        }
    }

    /// Whether a page may say what its relative addresses start from.
    pub fn allow_base(&self, page: &Url, base: &Url) -> bool {
        let each = self.policies.iter().flatten().filter(|directive| directive.name == "base-uri");
        each.into_iter().all(|directive| directive.allows(page, base))
    }

    /// The directive that refuses an address of this kind on a page, if one does. What scripts may
    /// vouch for (`'nonce-…'`, `'strict-dynamic'`, a hash) counts as allowed.
    pub fn refuses(&self, page: &Url, target: &Url, kind: LinkKind) -> Option<&str> {
        let order: &[&str] = match kind {
            LinkKind::Script | LinkKind::Module => {
                &["script-src-elem", "script-src", "default-src"]
            }
            LinkKind::Style => &["style-src-elem", "style-src", "default-src"],
            LinkKind::Picture | LinkKind::PictureSet | LinkKind::Icon | LinkKind::Drawing => {
                &["img-src", "default-src"]
            }
            LinkKind::Font => &["font-src", "default-src"],
            LinkKind::Media | LinkKind::Track => &["media-src", "default-src"],
            LinkKind::Frame => &["frame-src", "child-src", "default-src"],
            LinkKind::Embedded => &["object-src", "default-src"],
            LinkKind::Manifest => &["manifest-src", "default-src"],
            LinkKind::Form => &["form-action"],
            _ => return None,
        };
        self.policies.iter().find_map(|policy| {
            let found = order.iter().find_map(|name| policy.iter().find(|it| it.name == **name));
            let directive = found?;
            (!directive.allows(page, target)).then_some(directive.name.as_str())
        })
    }
}

impl Directive {
    fn allows(&self, page: &Url, target: &Url) -> bool {
        let vouched = |word: &str| {
            let word = word.to_ascii_lowercase();
            word.starts_with("'nonce-") || word.starts_with("'sha") || word == "'strict-dynamic'"
        };
        let of_code = self.name.starts_with("script-src") || self.name.starts_with("style-src");
        if of_code && self.sources.iter().any(|source| vouched(source)) {
            return true;
        }
        self.sources.iter().any(|source| allows(source, page, target))
    }
}

/// Whether a source expression covers an address (section 6.7.2.8).
fn allows(source: &str, page: &Url, target: &Url) -> bool {
    if source == "*" {
        let network = matches!(target.scheme(), "http" | "https" | "ws" | "wss");
        return network || target.scheme() == page.scheme();
    }
    if source.eq_ignore_ascii_case("'self'") {
        let same_host = page.host() == target.host();
        let upgraded = page.scheme() == "http" && target.scheme() == "https";
        let default = page.port().is_none() && target.port().is_none();
        return page.origin() == target.origin() || (same_host && upgraded && default);
    }
    if source.starts_with('\'') {
        return false;
    }
    if let Some(scheme) = source.strip_suffix(':').filter(|scheme| !scheme.contains('/')) {
        return scheme_covers(&scheme.to_ascii_lowercase(), target.scheme());
    }
    let (scheme, rest) = match source.split_once("://") {
        Some((scheme, rest)) => (Some(scheme.to_ascii_lowercase()), rest),
        None => (None, source),
    };
    let scheme = scheme.as_deref().unwrap_or(page.scheme());
    if !scheme_covers(scheme, target.scheme()) {
        return false;
    }
    let (authority, path) = match rest.find('/') {
        Some(at) => rest.split_at(at),
        None => (rest, ""),
    };
    let (host, port) = match authority.rsplit_once(':') {
        Some((host, port)) => (host, Some(port)),
        None => (authority, None),
    };
    host_covers(host, target) && port_covers(port, scheme, target) && path_covers(path, target)
}

fn scheme_covers(expected: &str, is: &str) -> bool {
    expected == is || (expected == "http" && is == "https") || (expected == "ws" && is == "wss")
}

fn host_covers(expected: &str, target: &Url) -> bool {
    let Some(Host::Domain(host)) = target.host() else {
        return target.host_str() == Some(expected);
    };
    let expected = expected.to_ascii_lowercase();
    match expected.strip_prefix('*') {
        Some("") => true,
        Some(rest) => rest.starts_with('.') && host.ends_with(rest) && host.len() > rest.len(),
        None => host == expected,
    }
}

fn port_covers(expected: Option<&str>, scheme: &str, target: &Url) -> bool {
    let is = target.port_or_known_default();
    match expected {
        Some("*") => true,
        None => {
            let default = if target.scheme() == "https" { 443 } else { 80 };
            is == Some(default)
        }
        Some(port) => {
            let port: Option<u16> = port.parse().ok();
            port == is || (port == Some(80) && scheme != "https" && is == Some(443))
        }
    }
}

fn path_covers(expected: &str, target: &Url) -> bool {
    if expected.is_empty() || expected == "/" {
        return true;
    }
    let path = target.path();
    match expected.ends_with('/') {
        true => path.starts_with(expected),
        false => path == expected,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_policy_covers_what_its_words_say() {
        let page = Url::parse("https://a.example/x").unwrap();
        let refused = |policy: &str, kind, target: &str| {
            let mut policies = Policies::default();
            policies.add_header(policy);
            policies.refuses(&page, &Url::parse(target).unwrap(), kind).map(str::to_owned)
        };
        let picture = |policy: &str, target: &str| refused(policy, LinkKind::Picture, target);
        assert_eq!(picture("img-src 'self'", "https://a.example/p.png"), None);
        assert_eq!(
            picture("img-src 'self'", "https://b.example/p.png").as_deref(),
            Some("img-src")
        );
        assert_eq!(
            picture("default-src 'none'", "https://a.example/").as_deref(),
            Some("default-src")
        );
        assert_eq!(picture("img-src *.b.example", "https://c.b.example/"), None);
        assert!(picture("img-src *.b.example", "https://b.example/").is_some());
        assert!(picture("img-src https://b.example:8443", "https://b.example/").is_some());
        assert_eq!(picture("img-src http://b.example/p/", "https://b.example/p/q"), None);
        assert!(picture("img-src b.example/p", "https://b.example/p/q").is_some());
        assert!(picture("img-src https:, img-src 'none'", "https://b.example/").is_some());
        assert_eq!(picture("script-src 'none'", "https://b.example/"), None);
        assert_eq!(refused("script-src 'nonce-x'", LinkKind::Script, "https://b.example/"), None);
        assert_eq!(picture("img-src *", "https://b.example/"), None);
    }
}
