//! Values that nobody would write, for as long as wanted: `scripts/fuzz MINUTES`.

use fernweh_core::rewrite::{ColumnText, Rewriter, Rule, is_serialized};
use fernweh_core::sql::{Dialect, ScriptPart, TextCutter};
use fernweh_core::trace::Needles;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::convert::Infallible;
use std::time::{Duration, Instant};

/// What values are made of: beginnings of every layer, addresses, and signs that mean
/// something in one of them.
const PARTS: &[&str] = &[
    "http://old.example",
    "https://www.old.example/a",
    "//old.example",
    "http:\\/\\/old.example",
    "http%3A%2F%2Fold.example",
    "http&#58;&#47;&#47;old.example",
    "old.example",
    "a@old.example",
    "a:1:{",
    "s:18:\"",
    "s:3:\"",
    "\";",
    "i:0;",
    "N;",
    "}",
    "O:1:\"A\":1:{",
    "C:1:\"A\":5:{",
    "S:2:\"",
    "\\6",
    "{\"",
    "\":\"",
    "\"}",
    "[\"",
    "\"]",
    "\\u002f",
    "\\u00e9",
    "\\ud83d",
    "\\\\",
    "\\\"",
    "%25",
    "%",
    "&amp;",
    "&",
    "é",
    "☄",
    "\0",
    "\n",
    "\t",
    " ",
    "'",
    "`",
    "$a$",
    "--",
    "/*",
    "*/",
    "0x",
    ";",
    "COPY t FROM stdin;\n",
    "\\.\n",
    "C:",
    "\\sites",
    "\\a",
    "x",
    "1",
    ":8080",
    ":80",
    ".",
    "/",
    "-",
];

fn value() -> impl Strategy<Value = Vec<u8>> {
    let part = prop_oneof![
        9 => prop::sample::select(PARTS).prop_map(|part| part.as_bytes().to_vec()),
        1 => prop::collection::vec(any::<u8>(), 0..4),
    ];
    let flat = prop::collection::vec(part, 0..30).prop_map(|parts| parts.concat());
    // Whole values around it, so that what is valid occurs as well.
    (flat, prop::collection::vec(0..5_u8, 0..4)).prop_map(|(flat, layers)| {
        layers.iter().fold(flat, |inner, layer| match layer {
            0 => [format!("s:{}:\"", inner.len()).as_bytes(), &inner, b"\";"].concat(),
            1 => [format!("a:1:{{i:0;s:{}:\"", inner.len()).as_bytes(), &inner, b"\";}"].concat(),
            2 => inner
                .iter()
                .flat_map(|byte| match byte.is_ascii_alphanumeric() {
                    true => vec![*byte],
                    false => format!("%{byte:02X}").into_bytes(),
                })
                .collect(),
            3 => String::from_utf8_lossy(&inner)
                .replace('&', "&amp;")
                .replace('"', "&quot;")
                .into_bytes(),
            _ => serde_json::json!([String::from_utf8_lossy(&inner)]).to_string().into_bytes(),
        })
    })
}

fn is_json(value: &[u8]) -> bool {
    serde_json::from_slice::<serde_json::Value>(value).is_ok()
}

fn rewriter(mends: bool) -> Rewriter {
    let rules = vec![
        Rule::new("http://old.example", "https://new.example/n").unwrap(),
        Rule::new("http://old.example/a", "https://other.example").unwrap(),
        Rule::new(r"C:\sites\a", "/srv/b").unwrap(),
    ];
    Rewriter::new(rules).unwrap().mending(mends)
}

/// What must hold of every value.
fn holds(value: &[u8]) -> Result<(), TestCaseError> {
    for mends in [false, true] {
        let rewriter = rewriter(mends);
        let found = rewriter.look(value);
        let new = found.apply(value);
        let mut at = 0;
        for edit in &found.edits {
            prop_assert!(edit.range.start >= at && edit.range.end <= value.len());
            at = edit.range.end;
        }
        prop_assert!(!is_serialized(value) || is_serialized(&new), "serialized before, not after");
        prop_assert!(!is_json(value) || is_json(&new), "JSON before, not after");
        prop_assert_eq!(
            rewriter.look(&new).replacements(),
            0,
            "rewriting twice changes more: {} then {}",
            String::from_utf8_lossy(value),
            String::from_utf8_lossy(&new)
        );
        for kind in [ColumnText::Latin1, ColumnText::Binary, ColumnText::Other] {
            rewriter.cell(kind, value);
        }
    }
    for dialect in [Dialect::Mariadb, Dialect::Postgres, Dialect::Sqlite] {
        let mut out = Vec::new();
        let mut take = |part: ScriptPart<'_>| -> Result<(), Infallible> {
            let (ScriptPart::Rest(raw) | ScriptPart::Text(raw, _)) = part;
            out.extend_from_slice(raw);
            Ok(())
        };
        let mut cutter = TextCutter::new(dialect);
        value.chunks(3).try_for_each(|piece| cutter.feed(piece, &mut take)).unwrap();
        cutter.finish(&mut take).unwrap();
        prop_assert_eq!(&out[..], value);
    }
    let needles = Needles::new(&["http://old.example/a".into(), "é☄ x".into()]).unwrap();
    for hit in needles.find(value) {
        prop_assert!(hit.range.end <= value.len() && hit.range.start < hit.range.end);
    }
    Ok(())
}

fn run(cases: u32) {
    let mut runner = TestRunner::new(Config { cases, ..Config::default() });
    if let Err(error) = runner.run(&value(), |value| holds(&value)) {
        panic!("{error}");
    }
}

#[test]
fn whatever_a_value_is_it_stays_valid_and_is_rewritten_once() {
    run(2_000);
}

#[test]
#[ignore = "scripts/fuzz runs it for as long as wanted"]
fn for_as_long_as_wanted() {
    let minutes = std::env::var("FUZZ_MINUTES").ok().and_then(|text| text.parse().ok());
    let end = Instant::now() + Duration::from_secs_f64(60.0 * minutes.unwrap_or(1.0_f64));
    let mut values = 0_u64;
    while Instant::now() < end {
        run(20_000);
        values += 20_000;
    }
    println!("{values} values, nothing found");
}
