//! How time grows with size, for what comes from outside: `scripts/fuzz` runs it. Eight times as
//! much may take eight times as long, and the logarithm's share; what grows with the square
//! takes sixty-four times as long.

use fernweh_core::page::{
    Robots, TextKind, css_links, decode, header_links, manifest_links, read_html, read_xml,
    script_links, structured_links, xml_links,
};
use fernweh_core::rewrite::{ColumnText, Rewriter, Rule};
use fernweh_core::sql::{
    Dialect, ForeignScript, Modes, ScriptPart, ScriptReader, Statement, TextCutter,
};
use fernweh_core::trace::Needles;
use std::convert::Infallible;
use std::hint::black_box;
use std::time::{Duration, Instant};

/// Bytes of the smaller input.
const SMALL: usize = 128 << 10;
const TIMES: usize = 8;
/// What eight times as much may take: eight times, a logarithm, and a machine that is not quiet.
const MOST: f64 = 24.0;
/// How often growth is measured before it counts as too fast.
const MEASUREMENTS: usize = 4;

/// What values are made of, over and over.
const UNITS: [&str; 36] = [
    "s:27:&quot;http://old.example/wind.ogg&quot;;",
    "s:18:&#34;http://old.example&#34;;",
    "s:18:&amp;quot;http://old.example&amp;quot;;",
    "s%3A18%3A%22http%3A%2F%2Fold.example%22%3B",
    "s%253A18%253A%2522http%253A%252F%252Fold.example%2522%253B",
    "s:18:\"http://old.example\";",
    "s:19:\"http://old.example\";",
    "a:1:{i:0;s:18:\"http://old.example\";}",
    "a:1:{i:0;",
    "O:1:\"A\":1:{s:1:\"a\";",
    "s:99999999:\"",
    "{\"a\":\"http:\\/\\/old.example\"},",
    "[\"http://old.example\",",
    "{\"a\":",
    "\\u0068ttp://old.example ",
    "\\\\/\\\\/old.example",
    "http://old.example:",
    "http://old.example.",
    "//old.example",
    "old.example",
    "old.example@",
    "&amp;amp;amp;amp;",
    "%25252525",
    "'",
    "\\",
    "\"",
    "`",
    "/*",
    "/*!50000 ",
    "--",
    "$a$",
    "$",
    "(",
    "a;",
    "INSERT INTO t VALUES (1,'a');\n",
    "1.e",
];

fn repeated(begin: &str, unit: &str, end: &str, size: usize) -> Vec<u8> {
    format!("{begin}{}{end}", unit.repeat(size / unit.len())).into_bytes()
}

/// The shortest of three.
fn timed(work: &dyn Fn()) -> Duration {
    let once = || {
        let began = Instant::now();
        work();
        began.elapsed()
    };
    (0..3).map(|_| once()).min().unwrap_or_default()
}

/// Fails if the time grows faster than it may; what takes no time at all is not judged. What
/// grows too fast does so every time, what a busy machine slows down does not.
fn grows(what: &str, of_size: &dyn Fn(usize) -> Box<dyn Fn()>) {
    let mut worst = None;
    for _ in 0..MEASUREMENTS {
        let small = timed(&*of_size(SMALL));
        let large = timed(&*of_size(SMALL * TIMES));
        let ratio = large.as_secs_f64() / small.as_secs_f64().max(0.000_2);
        if ratio < MOST || large < Duration::from_millis(20) {
            return;
        }
        worst = Some((small, large, ratio));
    }
    let (small, large, ratio) = worst.unwrap_or_default();
    panic!("{what}: {small:?} for {SMALL} bytes, {large:?} for {TIMES} times as many ({ratio:.0})");
}

fn rewriter(mends: bool) -> Rewriter {
    let rules = vec![
        Rule::new("http://old.example", "https://new.example/n").unwrap(),
        Rule::new("http://old.example/a", "https://other.example").unwrap(),
    ];
    Rewriter::new(rules).unwrap().mending(mends)
}

