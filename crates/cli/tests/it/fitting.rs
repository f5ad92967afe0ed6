//! Rows of an archive in columns of other types: what they hold arrives, or is rejected and named.
//! Without a word, servers round numbers and times, cut spaces, and take bytes of one character
//! set for characters of another.

use super::zoo::two_sites;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{mariadb_client, new_database, psql};

const ROWS_ONLY: &str = "unpack rows.fernweh.tar new --as-is --rows-only --overwrite";

fn run(place: &Place, script: &str) {
    Database::open(place).unwrap().run(script.as_bytes()).unwrap();
}

/// Packs, tries, and leaves out what does not fit: `rejected` records, which are named.
fn left_out(old: &Place, new: &Place, rejected: u64, named: &[&str]) {
    let workspace = two_sites(old, new);
    workspace.done("pack old -o rows.fernweh.tar");
    let stopped = workspace.run(ROWS_ONLY).code(3).says("rejected a record");
    stopped.says("nothing was changed");
    let ran = workspace.run(&format!("{ROWS_ONLY} --on-bad-record skip")).code(1);
    named.iter().fold(ran, |ran, words| ran.says(words));
    workspace.done("undo new");
    let ran = workspace.run(&format!("{ROWS_ONLY} --on-bad-record skip --json")).code(1);
    assert_eq!(ran.json()["rejected"].as_u64(), Some(rejected));
}

#[test]
fn mariadb_converts_texts_and_rejects_what_would_be_rounded() {
    let [old, new] = ["fitting_old", "fitting_new"].map(|n| new_database(Server::Mariadb, n));
    mariadb_client(
        &old,
        "SET NAMES utf8mb4;
         CREATE TABLE greetings (id int PRIMARY KEY, word varchar(20), body text, k varchar(9) CHARACTER SET koi8r)
           DEFAULT CHARSET=latin1;
         INSERT INTO greetings VALUES (1, 'Grüße', 'größer €', 'да'), (2, NULL, '', 'нет'), (3, 'plain', 'ä', NULL);
         CREATE TABLE numbers (id int PRIMARY KEY, fixed decimal(12,4), wide double, moment datetime(6), day datetime, word varchar(9), whole decimal(9,2));
         INSERT INTO numbers VALUES (1, 1.25, 0.5, '2026-01-01 10:00:00.5', '2026-01-01', 'ab', 7.00),
           (2, 1.2345, 0.5, '2026-01-01 10:00:00', '2026-01-01', 'ab', 7),
           (3, 1, 0.1234567890123, '2026-01-01 10:00:00', '2026-01-01', 'ab', 7),
           (4, 1, 0.1, '2026-01-01 10:00:00.123456', '2026-01-01', 'ab', 7),
           (5, 1, 1e30, '2026-01-01 10:00:00', '2026-01-01 10:00:00', 'ab', 7),
           (6, 1, 0, '2026-01-01 10:00:00', '2026-01-01', 'ab  ', 7),
           (7, 1, 0, '2026-01-01 10:00:00', '2026-01-01', 'ab', 7.5),
           (8, NULL, NULL, NULL, NULL, NULL, NULL);"
            .into(),
    );
    mariadb_client(
        &new,
        "CREATE TABLE greetings (id int PRIMARY KEY, word varchar(20), body text CHARACTER SET utf8mb3, k varchar(9))
           DEFAULT CHARSET=utf8mb4;
         CREATE TABLE numbers (id int PRIMARY KEY, fixed decimal(12,2), wide float, moment datetime(1), day date, word varchar(3), whole int);"
            .into(),
    );
    left_out(&old, &new, 6, &["numbers, id 2", "numbers, id 7", "column whole"]);
    let asked = "SET NAMES utf8mb4; SELECT id, word, body, k FROM greetings; \
                 SELECT id, fixed, wide, moment, day, word, whole FROM numbers";
    assert_eq!(
        mariadb_client(&new, asked.into()),
        "1\tGrüße\tgrößer €\tда\n2\tNULL\t\tнет\n3\tplain\tä\tNULL\n\
         1\t1.25\t0.5\t2026-01-01 10:00:00.5\t2026-01-01\tab\t7\n\
         8\tNULL\tNULL\tNULL\tNULL\tNULL\tNULL\n"
    );
}

#[test]
fn a_character_that_the_column_has_not_is_a_rejected_record() {
    let [old, new] = ["narrow_old", "narrow_new"].map(|n| new_database(Server::Mariadb, n));
    let script = |charset: &str, rows: &str| {
        format!(
            "SET NAMES utf8mb4; CREATE TABLE words (id int PRIMARY KEY, word text) DEFAULT CHARSET={charset}; {rows}"
        )
    };
    let rows = "INSERT INTO words VALUES (1, 'größe'), (2, '☃'), (3, 'x')";
    mariadb_client(&old, script("utf8mb4", rows).into());
    mariadb_client(&new, script("latin1", "").into());
    left_out(&old, &new, 1, &["words, id 2"]);
    let asked = "SELECT id, hex(word) FROM words";
    assert_eq!(mariadb_client(&new, asked.into()), "1\t6772F6DF65\n3\t78\n");
}

