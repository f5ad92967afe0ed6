//! What the core says that a browser does with a page, its sheets, its modules and its frames.

use crate::site::{self, Case};
use fernweh_core::page::mixed::{Request, request};
use fernweh_core::page::policy::Policies;
use fernweh_core::page::{
    ImportMap, Link, LinkKind, Page, TextKind, Usage, css_links, decode, header_links, read_html,
    read_xml, script_links,
};
use fernweh_testkit::Visit;
use std::collections::BTreeSet;
use url::Url;

/// Requests that must be made, may be made (rules of style sheets), and are refused.
#[derive(Default, Debug)]
pub struct Expected {
    made: BTreeSet<String>,
    styled: BTreeSet<String>,
    blocked: BTreeSet<String>,
    styled_blocked: BTreeSet<String>,
    ahead: Vec<String>,
}

impl Expected {
    /// Whether a browser did this.
    pub fn is(&self, visit: &Visit) -> bool {
        let seen: BTreeSet<&String> =
            visit.requests.iter().filter(|url| site::counts(url)).collect();
        let made = self.made.iter().all(|url| seen.contains(url));
        let ahead = |url: &String| self.ahead.contains(url);
        let listed = |url: &String| self.made.contains(url) || self.styled.contains(url);
        let known = seen.iter().all(|url| listed(url) || ahead(url));
        let refused = self.blocked.iter().all(|url| visit.blocked.contains(url));
        let both = |url: &String| {
            self.blocked.contains(url) || self.styled_blocked.contains(url) || ahead(url)
        };
        made && known && refused && visit.blocked.iter().all(both)
    }

    pub fn difference(&self, case: &Case, visit: &Visit) -> String {
        let seen: BTreeSet<&String> =
            visit.requests.iter().filter(|url| site::counts(url)).collect();
        let mut out = format!("= {}\n{}\n", case.name, String::from_utf8_lossy(&case.markup));
        let mut line = |word: &str, url: &String| out.push_str(&format!("  {word} {url}\n"));
        self.made.iter().filter(|url| !seen.contains(url)).for_each(|url| line("not made", url));
        let known = |url: &&String| self.made.contains(*url) || self.styled.contains(*url);
        seen.into_iter().filter(|url| !known(url)).for_each(|url| line("missed", url));
        let refused = self.blocked.iter().filter(|url| !visit.blocked.contains(*url));
        refused.for_each(|url| line("not refused", url));
        let both =
            |url: &&String| self.blocked.contains(*url) || self.styled_blocked.contains(*url);
        visit.blocked.iter().filter(|url| !both(url)).for_each(|url| line("refusal missed", url));
        out
    }
}

struct Model<'a> {
    cases: &'a [Case],
    found: Expected,
    /// The page is within one that came over https.
    secure: bool,
    seen: BTreeSet<String>,
}

/// What the core says of a page.
pub fn expected(case: &Case, cases: &[Case]) -> Expected {
    let url = Url::parse(&format!("https://page.test/r/{}.page", case.name)).expect("an address");
    let found = Expected { ahead: case.ahead.clone(), ..Expected::default() };
    let seen = BTreeSet::new();
    let mut model = Model { cases, found, secure: true, seen };
    model.document(&url, &Policies::default());
    model.found
}

impl Model<'_> {
    fn document(&mut self, url: &Url, above: &Policies) {
        let (_, headers, body) = site::body(url.path(), self.cases);
        let get = |name: &'static str| {
            headers.iter().filter(move |(is, _)| is.eq_ignore_ascii_case(name))
        };
        let kind = get("content-type").next().map(|(_, v)| v.clone()).unwrap_or_default();
        let charset = kind.split_once("charset=").map(|(_, charset)| charset.to_owned());
        let mut policies = above.within();
        get("content-security-policy").for_each(|(_, policy)| policies.add_header(policy));
        let media = kind.split(';').next().unwrap_or_default();
        let text_kind = if media == "text/html" { TextKind::Html } else { TextKind::Xml };
        let decoded = decode(&body, charset.as_deref(), text_kind);
        let mut page = match media {
            "text/html" => read_html(&decoded.text, false),
            "image/svg+xml" | "application/xhtml+xml" => read_xml(&decoded.text),
            _ => Page::default(),
        };
        for (_, value) in get("link") {
            page.links.extend(header_links(value));
        }
        for policy in &page.policies {
            policies.add_meta(policy);
        }
        let base = page.base.as_deref().and_then(|base| decoded.base(url, base));
        let base =
            base.filter(|base| policies.allow_base(url, base)).unwrap_or_else(|| url.clone());
        for (number, link) in page.links.iter().enumerate() {
            let base = if number < page.before_base { url } else { &base };
            if let Some(target) = decoded.join(base, &link.address) {
                self.link(url, link, &target, &policies, page.imports.as_ref());
            }
        }
    }

    fn refuse(&mut self, link: &Link, target: &Url) {
        match link.usage {
            Usage::Loaded => self.found.blocked.insert(target.to_string()),
            _ => self.found.styled_blocked.insert(target.to_string()),
        };
    }

    fn link(
        &mut self,
        page: &Url,
        link: &Link,
        target: &Url,
        policies: &Policies,
        imports: Option<&ImportMap>,
    ) {
        let used = matches!(link.usage, Usage::Loaded | Usage::Styled);
        // Icons and manifests are asked for by the browser's frame, not by the page.
        let aside = matches!(link.kind, LinkKind::Icon | LinkKind::Manifest);
        if !used || aside || !matches!(target.scheme(), "http" | "https") {
            return;
        }
        let top = if self.secure {
            Url::parse("https://page.test/").expect("an address")
        } else {
            page.clone()
        };
        let mut target = target.clone();
        target.set_fragment(None);
        let verdict = request(&top, &target, link.kind, policies);
        if verdict == Request::Blocked {
            // The look-ahead does not see that a picture is one of several.
            if link.element == "img src" {
                self.found.ahead.push(fernweh_core::page::mixed::over_https(&target).to_string());
            }
            self.refuse(link, &target);
            return;
        }
        let written = target.clone();
        if verdict != Request::Made {
            target = fernweh_core::page::mixed::over_https(&target);
        }
        // Sound and film are held against the policy as they are written.
        let asked = if link.kind == LinkKind::Media { &written } else { &target };
        if policies.refuses(page, asked, link.kind).is_some() {
            self.refuse(link, &written);
            return;
        }
        match link.usage {
            Usage::Loaded => self.found.made.insert(target.to_string()),
            _ => self.found.styled.insert(target.to_string()),
        };
        if link.usage == Usage::Styled || !self.seen.insert(target.to_string()) {
            return;
        }
        let (status, headers, body) = site::body(target.path(), self.cases);
        if status == 302 {
            let to = headers.iter().find(|(name, _)| name == "Location").expect("a location");
            if let Ok(next) = target.join(&to.1) {
                self.link(page, link, &next, policies, imports);
            }
            return;
        }
        let text = String::from_utf8_lossy(&body);
        match link.kind {
            LinkKind::Style => {
                for inner in css_links(&text) {
                    if let Ok(next) = target.join(&inner.address) {
                        self.link(page, &inner, &next, policies, imports);
                    }
                }
            }
            LinkKind::Module => {
                for inner in script_links(&text, true, imports) {
                    if let Ok(next) = target.join(&inner.address) {
                        self.link(page, &inner, &next, policies, imports);
                    }
                }
            }
            LinkKind::Frame => self.document(&target, policies),
            LinkKind::Embedded if link.element != "use href" => self.document(&target, policies),
            _ => {}
        }
    }
}
