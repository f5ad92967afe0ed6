//! Building a SQLite database beside the old one.

use super::outside::{Own, keep_to_the_file, run_one};
use super::{
    ListedTable, Parameter, column_list, companions, describe_with_rowid, list, made_by, quoted,
    trouble,
};
use crate::local;
use fernweh_core::finding::Check;
use fernweh_core::record::COUNTERS;
use fernweh_core::sql::{ObjectKind, Statement};
use fernweh_ports::{
    Counting, DatabaseSource, DatabaseSwap, DatabaseTarget, Direction, FileSwap, Fingerprint,
    Overview, Progress, Rejected, Result, RowBatch, Scope, Structure, Trouble,
};
use rusqlite::{Connection, ErrorCode};
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// A database file that is to be replaced.
pub struct SqliteTarget {
    pub(super) path: PathBuf,
    built: PathBuf,
    /// The place beside which it is built, if it is not built among new files.
    place: Option<PathBuf>,
    /// The file lies inside the site's files and changes places with them.
    with_files: bool,
    db: Option<Connection>,
    /// What lets statements of our own reach the old database.
    own: Own,
    cleared_counters: bool,
    journal_mode: Option<String>,
    /// Tables of the old state that are not carried over.
    removed: Vec<String>,
    /// Folders that were not there before.
    made: Vec<PathBuf>,
}

/// Until the switch nobody else uses the file; a run that is broken off goes on with it. Only
/// `main`: the old database, attached later, must not be locked.
const SESSION: &str = "PRAGMA main.journal_mode = TRUNCATE; PRAGMA main.synchronous = OFF; \
     PRAGMA foreign_keys = OFF; PRAGMA main.locking_mode = EXCLUSIVE; BEGIN;";

/// Whether SQLite keeps counters in this database.
fn has_counters(db: &Connection) -> rusqlite::Result<bool> {
    let query = "SELECT count(*) FROM main.sqlite_schema WHERE name = 'sqlite_sequence'";
    db.query_row(query, [], |row| row.get::<_, i64>(0)).map(|count| count > 0)
}

impl SqliteTarget {
    /// The database `path`, built as a file of its own in the workshop of `place`.
    pub fn beside(path: &Path, place: &Path, run: &str) -> Self {
        let built = local::workshop(place).join(format!("database-{run}"));
        Self { place: Some(place.to_owned()), ..Self::at(path, built, false) }
    }

    /// The database `path`, built at `built`, inside the new files of the site.
    pub fn inside(path: &Path, built: &Path) -> Self {
        Self::at(path, built.to_owned(), true)
    }

    fn at(path: &Path, built: PathBuf, with_files: bool) -> Self {
        let path = path.to_owned();
        Self {
            path,
            built,
            place: None,
            with_files,
            db: None,
            own: Own::default(),
            cleared_counters: false,
            journal_mode: None,
            removed: Vec::new(),
            made: Vec::new(),
        }
    }

    fn wrong(&self, error: rusqlite::Error) -> Trouble {
        trouble("cannot write the site's new database", &self.path, &error)
    }

    fn db(&self) -> Result<&Connection> {
        self.db.as_ref().ok_or_else(|| Trouble::damaged("no database is being built"))
    }

    fn create(&mut self, structure: &[Statement]) -> rusqlite::Result<Connection> {
        let mut db = Connection::open(&self.built)?;
        db.set_prepared_statement_cache_capacity(64);
        self.own = keep_to_the_file(&mut db)?;
        self.note_journal_mode(structure);
        for statement in structure {
            if let Statement::Pragma { name, sql } = statement
                && name != "journal_mode"
            {
                run_one(&db, sql)?;
            }
        }
        db.execute_batch(SESSION)?;
        for statement in structure {
            if let Statement::Table { sql, .. }
            | Statement::Object { kind: ObjectKind::Virtual, sql, .. } = statement
            {
                run_one(&db, sql)?;
            }
        }
        Ok(db)
    }

    /// Opens the file of a run that was broken off, if it is whole.
    fn go_on(&mut self, structure: &[Statement]) -> rusqlite::Result<bool> {
        self.db = None;
        if !self.built.exists() {
            return Ok(false);
        }
        let mut db = Connection::open(&self.built)?;
        db.set_prepared_statement_cache_capacity(64);
        let whole: String = db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
        let there: Vec<String> = list(&db)?.into_iter().map(|found| found.name).collect();
        let complete = structure.iter().all(|statement| match statement {
            Statement::Table { name, .. }
            | Statement::Object { kind: ObjectKind::Virtual, name, .. } => there.contains(name),
            _ => true,
        });
        if whole != "ok" || !complete {
            return Ok(false);
        }
        self.note_journal_mode(structure);
        self.cleared_counters = false;
        self.own = keep_to_the_file(&mut db)?;
        db.execute_batch(SESSION)?;
        self.db = Some(db);
        Ok(true)
    }

