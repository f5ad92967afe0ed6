//! Texts of elements that are no content: styles, scripts, pages in attributes.

use super::*;

impl Reader {
    /// A page in an attribute. Its addresses have the place of the attribute.
    pub(super) fn srcdoc(
        &mut self,
        tag: &Tag<'_>,
        part: &Attribute,
        place: &mut dyn FnMut(usize) -> Place,
    ) {
        if let (Some(inner), Some(read)) = (self.part("iframe srcdoc", true), self.parts) {
            let at = place(part.at);
            let inner = read(inner, &part.value);
            self.take_part(inner, |_| at, &tag.span);
        }
    }

    /// Takes over what a part of the page says.
    pub(super) fn take_part(
        &mut self,
        part: Page,
        at: impl Fn(Place) -> Place,
        span: &Range<usize>,
    ) {
        for link in part.links {
            self.page.links.push(Link { at: at(link.at), span: span.clone(), ..link });
        }
    }

    /// Takes the text of an element that is no content.
    pub(in crate::page) fn text(&mut self, raw: &Raw, text: &str, at: Place, span: Range<usize>) {
        match raw {
            Raw::Title => {
                if self.page.title.is_empty() && self.idle == 0 {
                    let text = htmlize::unescape(text);
                    self.page.title = text.split_whitespace().collect::<Vec<_>>().join(" ");
                }
            }
            Raw::Style { applies } => {
                for link in css_links(text) {
                    let element = format!("style {}", link.element);
                    // What is imported is fetched in any case.
                    let usage = match link.usage {
                        Usage::Styled if !*applies => Usage::Possible,
                        usage => usage,
                    };
                    let at = beside(at, link.at);
                    self.add(link.kind, usage, element, &link.address, at, &span);
                }
            }
            Raw::Fallback => {
                if let (Some(inner), Some(read)) = (self.part("noscript", false), self.parts) {
                    let inner = read(inner, text);
                    self.take_part(inner, |place| beside(at, place), &span);
                }
            }
            Raw::Script(kind) => self.script_text(*kind, text, at, &span),
        }
    }

    pub(super) fn script_text(
        &mut self,
        kind: ScriptKind,
        text: &str,
        at: Place,
        span: &Range<usize>,
    ) {
        let links = match kind {
            ScriptKind::ImportMap => {
                if self.page.imports.is_none() && self.idle == 0 {
                    self.page.imports = ImportMap::read(text);
                }
                return;
            }
            ScriptKind::Data => structured_links(text),
            ScriptKind::Classic => crate::page::script_links(text, false, None),
            ScriptKind::Module => crate::page::script_links(text, true, self.page.imports.as_ref()),
            ScriptKind::Other => return,
        };
        for link in links {
            let element = format!("script {}", link.element);
            let at = beside(at, link.at);
            self.add(link.kind, link.usage, element, &link.address, at, span);
        }
    }
}

pub(super) fn style_applies(tag: &Tag<'_>) -> bool {
    let plain = |it: &str| it.trim().is_empty() || it.trim().eq_ignore_ascii_case("text/css");
    tag.get("type").is_none_or(plain) && tag.get("media").is_none_or(media::applies)
}
