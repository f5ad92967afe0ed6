//! Pages, sheets, scripts and lists that nobody would write, for as long as wanted:
//! `scripts/fuzz pages MINUTES`.

use fernweh_core::page::policy::Policies;
use fernweh_core::page::{
    ImportMap, Link, Robots, TextKind, css_links, decode, header_links, manifest_links, media,
    read_html, read_xml, refresh_target, script_links, structured_links, xml_links,
};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::time::{Duration, Instant};

/// Beginnings and ends of everything that the readers know.
const PARTS: &[&str] = &[
    "<a href=",
    "<img src=",
    "srcset=\"",
    "sizes=\"(min-width: 3px) 10vw, calc(",
    " 1x, ",
    " 300w,",
    "<picture>",
    "<source ",
    "</picture>",
    "<video>",
    "</video>",
    "<template>",
    "</template>",
    "<script>",
    "<script type=module>",
    "<script type=importmap>",
    "</script>",
    "<style>",
    "</style>",
    "<noscript>",
    "</noscript>",
    "<svg>",
    "</svg>",
    "<image xlink:href=",
    "<table>",
    "<td background=",
    "<iframe srcdoc=\"",
    "<base href=",
    "<meta http-equiv=refresh content=\"0;url=",
    "<meta charset=",
    "<link rel=stylesheet href=",
    "<!--",
    "-->",
    "<![CDATA[",
    "]]>",
    "<!",
    "<?xml version='1.0'?>",
    "<?xml-stylesheet href='a'?>",
    "<loc>",
    "</loc>",
    "<urlset>",
    "</urlset>",
    "<html xmlns=",
    "http://www.w3.org/1999/xhtml",
    "style=\"",
    "url(",
    "url('",
    "@import ",
    "@media (",
    "@font-face{",
    "image-set(",
    "{",
    "}",
    "(",
    ")",
    "[",
    "]",
    ";",
    ":",
    ",",
    "'",
    "\"",
    "`",
    "${",
    "\\",
    "/*",
    "*/",
    "//",
    "/",
    "=",
    " ",
    "\n",
    "\0",
    "\t",
    "&amp;",
    "&#x41;",
    "&copy",
    "&",
    "a.png",
    "http://a.test/",
    "https://",
    "//b.test",
    "#x",
    "?q=1",
    "é",
    "☄",
    "import ",
    "export * from ",
    "import(",
    "from ",
    "User-agent: *\n",
    "Disallow: /*",
    "$",
    "Sitemap: ",
    "rel=preload; as=image",
    "; rel=\"",
    "<x>",
    "\"imports\":",
    "\"icons\":[",
    "\"src\":\"",
    "\"@id\":\"",
    "default-src 'self'",
    "'nonce-",
    "none",
    "data-src=",
    "onclick=",
    "id=",
    "charset=",
    "utf-16",
    "0",
    "9",
    "e",
    "%",
    "\u{feff}",
];

fn text() -> impl Strategy<Value = Vec<u8>> {
    let part = prop_oneof![
        12 => prop::sample::select(PARTS).prop_map(|part| part.as_bytes().to_vec()),
        1 => prop::collection::vec(any::<u8>(), 0..4),
    ];
    prop::collection::vec(part, 0..40).prop_map(|parts| parts.concat())
}

fn within(text: &str, links: &[Link]) -> Result<(), TestCaseError> {
    let lines = text.lines().count() + 1;
    for link in links {
        prop_assert!(text.get(link.span.clone()).is_some(), "{link:?}");
        prop_assert!(link.at.line <= lines && link.at.column <= text.len() + 1, "{link:?}");
    }
    Ok(())
}

/// No reader panics, and every place lies in the text.
fn holds(bytes: &[u8]) -> Result<(), TestCaseError> {
    for kind in [TextKind::Html, TextKind::Xml, TextKind::Css, TextKind::Plain] {
        let decoded = decode(bytes, None, kind);
        let text = &*decoded.text;
        within(text, &read_html(text, true).links)?;
        within(text, &read_xml(text).links)?;
        within(text, &xml_links(text))?;
        within(text, &css_links(text))?;
        within(text, &script_links(text, true, ImportMap::read(text).as_ref()))?;
        within(text, &manifest_links(text))?;
        within(text, &structured_links(text))?;
        header_links(text);
        let base = url::Url::parse("https://a.test/b/").unwrap();
        decoded.join(&base, text);
        media::applies(text);
        if let Some((target, at)) = refresh_target(text) {
            prop_assert!(text[at..].starts_with(target));
        }
        let mut policies = Policies::default();
        policies.add_header(text);
        policies.refuses(&base, &base, fernweh_core::page::LinkKind::Picture);
        Robots::read(text, "fernweh").allows(text);
    }
    Ok(())
}

fn run(cases: u32) {
    let mut runner = TestRunner::new(Config { cases, ..Config::default() });
    if let Err(error) = runner.run(&text(), |text| holds(&text)) {
        panic!("{error}");
    }
}

#[test]
fn whatever_a_page_is_it_is_read_and_places_lie_in_it() {
    run(1_000);
}

#[test]
#[ignore = "scripts/fuzz runs it for as long as wanted"]
fn for_as_long_as_wanted() {
    let minutes = std::env::var("FUZZ_MINUTES").ok().and_then(|text| text.parse().ok());
    let end = Instant::now() + Duration::from_secs_f64(60.0 * minutes.unwrap_or(1.0_f64));
    let mut pages = 0_u64;
    while Instant::now() < end {
        run(5_000);
        pages += 5_000;
    }
    println!("{pages} pages, nothing found");
}
