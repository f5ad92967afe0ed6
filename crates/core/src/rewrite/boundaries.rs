//! The boundaries of an address, case by case: text, what becomes of it.

use super::*;

/// Text before and after the rule `http://old.example` → `https://new.example/n`; the
/// same twice where nothing may change.
const CASES: [(&str, &str); 74] = [
    // Where an address ends.
    ("http://old.example", "https://new.example/n"),
    ("http://old.example/", "https://new.example/n/"),
    ("http://old.example?q=1", "https://new.example/n?q=1"),
    ("http://old.example#top", "https://new.example/n#top"),
    ("http://old.example, and", "https://new.example/n, and"),
    ("http://old.example. Then", "https://new.example/n. Then"),
    ("http://old.example.", "https://new.example/n."),
    ("http://old.example…", "https://new.example/n…"),
    ("http://old.example)", "https://new.example/n)"),
    ("http://old.example\"", "https://new.example/n\""),
    ("http://old.example'", "https://new.example/n'"),
    ("http://old.example<br>", "https://new.example/n<br>"),
    ("http://old.example&amp;x", "https://new.example/n&amp;x"),
    ("http://old.example&lt;", "https://new.example/n&lt;"),
    ("http://old.example\\\"", "https://new.example/n\\\""),
    ("http://old.example\\n", "https://new.example/n\\n"),
    ("http://old.example%22", "https://new.example/n%22"),
    ("http://old.example%2Fx", "https://new.example/n%2Fx"),
    ("http://old.example\u{a0}x", "https://new.example/n\u{a0}x"),
    ("http://old.example|http://old.example", "https://new.example/n|https://new.example/n"),
    ("http://old.example]", "https://new.example/n]"),
    ("[url=http://old.example]x[/url]", "[url=https://new.example/n]x[/url]"),
    ("[x](http://old.example)", "[x](https://new.example/n)"),
    ("<![CDATA[http://old.example]]>", "<![CDATA[https://new.example/n]]>"),
    (
        "http://old.example 2x,http://old.example/b",
        "https://new.example/n 2x,https://new.example/n/b",
    ),
    // Where the host goes on, so that it is another one.
    ("http://old.examples", "http://old.examples"),
    ("http://old.example1", "http://old.example1"),
    ("http://old.example-x.test", "http://old.example-x.test"),
    ("http://old.example_x", "http://old.example_x"),
    ("http://old.example.test", "http://old.example.test"),
    ("http://old.example.1", "http://old.example.1"),
    ("http://old.exampleé", "http://old.exampleé"),
    ("http://old.example%C3%A9", "http://old.example%C3%A9"),
    ("http://old.example%2Etest", "http://old.example%2Etest"),
    ("http://old.example&#46;test", "http://old.example&#46;test"),
    ("http://old.example\\u0061", "http://old.example\\u0061"),
    ("http://old.example@x.test", "http://old.example@x.test"),
    ("http://old.example%40x.test", "http://old.example%40x.test"),
    // Ports.
    ("http://old.example:80", "https://new.example/n"),
    ("http://old.example:80/x", "https://new.example/n/x"),
    ("https://old.example:443/x", "https://new.example/n/x"),
    ("//old.example:80/x", "//new.example/n/x"),
    ("http://old.example:443", "http://old.example:443"),
    ("http://old.example:8080", "http://old.example:8080"),
    ("http://old.example:800", "http://old.example:800"),
    ("http://old.example%3A80/", "https://new.example/n/"),
    ("http://old.example: x", "http://old.example: x"),
    // Before the address.
    ("xhttp://old.example", "xhttp://old.example"),
    ("1http://old.example", "1http://old.example"),
    ("git+http://old.example", "git+http://old.example"),
    ("a.http://old.example", "a.http://old.example"),
    ("(http://old.example", "(https://new.example/n"),
    ("=http://old.example", "=https://new.example/n"),
    (":http://old.example", ":https://new.example/n"),
    ("_http://old.example", "_https://new.example/n"),
    ("äöühttp://old.example", "äöühttp://old.example"),
    ("%20http://old.example", "%20https://new.example/n"),
    ("\\thttp://old.example", "\\thttps://new.example/n"),
    ("u003dhttp://old.example", "u003dhttp://old.example"),
    ("\\u003dhttp://old.example", "\\u003dhttps://new.example/n"),
    // Scheme-relative.
    ("//old.example/x", "//new.example/n/x"),
    ("='//old.example/x'", "='//new.example/n/x'"),
    (",//old.example", ",//new.example/n"),
    (";//old.example", ";//new.example/n"),
    (">//old.example", ">//new.example/n"),
    ("x//old.example", "x//old.example"),
    ("://old.example", "://old.example"),
    ("///old.example", "///old.example"),
    ("\\\"\\/\\/old.example", "\\\"\\/\\/new.example\\/n"),
    // Other names and other schemes.
    ("ftp://old.example", "ftp://old.example"),
    ("http://xold.example", "http://xold.example"),
    ("http://x.old.example", "http://x.old.example"),
    ("http://www.old.example/x", "https://new.example/n/x"),
    ("http://www2.old.example/x", "http://www2.old.example/x"),
];

fn rewriter() -> Rewriter {
    Rewriter::new(vec![Rule::new("http://old.example", "https://new.example/n").unwrap()]).unwrap()
}

fn after(text: &str) -> String {
    String::from_utf8(rewriter().look(text.as_bytes()).apply(text.as_bytes())).unwrap()
}

#[test]
fn every_boundary_is_judged_as_the_table_says() {
    for (before, expected) in CASES {
        assert_eq!(after(before), expected, "{before}");
    }
}

#[test]
fn a_boundary_is_the_same_inside_every_value() {
    for (before, expected) in CASES {
        let json = |text: &str| serde_json::json!({ "a": [text] }).to_string();
        assert_eq!(after(&json(before)), json(expected), "in JSON: {before}");
        let php = |text: &str| format!("a:1:{{i:0;s:{}:\"{text}\";}}", text.len());
        assert_eq!(after(&php(before)), php(expected), "serialized: {before}");
        assert_eq!(after(&php(&json(before))), php(&json(expected)), "both: {before}");
        assert_eq!(after(&json(&php(before))), json(&php(expected)), "the other way: {before}");
    }
}

#[test]
fn what_was_rewritten_is_not_rewritten_again() {
    for (before, _) in CASES {
        let once = after(before);
        assert_eq!(after(&once), once, "{before}");
    }
}
