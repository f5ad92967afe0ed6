//! Reading a SQLite database at one moment.

use super::{
    ListedTable, column_list, describe_with_rowid, list, made_by, module, owner_of, quoted,
    rowid_name, trouble, value_of,
};
use fernweh_core::finding::Check;
use fernweh_core::record::{COUNTERS, Column, Row, Table};
use fernweh_core::sql::{Dialect, ObjectKind, Outside, Statement};
use fernweh_ports::{
    Counting, DatabaseSource, KeyPosition, Overview, Result, Scope, Structure, TableInfo,
};
use rusqlite::{Connection, OpenFlags};
use std::path::{Path, PathBuf};

/// A database file that is read.
pub struct SqliteSource {
    path: PathBuf,
    db: Connection,
}

/// Whether a table is the site's; the shadows of a virtual table go with it.
fn is_held(found: &ListedTable, all: &[ListedTable], scope: &dyn Scope) -> bool {
    match owner_of(&found.name, all).filter(|_| found.kind == "shadow") {
        Some(owner) => scope.holds(&owner.name),
        None => scope.holds(&found.name),
    }
}

/// Whether a full-text table keeps no texts, so that its index cannot be made anew.
fn contentless(sql: &str) -> bool {
    let text: String = sql.chars().filter(|c| !c.is_whitespace()).collect();
    text.contains("content=''") || text.contains("content=\"\"")
}

