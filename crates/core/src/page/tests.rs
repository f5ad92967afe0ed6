use super::*;

#[test]
fn brackets_without_end_do_not_end_the_program() {
    let css = format!("{}{}", "a{b:(".repeat(20_000), "url(x.png)");
    assert!(css_links(&css).is_empty());
    let css = format!("{}url(x.png)", "(".repeat(60));
    assert_eq!(css_links(&css).len(), 1);
}

fn shown(links: &[Link]) -> Vec<(LinkKind, &str, &str, usize)> {
    links.iter().map(|l| (l.kind, l.element.as_str(), l.address.as_str(), l.line)).collect()
}

#[test]
fn html_gives_every_address_with_its_role_and_line() {
    let html = br#"<!doctype html><base href="/sub/">
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
    let links = html_links(html);
    assert_eq!(
        shown(&links),
        [
            (LinkKind::Base, "base href", "/sub/", 1),
            (LinkKind::Style, "link href", "http://a.test/a.css", 2),
            (LinkKind::Picture, "link href", "/i.png", 2),
            (LinkKind::Script, "script src", "http://a.test/a.js", 3),
            (LinkKind::Style, "style @import", "b.css", 5),
            (LinkKind::Picture, "style url()", "http://a.test/p.png", 6),
            (LinkKind::Font, "style @font-face url()", "http://a.test/f.woff2", 7),
            (LinkKind::Picture, "div style url()", "http://a.test/d.png", 9),
            (LinkKind::Page, "a href", "?a=1&b=2", 10),
            (LinkKind::Picture, "img src", "x.png", 10),
            (LinkKind::PictureSet, "img srcset", "a.png", 10),
            (LinkKind::PictureSet, "img srcset", "b,c.png", 10),
            (LinkKind::Frame, "iframe src", "//f.test/", 11),
            (LinkKind::Form, "form action", "http://a.test/send", 11),
            (LinkKind::Picture, "video poster", "p.jpg", 12),
            (LinkKind::Media, "source src", "v.mp4", 12),
            (LinkKind::Page, "meta refresh", "/next", 14),
        ]
    );
}

#[test]
fn style_sheets_tell_imports_fonts_and_pictures_apart() {
    let css = "@import url(a.css);\n@media print { b { background: url( 'b.png' ) } }\n\
        @font-face { font-family: x; src: local(x), url(f.woff) format('woff') }\n\
        /* url(no.png) */ i { content: \"url(no.png)\"; cursor: url(c\\29 .cur) }";
    assert_eq!(
        shown(&css_links(css)),
        [
            (LinkKind::Style, "@import", "a.css", 1),
            (LinkKind::Picture, "url()", "b.png", 2),
            (LinkKind::Font, "@font-face url()", "f.woff", 3),
            (LinkKind::Picture, "url()", "c).cur", 4),
        ]
    );
}

#[test]
fn sitemaps_and_feeds_name_pages() {
    let xml = b"<?xml \
                version=\"1.0\"?>\n<urlset><url>\n<loc>http://a.test/?x=1&amp;y=2</loc></url></urlset>";
    assert_eq!(shown(&xml_links(xml)), [(LinkKind::Page, "loc", "http://a.test/?x=1&y=2", 3)]);
    let feed = b"<rss><channel><link>http://a.test/</link><enclosure url='b.mp3'/></channel></rss>";
    assert_eq!(xml_links(feed).len(), 2);
}

#[test]
fn browsers_refuse_some_kinds_and_upgrade_others() {
    assert_eq!(LinkKind::Script.mixed(), Some(Code::MixedBlocked));
    assert_eq!(LinkKind::PictureSet.mixed(), Some(Code::MixedBlocked));
    assert_eq!(LinkKind::Picture.mixed(), Some(Code::MixedUpgraded));
    assert_eq!(LinkKind::Form.mixed(), Some(Code::InsecureForm));
    assert_eq!(LinkKind::Page.mixed(), None);
}
