use super::*;
use crate::record::{Row, Value};
use crate::sql::{ScriptReader, quote_name, write_insert_head, write_row};
use proptest::prelude::*;

fn statements(dialect: Dialect, script: &[u8]) -> Vec<String> {
    let mut reader = ScriptReader::new(dialect, script);
    let mut found = Vec::new();
    while let Some(statement) = reader.next_statement().unwrap() {
        found.push(String::from_utf8(statement).unwrap());
    }
    found
}

#[test]
fn semicolons_in_strings_names_comments_and_triggers_do_not_end_a_statement() {
    let script = "CREATE TABLE \"a;b\" (x TEXT DEFAULT ';'); -- ; not here\n/* ; */ \
        CREATE TRIGGER t AFTER INSERT ON \"a;b\" BEGIN\n UPDATE x SET y = CASE WHEN 1 THEN 2 END;\n \
        SELECT 1; END;\nCREATE INDEX i ON x(y);";
    let found = statements(Dialect::Sqlite, script.as_bytes());
    assert_eq!(found.len(), 3, "{found:#?}");
    assert!(found[1].ends_with("SELECT 1; END"));
}

#[test]
fn a_delimiter_line_changes_what_ends_a_statement() {
    let script = b"SET NAMES utf8mb4;\nDELIMITER ;;\nCREATE TRIGGER `t` BEFORE INSERT ON `a` \
        FOR EACH ROW BEGIN SET NEW.x = 'it\\'s; ;;'; END;;\nDELIMITER ;\nCREATE VIEW `v` AS SELECT 1;";
    let found = statements(Dialect::Mariadb, script);
    assert_eq!(found.len(), 3, "{found:#?}");
    let trigger =
        Statement::parse(Dialect::Mariadb, Modes::default(), found[1].as_bytes()).unwrap();
    assert!(
        matches!(trigger, Statement::Trigger { name, table, .. } if name == "t" && table == "a")
    );
}

#[test]
fn bodies_of_postgres_are_not_cut() {
    let script = "CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $b$ BEGIN; $ $x$ ; END $b$;\n\
        CREATE FUNCTION g() RETURNS int BEGIN ATOMIC SELECT CASE WHEN 1=1 THEN 2 END; SELECT 1; END;\n\
        /* a /* nested; */ ; */ CREATE VIEW v AS SELECT E'it\\'s;', 'a\\', $$;$$, 1 AS a$b;\n\
        COPY t (a) FROM stdin;\n1\tx;y\n\\.\nSELECT 1;";
    for piece in [1, 2, 3, 5, 8, 16, 1 << 20] {
        let stream = Pieces { rest: script.as_bytes(), piece };
        let mut reader = ScriptReader::new(Dialect::Postgres, stream);
        let mut next = || String::from_utf8(reader.next_statement().unwrap().unwrap()).unwrap();
        assert!(next().ends_with("END $b$"));
        assert!(next().ends_with("SELECT 1; END"));
        assert!(next().ends_with("1 AS a$b"));
        assert!(next().ends_with("FROM stdin"));
        let mut line = || String::from_utf8(reader.next_line().unwrap().unwrap()).unwrap();
        assert_eq!([line(), line(), line()], ["", "1\tx;y", "\\."]);
        assert_eq!(reader.next_statement().unwrap().unwrap(), b"SELECT 1");
    }
}

#[test]
fn two_dashes_without_space_are_a_difference_in_mariadb() {
    let found =
        statements(Dialect::Mariadb, b"SELECT 5--3;SELECT \"a\\\";\";# not; this\nSELECT 2;");
    assert_eq!(found.len(), 3, "{found:#?}");
}

#[test]
fn a_script_that_breaks_off_is_an_error() {
    let mut reader = ScriptReader::new(Dialect::Sqlite, &b"INSERT INTO a VALUES ('x"[..]);
    assert!(reader.next_statement().is_err());
}

#[test]
fn names_are_found_where_they_stand() {
    let sql = "CREATE TABLE `we``ird` (`a` int, KEY `k` (`a`)) ENGINE=InnoDB";
    let Statement::Table { name, at, sql } =
        Statement::parse(Dialect::Mariadb, Modes::default(), sql.as_bytes()).unwrap()
    else {
        panic!("not a table");
    };
    assert_eq!((name.as_str(), &sql[at]), ("we`ird", "`we``ird`"));
}

#[test]
fn what_packing_never_writes_is_refused() {
    for sql in [
        "DROP TABLE a",
        "ATTACH 'x' AS y",
        "CREATE VIRTUAL TABLE a USING b",
        "PRAGMA writable_schema = 1",
        "GRANT ALL ON *.* TO x",
        "LOAD DATA INFILE 'x' INTO TABLE a",
        "ALTER TABLE a DROP COLUMN b",
        "CREATE FUNCTION f RETURNS INT SONAME 'x.so'",
        "INSERT INTO a SELECT * FROM b",
    ] {
        let refused = Statement::parse(Dialect::Mariadb, Modes::default(), sql.as_bytes());
        assert!(refused.is_err(), "{sql}");
    }
    let outside = "CREATE TABLE a (b int) DATA DIRECTORY='/tmp'";
    let refused = Statement::parse(Dialect::Mariadb, Modes::default(), outside.as_bytes());
    assert!(refused.unwrap_err().to_string().ends_with("(at DATA)"));
    let call =
        Insert::parse(Dialect::Mariadb, b"INSERT INTO a (b) VALUES (load_file('/etc/passwd'))");
    assert_eq!(call, Err(StatementError::Unreadable));
}

