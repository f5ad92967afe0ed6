//! Pictures and media of which a browser chooses one.

use super::*;

impl Reader {
    /// `img`: of `src` and the candidates of `srcset` one is fetched, or that of a `source` before.
    pub(super) fn picture(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) {
        let set = tag.attribute("srcset");
        let parted = match self.open.last_mut() {
            Some(Open::Picture(chosen)) => Some(*chosen),
            _ => None,
        };
        let is_set = parted.is_some() || set.is_some();
        let taken = parted.flatten();
        let other = taken.is_some();
        if let Some(number) = taken {
            self.page.links[number].usage = Usage::Loaded;
        }
        let all = set.map(|set| candidates(&set.value)).unwrap_or_default();
        let src = tag.attribute("src").filter(|src| !src.value.trim().is_empty());
        let best = chosen(&all, tag.get("sizes").unwrap_or_default(), src.is_some());
        let usage = |is_best: bool| {
            if is_best && !other { Usage::Loaded } else { Usage::Possible }
        };
        if let Some(src) = src {
            let kind = if is_set { LinkKind::PictureSet } else { LinkKind::Picture };
            let at = place(src.at);
            self.add(kind, usage(best.is_none()), "img src", &src.value, at, &tag.span);
        }
        for (number, one) in all.iter().enumerate() {
            let at = place(set.map_or(0, |set| set.at) + one.at);
            let (kind, usage) = (LinkKind::PictureSet, usage(best == Some(number)));
            self.add(kind, usage, "img srcset", one.address, at, &tag.span);
        }
        for name in ["longdesc", "lowsrc", "dynsrc"] {
            if let Some(found) = tag.attribute(name) {
                let at = place(found.at);
                let element = format!("img {name}");
                self.add(LinkKind::Page, Usage::Possible, element, &found.value, at, &tag.span);
            }
        }
    }

    /// `source`: of `picture` by media and type, of `video` and `audio` the first of a known type.
    pub(super) fn source(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) {
        let media_type = tag.get("type").map(str::trim).filter(|it| !it.is_empty());
        let applies = tag.get("media").is_none_or(media::applies);
        match self.open.last_mut() {
            Some(Open::Picture(_)) => {
                let Some(set) = tag.attribute("srcset") else { return };
                let all = candidates(&set.value);
                let known = media_type.is_none_or(is_known_picture);
                let best = chosen(&all, tag.get("sizes").unwrap_or_default(), false);
                let first = self.page.links.len();
                for one in &all {
                    let (at, kind) = (place(set.at + one.at), LinkKind::PictureSet);
                    let usage = Usage::Possible;
                    self.add(kind, usage, "source srcset", one.address, at, &tag.span);
                }
                if let Some(Open::Picture(chosen @ None)) = self.open.last_mut()
                    && let Some(best) = best.filter(|_| known && applies && self.idle == 0)
                {
                    *chosen = Some(first + best);
                }
            }
            Some(Open::Media { decided, loads }) => {
                let known = media_type.is_none_or(is_known_media) && applies;
                let usage = match (!*decided && known, *loads) {
                    (true, true) => Usage::Loaded,
                    (true, false) => Usage::Followed,
                    _ => Usage::Possible,
                };
                *decided |= known && tag.attribute("src").is_some();
                self.plain(tag, "src", LinkKind::Media, usage, "source src", place);
            }
            _ => {
                let (kind, usage) = (LinkKind::Media, Usage::Possible);
                self.plain(tag, "src", kind, usage, "source src", place);
            }
        }
    }

    /// `imagesrcset` of a preloaded picture, which then counts in place of `href`.
    pub(super) fn link_pictures(&mut self, tag: &Tag<'_>, place: &mut dyn FnMut(usize) -> Place) {
        let Some(set) = tag.attribute("imagesrcset") else { return };
        let is_picture = tag.has_word("rel", "preload")
            && tag.get("as").is_some_and(|it| it.eq_ignore_ascii_case("image"))
            && tag.get("media").is_none_or(media::applies);
        let all = candidates(&set.value);
        let best = chosen(&all, tag.get("imagesizes").unwrap_or_default(), false);
        if is_picture && best.is_some() {
            for link in self.page.links.iter_mut().rev().take_while(|link| link.span == tag.span) {
                link.usage = Usage::Possible;
            }
        }
        for (number, one) in all.iter().enumerate() {
            let at = place(set.at + one.at);
            let taken = is_picture && best == Some(number);
            let usage = if taken { Usage::Loaded } else { Usage::Possible };
            self.add(LinkKind::PictureSet, usage, "link imagesrcset", one.address, at, &tag.span);
        }
    }
}

/// Sound and film that the reference browser (a build without patents) and all others play.
pub(super) fn is_known_media(media_type: &str) -> bool {
    let kind = media_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let known = [
        "audio/wav",
        "audio/x-wav",
        "audio/wave",
        "audio/ogg",
        "audio/webm",
        "audio/mpeg",
        "audio/mp3",
        "audio/mp4",
        "audio/aac",
        "audio/flac",
        "audio/x-m4a",
        "video/mp4",
        "video/webm",
        "video/ogg",
        "video/x-m4v",
        "application/ogg",
    ];
    known.contains(&kind.as_str())
}