#[test]
#[ignore = "scripts/fuzz runs it: it measures, and wants a program that is optimised"]
fn rewriting_and_tracing_take_time_by_size() {
    for unit in UNITS {
        for (begin, end) in
            [("", ""), ("a:1:{i:0;s:9:&quot;", "&quot;;}"), ("[\"", "\"]"), ("a%3A", "")]
        {
            for mends in [false, true] {
                grows(&format!("rewriting {begin}{unit}…{end}, mending {mends}"), &|size| {
                    let (value, rewriter) = (repeated(begin, unit, end, size), rewriter(mends));
                    Box::new(move || {
                        black_box(rewriter.look(&value));
                        black_box(rewriter.cell(ColumnText::Binary, &value));
                    })
                });
            }
            grows(&format!("explaining {begin}{unit}…{end}"), &|size| {
                let (value, rewriter) = (repeated(begin, unit, end, size), rewriter(false));
                Box::new(move || drop(black_box(rewriter.explain(&value))))
            });
            grows(&format!("tracing {begin}{unit}…{end}"), &|size| {
                let value = repeated(begin, unit, end, size);
                let needles = Needles::new(&["http://old.example/a".into()]).unwrap();
                Box::new(move || {
                    black_box(needles.find(&value).len());
                })
            });
        }
    }
}

#[test]
#[ignore = "scripts/fuzz runs it: it measures, and wants a program that is optimised"]
fn scripts_take_time_by_size() {
    for dialect in [Dialect::Sqlite, Dialect::Mariadb, Dialect::Postgres] {
        for unit in UNITS.into_iter().chain([
            "CREATE TABLE t (a int);\n",
            "a int,",
            "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$",
            "GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME a.b ",
        ]) {
            for begin in ["", "CREATE TABLE t (", "CREATE TRIGGER g AFTER INSERT ON t BEGIN "] {
                let what = format!("{dialect:?} {begin}{unit}…");
                grows(&format!("cutting {what}"), &|size| {
                    let script = repeated(begin, unit, "", size);
                    Box::new(move || {
                        let mut reader = ScriptReader::new(dialect, &script[..]);
                        while let Ok(Some(statement)) = reader.next_statement() {
                            black_box(statement);
                        }
                        let mut cutter = TextCutter::new(dialect);
                        let mut take = |part: ScriptPart<'_>| -> Result<(), Infallible> {
                            black_box(part);
                            Ok(())
                        };
                        script
                            .chunks(4096)
                            .for_each(|piece| cutter.feed(piece, &mut take).unwrap());
                        cutter.finish(&mut take).unwrap();
                    })
                });
                grows(&format!("understanding {what}"), &|size| {
                    let script = repeated(begin, unit, "", size);
                    Box::new(move || {
                        let _ = black_box(Statement::parse(dialect, Modes::default(), &script));
                        let mut foreign = ForeignScript::new(dialect, "utf8mb4");
                        let _ = black_box(foreign.take(&script, Modes::default()));
                    })
                });
            }
        }
    }
}

#[test]
#[ignore = "scripts/fuzz runs it: it measures, and wants a program that is optimised"]
fn pages_take_time_by_size() {
    for unit in [
        "<a href=x>",
        "<p style='background: url(x.png)'>",
        "<style>a{b:url(c)}</style>",
        "<",
        "<!--",
        "<img srcset='a 1x, b 2x'>",
        "&amp;",
        "<svg><![CDATA[",
        "a{",
        "(",
        "[",
        "url(",
        "@import 'x';",
        "\\",
        "/*",
        "<loc>http://a.example/x</loc>",
        "<url>",
        "<!DOCTYPE ",
        "<![CDATA[",
        "<template>",
        "<video><source src=a>",
        "<picture>",
        "<table><td background=x>",
        "<iframe srcdoc='",
        "<noscript>",
        "<script>",
        "<base href=x>",
        "<p id=x>word ",
        "import 'x';",
        "`${",
        "/x/",
        "'http://a.example/x',",
        "<x>; rel=a, ",
        "{\"a\":[",
        "\"http://a.example/x\",",
        "Disallow: /*a*b$\n",
        "@media (min-width: 1px) {",
        "image-set('a' 1x, ",
        "<meta charset=",
        "\n",
        "\u{e9}",
    ] {
        grows(&format!("page {unit}…"), &|size| {
            let page = repeated("", unit, "", size);
            Box::new(move || {
                let text = decode(&page, None, TextKind::Html).text;
                black_box(read_html(&text, true));
                black_box(read_xml(&text));
                black_box(xml_links(&text));
                black_box(css_links(&text));
                black_box(script_links(&text, true, None));
                black_box(header_links(&text));
                black_box(manifest_links(&text));
                black_box(structured_links(&text));
                black_box(Robots::read(&text, "fernweh"));
            })
        });
    }
}
