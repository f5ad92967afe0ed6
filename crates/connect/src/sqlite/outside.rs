//! Statements that came from outside: exactly one at a time, and none that leaves the file.
//!
//! Whatever a lexer of ours may believe, SQLite itself says here where a statement ends: a
//! second one behind it is refused before the first is run. An authorizer asks of everything
//! that is compiled, triggers and views included, whether it keeps to the file.

use super::MODULES;
use fernweh_core::sql::{Dialect, Modes, Token, tokens};
use rusqlite::fallible_iterator::FallibleIterator;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use rusqlite::{Batch, Connection, Error, ffi};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Settings of the file or of the session that reach nothing else.
const PRAGMAS: [&str; 19] = [
    "application_id",
    "auto_vacuum",
    "data_version",
    "encoding",
    "foreign_key_check",
    "foreign_key_list",
    "foreign_keys",
    "ignore_check_constraints",
    "integrity_check",
    "journal_mode",
    "locking_mode",
    "page_count",
    "page_size",
    "quick_check",
    "synchronous",
    "table_info",
    "table_list",
    "table_xinfo",
    "user_version",
];

/// Whether statements of our own may reach another file for the moment.
#[derive(Clone, Debug, Default)]
pub(super) struct Own(Arc<AtomicBool>);

impl Own {
    /// Lets a statement of our own reach another file.
    pub fn run<T>(&self, work: impl FnOnce() -> rusqlite::Result<T>) -> rusqlite::Result<T> {
        self.0.store(true, Ordering::Relaxed);
        let done = work();
        self.0.store(false, Ordering::Relaxed);
        done
    }
}

/// Nothing that is compiled on this connection leaves the file.
pub(super) fn keep_to_the_file(db: &mut Connection) -> rusqlite::Result<Own> {
    let own = Own::default();
    let allowed = own.0.clone();
    db.authorizer(Some(move |context: AuthContext<'_>| {
        match allowed.load(Ordering::Relaxed) || keeps_to_the_file(&context) {
            true => Authorization::Allow,
            false => Authorization::Deny,
        }
    }))?;
    Ok(own)
}

fn keeps_to_the_file(context: &AuthContext<'_>) -> bool {
    let among = |names: &[&str], name: &str| names.iter().any(|n| n.eq_ignore_ascii_case(name));
    match context.action {
        AuthAction::Attach { .. } | AuthAction::Detach { .. } => false,
        AuthAction::Function { function_name } => {
            !among(&["load_extension", "fts3_tokenizer"], function_name)
        }
        AuthAction::CreateVtable { module_name, .. } => among(&MODULES, module_name),
        AuthAction::Pragma { pragma_name, .. } => among(&PRAGMAS, pragma_name),
        _ => true,
    }
}

/// Runs one statement; that of another one behind it is an error, and nothing is run.
pub(super) fn run_one(db: &Connection, sql: &str) -> rusqlite::Result<()> {
    let mut batch = Batch::new(db, sql);
    let Some(mut first) = batch.next()? else { return Ok(()) };
    // What cannot be compiled because the first has not been run is a second one as well.
    if !matches!(batch.next(), Ok(None)) {
        let message = "a second statement is hidden behind it".to_owned();
        return Err(Error::SqliteFailure(ffi::Error::new(ffi::SQLITE_ERROR), Some(message)));
    }
    let mut rows = first.raw_query();
    while rows.next()?.is_some() {}
    Ok(())
}

/// The first words of a statement, in capitals; comments before it are passed.
pub(super) fn first_words(sql: &str, count: usize) -> Vec<String> {
    let mut tokens = tokens(Dialect::Sqlite, Modes::default(), sql.as_bytes());
    let mut words = Vec::new();
    while let Ok(Some(Token::Word(word))) = tokens.next_token() {
        words.push(word.to_ascii_uppercase());
        if words.len() == count {
            break;
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn guarded() -> Connection {
        let mut db = Connection::open_in_memory().expect("a database");
        db.execute_batch("CREATE TABLE t (a); CREATE TABLE v (a)").expect("tables");
        keep_to_the_file(&mut db).expect("an authorizer");
        db
    }

    #[test]
    fn a_second_statement_is_refused_before_the_first_is_run() {
        for sql in [
            "DELETE FROM t; DROP TABLE t",
            "INSERT INTO t VALUES (1); ATTACH '/x' AS x",
            "CREATE TABLE u (a); INSERT INTO u VALUES (1)",
            "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END -- x\n; COMMIT",
            "CREATE VIEW [w'] AS SELECT 1; DROP TABLE v; --'",
        ] {
            let db = guarded();
            assert!(run_one(&db, sql).is_err(), "{sql}");
            let names = "SELECT group_concat(name) FROM sqlite_schema";
            let names: String = db.query_row(names, [], |row| row.get(0)).expect("names");
            assert_eq!(names, "t,v", "{sql}");
        }
    }

    #[test]
    fn nothing_leaves_the_file() {
        let folder = tempfile::tempdir().expect("a folder");
        let outside = folder.path().join("x.php");
        for sql in [
            format!("ATTACH '{}' AS x", outside.display()),
            format!("VACUUM INTO '{}'", outside.display()),
            "PRAGMA writable_schema = ON".into(),
            "PRAGMA temp_store_directory = '/tmp'".into(),
            "SELECT load_extension('x')".into(),
            "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT load_extension('x'); END".into(),
            "CREATE VIRTUAL TABLE c USING csv(filename = '/etc/passwd')".into(),
            "INSERT INTO sqlite_schema VALUES (1,2,3,4,5)".into(),
        ] {
            let db = guarded();
            let run = run_one(&db, &sql);
            // A trigger is compiled when it fires.
            let fired = run_one(&db, "INSERT INTO t VALUES (1)");
            assert!(run.is_err() || fired.is_err(), "{sql}");
            assert!(!outside.exists(), "{sql}");
        }
    }

    #[test]
    fn comments_behind_a_statement_are_no_second_one() {
        let db = guarded();
        run_one(&db, "INSERT INTO t VALUES (1) -- x").expect("taken");
        run_one(&db, "INSERT INTO t VALUES (1); /* x */ -- y\n").expect("taken");
        assert_eq!(first_words("/* a */ -- b\n vacuum INTO 'x'", 2), ["VACUUM", "INTO"]);
    }
}
