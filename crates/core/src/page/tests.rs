use super::*;

#[test]
fn brackets_without_end_do_not_end_the_program() {
    let css = format!("{}{}", "a{b:(".repeat(20_000), "url(x.png)");
    assert!(css_links(&css).is_empty());
    let css = format!("a {{ b: {}url(x.png)", "(".repeat(60));
    assert_eq!(css_links(&css).len(), 1);
}

type Shown<'a> = (LinkKind, Usage, &'a str, &'a str, usize, usize);

fn shown(links: &[Link]) -> Vec<Shown<'_>> {
    let one = |l: &'_ Link| -> (LinkKind, Usage, usize, usize) {
        (l.kind, l.usage, l.at.line, l.at.column)
    };
    links
        .iter()
        .map(|l| {
            let (kind, usage, line, column) = one(l);
            (kind, usage, &*l.element, l.address.as_str(), line, column)
        })
        .collect()
}

#[test]
fn html_gives_every_address_with_its_role_and_place() {
    use LinkKind as K;
    use Usage as U;
    let html = r#"<!doctype html><base href="/sub/">
<link rel=stylesheet href="http://a.test/a.css"><link rel="icon" href=/i.png>
<script src='http://a.test/a.js'></script>
<style>
@import "b.css";
p { background: url(http://a.test/p.png) }
@font-face { src: url("http://a.test/f.woff2") }
</style>
<div style="background:url('http://a.test/d.png')">
<a href="?a=1&amp;b=2">x</a> <img src=x.png srcset="a.png 1x, b,c.png 2x">
<iframe src="//f.test/"></iframe><form action="http://a.test/send"></form>
<video poster=p.jpg><source src=v.mp4></video>
<!-- <img src="not.png"> --><textarea><img src="no.png"></textarea>
<meta http-equiv=refresh content="3; URL='/next'">"#;
    let page = read_html(html, false);
    assert_eq!(page.base.as_deref(), Some("/sub/"));
    assert_eq!(
        shown(&page.links),
        [
            (K::Style, U::Loaded, "link href", "http://a.test/a.css", 2, 28),
            (K::Icon, U::Loaded, "link href", "/i.png", 2, 71),
            (K::Script, U::Loaded, "script src", "http://a.test/a.js", 3, 14),
            (K::Style, U::Loaded, "style @import", "b.css", 5, 9),
            (K::Picture, U::Styled, "style url()", "http://a.test/p.png", 6, 17),
            (K::Font, U::Styled, "style @font-face url()", "http://a.test/f.woff2", 7, 19),
            (K::Picture, U::Styled, "div style url()", "http://a.test/d.png", 9, 24),
            (K::Page, U::Followed, "a href", "?a=1&b=2", 10, 10),
            (K::PictureSet, U::Possible, "img src", "x.png", 10, 39),
            (K::PictureSet, U::Loaded, "img srcset", "a.png", 10, 53),
            (K::PictureSet, U::Possible, "img srcset", "b,c.png", 10, 63),
            (K::Frame, U::Loaded, "iframe src", "//f.test/", 11, 14),
            (K::Form, U::Followed, "form action", "http://a.test/send", 11, 48),
            (K::Picture, U::Loaded, "video poster", "p.jpg", 12, 15),
            (K::Media, U::Loaded, "source src", "v.mp4", 12, 33),
            (K::Page, U::Followed, "meta refresh", "/next", 14, 43),
        ]
    );
}

#[test]
fn style_sheets_tell_imports_fonts_and_pictures_apart() {
    let css = "@import url(a.css);\n@media print { b { background: url( 'b.png' ) } }\n\
        @font-face { font-family: x; src: local(x), url(f.woff) format('woff') }\n\
        /* url(no.png) */ i { content: \"url(no.png)\"; cursor: url(c\\29 .cur) }\n\
        @namespace url(http://www.w3.org/1999/xhtml); u { --v: url(v.png); b: image-set('1.png' 1x, \"2.png\" 2x) }\n\
        @import 'late.css';";
    let found: Vec<_> =
        css_links(css).into_iter().map(|l| (l.usage, l.element, l.address)).collect();
    let found: Vec<_> = found.iter().map(|(u, e, a)| (*u, e.as_ref(), a.as_str())).collect();
    assert_eq!(
        found,
        [
            (Usage::Loaded, "@import", "a.css"),
            (Usage::Possible, "url()", "b.png"),
            (Usage::Styled, "@font-face url()", "f.woff"),
            (Usage::Styled, "url()", "c).cur"),
            (Usage::Styled, "url()", "v.png"),
            (Usage::Styled, "image-set()", "1.png"),
            (Usage::Possible, "image-set()", "2.png"),
        ]
    );
}

#[test]
fn sitemaps_and_feeds_name_pages() {
    let xml = "<?xml version=\"1.0\"?>\n<urlset><url>\n<loc>http://a.test/?x=1&amp;y=2</loc></url></urlset>";
    let found = xml_links(xml);
    assert_eq!(
        shown(&found),
        [(LinkKind::Page, Usage::Followed, "loc", "http://a.test/?x=1&y=2", 3, 6)]
    );
    let feed = "<rss><channel><link>http://a.test/</link><enclosure url='b.mp3'/></channel></rss>";
    assert_eq!(xml_links(feed).len(), 2);
}

#[test]
fn a_drawing_and_a_strict_page_are_read_as_xml() {
    let svg = "<svg xmlns='http://www.w3.org/2000/svg' xmlns:xlink='http://www.w3.org/1999/xlink'>\n\
        <image xlink:href='p.png'/><a href='/x'/><style><![CDATA[a{b:url(s.png)}]]></style></svg>";
    let found: Vec<_> = read_xml(svg).links.into_iter().map(|l| l.address).collect();
    assert_eq!(found, ["p.png", "/x", "s.png"]);
    let page = "<html xmlns='http://www.w3.org/1999/xhtml'><head><base href='/b/'/></head>\
        <body><img src='a.png'/><template><img src='t.png'/></template><a href='&#x2F;q?a&amp;b'/></body></html>";
    let page = read_xml(page);
    assert_eq!(page.base.as_deref(), Some("/b/"));
    let found: Vec<_> = page.links.iter().map(|l| (l.usage, l.address.as_str())).collect();
    let expected =
        [(Usage::Loaded, "a.png"), (Usage::Possible, "t.png"), (Usage::Followed, "/q?a&b")];
    assert_eq!(found, expected);
}

#[test]
fn what_stands_in_parts_of_a_page_is_read_with_its_use() {
    let html = "<template><img src=t.png></template><img src=a.png>\
        <noscript><img src=n.png></noscript>\
        <picture><source srcset=m.png media='(max-width: 1px)'><source srcset=s.webp type=image/webp><img src=i.png></picture>\
        <iframe srcdoc='<img src=d.png>'></iframe><img src=1.png src=2.png><img data-src=l.png>\
        <object data=o.svg><embed src=e.svg></object><input type=image src=b.png>\
        <script type=text/x-template><img src=no.png></script><script type=module>import './m.js'</script>";
    let page = read_html(html, false);
    let found: Vec<_> = page.links.iter().map(|l| (l.usage, l.address.as_str())).collect();
    use Usage::{Loaded, Possible};
    assert_eq!(
        found,
        [
            (Possible, "t.png"),
            (Loaded, "a.png"),
            (Possible, "n.png"),
            (Possible, "m.png"),
            (Loaded, "s.webp"),
            (Possible, "i.png"),
            (Loaded, "d.png"),
            (Loaded, "1.png"),
            (Possible, "l.png"),
            (Loaded, "o.svg"),
            (Possible, "e.svg"),
            (Loaded, "b.png"),
            (Loaded, "./m.js"),
        ]
    );
}

#[test]
fn what_visitors_read_is_counted_and_complaints_are_seen() {
    let page = read_html(
        "<title>The  sky\n&amp; us</title><h1>Two words</h1><script>no('no')</script>\
         <p id=place>caf&eacute; <b>three</b></p>\n<b>Warning</b>: x<p>SQLSTATE[42S02]: no table",
        true,
    );
    assert_eq!(page.title, "The sky & us");
    assert_eq!(page.places, [fragment_key("place")]);
    assert_eq!(page.text.count, 10);
    assert_eq!(page.text.complaint.as_deref(), Some("SQLSTATE[42S02]: no table"));
}

#[test]
fn places_in_sheets_count_lines_and_characters_as_editors_do() {
    let sheet = "a{}\u{c}\u{c}b{\n background:url(a.png)}\n/*☄🌠*/c{background:url(\"b.png\")}";
    let at = |link: &Link| (link.at.line, link.at.column);
    assert_eq!(css_links(sheet).iter().map(at).collect::<Vec<_>>(), [(2, 13), (3, 20)]);
}
