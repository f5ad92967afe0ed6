//! Whole scripts, statement by statement.

use super::*;

/// Both passes over statements that are parted by line breaks.
fn both(dialect: Dialect, script: &str) -> Result<(Understood, Vec<(String, Row)>), ForeignError> {
    let statements: Vec<&str> =
        script.split("\n;").filter(|part| !part.trim().is_empty()).collect();
    let mut first = ForeignScript::new(dialect, "utf8mb4");
    for statement in &statements {
        first.take(statement.as_bytes(), Modes::default())?;
    }
    let mut understood = first.understood()?;
    let mut found = Vec::new();
    for statement in &statements {
        let mut take = |table: &str, row: Row| -> Result<(), ForeignError> {
            found.push((table.to_owned(), row));
            Ok(())
        };
        understood.rows(statement.as_bytes(), Modes::default(), &mut take)?;
    }
    Ok((understood, found))
}

fn texts(statements: &[Statement]) -> Vec<&str> {
    statements.iter().filter_map(Statement::sql).collect()
}

#[test]
fn what_is_said_about_a_table_in_several_statements_becomes_one() {
    let script = "CREATE TABLE t (id int NOT NULL)\n;INSERT INTO t VALUES (1)\n;\
                  ALTER TABLE t ADD PRIMARY KEY (id), ADD KEY k (id), AUTO_INCREMENT=7\n;\
                  ALTER TABLE t ADD CONSTRAINT f FOREIGN KEY (id) REFERENCES u (a)\n;\
                  ALTER TABLE t MODIFY id bigint AUTO_INCREMENT";
    let (understood, rows) = both(Dialect::Mariadb, script).unwrap();
    assert_eq!(
        texts(&understood.before),
        ["CREATE TABLE `t` (\n  id bigint AUTO_INCREMENT,\n  PRIMARY KEY (id),\n  KEY k (id)\n)  \
          AUTO_INCREMENT=7"]
    );
    let after = texts(&understood.afterwards);
    assert_eq!(
        after.last().copied(),
        Some("ALTER TABLE `t` ADD CONSTRAINT `f` FOREIGN KEY (`id`) REFERENCES `u` (`a`)")
    );
    assert_eq!(understood.tables[0].key, ["id"]);
    assert_eq!(rows, [("t".to_owned(), vec![crate::record::Value::Number(b"1".to_vec())])]);
}

#[test]
fn a_stand_in_that_is_dropped_again_leaves_no_trace() {
    let script = "CREATE TABLE v (a int)\n;CREATE TABLE t (a int)\n;DROP TABLE IF EXISTS v\n;\
                  CREATE VIEW v AS SELECT a FROM t";
    let (understood, _) = both(Dialect::Mariadb, script).unwrap();
    let names: Vec<&str> = understood.tables.iter().map(|table| table.name.as_str()).collect();
    assert_eq!(names, ["t"]);
}

#[test]
fn rows_that_are_taken_away_again_are_not_taken_for_rows() {
    let filled = "CREATE TABLE t (a int)\n;INSERT INTO t VALUES (1)\n;";
    for last in ["DROP TABLE t", "TRUNCATE TABLE t", "DELETE FROM t", "UPDATE t SET a = 2"] {
        let refused = both(Dialect::Mariadb, &format!("{filled}{last}")).unwrap_err();
        assert!(matches!(refused, ForeignError::Refused(_)), "{last}: {refused}");
    }
    assert!(both(Dialect::Mariadb, "CREATE TABLE t (a int)\n;TRUNCATE t").is_ok());
}

#[test]
fn names_are_found_as_servers_read_them() {
    let script = "CREATE TABLE Notes (Id int, body text)\n;INSERT INTO NOTES (ID) VALUES (1)";
    let (understood, rows) = both(Dialect::Postgres, script).unwrap();
    assert_eq!(understood.tables[0].columns[0].name, "id");
    assert_eq!((rows[0].0.as_str(), rows[0].1.len()), ("notes", 1));
    let script = "CREATE TABLE t (Id int)\n;INSERT INTO t (ID) VALUES (1)";
    let (understood, _) = both(Dialect::Mariadb, script).unwrap();
    assert_eq!(understood.tables[0].columns[0].name, "Id");
    let script = "CREATE TABLE t (a int)\n;INSERT INTO t (b) VALUES (1)";
    let refused = both(Dialect::Mariadb, script).unwrap_err().to_string();
    assert_eq!(refused, "it fills column b of table t, which has no such column");
}

#[test]
fn names_with_a_schema_lie_in_it() {
    let script = "CREATE TABLE app.t (id int, u int)\n;CREATE SEQUENCE app.s\n;\
                  INSERT INTO app.t VALUES (1, 2)\n;SELECT pg_catalog.setval('app.s', 4, true)\n;\
                  ALTER TABLE ONLY app.t ADD CONSTRAINT p PRIMARY KEY (id)";
    let (understood, rows) = both(Dialect::Postgres, script).unwrap();
    assert_eq!(
        texts(&understood.before),
        [
            "SET search_path = \"app\"",
            "CREATE TABLE \"t\" (id int, u int)",
            "CREATE SEQUENCE \"s\""
        ]
    );
    let after = texts(&understood.afterwards);
    assert_eq!(
        after[..2],
        ["SET search_path = \"app\"", "SELECT pg_catalog.setval('\"s\"', 4, true)"]
    );
    assert_eq!(understood.tables[0].name, "app.t");
    assert_eq!(understood.tables[0].key, ["id"]);
    assert_eq!(rows[0].0, "app.t");
}

#[test]
fn rows_in_two_ways_and_times_of_another_zone_are_refused() {
    let two = "CREATE TABLE t (a int, b int)\n;INSERT INTO t (a) VALUES (1)\n;\
               INSERT INTO t (b) VALUES (1)";
    assert_eq!(both(Dialect::Mariadb, two).unwrap_err(), ForeignError::Columns("t".into()));
    let zone =
        "SET time_zone = '+02:00'\n;CREATE TABLE t (a timestamp)\n;INSERT INTO t VALUES (NULL)";
    assert_eq!(both(Dialect::Mariadb, zone).unwrap_err(), ForeignError::TimeZone("+02:00".into()));
    let unsaid = "CREATE TABLE t (a timestamp)\n;INSERT INTO t VALUES (NULL)";
    assert!(both(Dialect::Mariadb, unsaid).unwrap().0.notes[0].contains("taken as UTC"));
}
