//! Where tokens end, on one corpus for all readers, whole and in pieces.

use super::*;
use crate::sql::{ScriptPart, ScriptReader, TextCutter};
use proptest::prelude::*;
use std::convert::Infallible;
use std::io::Read;

const PIECES: [usize; 7] = [1, 2, 3, 5, 8, 16, 1 << 20];

/// Scripts that were, or could be, read in two ways, and the statements that servers see.
const SCRIPTS: [(Dialect, &str, &[&str]); 34] = [
    // SQLite: a trigger ends with `; END ;`, whatever comments stand between.
    (
        Dialect::Sqlite,
        "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END -- x\n; COMMIT; ATTACH 'x' AS y;",
        &[
            "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END -- x\n",
            "COMMIT",
            "ATTACH 'x' AS y",
        ],
    ),
    (
        Dialect::Sqlite,
        "CREATE TEMP TRIGGER g AFTER INSERT ON t BEGIN SELECT 1;/* ; */ END;a;",
        &["CREATE TEMP TRIGGER g AFTER INSERT ON t BEGIN SELECT 1;/* ; */ END", "a"],
    ),
    (
        Dialect::Sqlite,
        "CREATE TABLE [a'b;] (x);ATTACH 'y';",
        &["CREATE TABLE [a'b;] (x)", "ATTACH 'y'"],
    ),
    (Dialect::Sqlite, "PRAGMA [x'];ATTACH '1' AS ';';", &["PRAGMA [x']", "ATTACH '1' AS ';'"]),
    (Dialect::Sqlite, "SELECT '\\';SELECT 2;", &["SELECT '\\'", "SELECT 2"]),
    (Dialect::Sqlite, ".print x;y\nSELECT 1;", &[".print x;y", "SELECT 1"]),
    (Dialect::Sqlite, "SELECT 1 -- a\r;b\n;", &["SELECT 1 -- a\r;b\n"]),
    (Dialect::Sqlite, "/* open ; ", &[]),
    (Dialect::Sqlite, "INSERT INTO t VALUES(x'3b');a;", &["INSERT INTO t VALUES(x'3b')", "a"]),
    // MariaDB: delimiters, quotes, modes, executed comments.
    (
        Dialect::Mariadb,
        "DELIMITER $$\nCREATE TABLE `e` (a int); DROP TABLE v; SELECT 1$$\nDELIMITER ;\nb;",
        &["CREATE TABLE `e` (a int); DROP TABLE v; SELECT 1", "b"],
    ),
    (Dialect::Mariadb, "delimiter //\na;b//c//", &["a;b", "c"]),
    (Dialect::Mariadb, "DELIMITER end\nBEGIN xend\nDELIMITER ;\n", &["BEGIN x"]),
    (
        Dialect::Mariadb,
        "SET sql_mode = 'NO_BACKSLASH_ESCAPES';SELECT '\\'; DROP TABLE t;-- '\n",
        &["SET sql_mode = 'NO_BACKSLASH_ESCAPES'", "SELECT '\\'", "DROP TABLE t"],
    ),
    (
        Dialect::Mariadb,
        "SET @o = @@sql_mode, sql_mode = 'no_backslash_escapes';'\\';SET sql_mode = @o;'\\';';",
        &[
            "SET @o = @@sql_mode, sql_mode = 'no_backslash_escapes'",
            "'\\'",
            "SET sql_mode = @o",
            "'\\';'",
        ],
    ),
    (
        Dialect::Mariadb,
        "/*!40101 SET @OLD=@@SQL_MODE, SQL_MODE='ANSI_QUOTES' */;\"a\\\";b;/*!40101 SET \
         SQL_MODE=@OLD */;\"a\\\";b\";",
        &[
            "/*!40101 SET @OLD=@@SQL_MODE, SQL_MODE='ANSI_QUOTES' */",
            "\"a\\\"",
            "b",
            "/*!40101 SET SQL_MODE=@OLD */",
            "\"a\\\";b\"",
        ],
    ),
    (
        Dialect::Mariadb,
        "SET SESSION sql_mode=ORACLE;\"a\\\";",
        &["SET SESSION sql_mode=ORACLE", "\"a\\\""],
    ),
    (Dialect::Mariadb, "SELECT \"a\\\";\";b;", &["SELECT \"a\\\";\"", "b"]),
    (Dialect::Mariadb, "SELECT `a\\`;b;", &["SELECT `a\\`", "b"]),
    (Dialect::Mariadb, "SELECT 5--3;b;", &["SELECT 5--3", "b"]),
    (Dialect::Mariadb, "SELECT 5--\u{1};b\n;", &["SELECT 5--\u{1};b\n"]),
    (Dialect::Mariadb, "SELECT 5--\u{7f};b\n;", &["SELECT 5--\u{7f};b\n"]),
    (Dialect::Mariadb, "a # ';\n;b;", &["a # ';\n", "b"]),
    (Dialect::Mariadb, "/*!50003 a;*/b;", &["/*!50003 a", "*/b"]),
    (Dialect::Mariadb, "/*M!100301 '*/;' */;b;", &["/*M!100301 '*/;' */", "b"]),
    (Dialect::Mariadb, "/* ' ; */ a;", &["a"]),
    (Dialect::Mariadb, "X'3B';b'1';N'\\';';c;", &["X'3B'", "b'1'", "N'\\';'", "c"]),
    // PostgreSQL: dollar quotes, escapes, nesting, parentheses, bodies.
    (
        Dialect::Postgres,
        "SET standard_conforming_strings = off;SELECT '\\';';SET standard_conforming_strings TO \
         on;'\\';b;",
        &[
            "SET standard_conforming_strings = off",
            "SELECT '\\';'",
            "SET standard_conforming_strings TO on",
            "'\\'",
            "b",
        ],
    ),
    (
        Dialect::Postgres,
        "SELECT pg_catalog.set_config('standard_conforming_strings', 'off', false);'\\';';",
        &["SELECT pg_catalog.set_config('standard_conforming_strings', 'off', false)", "'\\';'"],
    ),
    (Dialect::Postgres, "SELECT E'a'\n'\\';';b;", &["SELECT E'a'\n'\\';'", "b"]),
    (Dialect::Postgres, "SELECT E'a' '\\';b;", &["SELECT E'a' '\\'", "b"]),
    (Dialect::Postgres, "SELECT $a$;$$;$a$, a$b;$c$;$c$;", &["SELECT $a$;$$;$a$, a$b", "$c$;$c$"]),
    (Dialect::Postgres, "a -- x\r;b;", &["a -- x\r", "b"]),
    (
        Dialect::Postgres,
        "CREATE RULE r AS ON INSERT TO t DO ALSO (a; b);/* /* */ ; */c;",
        &["CREATE RULE r AS ON INSERT TO t DO ALSO (a; b)", "c"],
    ),
    (
        Dialect::Postgres,
        "CREATE OR REPLACE PROCEDURE p() BEGIN ATOMIC SELECT CASE WHEN a THEN b END; c; END;d;",
        &[
            "CREATE OR REPLACE PROCEDURE p() BEGIN ATOMIC SELECT CASE WHEN a THEN b END; c; END",
            "d",
        ],
    ),
];

