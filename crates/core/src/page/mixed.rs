//! What browsers do with a http: address on a https page (W3C "Mixed Content", level 2, and
//! "Upgrade Insecure Requests").

use super::LinkKind;
use super::policy::Policies;
use url::{Host, Url};

/// What becomes of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Request {
    /// It is made as written.
    Made,
    /// It is made over https instead, and fails if that server does not answer there.
    Upgraded,
    /// It is made over https since the page says so for all its requests.
    UpgradedByPolicy,
    /// It is not made.
    Blocked,
}

/// What a browser does with a request of a page for an address.
pub fn request(page: &Url, target: &Url, kind: LinkKind, policies: &Policies) -> Request {
    if kind == LinkKind::Drawing && over_https(page).origin() != over_https(target).origin() {
        return Request::Blocked;
    }
    if target.scheme() != "http" {
        return Request::Made;
    }
    // Also where the page itself came over http. What an `object` shows is not lifted to https.
    let same_host = page.host() == target.host();
    let lifted = match kind {
        LinkKind::Page | LinkKind::Alternate | LinkKind::Preview | LinkKind::Form => same_host,
        LinkKind::Service | LinkKind::Embedded => false,
        _ => true,
    };
    if policies.upgrade && lifted {
        return Request::UpgradedByPolicy;
    }
    if page.scheme() != "https" || is_trustworthy(target) {
        return Request::Made;
    }
    match kind {
        LinkKind::Page | LinkKind::Alternate | LinkKind::Preview | LinkKind::Service => {
            Request::Made
        }
        LinkKind::Form => Request::Made,
        // An address of numbers has no certificate to be upgraded with.
        LinkKind::Picture | LinkKind::Media | LinkKind::Drawing
            if matches!(target.host(), Some(Host::Domain(_))) =>
        {
            Request::Upgraded
        }
        _ => Request::Blocked,
    }
}

/// The same address over https: of the default port the other default port, any other stays.
pub fn over_https(url: &Url) -> Url {
    let mut url = url.clone();
    // The scheme of a web address can become that of another.
    let _ = url.set_scheme("https");
    url
}

/// Whether what is sent to this address stays on the visitor's own machine (W3C "Secure Contexts",
/// "Is origin potentially trustworthy?").
pub fn is_trustworthy(url: &Url) -> bool {
    match url.host() {
        Some(Host::Domain(name)) => {
            let name = name.trim_end_matches('.');
            name == "localhost" || name.ends_with(".localhost")
        }
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        None => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_are_upgraded_and_the_rest_is_refused() {
        let page = Url::parse("https://a.example/").unwrap();
        let of = |kind, target: &str| {
            request(&page, &Url::parse(target).unwrap(), kind, &Policies::default())
        };
        assert_eq!(of(LinkKind::Picture, "http://b.example/"), Request::Upgraded);
        assert_eq!(of(LinkKind::PictureSet, "http://b.example/"), Request::Blocked);
        assert_eq!(of(LinkKind::Picture, "http://192.0.2.7/"), Request::Blocked);
        assert_eq!(of(LinkKind::Script, "http://b.example/"), Request::Blocked);
        assert_eq!(of(LinkKind::Script, "http://127.0.0.1/"), Request::Made);
        assert_eq!(of(LinkKind::Script, "http://sky.localhost/"), Request::Made);
        assert_eq!(of(LinkKind::Page, "http://b.example/"), Request::Made);
        let mut policies = Policies::default();
        policies.add_meta("upgrade-insecure-requests");
        let of = |kind, target: &str| request(&page, &Url::parse(target).unwrap(), kind, &policies);
        assert_eq!(of(LinkKind::Script, "http://b.example/"), Request::UpgradedByPolicy);
        assert_eq!(of(LinkKind::Page, "http://a.example/x"), Request::UpgradedByPolicy);
        assert_eq!(of(LinkKind::Page, "http://b.example/x"), Request::Made);
    }
}
