//! Building tables beside the old ones, under names of Fernweh's own.

use super::describe::{list, with_history};
use super::load::Loader;
use super::objects::{create_table, events, routines, triggers, views};
use super::{Link, quoted, switch, text};
use crate::server::{ServerAddress, Session, aside, short_run};
use fernweh_core::digest::sha256;
use fernweh_core::finding::Check;
use fernweh_core::limits;
use fernweh_core::record::Value;
use fernweh_core::sql::{
    Dialect, Modes, ObjectKind, Statement, renamed, with_known_collations, with_modes,
    write_insert_head, write_row,
};
use fernweh_ports::{
    Counting, DatabaseSwap, DatabaseTarget, Direction, Fingerprint, NamedSql, Overview, Progress,
    Rejected, Result, RowBatch, Scope, Structure, SwapObjects, SwapTable, TablesSwap, Trouble,
};
use std::collections::{BTreeMap, BTreeSet};

/// Takes the lock of those who build in this database.
const LOCK: &str = "SELECT get_lock(concat('fernweh ', database()), 0)";

/// A mode in which the server changes values so that they fit.
const LENIENT: &str = "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'";

/// A database whose tables are to be replaced.
pub struct MariadbTarget {
    link: Link,
    address: ServerAddress,
    run: String,
    /// Tables and sequences that are built.
    tables: Vec<String>,
    /// The collations of the server.
    collations: BTreeSet<String>,
    /// Those of the archive that it does not know, and what took their place.
    replaced: BTreeMap<String, Option<String>>,
    /// Tables that go although nothing takes their place.
    removed: Vec<String>,
    notes: Vec<String>,
    loader: Loader,
}

impl MariadbTarget {
    /// Logs in; `run` names what is built.
    pub fn open(address: &ServerAddress, run: &str) -> Result<Self> {
        let run = short_run(run);
        let link = Link::open_for_one(address)?;
        let (collations, replaced) = (BTreeSet::new(), BTreeMap::new());
        let (tables, removed, notes) = (Vec::new(), Vec::new(), Vec::new());
        let loader = Loader::default();
        let address = address.clone();
        Ok(Self { link, address, run, tables, collations, replaced, removed, notes, loader })
    }

    /// The session in which rows are written.
    fn expect_rows(&mut self) -> Result<()> {
        // Former states of rows, and records that break a check, come as they are, where the
        // server knows these settings.
        let _ = self.link.try_run("SET SESSION check_constraint_checks = 0");
        let _ = self.link.try_run("SET SESSION system_versioning_insert_history = 1");
        // From here on literals are bytes in the character sets of their columns.
        self.link.run("SET NAMES binary")
    }

    fn learn_collations(&mut self) -> Result<()> {
        let mut names =
            self.link.ask("SELECT collation_name FROM information_schema.collations")?;
        // Newer servers list collations of several character sets under one short name.
        names.extend(
            self.link
                .ask(
                    "SELECT full_collation_name \
                     FROM information_schema.collation_character_set_applicability",
                )
                .unwrap_or_default(),
        );
        self.collations = names
            .into_iter()
            .filter_map(|row| Some(row.into_iter().next()??.to_ascii_lowercase()))
            .collect();
        Ok(())
    }

    fn with_collations(&mut self, modes: Modes, sql: &str) -> String {
        with_known_collations(sql, modes, &self.collations, &mut self.replaced)
    }

    /// Makes a sequence aside, or sets it.
    fn sequence(&mut self, name: &str, sql: &str) -> Result<()> {
        let aside = self.aside('n', name);
        let unreadable = || Trouble::damaged(format!("sequence {name} cannot be read"));
        let sql = renamed(sql, &aside).ok_or_else(unreadable)?;
        self.link.run(sql)
    }

    /// The name for the new (`n`) or old (`o`) state of a table.
    fn aside(&self, kind: char, table: &str) -> String {
        aside(&self.run, kind, table)
    }

    fn refused(&self, table: &str, error: &mysql_async::Error) -> Trouble {
        let mut trouble = self.link.trouble("the database does not take a record", error);
        trouble.place = Some(format!("table {table} of {}", self.link.shown));
        trouble
    }