struct Pieces<'a>(&'a [u8], usize);

impl Read for Pieces<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = self.1.min(self.0.len()).min(buffer.len());
        buffer[..length].copy_from_slice(&self.0[..length]);
        self.0 = &self.0[length..];
        Ok(length)
    }
}

/// The statements of a script, given in pieces; what is not complete is left out.
fn statements(dialect: Dialect, script: &[u8], piece: usize) -> Vec<String> {
    let mut reader = ScriptReader::new(dialect, Pieces(script, piece));
    let mut found = Vec::new();
    while let Ok(Some(statement)) = reader.next_statement() {
        found.push(String::from_utf8_lossy(&statement).into_owned());
    }
    found
}

/// The texts of a script with their places, as they are cut for rewriting.
fn texts(dialect: Dialect, script: &[u8], piece: usize) -> Vec<(usize, Vec<u8>)> {
    let (mut found, mut at) = (Vec::new(), 0);
    let mut take = |part: ScriptPart<'_>| -> Result<(), Infallible> {
        match part {
            ScriptPart::Rest(bytes) => at += bytes.len(),
            ScriptPart::Text(raw, _) => {
                found.push((at, raw.to_vec()));
                at += raw.len();
            }
        }
        Ok(())
    };
    let mut cutter = TextCutter::new(dialect);
    for piece in script.chunks(piece) {
        cutter.feed(piece, &mut take).unwrap();
    }
    cutter.finish(&mut take).unwrap();
    assert_eq!(at, script.len());
    found
}

/// The lexemes of a script, with their places.
fn lexemes(dialect: Dialect, script: &[u8], piece: usize) -> Vec<(Lexeme, usize, usize)> {
    let mut lexer = Lexer::script(dialect);
    let (mut found, mut at, mut there) = (Vec::new(), 0, 0);
    loop {
        match lexer.step(&script[at..there], there == script.len()) {
            Step::Token(lexeme, length) => {
                assert!(length > 0);
                found.push((lexeme, at, length));
                at += length;
            }
            Step::More if there < script.len() => there = script.len().min(there + piece),
            Step::More | Step::Open => return found,
        }
    }
}

#[test]
fn statements_end_where_servers_end_them_however_the_script_comes() {
    for (dialect, script, expected) in SCRIPTS {
        for piece in PIECES {
            let found = statements(dialect, script.as_bytes(), piece);
            assert_eq!(found, expected, "{dialect:?} {script} in pieces of {piece}");
        }
    }
}