impl SqliteSource {
    /// Opens an existing database for reading.
    pub fn open(path: &Path) -> Result<Self> {
        let what = "cannot read the site's database";
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(path, flags)
            .map_err(|error| trouble(what, path, &error))?;
        db.busy_timeout(std::time::Duration::from_secs(10))
            .and_then(|()| db.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(())))
            .map_err(|error| trouble(what, path, &error))?;
        Ok(Self { path: path.to_owned(), db })
    }

    fn wrong(&self, error: rusqlite::Error) -> fernweh_ports::Trouble {
        trouble("cannot read the site's database", &self.path, &error)
    }

    /// Sizes and the state of the file are found by going through all of its pages, which takes as
    /// long as reading them: whoever only wants to read the rows goes without.
    fn overview_of(&self, scope: &dyn Scope, counting: Counting) -> rusqlite::Result<Overview> {
        let exact = counting == Counting::Exact;
        let mut tables = Vec::new();
        let mut not_carried = Vec::new();
        let all = list(&self.db)?;
        for found in all.iter().filter(|found| is_held(found, &all, scope)) {
            match found.kind.as_str() {
                "virtual" if module(&made_by(&self.db, &found.name)?).is_none() => {
                    not_carried.push(format!("virtual table {}", found.name));
                }
                // Its shadows are part of a virtual table.
                "table" | "virtual" => {
                    let count = format!("SELECT count(*) FROM {}", quoted(&found.name));
                    let rows = self.db.query_row(&count, [], |row| row.get::<_, i64>(0));
                    // A full-text table can lean on a table that is gone; its own parts are read.
                    let rows = if found.kind == "virtual" { rows.unwrap_or(0) } else { rows? };
                    let shadows = all.iter().filter(|one| {
                        one.kind == "shadow"
                            && owner_of(&one.name, &all).is_some_and(|o| o.name == found.name)
                    });
                    let names = shadows.map(|one| one.name.as_str()).chain([found.name.as_str()]);
                    let sizes = names.filter(|_| exact).map(|name| self.size_of(name));
                    tables.push(TableInfo {
                        bytes: sizes.sum::<rusqlite::Result<u64>>()?,
                        rows: rows as u64,
                        name: found.name.clone(),
                    });
                }
                _ => {}
            }
        }
        let encoding: String = self.db.query_row("PRAGMA encoding", [], |row| row.get(0))?;
        let checks = if exact { vec![self.intact()?] } else { Vec::new() };
        Ok(Overview {
            dialect: Dialect::Sqlite,
            version: format!("SQLite {}", rusqlite::version()),
            charset: encoding,
            collation: "BINARY".into(),
            tables,
            not_carried,
            checks,
            free: crate::local::free_space(&self.path),
        })
    }

    fn intact(&self) -> rusqlite::Result<Check> {
        let intact: String = self.db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
        Ok(match intact.as_str() {
            "ok" => Check::passed("the database file is intact"),
            _ => Check::failed(
                format!("the database file is damaged: {intact}"),
                "restore it from a backup before you move the site",
            ),
        })
    }

    fn size_of(&self, table: &str) -> rusqlite::Result<u64> {
        let query = "SELECT coalesce(sum(pgsize), 0) FROM dbstat WHERE aggregate = TRUE AND name \
                     IN \
             (SELECT name FROM sqlite_schema WHERE tbl_name = ?1)";
        self.db.query_row(query, [table], |row| row.get::<_, i64>(0)).map(|bytes| bytes as u64)
    }

    fn structure_of(&self, scope: &dyn Scope) -> rusqlite::Result<Structure> {
        let mut before = self.pragmas()?;
        let mut rebuilt = Vec::new();
        let mut tables = self.tables_of(scope, &mut before, &mut rebuilt)?;
        if tables.iter().any(|table| self.counts(table)) {
            let column = |name: &str| Column { name: name.into(), text: None };
            tables.push(Table {
                name: COUNTERS.into(),
                columns: vec![column("name"), column("seq")],
                key: vec!["name".into()],
            });
        }
        let mut afterwards = self.hung_on_tables(scope)?;
        afterwards.extend(rebuilt);
        let analyzed = "SELECT count(*) FROM sqlite_schema WHERE name = 'sqlite_stat1'";
        if self.db.query_row(analyzed, [], |row| row.get::<_, i64>(0))? > 0 {
            let (kind, name, sql) = (ObjectKind::Property, "statistics".into(), "ANALYZE".into());
            afterwards.push(Statement::Object { kind, name, table: None, sql });
        }
        let outside = self.outside(scope)?;
        Ok(Structure { tables, before, afterwards, outside, ..Structure::default() })
    }

    /// Tables and views that are not chosen.
    fn outside(&self, scope: &dyn Scope) -> rusqlite::Result<Vec<Outside>> {
        let all = list(&self.db)?;
        let mut found = Vec::new();
        for one in all.iter().filter(|one| !is_held(one, &all, scope) && one.kind != "shadow") {
            let is_view = one.kind == "view";
            let sql: String = match is_view {
                true => self.db.query_row(
                    "SELECT sql FROM sqlite_schema WHERE type = 'view' AND name = ?1",
                    [&one.name],
                    |row| row.get(0),
                )?,
                false => String::new(),
            };
            let kind = if is_view { "view" } else { "table" };
            found.push(Outside { kind: kind.into(), name: one.name.clone(), sql });
        }
        Ok(found)
    }

    /// Properties of the file.
    fn pragmas(&self) -> rusqlite::Result<Vec<Statement>> {
        let number = |name: &str| -> rusqlite::Result<i64> {
            self.db.query_row(&format!("PRAGMA {name}"), [], |row| row.get(0))
        };
        let text = |name: &str| -> rusqlite::Result<String> {
            self.db.query_row(&format!("PRAGMA {name}"), [], |row| row.get(0))
        };
        let mut statements = Vec::new();
        let mut pragma = |name: &str, value: String| {
            let sql = format!("PRAGMA {name} = {value}");
            statements.push(Statement::Pragma { name: name.to_owned(), sql });
        };
        // Setting the others fixes the size of the pages.
        pragma("page_size", number("page_size")?.to_string());
        pragma("encoding", format!("'{}'", text("encoding")?));
        pragma("auto_vacuum", number("auto_vacuum")?.to_string());
        pragma("user_version", number("user_version")?.to_string());
        pragma("application_id", number("application_id")?.to_string());
        pragma("journal_mode", text("journal_mode")?);
        Ok(statements)
    }

    /// The tables that hold rows. What makes them goes to `statements`, what fills an index of
    /// words again to `rebuilt`.
    fn tables_of(
        &self,
        scope: &dyn Scope,
        statements: &mut Vec<Statement>,
        rebuilt: &mut Vec<Statement>,
    ) -> rusqlite::Result<Vec<Table>> {
        let mut tables = Vec::new();
        let all = list(&self.db)?;
        let held = |found: &&ListedTable| is_held(found, &all, scope);
        for found in all.iter().filter(held) {
            match found.kind.as_str() {
                "table" => {
                    tables.push(describe_with_rowid(&self.db, found)?);
                    let (name, sql) = (found.name.clone(), made_by(&self.db, &found.name)?);
                    statements.push(Statement::Table { name, at: 0..0, sql });
                }
                "virtual" => {
                    let sql = made_by(&self.db, &found.name)?;
                    let Some(module) = module(&sql) else { continue };
                    let name = found.name.clone();
                    if module.starts_with("fts") && !contentless(&sql) {
                        let (kind, place) = (ObjectKind::Refresh, quoted(&name));
                        let sql = format!("INSERT INTO {place} ({place}) VALUES ('rebuild')");
                        rebuilt.push(Statement::Object {
                            kind,
                            name: name.clone(),
                            table: None,
                            sql,
                        });
                    }
                    statements.push(Statement::Object {
                        kind: ObjectKind::Virtual,
                        name,
                        table: None,
                        sql,
                    });
                }
                _ => {}
            }
        }
        // A virtual table makes its shadows itself, and fills some of them.
        for found in all.iter().filter(|found| found.kind == "shadow").filter(held) {
            tables.push(describe_with_rowid(&self.db, found)?);
            let (name, sql) = (found.name.clone(), format!("DELETE FROM {}", quoted(&found.name)));
            statements.push(Statement::Object {
                kind: ObjectKind::Virtual,
                name,
                table: None,
                sql,
            });
        }
        Ok(tables)
    }

    /// Indexes, views and triggers.
    fn hung_on_tables(&self, scope: &dyn Scope) -> rusqlite::Result<Vec<Statement>> {
        let mut query = self.db.prepare(
            "SELECT type, name, tbl_name, sql FROM sqlite_schema \
             WHERE sql IS NOT NULL AND type <> 'table' AND tbl_name NOT IN \
               (SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'shadow') \
             ORDER BY CASE type WHEN 'index' THEN 1 WHEN 'view' THEN 2 ELSE 3 END, rowid",
        )?;
        let mut afterwards = Vec::new();
        let mut rows = query.query([])?;
        while let Some(row) = rows.next()? {
            let (kind, name): (String, String) = (row.get(0)?, row.get(1)?);
            let (table, sql): (String, String) = (row.get(2)?, row.get(3)?);
            if !scope.holds(&table) {
                continue;
            }
            afterwards.push(match kind.as_str() {
                "index" => Statement::Index { name, table, sql },
                "view" => Statement::View { name, sql },
                _ => Statement::Trigger { name, table, sql },
            });
        }
        Ok(afterwards)
    }

    /// Whether SQLite keeps a counter for the table.
    fn counts(&self, table: &Table) -> bool {
        let query = "SELECT count(*) FROM sqlite_sequence WHERE name = ?1";
        self.db.query_row(query, [&table.name], |row| row.get::<_, i64>(0)).unwrap_or(0) > 0
    }

    fn select(&self, table: &Table, behind: Option<&KeyPosition>) -> rusqlite::Result<String> {
        let columns = column_list(table);
        let name = quoted(&table.name);
        if table.name == COUNTERS {
            return Ok(format!("SELECT {columns} FROM {name} ORDER BY name"));
        }
        let order = match rowid_name(table).filter(|_| !self.without_rowid(table)) {
            Some(rowid) => rowid.to_owned(),
            None if table.key.is_empty() => "1".to_owned(),
            None => table.key.iter().map(|key| quoted(key)).collect::<Vec<_>>().join(","),
        };
        let behind = behind.and_then(|place| place.first());
        let behind = behind.map(|number| format!(" WHERE {order} > {number}")).unwrap_or_default();
        Ok(format!("SELECT {columns} FROM {name}{behind} ORDER BY {order}"))
    }

    fn without_rowid(&self, table: &Table) -> bool {
        list(&self.db).is_ok_and(|all| all.iter().any(|f| f.name == table.name && f.without_rowid))
    }

    /// Whether the key of a table is its rowid, by which rows are read.
    fn key_is_rowid(&self, table: &Table) -> rusqlite::Result<bool> {
        let query = "SELECT count(*) FILTER (WHERE lower(type) = 'integer'), count(*) \
             FROM pragma_table_xinfo(?1) WHERE pk > 0";
        let key: (i64, i64) =
            self.db.query_row(query, [&table.name], |row| Ok((row.get(0)?, row.get(1)?)))?;
        let is_read_by_it = rowid_name(table).is_some() && !self.without_rowid(table);
        Ok(key == (1, 1) && table.key.len() == 1 && is_read_by_it)
    }
}