fn values(dialect: Dialect) -> impl Strategy<Value = Value> {
    let number = match dialect {
        Dialect::Sqlite => prop_oneof![
            any::<i64>().prop_map(Value::Integer),
            any::<f64>()
                .prop_filter("NaN is NULL in SQLite", |n| !n.is_nan())
                .prop_map(Value::Real),
        ]
        .boxed(),
        Dialect::Mariadb => "-?[0-9]{1,20}(\\.[0-9]{1,6})?(e-?[0-9]{1,2})?"
            .prop_map(|digits| Value::Number(digits.into_bytes()))
            .boxed(),
        Dialect::Postgres => unreachable!("its rows travel as COPY"),
    };
    prop_oneof![
        Just(Value::Null),
        number,
        prop::collection::vec(any::<u8>(), 0..20).prop_map(Value::Text),
        "[a-z'\\\\\"`;\n-]{0,20}".prop_map(|text| Value::Text(text.into_bytes())),
        prop::collection::vec(any::<u8>(), 0..20).prop_map(Value::Bytes),
    ]
}

fn round_trip(dialect: Dialect, rows: Vec<Row>, piece: usize) -> Result<(), TestCaseError> {
    let columns: Vec<String> = (0..rows[0].len()).map(|n| format!("c \"`{n}")).collect();
    let mut script = Vec::new();
    write_insert_head(dialect, "t'a`b\"", &columns, &mut script);
    for (number, row) in rows.iter().enumerate() {
        if number > 0 {
            script.extend_from_slice(b",\n");
        }
        write_row(dialect, row, &mut script);
    }
    script.extend_from_slice(b";\nPRAGMA foreign_keys = ON;\n");
    let mut reader = ScriptReader::new(dialect, Pieces { rest: &script, piece });
    let statement = reader.next_statement().unwrap().unwrap();
    let insert = Insert::parse(dialect, &statement).unwrap().unwrap();
    prop_assert_eq!(insert.table, "t'a`b\"");
    prop_assert_eq!(insert.columns, columns);
    prop_assert_eq!(insert.rows, rows);
    prop_assert!(reader.next_statement().unwrap().is_some());
    prop_assert!(reader.next_statement().unwrap().is_none());
    Ok(())
}

/// A stream that gives a few bytes at a time.
struct Pieces<'a> {
    rest: &'a [u8],
    piece: usize,
}

impl std::io::Read for Pieces<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = self.piece.min(self.rest.len()).min(buffer.len());
        buffer[..length].copy_from_slice(&self.rest[..length]);
        self.rest = &self.rest[length..];
        Ok(length)
    }
}

fn pieces() -> impl Strategy<Value = usize> {
    prop::sample::select(vec![1, 2, 3, 5, 8, 16, 1 << 20])
}

proptest! {
    #[test]
    fn sqlite_rows_are_read_as_they_were_written(
        rows in prop::collection::vec(prop::collection::vec(values(Dialect::Sqlite), 3), 1..4), piece in pieces()
    ) {
        round_trip(Dialect::Sqlite, rows, piece)?;
    }

    #[test]
    fn mariadb_rows_are_read_as_they_were_written(
        rows in prop::collection::vec(prop::collection::vec(values(Dialect::Mariadb), 3), 1..4), piece in pieces()
    ) {
        round_trip(Dialect::Mariadb, rows, piece)?;
    }
}

#[test]
fn a_trigger_is_moved_to_another_table_and_sequences_are_found() {
    for (sql, moved) in [
        (
            "CREATE TRIGGER `a ``b` BEFORE INSERT ON `t` FOR EACH ROW SET NEW.x = 'ON t FOR'",
            "CREATE TRIGGER `n` BEFORE INSERT ON `m` FOR EACH ROW SET NEW.x = 'ON t FOR'",
        ),
        (
            "CREATE TRIGGER \"a\" AFTER UPDATE ON db.t FOR EACH ROW FOLLOWS `z` BEGIN CALL p(); \
             END",
            "CREATE TRIGGER `n` AFTER UPDATE ON `m` FOR EACH ROW BEGIN CALL p(); END",
        ),
    ] {
        assert_eq!(moved_trigger(sql, "n", "m").as_deref(), Some(moved));
    }
    assert_eq!(moved_trigger("CREATE VIEW v AS SELECT 1", "n", "m"), None);
    let default = "ALTER TABLE `d` ALTER COLUMN `b` SET DEFAULT (nextval(`s (1`) + nextval (`t`))";
    assert_eq!(sequences_in(default), ["s (1", "t"]);
    let renamed = renamed_default(default, &mut |name| match name {
        DefaultName { table: Some(_), .. } => Some("m".into()),
        DefaultName { sequence: Some("t"), .. } => Some("u".into()),
        _ => None,
    });
    assert_eq!(
        renamed,
        "ALTER TABLE `m` ALTER COLUMN `b` SET DEFAULT (nextval(`s (1`) + nextval (`u`))"
    );
}

#[test]
fn names_are_quoted_so_that_they_come_back() {
    assert_eq!(quote_name(Dialect::Sqlite, "a\"b"), "\"a\"\"b\"");
    assert_eq!(quote_name(Dialect::Mariadb, "a`b"), "`a``b`");
}

#[test]
fn settings_for_the_servers_own_client_are_passed() {
    for sql in crate::sql::MARIADB_ROW_SETTINGS.split_inclusive(";\n") {
        let sql = sql.trim_end().trim_end_matches(';');
        assert_eq!(Insert::parse(Dialect::Mariadb, sql.as_bytes()), Ok(None), "{sql}");
    }
}
