//! Building a SQLite database beside the old one.

use super::build::SqliteTarget;
use super::digest::{digest_of, small_digest_of};
use super::{companions, exchange, list, quoted, trouble};
use crate::local;
use fernweh_core::finding::Check;
use fernweh_core::sql::Statement;
use fernweh_ports::{
    CameIn, ContentSwap, Counting, DatabaseSource, DatabaseSwap, DatabaseTarget, Direction,
    FileSwap, Fingerprint, Overview, Progress, Rejected, Result, RowBatch, Scope, Structure,
    TableMark, Trouble, foreign,
};
use rusqlite::Connection;
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// The records of those of the tables that can be read.
fn counted(db: &Connection, tables: &[String]) -> Vec<(String, u64)> {
    let count = |name: &String| {
        let query = format!("SELECT count(*) FROM {}", quoted(name));
        let count = db.query_row(&query, [], |row| row.get::<_, i64>(0)).ok()?;
        Some((name.clone(), count as u64))
    };
    tables.iter().filter_map(count).collect()
}

/// A mark of all that the tables hold. What cannot be read by itself lies in other tables.
fn exact_mark(db: &Connection, tables: &[String]) -> rusqlite::Result<Fingerprint> {
    let rows = counted(db, tables);
    let digests: rusqlite::Result<Vec<_>> =
        rows.iter().map(|(name, _)| Ok(digest_of(db, name)?.unwrap_or_default())).collect();
    let mark = digests?.concat();
    Ok(Fingerprint { rows, mark })
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

    fn write(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        self.insert(rows, adapt).map_err(|error| {
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
        Ok(vec![Check::passed("the destination accepts every object of the database")])
    }

    fn rows_only(&mut self, _: &[Statement]) {
        self.rows_only = true;
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn replaces(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        let DatabaseSwap::Content(swap) = swap else { return Ok(Vec::new()) };
        let views = || -> rusqlite::Result<Vec<String>> {
            let found = list(&Connection::open(&swap.live)?)?;
            let replaced = found
                .into_iter()
                .filter(|found| found.kind == "view" && swap.replaced.contains(&found.name));
            Ok(replaced.map(|found| format!("view {}", found.name)).collect())
        };
        views().map_err(|error| self.wrong(error))
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
                    "foreign key of table {table}: {count} records refer to records of {parent} \
                     that do not exist"
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
        local::give(&self.built, &self.path).map_err(vanished)?;
        if self.with_files {
            return Ok(DatabaseSwap::WithFiles);
        }
        if self.path.exists() {
            return Ok(DatabaseSwap::Content(Box::new(ContentSwap {
                live: self.path.clone(),
                side: self.built.clone(),
                replaced: self.replaced.clone(),
                removed: self.removed.clone(),
            })));
        }
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(&self.path).map_or(0o600, |found| found.permissions().mode());
        std::fs::set_permissions(&self.built, std::fs::Permissions::from_mode(mode & 0o777))
            .map_err(vanished)?;
        let new = local::file_id(&self.built)
            .ok_or_else(|| vanished(std::io::ErrorKind::NotFound.into()))?;
        let (target, side) = (self.path.clone(), self.built.clone());
        let had_old = self.path.exists();
        Ok(DatabaseSwap::File(FileSwap {
            target,
            side,
            new: Some(new),
            had_old,
            part: false,
            resident: None,
        }))
    }

    fn exact_mark(&mut self, tables: &[String]) -> Result<Fingerprint> {
        if !self.path.exists() {
            return Ok(Fingerprint::default());
        }
        let db = Connection::open(&self.path).map_err(|error| self.wrong(error))?;
        exact_mark(&db, tables).map_err(|error| self.wrong(error))
    }

    fn clear(
        &mut self,
        expected: &Fingerprint,
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool> {
        let wrong = |error| trouble("cannot empty the old database", &self.path, &error);
        let tables = expected.tables();
        if !self.path.exists() {
            let expected = tables.is_empty();
            return if expected { agreed().map(|()| true) } else { Ok(false) };
        }
        let db = Connection::open(&self.path).map_err(wrong)?;
        let begin = || -> rusqlite::Result<bool> {
            db.busy_timeout(std::time::Duration::from_secs(5))?;
            db.execute_batch("PRAGMA foreign_keys = OFF; BEGIN IMMEDIATE")?;
            Ok(exact_mark(&db, &tables)? == *expected)
        };
        if !begin().map_err(wrong)? {
            return Ok(false);
        }
        agreed()?;
        let clear = || -> rusqlite::Result<()> {
            for found in list(&db)?.iter().filter(|found| tables.contains(&found.name)) {
                db.execute_batch(&format!("DELETE FROM {}", quoted(&found.name)))?;
            }
            db.execute_batch("COMMIT; VACUUM")
        };
        clear().map_err(wrong)?;
        Ok(true)
    }

    fn discard(&mut self) -> Result<()> {
        self.db = None;
        for path in companions(&self.built).iter().chain([&self.built]) {
            let _ = std::fs::remove_file(path);
        }
        exchange::forget(&self.built);
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
        progress: &dyn Progress,
    ) -> Result<()> {
        let swap = match swap {
            DatabaseSwap::Content(swap) => return exchange::exchange(swap, direction, progress),
            DatabaseSwap::File(swap) => swap,
            _ => return Ok(()),
        };
        for path in [&swap.target, &swap.side] {
            if path.exists() {
                Self::settle(path)
                    .map_err(|error| trouble("cannot switch the database", path, &error))?;
            }
        }
        local::switch(swap, direction)
    }

    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        match &self.place {
            Some(place) => local::note_kept(&local::workshop(place), run, note),
            None => Ok(()),
        }
    }

    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        Ok(self
            .place
            .as_deref()
            .map(|place| local::notes_kept(&local::workshop(place)))
            .unwrap_or_default())
    }

    fn adopted(&mut self, swap: &DatabaseSwap) -> Result<DatabaseSwap> {
        let place = |noted: &FileSwap| local::adopted(noted, &self.path, &self.built);
        Ok(match swap {
            DatabaseSwap::WithFiles => DatabaseSwap::WithFiles,
            DatabaseSwap::File(swap) => DatabaseSwap::File(place(swap)?),
            DatabaseSwap::Content(swap) if swap.side.file_name() == self.built.file_name() => {
                let (live, side) = (self.path.clone(), self.built.clone());
                DatabaseSwap::Content(Box::new(ContentSwap { live, side, ..*swap.clone() }))
            }
            _ => return Err(foreign("a database of SQLite")),
        })
    }

    fn marks(&mut self, rows: &[(String, u64)]) -> Result<Vec<TableMark>> {
        if !self.path.exists() {
            return Ok(Vec::new());
        }
        let marks = || -> rusqlite::Result<Vec<TableMark>> {
            let db = Connection::open(&self.path)?;
            let marked = |(table, rows): &(String, u64)| {
                let mark = digest_of(&db, table)?;
                Ok(TableMark { table: table.clone(), rows: *rows, mark })
            };
            rows.iter().map(marked).collect()
        };
        marks().map_err(|error| self.wrong(error))
    }

    fn came_in(&mut self, swap: &DatabaseSwap, before: &[TableMark]) -> Result<Vec<CameIn>> {
        let DatabaseSwap::Content(swap) = swap else { return Ok(Vec::new()) };
        let came = || -> rusqlite::Result<Vec<CameIn>> {
            let db = Connection::open(&swap.side)?;
            let mut found = Vec::new();
            for TableMark { table, rows, mark } in before {
                let count = format!("SELECT count(*) FROM {}", quoted(table));
                let Ok(now) = db.query_row(&count, [], |row| row.get::<_, i64>(0)) else {
                    continue;
                };
                let changed = mark.as_ref().zip(digest_of(&db, table)?);
                let changed = changed.map(|(before, now)| *before != now);
                let records = now - *rows as i64;
                found.push(CameIn { table: table.clone(), records, changed });
            }
            Ok(found)
        };
        came().map_err(|error| self.wrong(error))
    }

    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>> {
        let absent = match swap {
            DatabaseSwap::Content(swap) => exchange::absent(swap, direction),
            DatabaseSwap::File(swap) if direction == Direction::Back && !swap.had_old => None,
            DatabaseSwap::File(swap) => (!swap.side.exists()).then(|| swap.side.clone()),
            _ => None,
        };
        Ok(absent.iter().map(|path| path.display().to_string()).collect())
    }

    fn kept_bytes(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<Option<u64>> {
        let side = match swap {
            DatabaseSwap::Content(swap) => &swap.side,
            DatabaseSwap::File(swap) => &swap.side,
            // It is counted with the files.
            _ => return Ok(Some(0)),
        };
        Ok(Some(std::fs::metadata(side).map_or(0, |found| found.len())))
    }

    fn let_go(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<()> {
        match swap {
            DatabaseSwap::Content(swap) => exchange::let_go(swap),
            DatabaseSwap::File(swap) => local::let_go(swap),
            _ => Ok(()),
        }
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        if !self.path.exists() {
            return Ok(Fingerprint::default());
        }
        let db = Connection::open(&self.path).map_err(|error| self.wrong(error))?;
        let rows = counted(&db, tables);
        // What is exchanged changes the header of the file and not what its tables hold.
        let digests: rusqlite::Result<Option<Vec<String>>> =
            rows.iter().map(|(name, _)| small_digest_of(&db, name)).collect();
        if let Some(digests) = digests.map_err(|error| self.wrong(error))? {
            return Ok(Fingerprint { rows, mark: digests.concat() });
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
