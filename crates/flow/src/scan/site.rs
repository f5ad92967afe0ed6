//! The site that is scanned: which addresses are its own.

use fernweh_core::page::fragment_key;
use fernweh_core::rewrite::Rewriter;
use url::Url;

/// The site that is scanned.
pub(super) struct Site<'a> {
    pub start: &'a Url,
    pub old: Option<&'a Rewriter>,
}

impl Site<'_> {
    /// Whether an address belongs to the site: its scheme, host and port, below its folder.
    pub fn holds(&self, url: &Url) -> bool {
        let folder = self.folder();
        // Another port or scheme of the host is another site, with other passwords.
        url.origin() == self.start.origin()
            && (url.path().starts_with(folder) || url.path() == folder.trim_end_matches('/'))
    }

    /// The folder of the site, with its slash.
    pub fn folder(&self) -> &str {
        let path = self.start.path();
        path.rfind('/').map_or("/", |end| &path[..=end])
    }
}

/// The key of an absolute address.
pub(super) fn key_of(address: &str) -> u64 {
    fragment_key(address)
}

/// What of an address is asked of its host.
pub(crate) fn path_of(url: &Url) -> String {
    match url.query() {
        Some(query) => format!("{}?{query}", url.path()),
        None => url.path().to_owned(),
    }
}