    /// The mode in which the site uses the file.
    fn note_journal_mode(&mut self, structure: &[Statement]) {
        for statement in structure {
            if let Statement::Pragma { name, sql } = statement
                && name == "journal_mode"
            {
                let mode = sql.rsplit('=').next().unwrap_or_default().trim();
                self.journal_mode = Some(mode.to_owned());
            }
        }
    }

    fn insert(&mut self, portion: &RowBatch) -> rusqlite::Result<Vec<Rejected>> {
        let mut rejected = Vec::new();
        let Some(db) = &self.db else { return Ok(rejected) };
        if portion.table == COUNTERS {
            if !has_counters(db)? {
                return Ok(rejected);
            }
            if !self.cleared_counters {
                db.execute_batch("DELETE FROM sqlite_sequence")?;
                self.cleared_counters = true;
            }
        }
        let names: Vec<String> = portion.columns.iter().map(|name| quoted(name)).collect();
        let marks = vec!["?"; names.len()].join(",");
        let (table, names) = (quoted(&portion.table), names.join(","));
        let mut insert =
            db.prepare_cached(&format!("INSERT INTO {table} ({names}) VALUES ({marks})"))?;
        for (row, values) in portion.rows.iter().enumerate() {
            match insert.execute(rusqlite::params_from_iter(values.iter().map(Parameter))) {
                Ok(_) => {}
                Err(error)
                    if error.sqlite_error_code() == Some(ErrorCode::ConstraintViolation)
                        || error.sqlite_error_code() == Some(ErrorCode::TypeMismatch) =>
                {
                    let because = error.to_string();
                    rejected.push(Rejected { row, because, adapted: false });
                }
                Err(error) => return Err(error),
            }
        }
        Ok(rejected)
    }

    /// Tables and what hangs on them that the archive does not hold stay.
    fn carry_over(&self, db: &Connection) -> rusqlite::Result<()> {
        if !self.path.exists() {
            return Ok(());
        }
        let old = Connection::open(&self.path)?;
        let new: Vec<String> = list(db)?.into_iter().map(|found| found.name).collect();
        let stays =
            |found: &ListedTable| !new.contains(&found.name) && !self.removed.contains(&found.name);
        let mut extra: Vec<_> = list(&old)?.into_iter().filter(stays).collect();
        // Shadows come with their virtual tables.
        extra.sort_by_key(|found| found.kind == "shadow");
        for found in extra.iter().filter(|found| found.kind == "table" || found.kind == "virtual") {
            run_one(db, &made_by(&old, &found.name)?)?;
        }
        db.execute_batch("COMMIT")?;
        let path = self.path.to_string_lossy();
        self.own.run(|| db.execute("ATTACH DATABASE ?1 AS replaced", [&path]))?;
        db.execute_batch("BEGIN")?;
        for found in extra.iter().filter(|found| found.kind == "table" || found.kind == "shadow") {
            let table = describe_with_rowid(&old, found)?;
            let (name, columns) = (quoted(&found.name), column_list(&table));
            db.execute_batch(&format!(
                "DELETE FROM main.{name}; \
                 INSERT INTO main.{name} ({columns}) SELECT {columns} FROM replaced.{name}"
            ))?;
        }
        if has_counters(db)? && has_counters(&old)? {
            for found in &extra {
                db.execute("DELETE FROM main.sqlite_sequence WHERE name = ?1", [&found.name])?;
                db.execute(
                    "INSERT INTO main.sqlite_sequence (name, seq) \
                     SELECT name, seq FROM replaced.sqlite_sequence WHERE name = ?1",
                    [&found.name],
                )?;
            }
        }
        let mut query = old.prepare(
            "SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND type <> 'table' \
             AND (type = 'view' OR tbl_name IN (SELECT value FROM json_each(?1)))",
        )?;
        let names: Vec<&str> = extra.iter().map(|found| found.name.as_str()).collect();
        let names = serde_json::Value::from(names).to_string();
        let mut rows = query.query([names])?;
        while let Some(row) = rows.next()? {
            let (name, sql): (String, String) = (row.get(0)?, row.get(1)?);
            let there: i64 = db.query_row(
                "SELECT count(*) FROM main.sqlite_schema WHERE name = ?1",
                [&name],
                |row| row.get(0),
            )?;
            if there == 0 {
                run_one(db, &sql)?;
            }
        }
        self.own.run(|| db.execute_batch("COMMIT; DETACH DATABASE replaced; BEGIN"))
    }