#[test]
fn all_readers_see_the_same_texts() {
    for (dialect, script, _) in SCRIPTS {
        let whole = lexemes(dialect, script.as_bytes(), usize::MAX);
        let of_lexer: Vec<usize> = whole
            .iter()
            .filter_map(|(lexeme, at, _)| match lexeme {
                Lexeme::Text(Literal::Quoted { prefix, .. }) => Some(at + prefix),
                Lexeme::Text(Literal::Hex) => Some(at + 1),
                Lexeme::Text(Literal::Dollar(_)) => Some(*at),
                _ => None,
            })
            .collect();
        for piece in PIECES {
            assert_eq!(lexemes(dialect, script.as_bytes(), piece), whole, "{script} by {piece}");
            let cut = texts(dialect, script.as_bytes(), piece);
            let places: Vec<usize> = cut.iter().map(|(at, _)| *at).collect();
            assert_eq!(places, of_lexer, "{script} by {piece}");
        }
    }
}

#[test]
fn a_computed_mode_that_decides_about_texts_is_refused() {
    for script in [
        "SET sql_mode = CONCAT(@@sql_mode, ',NO_BACKSLASH_ESCAPES');SELECT 1;",
        "SET sql_mode = REPLACE(@@sql_mode, 'ANSI_QUOTES', '');SELECT 1;",
    ] {
        let mut reader = ScriptReader::new(Dialect::Mariadb, script.as_bytes());
        let refused = reader.next_statement().unwrap_err().to_string();
        assert_eq!(
            refused,
            "sql_mode is set to a computed value, so it is unclear where its texts end"
        );
    }
    let harmless =
        "SET sql_mode = (SELECT REPLACE(@@sql_mode, 'ONLY_FULL_GROUP_BY', ''));SELECT 1;";
    assert_eq!(statements(Dialect::Mariadb, harmless.as_bytes(), 7).len(), 2);
}

#[test]
fn long_tokens_are_looked_at_once() {
    // Were each piece looked at from the beginning, this would take minutes.
    let long = "x".repeat(4 << 20);
    for script in
        [format!("'{long}';"), format!("{long};"), format!("/*{long}*/a;"), format!("`{long}`;")]
    {
        assert_eq!(statements(Dialect::Mariadb, script.as_bytes(), 512).len(), 1);
    }
}

fn words() -> impl Strategy<Value = Vec<&'static str>> {
    prop::collection::vec(
        prop::sample::select(vec![
            "'",
            "\"",
            "`",
            "[",
            "]",
            "\\",
            "$a$",
            "$$",
            "$",
            "0x",
            "ab",
            "/*",
            "*/",
            "/*!40101 ",
            "/*!",
            "--",
            "-- ",
            "\n",
            "\r",
            ";",
            "COPY t FROM stdin;\n",
            "\t",
            "\\.\n",
            "E",
            "x",
            "N",
            "b",
            "#",
            "DELIMITER //\n",
            "//",
            "CREATE ",
            "TRIGGER ",
            "END",
            "BEGIN ",
            "FUNCTION ",
            "(",
            ")",
            "SET sql_mode='NO_BACKSLASH_ESCAPES';",
            "\u{7f}",
            "ö",
            ".5",
            ".",
            "SET standard_conforming_strings=off;",
            "SET sql_mode='ANSI_QUOTES';",
            "1e",
            "@",
        ]),
        0..40,
    )
}

proptest! {
    #[test]
    fn cutting_makes_no_difference(words in words(), piece in 1_usize..9) {
        let script = words.concat();
        for dialect in [Dialect::Sqlite, Dialect::Mariadb, Dialect::Postgres] {
            let whole = lexemes(dialect, script.as_bytes(), usize::MAX);
            prop_assert_eq!(&lexemes(dialect, script.as_bytes(), piece), &whole);
            prop_assert_eq!(
                statements(dialect, script.as_bytes(), piece),
                statements(dialect, script.as_bytes(), 1 << 20)
            );
        }
    }

    #[test]
    fn a_statement_that_was_cut_out_is_one_statement_to_its_reader(words in words()) {
        let script = words.concat();
        for dialect in [Dialect::Sqlite, Dialect::Mariadb, Dialect::Postgres] {
            let mut reader = ScriptReader::new(dialect, script.as_bytes());
            while let Ok(Some(statement)) = reader.next_statement() {
                let mut tokens = tokens(dialect, reader.modes(), &statement);
                let mut depth = 0;
                while let Ok(Some(token)) = tokens.next_token() {
                    prop_assert!(tokens.at > tokens.from);
                    depth += i32::from(token == Token::Sign(b'('));
                }
                prop_assert!(depth >= 0);
            }
        }
    }
}

#[test]
fn a_name_of_doubled_quotes_needs_no_depth() {
    let name = b"`".repeat(1 << 21);
    let mut tokens = tokens(Dialect::Sqlite, Modes::default(), &name);
    let Ok(Some(Token::Name(name))) = tokens.next_token() else { panic!("a name") };
    assert_eq!(name.len(), (1 << 20) - 1);
}
