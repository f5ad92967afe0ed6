//! What stands in the head: links by their relation, scripts, statements about the page.

use super::*;

impl Reader {
    pub(super) fn link(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) {
        let Some(href) = tag.attribute("href") else {
            self.link_pictures(tag, place);
            return;
        };
        let rel = tag.get("rel").unwrap_or_default();
        let (get, applies) =
            (|name: &str| tag.get(name), tag.get("media").is_none_or(media::applies));
        for (kind, usage) in link_uses(rel, &get, applies) {
            let at = place(href.at);
            let element = match kind {
                LinkKind::Alternate if tag.has_word("rel", "canonical") => "link canonical",
                LinkKind::Alternate if tag.attribute("hreflang").is_some() => "link hreflang",
                _ => "link href",
            };
            self.add(kind, usage, element, &href.value, at, &tag.span);
        }
        self.link_pictures(tag, place);
    }

    pub(super) fn script(
        &mut self,
        tag: &Tag<'_>,
        place: &mut dyn FnMut(usize) -> Place,
    ) -> ScriptKind {
        let media_type =
            tag.get("type").or_else(|| tag.get("language").filter(|it| !it.is_empty()));
        let language = tag.attribute("type").is_none() && tag.get("language").is_some();
        let kind = match media_type.map(|it| it.trim().to_ascii_lowercase()).as_deref() {
            None | Some("") => ScriptKind::Classic,
            Some("module") => ScriptKind::Module,
            Some("importmap") => ScriptKind::ImportMap,
            Some("application/ld+json") => ScriptKind::Data,
            Some(other) => {
                let full = if language { format!("text/{other}") } else { other.to_owned() };
                if script::is_script_type(&full) { ScriptKind::Classic } else { ScriptKind::Other }
            }
        };
        let runs = match kind {
            ScriptKind::Classic => tag.attribute("nomodule").is_none(),
            ScriptKind::Module => true,
            _ => false,
        };
        let link = if kind == ScriptKind::Module { LinkKind::Module } else { LinkKind::Script };
        let usage = if runs { Usage::Loaded } else { Usage::Possible };
        if tag.get("src").is_some_and(|src| !src.trim().is_empty()) {
            self.plain(tag, "src", link, usage, "script src", place);
            return ScriptKind::Other;
        }
        // A script whose `src` is empty does nothing, whatever its text.
        if tag.attribute("src").is_some() { ScriptKind::Other } else { kind }
    }

    pub(super) fn meta(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) {
        let Some(content) = tag.attribute("content") else { return };
        let pragma = tag.get("http-equiv").unwrap_or_default().trim();
        if pragma.eq_ignore_ascii_case("refresh") && self.idle == 0 {
            if let Some((address, at)) = refresh_target(&content.value) {
                let at = place(content.at + at);
                let (kind, usage) = (LinkKind::Page, Usage::Followed);
                self.add(kind, usage, "meta refresh", address, at, &tag.span);
            }
        } else if pragma.eq_ignore_ascii_case("content-security-policy") && self.in_head() {
            self.page.policies.push(content.value.clone());
        }
        let name = tag.get("property").or_else(|| tag.get("name")).or_else(|| tag.get("itemprop"));
        let name = name.unwrap_or_default().trim().to_ascii_lowercase();
        if matches!(name.as_str(), "robots" | "googlebot") {
            self.page.robots.push_str(&content.value.to_ascii_lowercase());
            self.page.robots.push(' ');
        }
        let kind = match name.as_str() {
            "og:url" | "twitter:url" => LinkKind::Alternate,
            _ if preview_names(&name) => LinkKind::Preview,
            _ => return,
        };
        if !content.value.trim().is_empty() {
            let at = place(content.at);
            let element = format!("meta {name}");
            self.add(kind, Usage::Possible, element, &content.value, at, &tag.span);
        }
    }
}