    fn complete(&mut self, afterwards: &[Statement]) -> rusqlite::Result<()> {
        let Some(db) = self.db.take() else { return Ok(()) };
        for statement in afterwards {
            if let Statement::Index { sql, .. }
            | Statement::View { sql, .. }
            | Statement::Object { sql, .. }
            | Statement::Trigger { sql, .. } = statement
            {
                run_one(&db, sql)?;
            }
        }
        self.carry_over(&db)?;
        if has_counters(&db)? {
            // Counters of tables that were not taken.
            db.execute_batch(
                "DELETE FROM sqlite_sequence WHERE name NOT IN (SELECT name FROM sqlite_schema)",
            )?;
        }
        db.execute_batch(
            "COMMIT; PRAGMA main.journal_mode = DELETE; PRAGMA main.locking_mode = NORMAL;",
        )?;
        if self.journal_mode.as_deref() == Some("wal") {
            db.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        }
        db.close().map_err(|(_, error)| error)
    }

    /// Brings everything into the one file, so that it can be moved.
    pub(super) fn settle(path: &Path) -> rusqlite::Result<()> {
        if !companions(path).iter().any(|file| file.exists()) {
            return Ok(());
        }
        let db = Connection::open(path)?;
        db.busy_timeout(std::time::Duration::from_secs(5))?;
        let mode: String = db.query_row("PRAGMA journal_mode", [], |row| row.get(0))?;
        db.query_row("PRAGMA journal_mode = DELETE", [], |_| Ok(()))?;
        if mode == "wal" {
            // The mode is a property of the file; the last to leave clears the log.
            db.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        }
        db.close().map_err(|(_, error)| error)
    }
}

