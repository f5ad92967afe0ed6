//! Whether a copy that nobody should find says so to search engines.

use crate::effect::{Effect, Host, told};
use fernweh_ports::{Result, SiteAccess};

/// Asks the host of a site for its first page; `None` where the site has no address.
pub(super) fn verified(site: &dyn SiteAccess) -> Result<Option<Effect>> {
    let Some(url) = site.url() else { return Ok(None) };
    let host = Host::of_or_named(site, url)?;
    let asked = format!("{url}/");
    let fetched = host.head(&asked);
    let says = |answer: &fernweh_ports::PageResponse| {
        let mut said = answer.header("x-robots-tag");
        said.any(|text| text.to_ascii_lowercase().contains("noindex"))
    };
    let works = fetched.as_ref().is_ok_and(|answer| answer.status == 401 || says(answer));
    let came = match &fetched {
        Ok(answer) if says(answer) => format!("{}, noindex", told(&fetched)),
        Ok(_) if works => format!("{}, a password", told(&fetched)),
        Ok(_) => format!("{}, without noindex", told(&fetched)),
        Err(_) => told(&fetched),
    };
    Ok(Some(Effect { asked, came, works }))
}