    /// An enum that holds none of its values reads as an empty text, which the strict mode does
    /// not take back. Writes such a row, if that is all that is wrong with it.
    fn write_nothing_chosen(&mut self, rows: &RowBatch, row: usize, sql: &[u8]) -> Result<bool> {
        let cells = rows.columns.iter().zip(&rows.rows[row]);
        let empty = |value: &&Value| matches!(value, Value::Text(text) if text.is_empty());
        let places: Vec<String> = cells
            .filter(|(_, value)| empty(value))
            .map(|(column, _)| format!("Data truncated for column '{column}' at row 1"))
            .collect();
        if places.is_empty() {
            return Ok(false);
        }
        self.link.run("SAVEPOINT nothing_chosen")?;
        self.link.run(LENIENT)?;
        let written = self.link.try_bytes(sql.to_vec()).is_ok();
        let warnings = self.link.ask("SHOW WARNINGS")?;
        let exact = warnings.iter().all(|warning| {
            warning.get(2).cloned().flatten().is_some_and(|words| places.contains(&words))
        });
        self.link.run(format!("SET SESSION sql_mode = '{}'", super::MODE))?;
        if !(written && exact) {
            self.link.run("ROLLBACK TO SAVEPOINT nothing_chosen")?;
        }
        Ok(written && exact)
    }

    /// Writes one row of a portion; with `adapt`, the server may change values to fit.
    fn write_one(
        &mut self,
        built: &str,
        rows: &RowBatch,
        row: usize,
        adapt: bool,
    ) -> Result<Option<Rejected>> {
        let mut sql = Vec::new();
        write_insert_head(Dialect::Mariadb, built, &rows.columns, &mut sql);
        write_row(Dialect::Mariadb, &rows.rows[row], &mut sql);
        let because = match self.link.try_bytes(sql.clone()) {
            Ok(()) => return Ok(None),
            Err(error) if Link::is_about_value(&error) => Link::message(&error),
            Err(error) => return Err(self.refused(&rows.table, &error)),
        };
        if self.write_nothing_chosen(rows, row, &sql)? {
            return Ok(None);
        }
        let mut rejected = Rejected { row, because, adapted: false };
        if adapt {
            self.link.run(LENIENT)?;
            rejected.adapted = self.link.try_bytes(sql).is_ok();
            self.link.run(format!("SET SESSION sql_mode = '{}'", super::MODE))?;
        }
        Ok(Some(rejected))
    }

    /// What hangs on the tables that are there now, and on others that refer to them.
    fn present_objects(&mut self, replaced: &[String], new: &SwapObjects) -> Result<SwapObjects> {
        let mut objects = SwapObjects::default();
        for listed in list(&mut self.link)? {
            if !listed.is_table() {
                continue;
            }
            let is_replaced = replaced.contains(&listed.name);
            let keys = create_table(&mut self.link, &listed.name)?.foreign_keys;
            let refers = |key: &NamedSql| {
                replaced
                    .iter()
                    .any(|name| key.sql.contains(&format!("REFERENCES {} ", quoted(name))))
            };
            objects.foreign_keys.extend(keys.into_iter().filter(|key| is_replaced || refers(key)));
        }
        let hangs = |trigger: &NamedSql| replaced.contains(&trigger.table);
        objects.triggers = triggers(&mut self.link)?.found.into_iter().filter(hangs).collect();
        let again = |found: Vec<NamedSql>, new: &[NamedSql]| {
            let comes = |old: &NamedSql| new.iter().any(|one| one.name == old.name);
            found.into_iter().filter(comes).collect()
        };
        objects.views = again(views(&mut self.link)?.found, &new.views);
        objects.routines = again(routines(&mut self.link)?.found, &new.routines);
        objects.events = again(events(&mut self.link)?.found, &new.events);
        Ok(objects)
    }
}

impl MariadbTarget {
    /// What the statements of an archive hang on its tables; sequences are set at once.
    fn objects_of(&mut self, afterwards: &[Statement]) -> Result<SwapObjects> {
        let mut new = SwapObjects::default();
        let mut modes: BTreeMap<&str, &str> = BTreeMap::new();
        for (mode, statement) in with_modes(afterwards) {
            if let Statement::Mode { name, sql, .. } = statement {
                modes.insert(name, sql);
                continue;
            }
            let sql = self.with_collations(mode, statement.sql().unwrap_or_default());
            let add = |list: &mut Vec<NamedSql>, name: &str, table: &str| {
                let modes = modes.values().map(|sql| (*sql).to_owned()).collect();
                let (name, table, sql) = (name.to_owned(), table.to_owned(), sql.clone());
                list.push(NamedSql { name, table, sql, modes });
            };
            match statement {
                Statement::ForeignKey { table, name, .. } => {
                    add(&mut new.foreign_keys, name, table);
                }
                Statement::Trigger { name, table, .. } => add(&mut new.triggers, name, table),
                Statement::View { name, .. } => add(&mut new.views, name, name),
                Statement::Object {
                    kind: ObjectKind::Property, name, table: Some(table), ..
                } => {
                    add(&mut new.defaults, name, table);
                }
                Statement::Object { kind: ObjectKind::Routine, name, .. } => {
                    add(&mut new.routines, name, routine_kind(&sql));
                }
                Statement::Object { kind: ObjectKind::Event, name, .. } => {
                    add(&mut new.events, name, name);
                }
                Statement::Object { kind: ObjectKind::Sequence, name, .. } => {
                    self.sequence(name, &sql)?
                }
                _ => {}
            }
        }
        Ok(new)
    }