/// What a `link` element or a `Link:` header does with its address, by its relation.
pub(in crate::page) fn link_uses<'a>(
    rel: &str,
    get: &dyn Fn(&str) -> Option<&'a str>,
    media_applies: bool,
) -> Vec<(LinkKind, Usage)> {
    use LinkKind as K;
    use Usage as U;
    let has = |word: &str| rel.split_ascii_whitespace().any(|is| is.eq_ignore_ascii_case(word));
    let media_type = get("type").map(str::trim).unwrap_or_default();
    let mut uses = Vec::new();
    let when = |held: bool| if held { U::Loaded } else { U::Possible };
    if has("stylesheet") {
        let is_css = media_type.is_empty() || media_type.eq_ignore_ascii_case("text/css");
        uses.push((K::Style, when(is_css && get("disabled").is_none())));
    } else if has("preload") {
        let target = get("as").unwrap_or_default().trim().to_ascii_lowercase();
        let kind = match target.as_str() {
            "font" => Some(K::Font),
            "style" => Some(K::Style),
            "image" => Some(K::Picture),
            "script" => Some(K::Script),
            "track" => Some(K::Track),
            "fetch" | "json" => Some(K::Other),
            _ => None,
        };
        let known = target != "image" || media_type.is_empty() || is_known_picture(media_type);
        uses.push((kind.unwrap_or(K::Other), when(kind.is_some() && media_applies && known)));
    } else if has("modulepreload") {
        uses.push((K::Module, when(media_applies)));
    } else if has("prefetch") {
        uses.push((K::Other, when(media_applies)));
    } else if has("icon") {
        uses.push((K::Icon, when(media_applies)));
    } else if ["apple-touch-icon", "apple-touch-icon-precomposed", "mask-icon", "image_src"]
        .iter()
        .any(|word| has(word))
    {
        uses.push((K::Icon, U::Possible));
    } else if has("manifest") {
        uses.push((K::Manifest, U::Loaded));
    } else if ["canonical", "alternate", "amphtml", "shortlink"].iter().any(|word| has(word)) {
        uses.push((K::Alternate, U::Possible));
    } else if [
        "pingback",
        "webmention",
        "edituri",
        "wlwmanifest",
        "search",
        "dns-prefetch",
        "preconnect",
    ]
    .iter()
    .any(|word| has(word))
        || rel.contains("://")
    {
        uses.push((K::Service, U::Possible));
    } else if !rel.trim().is_empty() {
        uses.push((K::Page, U::Possible));
    }
    uses
}

/// Where a refresh leads (HTML standard, "shared declarative refresh steps"), and where that begins.
pub fn refresh_target(content: &str) -> Option<(&str, usize)> {
    let space = |c: char| c.is_ascii_whitespace();
    let rest = content.trim_start_matches(space);
    let rest = rest.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.');
    if rest.len() == content.trim_start_matches(space).len() {
        return None;
    }
    let after = rest.trim_start_matches(space);
    let parted = after.strip_prefix([';', ',']);
    if parted.is_none() && after.len() == rest.len() {
        return None;
    }
    let mut rest = parted.unwrap_or(after).trim_start_matches(space);
    if rest.len() >= 3
        && rest.as_bytes()[..3].eq_ignore_ascii_case(b"url")
        && let Some(value) = rest[3..].trim_start_matches(space).strip_prefix('=')
    {
        rest = value.trim_start_matches(space);
    }
    if let Some(quote) = rest.chars().next().filter(|c| matches!(c, '"' | '\'')) {
        rest = rest[1..].split(quote).next().unwrap_or_default();
    }
    let at = rest.as_ptr() as usize - content.as_ptr() as usize;
    (!rest.trim().is_empty()).then_some((rest, at))
}

pub(super) fn preview_names(name: &str) -> bool {
    let known = [
        "og:image",
        "og:image:url",
        "og:image:secure_url",
        "og:video",
        "og:video:url",
        "og:video:secure_url",
        "og:audio",
        "og:audio:url",
        "og:audio:secure_url",
        "twitter:image",
        "twitter:image:src",
        "twitter:player",
        "msapplication-tileimage",
        "thumbnail",
        "image",
        "contenturl",
        "thumbnailurl",
    ];
    known.contains(&name)
}
