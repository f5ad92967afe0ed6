//! A script of others, run in a database file of its own, from which it is packed then.
//! It cannot reach out of this file.

use super::{MODULES, trouble};
use fernweh_ports::{Result, Trouble};
use rusqlite::Connection;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use std::path::{Path, PathBuf};

/// Statements that rows and tables need.
const TAKEN: [&str; 9] =
    ["CREATE", "INSERT", "REPLACE", "UPDATE", "DELETE", "DROP", "ALTER", "ANALYZE", "REINDEX"];

/// Statements that only frame others: everything runs in one transaction anyway.
const PASSED: [&str; 6] = ["BEGIN", "COMMIT", "END", "SAVEPOINT", "RELEASE", "VACUUM"];

/// What a file's header holds; other settings concern the session that would run the script.
const HEADER: [&str; 5] =
    ["user_version", "application_id", "encoding", "page_size", "auto_vacuum"];

/// A file that a script fills.
pub struct SqliteScript {
    db: Connection,
    path: PathBuf,
    begun: bool,
}

impl SqliteScript {
    /// Makes the file.
    pub fn create(path: &Path) -> Result<Self> {
        let what = "cannot make room for the script's database";
        let make = || {
            let mut db = Connection::open(path)?;
            db.execute_batch(
                "PRAGMA foreign_keys = OFF; PRAGMA synchronous = OFF; PRAGMA trusted_schema = OFF",
            )?;
            db.authorizer(Some(keeps_to_the_file))?;
            Ok(db)
        };
        let db = make().map_err(|error| trouble(what, path, &error))?;
        Ok(Self { db, path: path.to_owned(), begun: false })
    }

    /// Runs a statement, or says why not; `place` is where it stands.
    pub fn run(&mut self, place: &str, statement: &[u8]) -> Result<()> {
        let refused = |because: String| {
            Trouble::usage("the script holds something that is not taken")
                .at(place)
                .because(because)
                .hint("take the statement out of the script, and do by hand what it is for")
        };
        let Ok(sql) = std::str::from_utf8(statement) else {
            return Err(refused("a statement that is not UTF-8".into()));
        };
        let start = beginning(sql);
        let word = first_word(start);
        let shown =
            || start.lines().next().unwrap_or_default().chars().take(60).collect::<String>();
        match word.as_str() {
            "" => return Ok(()),
            "ROLLBACK" => {
                return Err(Trouble::damaged("the script is not complete")
                    .at(place)
                    .because("it ends by taking everything back: writing it met errors")
                    .hint("look after the database it comes from, and write it anew"));
            }
            "PRAGMA" if !self.is_of_header(start) => {
                let risky = start.to_ascii_lowercase().contains("writable_schema");
                return if risky { Err(refused(format!("`{}`", shown()))) } else { Ok(()) };
            }
            "PRAGMA" => {}
            word if PASSED.contains(&word) => return Ok(()),
            word if TAKEN.contains(&word) => self.begin()?,
            _ => return Err(refused(format!("`{}` is not executed", shown()))),
        }
        let run =
            self.db.prepare(sql).and_then(|mut prepared| prepared.query(())?.next().map(drop));
        run.map_err(|error| refused(format!("`{}` is refused by SQLite: {error}", shown())))
    }

    fn is_of_header(&self, pragma: &str) -> bool {
        let name = pragma["PRAGMA".len()..].trim_start().to_ascii_lowercase();
        HEADER.iter().any(|known| name.starts_with(known))
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

/// No other file, no code from outside.
fn keeps_to_the_file(context: AuthContext<'_>) -> Authorization {
    match context.action {
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => Authorization::Deny,
        AuthAction::Function { function_name: "load_extension" } => Authorization::Deny,
        AuthAction::CreateVtable { module_name, .. }
            if !MODULES.contains(&module_name.to_ascii_lowercase().as_str()) =>
        {
            Authorization::Deny
        }
        _ => Authorization::Allow,
    }
}

/// A statement without the comments before it.
fn beginning(sql: &str) -> &str {
    let mut rest = sql.trim_start();
    loop {
        let after = match rest {
            line if line.starts_with("--") => line.split_once('\n').map_or("", |(_, after)| after),
            block if block.starts_with("/*") => {
                block.split_once("*/").map_or("", |(_, after)| after)
            }
            _ => return rest,
        };
        rest = after.trim_start();
    }
}

fn first_word(sql: &str) -> String {
    sql.chars().take_while(char::is_ascii_alphabetic).collect::<String>().to_ascii_uppercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(statements: &[&str]) -> Result<()> {
        let folder = tempfile::tempdir().expect("a folder");
        let mut script = SqliteScript::create(&folder.path().join("s.db"))?;
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
            "ROLLBACK",
        ] {
            assert!(run(&["CREATE TABLE t (a)", sql]).is_err(), "{sql}");
        }
    }
}
