use super::*;
use crate::rewrite::{Rewriter, Rule};
use proptest::prelude::*;
use std::convert::Infallible;

fn rewriter() -> Rewriter {
    Rewriter::new(vec![Rule::new("http://old.example", "https://new.example/n").unwrap()]).unwrap()
}

/// A script rewritten, fed in pieces of this size.
fn rewritten(dialect: Dialect, script: &[u8], size: usize) -> Vec<u8> {
    let (rewriter, mut out) = (rewriter(), Vec::new());
    let mut take = |part: ScriptPart<'_>| -> Result<(), Infallible> {
        match part {
            ScriptPart::Rest(bytes) => out.extend_from_slice(bytes),
            ScriptPart::Text(raw, notation) => {
                let new = notation.look(&rewriter, raw).and_then(|outcome| outcome.new);
                out.extend_from_slice(new.as_deref().unwrap_or(raw));
            }
        }
        Ok(())
    };
    let mut cutter = TextCutter::new(dialect);
    for piece in script.chunks(size) {
        cutter.feed(piece, &mut take).unwrap();
    }
    cutter.finish(&mut take).unwrap();
    out
}

const CASES: [(Dialect, &str, &str); 21] = [
    (
        Dialect::Mariadb,
        "INSERT INTO a VALUES (1,'http://old.example/x','b');",
        "INSERT INTO a VALUES (1,'https://new.example/n/x','b');",
    ),
    (Dialect::Mariadb, r"('it\'s http://old.example')", r"('it\'s https://new.example/n')"),
    (
        Dialect::Mariadb,
        r#"('{\"u\":\"http:\\/\\/old.example\"}')"#,
        r#"('{\"u\":\"https:\\/\\/new.example\\/n\"}')"#,
    ),
    (
        Dialect::Mariadb,
        r#"('a:1:{s:1:\"u\";s:18:\"http://old.example\";}')"#,
        r#"('a:1:{s:1:\"u\";s:21:\"https://new.example/n\";}')"#,
    ),
    (Dialect::Mariadb, "(\"say ''http://old.example''\")", "(\"say ''https://new.example/n''\")"),
    (
        Dialect::Mariadb,
        "-- http://old.example it's\n'http://old.example'",
        "-- http://old.example it's\n'https://new.example/n'",
    ),
    (
        Dialect::Mariadb,
        "# it's\n/* it's */ /*!40000 SET x = 'http://old.example' */;",
        "# it's\n/* it's */ /*!40000 SET x = 'https://new.example/n' */;",
    ),
    (Dialect::Mariadb, "SELECT 5--3, 'http://old.example'", "SELECT 5--3, 'https://new.example/n'"),
    (Dialect::Mariadb, "`it's http://old.example`, 'x'", "`it's http://old.example`, 'x'"),
    (
        Dialect::Mariadb,
        "(0x687474703a2f2f6f6c642e6578616d706c65,1)",
        "(0x68747470733a2f2f6e65772e6578616d706c652f6e,1)",
    ),
    (
        Dialect::Mariadb,
        "(X'687474703A2F2F6F6C642E6578616D706C65')",
        "(X'68747470733A2F2F6E65772E6578616D706C652F6E')",
    ),
    (Dialect::Postgres, r"('C:\', 'http://old.example')", r"('C:\', 'https://new.example/n')"),
    (Dialect::Postgres, r"(E'it\'s http://old.example')", r"(E'it\'s https://new.example/n')"),
    (Dialect::Postgres, "('it''s http://old.example')", "('it''s https://new.example/n')"),
    (
        Dialect::Postgres,
        "/* a /* b's */ c's */ \"it's\" 'http://old.example'",
        "/* a /* b's */ c's */ \"it's\" 'https://new.example/n'",
    ),
    (
        Dialect::Postgres,
        "AS $x$ select 'http://old.example'; it's $$ $x$; 'b'",
        "AS $x$ select 'https://new.example/n'; it's $$ $x$; 'b'",
    ),
    (
        Dialect::Postgres,
        "COPY t (a, b) FROM \
         stdin;\n1\thttp://old.example\\nit's\n\\N\t'\n\\.\n'http://old.example'",
        "COPY t (a, b) FROM \
         stdin;\n1\thttps://new.example/n\\nit's\n\\N\t'\n\\.\n'https://new.example/n'",
    ),
    (
        Dialect::Postgres,
        "COPY t FROM stdin;\n{\"u\":\"http:\\\\/\\\\/old.example\"}\n\n\\.\n",
        "COPY t FROM stdin;\n{\"u\":\"https:\\\\/\\\\/new.example\\\\/n\"}\n\n\\.\n",
    ),
    (
        Dialect::Sqlite,
        "[it's] 'http://old.example' \"it's\"",
        "[it's] 'https://new.example/n' \"it's\"",
    ),
    (
        Dialect::Sqlite,
        r"('\', 'http://old.example', x'00')",
        r"('\', 'https://new.example/n', x'00')",
    ),
    (Dialect::Sqlite, "('an open text http://old.example", "('an open text http://old.example"),
];

#[test]
fn texts_are_rewritten_and_everything_else_stays_however_the_script_is_cut() {
    for (dialect, script, expected) in CASES {
        for size in [1, 2, 3, 5, 8, 16, 4096] {
            let found = String::from_utf8(rewritten(dialect, script.as_bytes(), size)).unwrap();
            assert_eq!(found, expected, "{dialect:?} in pieces of {size}");
        }
    }
}

proptest! {
    #[test]
    fn a_script_without_an_address_stays_as_it_is(
        script in prop::collection::vec(prop::sample::select(b"'\"`[]-#/*$xX0E;\\\n\t \
                         .aCOPY".to_vec()), 0..200),
        size in 1_usize..40,
        dialect in prop::sample::select(vec![Dialect::Mariadb, Dialect::Postgres, Dialect::Sqlite]),
    ) {
        prop_assert_eq!(rewritten(dialect, &script, size), script);
    }

    #[test]
    fn how_a_script_is_cut_makes_no_difference(
        words in prop::collection::vec(prop::sample::select(vec![
            "'", "\"", "\\", "http://old.example", "$a$", "$", "0x", "ab", "/*", "*/", "--", "\n",
            ";", "COPY t FROM stdin;\n", "\t", "\\.\n", "E", "x",
        ]), 0..40),
        size in 1_usize..9,
        dialect in prop::sample::select(vec![Dialect::Mariadb, Dialect::Postgres, Dialect::Sqlite]),
    ) {
        let script = words.concat().into_bytes();
        prop_assert_eq!(rewritten(dialect, &script, size), rewritten(dialect, &script, 4096));
    }
}