impl DatabaseSource for SqliteSource {
    fn reopen(&mut self) -> Result<()> {
        // A file is not lost.
        Ok(())
    }

    fn overview(&mut self, scope: &dyn Scope, counting: Counting) -> Result<Overview> {
        self.overview_of(scope, counting).map_err(|error| self.wrong(error))
    }

    fn begin(&mut self) -> Result<Vec<String>> {
        // The first read fixes the moment.
        self.db
            .execute_batch("BEGIN; SELECT count(*) FROM sqlite_schema;")
            .map_err(|error| self.wrong(error))?;
        Ok(Vec::new())
    }

    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure> {
        self.structure_of(scope).map_err(|error| self.wrong(error))
    }

    fn in_order(&mut self, table: &Table) -> Result<bool> {
        self.key_is_rowid(table).map_err(|error| self.wrong(error))
    }

    fn rows(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Row) -> Result<()>,
    ) -> Result<()> {
        let wrong = |error| trouble("cannot read a table", &self.path, &error);
        let query = self.select(table, behind).map_err(wrong)?;
        let mut query = self.db.prepare(&query).map_err(wrong)?;
        let width = table.columns.len();
        let mut rows = query.query([]).map_err(wrong)?;
        while let Some(row) = rows.next().map_err(wrong)? {
            let values = (0..width).map(|n| row.get_ref(n).map(value_of));
            sink(values.collect::<rusqlite::Result<Row>>().map_err(wrong)?)?;
        }
        Ok(())
    }
}
