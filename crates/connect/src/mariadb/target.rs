//! Building tables beside the old ones, under names of Fernweh's own.

use super::adopt;
use super::afterwards::key_parts;
use super::build::MariadbTarget;
use super::describe::{list, with_history};
use super::switch::exists;
use super::{Link, code, quoted, switch, text};
use crate::server::{NOTES, Session, aside};
use fernweh_core::digest::sha256;
use fernweh_core::finding::Check;
use fernweh_core::limits;
use fernweh_core::sql::{Modes, ObjectKind, Statement, with_modes};
use fernweh_ports::PacketLimit;
use fernweh_ports::{
    CameIn, Counting, DatabaseSwap, DatabaseTarget, Direction, Fingerprint, InTheWay, NamedSql,
    Overview, Progress, Rejected, Result, RowBatch, Scope, Structure, SwapTable, TableMark,
    TablesSwap, WaitingKeys, foreign,
};
use std::collections::{BTreeMap, BTreeSet};

/// How the mark of a table ends that was written to just before.
const FRESH: &str = " or just before";

impl MariadbTarget {
    /// When each table was last written to, as long as the server runs.
    fn written_at(&mut self) -> Result<BTreeMap<String, String>> {
        let times = self.link.ask(
            "SELECT table_name, coalesce(update_time, '') FROM information_schema.tables \
             WHERE table_schema = database() AND table_type <> 'VIEW' ORDER BY table_name",
        )?;
        let times = times.into_iter().filter_map(|row| {
            let mut cells = row.into_iter().flatten();
            Some((cells.next()?, cells.next()?))
        });
        Ok(times.collect())
    }

    /// Removes the rows of tables that are what is expected of them.
    fn clear_if(
        &mut self,
        expected: &Fingerprint,
        tables: &[String],
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool> {
        if self.exact_mark(tables)? != *expected {
            return Ok(false);
        }
        agreed()?;
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
        Ok(true)
    }
}

/// The names under which tables are kept once a switch went this way.
fn kept_tables(swap: &TablesSwap, direction: Direction) -> impl Iterator<Item = &String> {
    swap.tables.iter().filter_map(move |table| match direction {
        Direction::Forward => table.aside_old.as_ref(),
        Direction::Back => Some(&table.aside_new),
    })
}

impl DatabaseTarget for MariadbTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        super::source::overview(&mut self.link, scope, Counting::Exact)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        self.hold()?;
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
            let sql = self.in_words_of_server(name, &sql)?;
            self.link.try_run(&sql).map_err(|error| {
                self.link.trouble(&format!("the database rejected table {name}"), &error)
            })?;
            self.note_keys(name, &sql);
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

    fn packet_limit(&mut self) -> Result<Option<PacketLimit>> {
        if self.limit.is_none() {
            let bytes = self.link.number("SELECT @@max_allowed_packet")?;
            let bulk = self.link.number::<u64>("SELECT @@local_infile")? == 1;
            self.limit = Some(PacketLimit { bytes, bulk });
        }
        Ok(self.limit)
    }

    fn resume(&mut self, structure: &[Statement]) -> Result<bool> {
        self.link = Link::open_for_one(&self.address)?;
        self.loader.begin_anew();
        self.intake = None;
        if !self.is_second {
            self.hold()?;
        }
        self.learn_collations()?;
        for statement in structure {
            if let Statement::Table { name, sql, .. } = statement {
                // What is said otherwise here was noted when the table was made.
                let sql = self.with_collations(Modes::default(), sql);
                let sql = self.link.server.table(&sql, &mut Vec::new());
                self.note_keys(name, &sql);
            }
        }
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
        self.take(rows, adapt)
    }

    fn helper(&mut self) -> Result<Option<Box<dyn DatabaseTarget>>> {
        Ok(self.second()?.map(|second| Box::new(second) as Box<dyn DatabaseTarget>))
    }

    fn keys_wait_above(&mut self) -> Result<Option<u64>> {
        self.key_bound().map(Some)
    }

    fn waiting_keys(&mut self) -> Result<Vec<WaitingKeys>> {
        self.short_of_keys()
    }

    fn make_keys(&mut self, table: &str) -> Result<Option<InTheWay>> {
        self.add_keys(table)
    }