    /// Without the routines that the server refuses: each is made under another name, and
    /// taken away again.
    fn possible(&mut self, mut new: SwapObjects) -> Result<SwapObjects> {
        let trial = format!("_fw{}_trial", self.run);
        let mut kept = Vec::new();
        for routine in new.routines {
            // A body needs its package, which is not there yet.
            let renamed = renamed(&routine.sql, &trial).filter(|_| routine.table != "PACKAGE BODY");
            let Some(sql) = renamed else {
                kept.push(routine);
                continue;
            };
            let tried = NamedSql { sql, ..routine.clone() };
            match switch::in_modes(&mut self.link, &tried) {
                Ok(()) => {
                    switch::drop_routine(&mut self.link, &routine.table, &trial)?;
                    kept.push(routine);
                }
                Err(error) => self.notes.push(format!(
                    "{} {} is left out, for the server refuses it: {}",
                    routine.table.to_lowercase(),
                    routine.name,
                    Link::message(&error)
                )),
            }
        }
        new.routines = kept;
        Ok(new)
    }
}

/// Columns (quoted), the other table, and its columns (quoted) of a foreign key.
fn key_parts(sql: &str) -> Option<(Vec<String>, String, Vec<String>)> {
    let (_, rest) = sql.split_once(" FOREIGN KEY (")?;
    let (columns, rest) = rest.split_once(") REFERENCES ")?;
    let (parent, rest) = rest.split_once(" (")?;
    let (others, _) = rest.split_once(')')?;
    let list = |text: &str| text.split(", ").map(str::to_owned).collect();
    Some((list(columns), parent.trim_matches('`').replace("``", "`"), list(others)))
}

fn routine_kind(sql: &str) -> &'static str {
    let words: Vec<String> =
        sql.split_whitespace().take(12).map(|word| word.to_ascii_uppercase()).collect();
    let first = words.iter().find_map(|word| {
        ["PROCEDURE", "FUNCTION", "PACKAGE"].into_iter().find(|kind| word == kind)
    });
    match first {
        Some("PACKAGE") if words.iter().any(|word| word == "BODY") => "PACKAGE BODY",
        Some(kind) => kind,
        None => "PROCEDURE",
    }
}

