//! Whether a web server shows what is kept.
//!
//! States are kept beside the site's folder, or in it where a login sees nothing else. Their
//! folder is closed to others and to servers that read `.htaccess`; whether this server is one
//! of them is asked: a file that nobody knows is put there, and must not come back.

use fernweh_ports::{FileTarget, PageRequest, PageSource, Result};
use url::Url;

/// Bytes of an answer that are looked at.
const ANSWER: usize = 4096;

/// The address under which the web server shows what is kept for this site, if it does.
pub fn visible(
    target: &mut dyn FileTarget,
    url: &str,
    pages: &mut dyn FnMut() -> Result<Box<dyn PageSource>>,
) -> Result<Option<String>> {
    // What lies beside the site's folder has an address only if the site's has a folder.
    let beside = address_of(url, "../x").is_some();
    let Some(probe) = target.put_probe(beside)? else { return Ok(None) };
    let mut shown = || -> Option<String> {
        let address = address_of(url, &probe.path)?;
        let request = PageRequest { url: address.clone(), body: Some(ANSWER), texts_only: false };
        let answer = pages().ok()?.fetch(&request).ok()?;
        memchr::memmem::find(&answer.body, probe.content.as_bytes()).map(|_| address)
    };
    let shown = shown();
    target.take_probe(&probe)?;
    Ok(shown)
}

/// The address of a path that is named from the site's folder; none if it lies above the
/// address's own folder.
fn address_of(url: &str, path: &str) -> Option<String> {
    let mut address = Url::parse(url).ok()?;
    let mut folders: Vec<&str> =
        address.path().split('/').filter(|part| !part.is_empty()).collect();
    let inside = match path.strip_prefix("../") {
        Some(beside) => {
            folders.pop()?;
            beside
        }
        None => path,
    };
    let path = folders.iter().copied().chain([inside]).collect::<Vec<_>>().join("/");
    address.set_path(&path);
    Some(address.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_made_for_what_lies_in_or_beside_the_site() {
        let of = |url, path| address_of(url, path);
        assert_eq!(of("https://a.example", ".w/p").as_deref(), Some("https://a.example/.w/p"));
        assert_eq!(of("https://a.example/b", ".w/p").as_deref(), Some("https://a.example/b/.w/p"));
        assert_eq!(of("https://a.example/b", "../.w/p").as_deref(), Some("https://a.example/.w/p"));
        assert_eq!(of("https://a.example", "../.w/p"), None);
    }
}