    fn take_out(&mut self, rows: &RowBatch) -> Result<()> {
        self.remove_rows(rows)
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
                    format!("collation {old} does not exist there; {new} will be used"),
                    "sorting of rare characters can differ; the values stay what they are",
                ),
                None => Check::failed(
                    format!("collation {old} does not exist there, and there is no similar one"),
                    "use a server of the same version, or change it at the source",
                ),
            });
        }
        Ok(checks)
    }

    fn rows_only(&mut self, packed: &[Statement]) {
        self.packed = Some(super::intake::tables_of(packed));
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn replaces(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(Vec::new()) };
        let named = |kind: &str, one: &NamedSql| format!("{} {}", kind.to_lowercase(), one.name);
        let views = swap.old.views.iter().map(|one| named("view", one));
        let routines = swap.old.routines.iter().map(|one| named(&one.table, one));
        let events = swap.old.events.iter().map(|one| named("event", one));
        Ok(views.chain(routines).chain(events).collect())
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
                    "foreign key {} of table {}: {count} records refer to records of {parent} \
                     that do not exist",
                    key.name, key.table
                )),
            }
        }
        Ok(found)
    }

    fn not_created(&self) -> Vec<String> {
        self.not_created.clone()
    }

    fn notes(&self) -> Vec<String> {
        let replaced = self.replaced.iter().filter_map(|(old, new)| {
            let new = new.as_ref()?;
            Some(format!("collation {old} does not exist on this server; {new} was used"))
        });
        let slow = self.loader.refused.iter().map(|because| {
            format!(
                "the server does not allow bulk loading, so records were inserted by statements, \
                 which is slower ({because})"
            )
        });
        let modes: Vec<&str> = self.link.unknown_modes.iter().map(String::as_str).collect();
        let modes = (!modes.is_empty()).then(|| {
            format!(
                "routines, triggers and events were created without SQL modes that this server \
                 does not have: {}",
                modes.join(", ")
            )
        });
        replaced.chain(self.otherwise.iter().cloned()).chain(modes).chain(slow).collect()
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
        self.refuse_far_keys(&replaced)?;
        // Keys of tables that stay must point at the new tables afterwards.
        let staying = old.foreign_keys.iter().filter(|key| !replaced.contains(&key.table));
        let staying: Vec<NamedSql> = staying.cloned().collect();
        self.foresee(&new, &staying, &replaced)?;
        new.foreign_keys.extend(staying);
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

    fn exact_mark(&mut self, tables: &[String]) -> Result<Fingerprint> {
        let mut found = self.fingerprint(tables)?;
        let names: Vec<String> = found.rows.iter().map(|(name, _)| quoted(name)).collect();
        // Times of changes have whole seconds; sums are of what the tables hold.
        if !names.is_empty() {
            let sums = self.link.ask(&format!("CHECKSUM TABLE {}", names.join(", ")))?;
            found.mark = sha256(format!("{sums:?}").as_bytes());
        }
        Ok(found)
    }

    fn clear(
        &mut self,
        expected: &Fingerprint,
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool> {
        // Otherwise an open reader would be waited for a day.
        self.link.run("SET SESSION lock_wait_timeout = 60")?;
        let tables = expected.tables();
        let locks: Vec<String> =
            tables.iter().map(|name| format!("{} WRITE", quoted(name))).collect();
        if !locks.is_empty() {
            let lock = format!("LOCK TABLES {}", locks.join(", "));
            match self.link.try_run(lock) {
                // Without the right to lock, the comparison is as close as it can be.
                Err(error) if ![1044, 1142].contains(&code(&error)) => {
                    return Err(self.link.trouble("cannot lock the old tables", &error));
                }
                _ => {}
            }
        }
        let cleared = self.clear_if(expected, &tables, agreed);
        let unlocked = self.link.run("UNLOCK TABLES");
        cleared.and_then(|cleared| unlocked.map(|_| cleared))
    }

    fn discard(&mut self) -> Result<()> {
        self.end_abandoned()?;
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
            DatabaseSwap::Tables(swap) => {
                self.hold()?;
                self.not_created.extend(switch::switch(&mut self.link, swap, direction, progress)?);
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        let table = quoted(NOTES);
        self.link.run("SET NAMES utf8mb4")?;
        match note {
            Some(note) => {
                self.link.run(format!(
                    "CREATE TABLE IF NOT EXISTS {table} (run varchar(180) NOT NULL PRIMARY KEY, \
                     note mediumtext NOT NULL) DEFAULT CHARSET=utf8mb4"
                ))?;
                self.link.run(format!(
                    "REPLACE INTO {table} (run, note) VALUES ({}, {})",
                    text(run),
                    text(&String::from_utf8_lossy(note))
                ))
            }
            None if exists(&mut self.link, NOTES)? => {
                self.link.run(format!("DELETE FROM {table} WHERE run = {}", text(run)))?;
                match self.link.number::<u64>(&format!("SELECT count(*) FROM {table}"))? {
                    0 => self.link.run(format!("DROP TABLE {table}")),
                    _ => Ok(()),
                }
            }
            None => Ok(()),
        }
    }

    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        if !exists(&mut self.link, NOTES)? {
            return Ok(Vec::new());
        }
        let most = limits::KEPT_NOTE;
        let notes = self.link.ask(&format!(
            "SELECT note FROM {} WHERE length(note) <= {most} ORDER BY run LIMIT 100",
            quoted(NOTES)
        ))?;
        Ok(notes
            .into_iter()
            .filter_map(|row| Some(row.into_iter().next()??.into_bytes()))
            .collect())
    }

    fn adopted(&mut self, swap: &DatabaseSwap) -> Result<DatabaseSwap> {
        let DatabaseSwap::Tables(tables) = swap else { return Err(foreign("this server")) };
        for table in &tables.tables {
            let name = &table.name;
            let old = table.aside_old.as_ref().is_none_or(|old| *old == self.aside('o', name));
            if table.aside_new != self.aside('n', name) || !old {
                return Err(foreign(&format!("table {name}")));
            }
        }
        let (old, new) = (adopt::parsed(&tables.old)?, adopt::parsed(&tables.new)?);
        let tables = tables.tables.clone();
        Ok(DatabaseSwap::Tables(Box::new(TablesSwap { tables, old, new })))
    }

    fn marks(&mut self, rows: &[(String, u64)]) -> Result<Vec<TableMark>> {
        let times = self.written_at()?;
        // Times are whole seconds: what is written in the same one leaves no trace.
        let fresh = self.link.one("SELECT cast(now() - INTERVAL 2 SECOND AS char)")?;
        let marked = |(table, rows): &(String, u64)| TableMark {
            table: table.clone(),
            rows: *rows,
            mark: times.get(table).map(|time| match fresh.as_ref().is_some_and(|f| time > f) {
                true => format!("{time}{FRESH}"),
                false => time.clone(),
            }),
        };
        Ok(rows.iter().map(marked).collect())
    }

    fn came_in(&mut self, swap: &DatabaseSwap, before: &[TableMark]) -> Result<Vec<CameIn>> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(Vec::new()) };
        let times = self.written_at()?;
        let mut found = Vec::new();
        for TableMark { table, rows, mark } in before {
            let kept = swap.tables.iter().find(|one| one.name == *table);
            let Some(kept) = kept.and_then(|one| one.aside_old.as_ref()) else { continue };
            let history = with_history(&mut self.link, kept)?;
            let now: u64 =
                self.link.number(&format!("SELECT count(*) FROM {}{history}", quoted(kept)))?;
            // Without a time the server has forgotten it: a table that leaves its cache loses it.
            let times = mark.as_ref().zip(times.get(kept));
            let known = times.filter(|(mark, time)| !mark.is_empty() && !time.is_empty());
            let changed = known.and_then(|(mark, time)| match mark.strip_suffix(FRESH) {
                Some(mark) => (mark != time).then_some(true),
                None => Some(mark != time),
            });
            found.push(CameIn {
                table: table.clone(),
                records: now as i64 - *rows as i64,
                changed,
            });
        }
        Ok(found)
    }

    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(Vec::new()) };
        // What is kept is in no other list.
        let there: BTreeSet<String> = self.written_at()?.into_keys().collect();
        let tables = swap.tables.iter();
        let kept = tables.filter_map(|table| match direction {
            Direction::Back => Some((&table.name, table.aside_old.as_ref()?)),
            Direction::Forward if table.gone => None,
            Direction::Forward => Some((&table.name, &table.aside_new)),
        });
        let absent = kept.filter(|(_, aside)| !there.contains(*aside));
        Ok(absent.map(|(name, aside)| format!("table {name}, kept as {aside}")).collect())
    }

    fn kept_bytes(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Option<u64>> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(None) };
        let kept: BTreeSet<&String> = kept_tables(swap, direction).collect();
        let found = self.link.ask(
            "SELECT table_name, ifnull(data_length, 0) + ifnull(index_length, 0) \
             FROM information_schema.tables WHERE table_schema = database()",
        )?;
        let bytes = found.into_iter().filter_map(|row| {
            let mut cells = row.into_iter().flatten();
            let (name, bytes) = (cells.next()?, cells.next()?);
            kept.contains(&name).then(|| bytes.parse::<u64>().ok()).flatten()
        });
        Ok(Some(bytes.sum()))
    }

    fn let_go(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<()> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(()) };
        for aside in kept_tables(swap, direction) {
            self.link.run(format!("DROP TABLE IF EXISTS {}", quoted(aside)))?;
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
        // Adding up the content of all tables would take as long as filling them.
        let times = self.written_at()?.into_iter().filter(|(name, _)| tables.contains(name));
        let times: Vec<String> = times.map(|(name, time)| format!("{name} {time}")).collect();
        let mark = sha256(times.join(", ").as_bytes());
        Ok(Fingerprint { rows, mark })
    }
}
