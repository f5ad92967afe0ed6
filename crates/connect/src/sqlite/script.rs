//! A script of others, run in a database file of its own, from which it is packed then.
//! It cannot reach out of this file.

use super::outside::{first_words, keep_to_the_file, run_one};
use super::trouble;
use fernweh_ports::{Result, Trouble};
use rusqlite::{Connection, ErrorCode};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Statements that rows and tables need.
const TAKEN: [&str; 9] =
    ["CREATE", "INSERT", "REPLACE", "UPDATE", "DELETE", "DROP", "ALTER", "ANALYZE", "REINDEX"];

/// Statements that only frame others: everything runs in one transaction anyway.
const PASSED: [&str; 6] = ["BEGIN", "COMMIT", "END", "SAVEPOINT", "RELEASE", "VACUUM"];

/// What a file's header holds; other settings concern the session that would run the script.
const HEADER: [&str; 5] =
    ["USER_VERSION", "APPLICATION_ID", "ENCODING", "PAGE_SIZE", "AUTO_VACUUM"];

/// How long one statement may take: an index over the largest table is made in it.
const LONGEST: Duration = Duration::from_secs(600);

/// Steps of SQLite's machine between two looks at the clock and at the user's wish to stop.
const STEPS: i32 = 100_000;

/// A file that a script fills.
pub struct SqliteScript {
    db: Connection,
    path: PathBuf,
    begun: bool,
}

impl SqliteScript {
    /// Makes the file. `stops` says whether the user wants it to end.
    pub fn create(path: &Path, stops: impl Fn() -> bool + Send + 'static) -> Result<Self> {
        let what = "cannot make room for the script's database";
        let make = || {
            let mut db = Connection::open(path)?;
            db.execute_batch(
                "PRAGMA foreign_keys = OFF; PRAGMA synchronous = OFF; PRAGMA trusted_schema = OFF; \
                 PRAGMA ignore_check_constraints = ON",
            )?;
            keep_to_the_file(&mut db)?;
            let mut begun = Instant::now();
            let mut last = Instant::now();
            db.progress_handler(
                STEPS,
                Some(move || {
                    // Where nothing was run for a moment, another statement has begun.
                    if last.elapsed() > Duration::from_millis(500) {
                        begun = Instant::now();
                    }
                    last = Instant::now();
                    stops() || begun.elapsed() > LONGEST
                }),
            )?;
            Ok(db)
        };
        let db = make().map_err(|error| trouble(what, path, &error))?;
        Ok(Self { db, path: path.to_owned(), begun: false })
    }

    /// Runs a statement, or says why not; `place` is where it stands.
    pub fn run(&mut self, place: &str, statement: &[u8]) -> Result<()> {
        let refused = |because: String| {
            Trouble::usage("the script contains a statement that is not allowed")
                .at(place)
                .because(because)
                .hint("remove the statement from the script and do its work by hand")
        };
        let Ok(sql) = std::str::from_utf8(statement) else {
            return Err(refused("a statement that is not UTF-8".into()));
        };
        let words = first_words(sql, 4);
        let word = |place: usize| words.get(place).map(String::as_str).unwrap_or_default();
        let shown =
            || sql.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(60).collect();
        let shown: String = shown();
        match word(0) {
            "" if sql.starts_with('.') => {
                return Err(refused(format!(
                    "`{shown}` is a command of SQLite's own program, not SQL"
                )));
            }
            "" => return Ok(()),
            "ROLLBACK" => {
                return Err(Trouble::damaged("the script is not complete")
                    .at(place)
                    .because("it ends with a rollback: there were errors when it was created")
                    .hint("check the database it comes from, and create the script again"));
            }
            "PRAGMA" if HEADER.contains(&word(1)) => {}
            "PRAGMA" if word(1) == "WRITABLE_SCHEMA" => {
                return Err(refused(format!("`{shown}` is not executed")));
            }
            "PRAGMA" => return Ok(()),
            "VACUUM" if words.iter().any(|word| word == "INTO") => {
                return Err(refused(format!("`{shown}` writes another file")));
            }
            known if PASSED.contains(&known) => return Ok(()),
            known if TAKEN.contains(&known) => self.begin()?,
            _ => return Err(refused(format!("`{shown}` is not executed"))),
        }
        run_one(&self.db, sql).map_err(|error| match error.sqlite_error_code() {
            Some(ErrorCode::OperationInterrupted) => {
                Trouble::interrupted("stopped while the script ran").at(place).because(format!(
                    "`{shown}` was ended; one statement may take {} minutes",
                    LONGEST.as_secs() / 60
                ))
            }
            _ => refused(format!("`{shown}` is refused by SQLite: {error}")),
        })
    }

    fn begin(&mut self) -> Result<()> {
        if std::mem::replace(&mut self.begun, true) {
            return Ok(());
        }
        self.batch("BEGIN")
    }

    fn batch(&self, sql: &str) -> Result<()> {
        let run = self.db.execute_batch(sql);
        run.map_err(|error| trouble("cannot fill the script's database", &self.path, &error))
    }

    /// Ends the script.
    pub fn finish(self) -> Result<()> {
        if self.begun { self.batch("COMMIT") } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(statements: &[&str]) -> Result<()> {
        let folder = tempfile::tempdir().expect("a folder");
        let mut script = SqliteScript::create(&folder.path().join("s.db"), || false)?;
        statements.iter().try_for_each(|sql| script.run("line 1", sql.as_bytes()))?;
        script.finish()
    }

    #[test]
    fn tables_and_rows_are_taken() {
        run(&[
            "PRAGMA foreign_keys=OFF",
            "BEGIN TRANSACTION",
            "-- notes\nCREATE TABLE notes (id INTEGER PRIMARY KEY AUTOINCREMENT, body)",
            "INSERT INTO notes VALUES(1,replace('a\\nb','\\n',char(10)))",
            "DELETE FROM sqlite_sequence",
            "INSERT INTO sqlite_sequence VALUES('notes',7)",
            "PRAGMA user_version = 3",
            "COMMIT",
        ])
        .expect("taken");
    }

    #[test]
    fn what_reaches_out_of_the_file_is_refused() {
        for sql in [
            "ATTACH 'other.db' AS o",
            "SELECT load_extension('x')",
            "INSERT INTO t SELECT load_extension('x')",
            "CREATE VIRTUAL TABLE v USING csv(filename = '/etc/passwd')",
            "PRAGMA writable_schema=ON",
            "VACUUM INTO '/tmp/x'",
            "/* x */ VACUUM main INTO '/tmp/x'",
            ".import /etc/passwd t",
            "ROLLBACK",
        ] {
            assert!(run(&["CREATE TABLE t (a)", sql]).is_err(), "{sql}");
        }
    }

    #[test]
    fn a_statement_without_end_stops_when_the_user_says_so() {
        let folder = tempfile::tempdir().expect("a folder");
        let looks = std::sync::Arc::new(std::sync::atomic::AtomicU32::new(0));
        let asked = looks.clone();
        let stops = move || asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed) >= 2;
        let mut script =
            SqliteScript::create(&folder.path().join("s.db"), stops).expect("a script");
        let endless = "CREATE TABLE t AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x \
                       FROM n) \
                       SELECT count(*) FROM n";
        let ended = script.run("line 1", endless.as_bytes()).expect_err("it ends");
        assert_eq!(ended.kind, fernweh_ports::TroubleKind::Interrupted);
    }
}