#[test]
fn a_table_without_transactions_names_the_record_that_is_wrong() {
    let [old, new] = ["plain_old", "plain_new"].map(|n| new_database(Server::Mariadb, n));
    let rows: Vec<String> = (1..=400).map(|n| format!("({n}, 'word {n}')")).collect();
    let script = format!(
        "CREATE TABLE words (id int PRIMARY KEY, word varchar(20)); INSERT INTO words VALUES {}; \
         UPDATE words SET word = 'much too long' WHERE id IN (7, 8, 300)",
        rows.join(",")
    );
    mariadb_client(&old, script.into());
    let script = "CREATE TABLE words (id int PRIMARY KEY, word varchar(9)) ENGINE=MyISAM";
    mariadb_client(&new, script.into());
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o rows.fernweh.tar");
    workspace.run(ROWS_ONLY).code(3).says("table words, id 7").says("too long");
    let ran = workspace.run(&format!("{ROWS_ONLY} --on-bad-record skip")).code(1);
    ran.says("words, id 7").says("words, id 8").says("words, id 300");
    assert_eq!(mariadb_client(&new, "SELECT count(*) FROM words".into()), "397\n");
    workspace.done("undo new");
    workspace.done(&format!("{ROWS_ONLY} --on-bad-record adapt")).says("changed by the database");
    let asked = "SELECT count(*) FROM words; SELECT word FROM words WHERE id = 8";
    assert_eq!(mariadb_client(&new, asked.into()), "400\nmuch too \n");
}

#[test]
fn postgres_rejects_what_would_be_rounded() {
    let [old, new] = ["fitting_old", "fitting_new"].map(|n| new_database(Server::Postgres, n));
    run(
        &old,
        "CREATE TABLE numbers (id int PRIMARY KEY, fixed numeric(12,4), wide float8, moment timestamp, at timestamptz, word text, span interval);
         INSERT INTO numbers VALUES (1, 1.25, 0.5, '2026-01-01 10:00:00.5', '2026-01-01 10:00:00.5+02', 'ab', '1 day 00:00:01.5'),
           (2, 1.2345, 0.5, '2026-01-01 10:00:00', NULL, 'ab', NULL),
           (3, 1, 0.1234567890123, '2026-01-01 10:00:00', NULL, 'ab', NULL),
           (4, 1, 0.1, '2026-01-01 10:00:00.123456', NULL, 'ab', NULL),
           (5, 1, 0, NULL, '2026-01-01 10:00:00.25+00', 'ab', NULL),
           (6, 1, 0, NULL, NULL, 'ab  ', NULL), (7, 1, 0, NULL, NULL, 'ab', '00:00:00.25'),
           (8, NULL, 'NaN', 'infinity', NULL, NULL, NULL);
         CREATE TABLE days (day timestamp); INSERT INTO days VALUES ('2026-01-01'), ('2026-01-01 10:00:00')",
    );
    run(
        &new,
        "CREATE TABLE numbers (id int PRIMARY KEY, fixed numeric(12,2), wide real, moment timestamp(1), at timestamptz(1), word varchar(3), span interval(1));
         CREATE TABLE days (day date)",
    );
    left_out(&old, &new, 7, &["numbers, id 2", "column fixed", "column day"]);
    let told = psql(&new, &["-c", "SELECT id, fixed, wide, moment, word, span FROM numbers"]);
    assert_eq!(told, "1|1.25|0.5|2026-01-01 10:00:00.5|ab|1 day 00:00:01.5\n8||NaN|infinity||\n");
    assert_eq!(psql(&new, &["-c", "SELECT * FROM days"]), "2026-01-01\n");
}

#[test]
fn sqlite_rejects_texts_that_would_become_other_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    run(
        &old,
        "CREATE TABLE codes (id INTEGER PRIMARY KEY, code TEXT, size REAL);
         INSERT INTO codes VALUES (1, '12', 1.0), (2, '007', 1.5), (3, 'x', NULL), (4, '1.50', 2), (5, NULL, 3)",
    );
    run(&new, "CREATE TABLE codes (id INTEGER PRIMARY KEY, code INTEGER, size TEXT)");
    left_out(&old, &new, 2, &["codes, id 2", "codes, id 4", "column code"]);
    let rows = Database::open(&new).unwrap().ask("SELECT id, code, size FROM codes").unwrap();
    let shown: Vec<String> = rows
        .into_iter()
        .map(|row| row.into_iter().flatten().collect::<Vec<_>>().join("|"))
        .collect();
    assert_eq!(shown, ["1|12|1.0", "3|x", "5|3.0"]);
}