impl DatabaseTarget for MariadbTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        super::source::overview(&mut self.link, scope, Counting::Exact)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        self.link.lock(LOCK, "1")?;
        self.learn_collations()?;
        for statement in structure {
            let (name, sql) = match statement {
                Statement::Object { kind: ObjectKind::Sequence, name, sql, .. } => {
                    self.sequence(name, sql)?;
                    self.tables.push(name.clone());
                    continue;
                }
                Statement::Table { name, at, sql } => {
                    let built = quoted(&self.aside('n', name));
                    (name, format!("{}{built}{}", &sql[..at.start], &sql[at.end..]))
                }
                _ => continue,
            };
            let sql = self.with_collations(Modes::default(), &sql);
            self.link.try_run(&sql).map_err(|error| {
                self.link.trouble(&format!("the database does not take table {name}"), &error)
            })?;
            self.tables.push(name.clone());
        }
        self.expect_rows()
    }

    fn secure(&mut self) -> Result<()> {
        self.loader.end(&mut self.link)
    }

    fn powers(&mut self) -> Result<Vec<String>> {
        super::rights::powers(&mut self.link)
    }

    fn largest_packet(&mut self) -> Result<Option<u64>> {
        let packet = self.link.one("SELECT @@max_allowed_packet")?;
        Ok(packet.and_then(|packet| packet.parse().ok()))
    }

    fn resume(&mut self, structure: &[Statement]) -> Result<bool> {
        self.link = Link::open_for_one(&self.address)?;
        self.loader.begin_anew();
        self.link.lock(LOCK, "1")?;
        self.learn_collations()?;
        let made = structure.iter().filter_map(|statement| match statement {
            Statement::Object { kind: ObjectKind::Sequence, name, .. }
            | Statement::Table { name, .. } => Some(name.clone()),
            _ => None,
        });
        self.tables = made.collect();
        let there = self.link.ask(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database()",
        )?;
        let there: BTreeSet<String> =
            there.into_iter().filter_map(|row| row.into_iter().next()?).collect();
        let complete = self.tables.iter().all(|name| there.contains(&self.aside('n', name)));
        self.expect_rows()?;
        Ok(complete)
    }

    fn write(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        let built = self.aside('n', &rows.table);
        if self.loader.load(&mut self.link, &built, &rows.columns, &rows.rows)? {
            return Ok(Vec::new());
        }
        let mut rejected = Vec::new();
        let mut sql = Vec::new();
        let mut from = 0;
        for (place, row) in rows.rows.iter().enumerate() {
            if sql.is_empty() {
                from = place;
                write_insert_head(Dialect::Mariadb, &built, &rows.columns, &mut sql);
            } else {
                sql.extend_from_slice(b",\n");
            }
            write_row(Dialect::Mariadb, row, &mut sql);
            if sql.len() > limits::WRITTEN_INSERT || place + 1 == rows.rows.len() {
                match self.link.try_bytes(std::mem::take(&mut sql)) {
                    Ok(()) => {}
                    Err(error) if Link::is_about_value(&error) => {
                        for one in from..=place {
                            rejected.extend(self.write_one(&built, rows, one, adapt)?);
                        }
                    }
                    Err(error) => return Err(self.refused(&rows.table, &error)),
                }
            }
        }
        Ok(rejected)
    }

    fn incompatibilities(&mut self, from: &Overview, structure: &Structure) -> Result<Vec<Check>> {
        self.learn_collations()?;
        for (modes, statement) in with_modes(structure.before.iter().chain(&structure.afterwards)) {
            self.with_collations(modes, statement.sql().unwrap_or_default());
        }
        let mut checks = super::incompatibilities::checks(&mut self.link, from, structure)?;
        for (old, new) in &self.replaced {
            checks.push(match new {
                Some(new) => Check::warned(
                    format!("collation {old} is not known there; {new} will take its place"),
                    "sorting of rare characters can differ; the values stay what they are",
                ),
                None => Check::failed(
                    format!("collation {old} is not known there, and nothing is like it"),
                    "use a server of the same version, or change it at the source",
                ),
            });
        }
        Ok(checks)
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn orphans(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(Vec::new()) };
        let place = |name: &str| {
            let built = swap.tables.iter().find(|table| table.name == name && !table.gone);
            quoted(built.map_or(name, |table| &table.aside_new))
        };
        let mut found = Vec::new();
        for key in &swap.new.foreign_keys {
            let Some((columns, parent, others)) = key_parts(&key.sql) else { continue };
            let pairs: Vec<String> =
                columns.iter().zip(&others).map(|(a, b)| format!("c.{a} = p.{b}")).collect();
            let filled: Vec<String> =
                columns.iter().map(|column| format!("c.{column} IS NOT NULL")).collect();
            let query = format!(
                "SELECT count(*) FROM {} c LEFT JOIN {} p ON {} WHERE {} AND p.{} IS NULL",
                place(&key.table),
                place(&parent),
                pairs.join(" AND "),
                filled.join(" AND "),
                others[0]
            );
            // The table that it points at may be missing altogether.
            let count = self.link.one(&query).unwrap_or_else(|_| Some("all".into()));
            match count.as_deref() {
                None | Some("0") => {}
                Some(count) => found.push(format!(
                    "foreign key {} of table {}: {count} records point at records of {parent} \
                     that are not there",
                    key.name, key.table
                )),
            }
        }
        Ok(found)
    }

    fn notes(&self) -> Vec<String> {
        let replaced = self.replaced.iter().filter_map(|(old, new)| {
            let new = new.as_ref()?;
            Some(format!("collation {old} is not known to this server; {new} took its place"))
        });
        let slow = self.loader.refused.iter().map(|because| {
            format!(
                "the server takes no bulk loading, so records were inserted by statements, which is \
                 slower ({because})"
            )
        });
        replaced.chain(slow).chain(self.notes.iter().cloned()).collect()
    }

    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        self.loader.end(&mut self.link)?;
        let run = self.run.clone();
        self.link.count(tables, |link, name| {
            let built = aside(&run, 'n', name);
            let history = with_history(link, &built)?;
            Ok(format!("SELECT count(*) FROM {}{history}", quoted(&built)))
        })
    }

    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap> {
        self.link.run("SET NAMES utf8mb4")?;
        let new = self.objects_of(afterwards)?;
        let mut new = self.possible(new)?;
        let there: Vec<String> = list(&mut self.link)?.into_iter().map(|t| t.name).collect();
        let leaving = self.tables.iter().chain(&self.removed);
        let replaced: Vec<String> = leaving.filter(|name| there.contains(name)).cloned().collect();
        let old = self.present_objects(&replaced, &new)?;
        // Keys of tables that stay must point at the new tables afterwards.
        let staying = old.foreign_keys.iter().filter(|key| !replaced.contains(&key.table));
        new.foreign_keys.extend(staying.cloned().collect::<Vec<_>>());
        let tables = self.tables.iter().map(|name| SwapTable {
            name: name.clone(),
            aside_new: self.aside('n', name),
            aside_old: there.contains(name).then(|| self.aside('o', name)),
            gone: false,
        });
        let gone = self.removed.iter().map(|name| SwapTable {
            name: name.clone(),
            aside_new: self.aside('n', name),
            aside_old: Some(self.aside('o', name)),
            gone: true,
        });
        let tables = tables.chain(gone);
        let swap = TablesSwap { tables: tables.collect(), old, new };
        Ok(DatabaseSwap::Tables(Box::new(swap)))
    }

    fn clear(&mut self, tables: &[String]) -> Result<()> {
        // Otherwise an open reader would be waited for a day.
        self.link.run("SET SESSION lock_wait_timeout = 60")?;
        for listed in list(&mut self.link)? {
            if !listed.is_table() || !tables.contains(&listed.name) {
                continue;
            }
            let name = quoted(&listed.name);
            if listed.is_versioned() {
                // Such a table cannot be truncated; its former states go after the present one.
                self.link.run(format!("DELETE FROM {name}"))?;
                self.link.run(format!("DELETE HISTORY FROM {name}"))?;
            } else {
                self.link.run(format!("TRUNCATE TABLE {name}"))?;
            }
        }
        Ok(())
    }

    fn discard(&mut self) -> Result<()> {
        let ours = format!("_fw{}_n_", self.run);
        let list = format!(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database() \
             AND left(table_name, {}) = {}",
            ours.len(),
            text(&ours)
        );
        self.link.discard(&list, |name| format!("DROP TABLE IF EXISTS {}", quoted(name)))
    }

    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        progress: &dyn Progress,
    ) -> Result<()> {
        match swap {
            DatabaseSwap::Tables(swap) => switch::switch(&mut self.link, swap, direction, progress),
            _ => Ok(()),
        }
    }

    fn let_go(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<()> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(()) };
        for table in &swap.tables {
            let aside = match direction {
                Direction::Forward => table.aside_old.as_ref(),
                Direction::Back => Some(&table.aside_new),
            };
            if let Some(aside) = aside {
                self.link.run(format!("DROP TABLE IF EXISTS {}", quoted(aside)))?;
            }
        }
        Ok(())
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        let listed = list(&mut self.link)?.into_iter();
        let listed = listed.filter(|one| one.is_table() && tables.contains(&one.name));
        let names: Vec<String> = listed.map(|one| one.name).collect();
        let rows = self
            .link
            .count(&names, |_, name| Ok(format!("SELECT count(*) FROM {}", quoted(name))))?;
        // When each table was last written to, as long as the server runs. Adding up the
        // content of all tables would take as long as filling them.
        let times = self.link.ask(
            "SELECT table_name, coalesce(update_time, '') FROM information_schema.tables \
             WHERE table_schema = database() ORDER BY table_name",
        )?;
        let times = times.into_iter().filter_map(|row| {
            let mut cells = row.into_iter().flatten();
            let (name, time) = (cells.next()?, cells.next()?);
            tables.contains(&name).then(|| format!("{name} {time}"))
        });
        let mark = sha256(times.collect::<Vec<_>>().join(", ").as_bytes());
        Ok(Fingerprint { rows, mark })
    }
}