impl DatabaseTarget for SqliteTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        if self.path.exists() {
            return super::SqliteSource::open(&self.path)?.overview(scope, Counting::Exact);
        }
        Ok(Overview {
            dialect: fernweh_core::sql::Dialect::Sqlite,
            version: format!("SQLite {}", rusqlite::version()),
            charset: "UTF-8".into(),
            collation: "BINARY".into(),
            tables: Vec::new(),
            not_carried: Vec::new(),
            checks: Vec::new(),
            free: local::free_space(&self.path),
        })
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        let file = |path: &Path, error| {
            Trouble::file("cannot write the site's new database", path, &error)
        };
        let of_site = self.path.parent().filter(|_| !self.with_files);
        if let Some(place) = &self.place {
            // Only its owner may enter where the new and the old state lie.
            if !local::workshop(place).exists() {
                self.made.push(local::workshop(place));
            }
            local::open_workshop(place).map_err(|error| file(place, error))?;
        }
        for folder in self.built.parent().into_iter().chain(of_site).map(Path::to_owned) {
            let missing = folder.ancestors().take_while(|above| !above.exists());
            self.made.extend(missing.map(Path::to_owned));
            std::fs::create_dir_all(&folder).map_err(|error| file(&folder, error))?;
        }
        // SQLite would make it readable for everybody.
        let mut made = std::fs::File::options();
        made.write(true).create_new(true).mode(0o600);
        made.open(&self.built).map_err(|error| file(&self.built, error))?;
        self.db = Some(self.create(structure).map_err(|error| self.wrong(error))?);
        Ok(())
    }

    fn write(&mut self, rows: &RowBatch, _: bool) -> Result<Vec<Rejected>> {
        self.insert(rows).map_err(|error| {
            trouble("cannot write the site's new database", &self.path, &error)
                .hint(format!("a record of table {} is not accepted", rows.table))
        })
    }

    fn secure(&mut self) -> Result<()> {
        let db = self.db()?;
        db.execute_batch("COMMIT; BEGIN").map_err(|error| self.wrong(error))
    }

    fn resume(&mut self, structure: &[Statement]) -> Result<bool> {
        self.go_on(structure).map_err(|error| self.wrong(error))
    }

    fn incompatibilities(&mut self, _: &Overview, _: &Structure) -> Result<Vec<Check>> {
        // The library is part of the program: it reads what it has written.
        Ok(vec![Check::passed("the destination takes every object of the database")])
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn orphans(&mut self, _: &DatabaseSwap) -> Result<Vec<String>> {
        let check = || -> rusqlite::Result<Vec<String>> {
            let db = Connection::open(&self.built)?;
            let mut query = db.prepare(
                "SELECT \"table\", parent, count(*) FROM pragma_foreign_key_check GROUP BY 1, 2",
            )?;
            let rows = query.query_map([], |row| {
                let (table, parent): (String, String) = (row.get(0)?, row.get(1)?);
                let count: i64 = row.get(2)?;
                Ok(format!(
                    "foreign key of table {table}: {count} records point at records of {parent} \
                     that are not there"
                ))
            })?;
            rows.collect()
        };
        check().map_err(|error| self.wrong(error))
    }

    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        let db = self.db()?;
        let count = |name: &String| -> rusqlite::Result<(String, u64)> {
            let query = format!("SELECT count(*) FROM {}", quoted(name));
            db.query_row(&query, [], |row| row.get::<_, i64>(0)).map(|n| (name.clone(), n as u64))
        };
        tables.iter().map(count).collect::<rusqlite::Result<_>>().map_err(|error| self.wrong(error))
    }

    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap> {
        self.complete(afterwards).map_err(|error| self.wrong(error))?;
        let vanished = |error| Trouble::file("cannot write the new database", &self.built, &error);
        std::fs::File::open(&self.built).and_then(|file| file.sync_all()).map_err(vanished)?;
        if self.with_files {
            return Ok(DatabaseSwap::WithFiles);
        }
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(&self.path).map_or(0o600, |found| found.permissions().mode());
        std::fs::set_permissions(&self.built, std::fs::Permissions::from_mode(mode & 0o777))
            .map_err(vanished)?;
        let new = local::file_id(&self.built)
            .ok_or_else(|| vanished(std::io::ErrorKind::NotFound.into()))?;
        let (target, side) = (self.path.clone(), self.built.clone());
        let had_old = self.path.exists();
        Ok(DatabaseSwap::File(FileSwap { target, side, new: Some(new), had_old }))
    }

    fn clear(&mut self, tables: &[String]) -> Result<()> {
        if !self.path.exists() {
            return Ok(());
        }
        let clear = || -> rusqlite::Result<()> {
            let db = Connection::open(&self.path)?;
            db.busy_timeout(std::time::Duration::from_secs(5))?;
            db.execute_batch("PRAGMA foreign_keys = OFF")?;
            for found in list(&db)?.iter().filter(|found| tables.contains(&found.name)) {
                db.execute_batch(&format!("DELETE FROM {}", quoted(&found.name)))?;
            }
            db.execute_batch("VACUUM")
        };
        clear().map_err(|error| trouble("cannot empty the old database", &self.path, &error))
    }

    fn discard(&mut self) -> Result<()> {
        self.db = None;
        for path in companions(&self.built).iter().chain([&self.built]) {
            let _ = std::fs::remove_file(path);
        }
        // Innermost first; one that holds something by now stays.
        self.made.sort_by_key(|folder| std::cmp::Reverse(folder.components().count()));
        for folder in self.made.drain(..) {
            let _ = std::fs::remove_dir(folder);
        }
        Ok(())
    }

    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        _: &dyn Progress,
    ) -> Result<()> {
        let DatabaseSwap::File(swap) = swap else { return Ok(()) };
        for path in [&swap.target, &swap.side] {
            if path.exists() {
                Self::settle(path)
                    .map_err(|error| trouble("cannot switch the database", path, &error))?;
            }
        }
        local::switch(swap, direction)
    }

    fn let_go(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<()> {
        match swap {
            DatabaseSwap::File(swap) => local::let_go(swap),
            _ => Ok(()),
        }
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        if !self.path.exists() {
            return Ok(Fingerprint::default());
        }
        let db = Connection::open(&self.path).map_err(|error| self.wrong(error))?;
        let mut rows = Vec::new();
        for name in tables {
            let query = format!("SELECT count(*) FROM {}", quoted(name));
            if let Ok(count) = db.query_row(&query, [], |row| row.get::<_, i64>(0)) {
                rows.push((name.clone(), count as u64));
            }
        }
        // Bytes 24 to 27 of the header change with every transaction (file format, 1.3.7).
        let mut header = [0; 28];
        let read =
            std::fs::File::open(&self.path).and_then(|mut file| file.read_exact(&mut header));
        let wal = std::fs::metadata(&companions(&self.path)[0]).map_or(0, |found| found.len());
        let mark = if read.is_ok() { format!("{:?} {wal}", &header[24..]) } else { String::new() };
        Ok(Fingerprint { rows, mark })
    }
}
