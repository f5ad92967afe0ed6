//! Building the new objects in schemas of Fernweh's own.

use super::build::{LargeObjects, PostgresTarget};
use super::catalog::cells;
use super::describe::list;
use super::overview::overview;
use super::{Link, quoted, switch, text};
use crate::server::{NOTES, ServerAddress, Session, short_run, write_fitting};
use fernweh_core::digest::sha256;
use fernweh_core::finding::Check;
use fernweh_core::limits;
use fernweh_core::record::LARGE_OBJECTS;
use fernweh_core::sql::{Qualified, Statement};
use fernweh_ports::{
    CameIn, Counting, DatabaseSwap, DatabaseTarget, Direction, Fingerprint, Overview, Progress,
    Rejected, Result, RowBatch, Scope, Structure, TableMark, foreign,
};
use std::collections::BTreeMap;
use std::time::Duration;

/// Takes the lock of those who build in this database.
const LOCK: &str = "SELECT pg_try_advisory_lock(hashtext('fernweh'))";

/// Portions of rows in one transaction.
const TOGETHER: u32 = 64;

/// How long one statement may take at most: an index over the largest table is one.
const LONGEST: Duration = Duration::from_secs(6 * 3600);

/// What the server is told of who this is.
fn name_of(run: &str) -> String {
    format!("fernweh {run}")
}

impl PostgresTarget {
    /// Logs in; `run` names what is built.
    pub fn open(address: &ServerAddress, run: &str) -> Result<Self> {
        Self::of_run(address, short_run(run))
    }

    fn of_run(address: &ServerAddress, run: String) -> Result<Self> {
        let link = Self::log_in(address, &run)?;
        Ok(Self {
            link,
            address: address.clone(),
            run,
            names: BTreeMap::new(),
            tables: Vec::new(),
            portions: 0,
            prepared: None,
            uses_what_is_there: false,
            removed: Vec::new(),
            orphans: Vec::new(),
            rows_only: false,
            fits: None,
            notes: Vec::new(),
            not_created: Vec::new(),
            large: LargeObjects::default(),
            is_second: false,
        })
    }

    /// A connection; the server is told whose it is.
    fn log_in(address: &ServerAddress, run: &str) -> Result<Link> {
        let mut link = Link::open_for_building(address)?;
        link.run(format!("SET application_name = {}", text(&name_of(run))))?;
        Ok(link)
    }

    /// Takes the lock of those who build in this database. A process of this run that is gone may
    /// hold it: its statement goes on for as long as that takes, and nobody waits for it.
    fn hold(&mut self) -> Result<()> {
        if self.link.one(LOCK)?.as_deref() == Some("t") {
            return Ok(());
        }
        let ended = self.link.ask(&format!(
            "SELECT pg_terminate_backend(a.pid) FROM pg_catalog.pg_stat_activity a \
             WHERE a.application_name = {} AND a.usename = current_user \
             AND a.pid <> pg_backend_pid() AND EXISTS (SELECT FROM pg_catalog.pg_locks l \
             WHERE l.pid = a.pid AND l.locktype = 'advisory')",
            text(&name_of(&self.run))
        ))?;
        // What has been begun is taken back before the lock is free.
        let tries = if ended.is_empty() { 0 } else { 600 };
        for _ in 0..tries {
            if self.link.one(LOCK)?.as_deref() == Some("t") {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        self.link.lock(LOCK, "t")
    }

    /// A second connection that fills tables which this one has built.
    fn second(&mut self) -> Option<Self> {
        let LargeObjects { noted_in, following, .. } = &self.large;
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        // Servers do not tell how many cores they have; on this machine it is known.
        let has_cores = self.address.is_on_this_machine() && cores > 1;
        if !has_cores || self.rows_only || noted_in.is_some() || !following.is_empty() {
            return None;
        }
        // Hosts limit connections; whatever the reason, one is enough.
        let mut second = Self::of_run(&self.address, self.run.clone()).ok()?;
        second.names.clone_from(&self.names);
        second.tables.clone_from(&self.tables);
        second.is_second = true;
        Some(second)
    }

    /// Ends the transaction in which rows are written.
    fn close(&mut self) -> Result<()> {
        if std::mem::take(&mut self.portions) > 0 { self.link.run("COMMIT") } else { Ok(()) }
    }

    /// The rights that others have on the tables in place pass to the new ones.
    fn pass_on_rights(&mut self) -> Result<()> {
        for schema in self.names.keys().cloned().collect::<Vec<_>>() {
            let grants = self.link.ask(&format!(
                "SELECT format('GRANT %s ON %s TO %s%s', a.privilege_type, \
                   CASE WHEN new.relkind = 'S' THEN 'SEQUENCE ' ELSE '' END || new.oid::regclass, \
                   CASE WHEN a.grantee = 0 THEN 'PUBLIC' ELSE a.grantee::regrole::text END, \
                   CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) \
                 FROM pg_catalog.pg_class old JOIN pg_catalog.pg_class new \
                   ON new.relname = old.relname AND (new.relkind = 'S') = (old.relkind = 'S') \
                 CROSS JOIN LATERAL aclexplode(old.relacl) a \
                 WHERE old.relnamespace = {} AND new.relnamespace = {} \
                 AND old.relkind IN ('r', 'p', 'v', 'm', 'S') AND a.grantee <> old.relowner",
                switch::namespace(&schema),
                switch::namespace(&self.aside('n', &schema)),
            ));
            for row in grants? {
                self.link.run(cells(&row)(0))?;
            }
        }
        Ok(())
    }
}

impl PostgresTarget {
    fn has_notes(&mut self) -> Result<bool> {
        let there = format!("SELECT to_regclass({})", text(&format!("{}.notes", quoted(NOTES))));
        Ok(self.link.one(&there)?.is_some())
    }
}

impl DatabaseTarget for PostgresTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        overview(&mut self.link, scope, Counting::Exact)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        self.hold()?;
        // What an archive runs has an end, even if nobody is there to end it.
        self.link.run(format!("SET statement_timeout = '{}s'", LONGEST.as_secs()))?;
        self.begin_with(structure);
        self.make_large_objects(structure)?;
        self.make(structure)
    }

    fn secure(&mut self) -> Result<()> {
        self.close()
    }

    fn resume(&mut self, structure: &[Statement]) -> Result<bool> {
        self.link = Self::log_in(&self.address, &self.run)?;
        self.prepared = None;
        self.portions = 0;
        if !self.is_second {
            self.hold()?;
        }
        self.begin_with(structure);
        for table in self.tables.clone() {
            let place = text(&self.built(&table).sql());
            if self.link.one(&format!("SELECT to_regclass({place})"))?.is_none() {
                return Ok(false);
            }
        }
        self.learn_numbers()?;
        self.has_large_objects(structure)
    }

    fn write(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        if self.portions == 0 {
            self.link.run("BEGIN")?;
        }
        self.portions += 1;
        if rows.table == LARGE_OBJECTS {
            self.write_pages(&rows.rows)?;
            return Ok(Vec::new());
        }
        let followed = self.follow_numbers(rows)?;
        let rows = followed.as_ref().unwrap_or(rows);
        let fits = self.fits_of(rows)?;
        let rejected = write_fitting(rows, &fits, adapt, &mut |rows| {
            let mut rejected = Vec::new();
            self.write_halves(rows, 0..rows.rows.len(), &mut rejected)?;
            Ok(rejected)
        })?;
        if self.portions >= TOGETHER {
            self.close()?;
        }
        Ok(rejected)
    }

    fn helper(&mut self) -> Result<Option<Box<dyn DatabaseTarget>>> {
        Ok(self.second().map(|second| Box::new(second) as Box<dyn DatabaseTarget>))
    }

    fn powers(&mut self) -> Result<Vec<String>> {
        super::rights::powers(&mut self.link)
    }

    fn incompatibilities(&mut self, from: &Overview, structure: &Structure) -> Result<Vec<Check>> {
        super::incompatibilities::checks(&mut self.link, from, structure)
    }

    fn rows_only(&mut self, _: &[Statement]) {
        self.rows_only = true;
    }

    fn use_what_is_there(&mut self) {
        self.uses_what_is_there = true;
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn replaces(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        let DatabaseSwap::Schemas(swap) = swap else { return Ok(Vec::new()) };
        let ids: Vec<String> = swap
            .schemas
            .iter()
            .flat_map(|schema| &schema.old)
            .map(|id| format!("({}::oid, {}::oid)", id.class, id.number))
            .collect();
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        // What hangs on tables, and tables themselves, are counted otherwise.
        let found = self.link.ask(&format!(
            "SELECT pg_describe_object(o.class, o.number, 0) FROM (VALUES {}) o (class, number) \
             LEFT JOIN pg_catalog.pg_class c ON o.class = 'pg_class'::regclass AND c.oid = o.number \
             WHERE coalesce(c.relkind NOT IN ('r', 'p', 'i', 'I', 'S', 't'), true) ORDER BY 1",
            ids.join(", ")
        ))?;
        Ok(found.into_iter().filter_map(|row| row.into_iter().next()?).collect())
    }

    fn orphans(&mut self, _: &DatabaseSwap) -> Result<Vec<String>> {
        Ok(self.orphans.clone())
    }

    fn not_created(&self) -> Vec<String> {
        self.not_created.clone()
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }

    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        self.close()?;
        let places: Vec<String> = tables.iter().map(|name| self.built(name).sql()).collect();
        let mut places = places.into_iter();
        self.link.count(tables, |_, _| {
            Ok(format!("SELECT count(*) FROM ONLY {}", places.next().unwrap_or_default()))
        })
    }

    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap> {
        self.close()?;
        self.learn(afterwards);
        self.make(afterwards)?;
        self.link.run("SET search_path = ''")?;
        self.pass_on_rights()?;
        for table in self.tables.clone() {
            // Without figures the server would plan the site's queries badly at first.
            self.link.run(format!("ANALYZE {}", self.built(&table).sql()))?;
        }
        let (mut swap, notes) = switch::plan(self)?;
        self.tell_of_numbers();
        swap.noted_numbers.clone_from(&self.large.noted_in);
        self.notes.extend(notes);
        switch::rehearse(&mut self.link, &swap)?;
        Ok(DatabaseSwap::Schemas(swap))
    }

    fn clear(
        &mut self,
        expected: &Fingerprint,
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool> {
        let (tables, there) = (expected.tables(), list(&mut self.link)?);
        let own =
            there.iter().filter(|one| one.is_table() && tables.contains(&one.name.to_string()));
        let names: Vec<String> = own.map(|one| one.name.sql()).collect();
        self.link.run("SET lock_timeout = '60s'")?;
        self.link.run("BEGIN")?;
        let mut clear = || -> Result<bool> {
            if !names.is_empty() {
                // Nobody writes any more; readers go on until the rows go.
                let locks = names.join(", ");
                self.link.run(format!("LOCK TABLE {locks} IN SHARE ROW EXCLUSIVE MODE"))?;
            }
            if self.exact_mark(&tables)? != *expected {
                return Ok(false);
            }
            agreed()?;
            if !names.is_empty() {
                self.link.run(format!("TRUNCATE {}", names.join(", "))).map_err(|trouble| {
                    trouble.hint(
                        "tables that others refer to cannot be emptied; unpack without --in-place",
                    )
                })?;
            }
            Ok(true)
        };
        let cleared = clear();
        let end = if matches!(cleared, Ok(true)) { "COMMIT" } else { "ROLLBACK" };
        let ended = self.link.run(end);
        cleared.and_then(|cleared| ended.map(|_| cleared))
    }

    fn discard(&mut self) -> Result<()> {
        // What was being written is of no use any more.
        let _ = self.link.try_run("ROLLBACK");
        self.discard_large_objects()?;
        let ours = format!("_fw{}_n_", self.run);
        let list = format!(
            "SELECT nspname FROM pg_catalog.pg_namespace WHERE starts_with(nspname, {})",
            text(&ours)
        );
        self.link.discard(&list, |name| format!("DROP SCHEMA IF EXISTS {} CASCADE", quoted(name)))
    }

    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        progress: &dyn Progress,
    ) -> Result<()> {
        match swap {
            DatabaseSwap::Schemas(swap) => {
                self.hold()?;
                switch::switch(&mut self.link, swap, direction, progress)
            }
            _ => Ok(()),
        }
    }

    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        let (schema, table) = (quoted(NOTES), format!("{}.notes", quoted(NOTES)));
        match note {
            Some(note) => self.link.run(format!(
                "CREATE SCHEMA IF NOT EXISTS {schema}; \
                 CREATE TABLE IF NOT EXISTS {table} (run text PRIMARY KEY, note text NOT NULL); \
                 INSERT INTO {table} VALUES ({}, {}) ON CONFLICT (run) DO UPDATE SET note = excluded.note",
                text(run),
                text(&String::from_utf8_lossy(note))
            )),
            None if self.has_notes()? => {
                self.link.run(format!("DELETE FROM {table} WHERE run = {}", text(run)))?;
                match self.link.number::<u64>(&format!("SELECT count(*) FROM {table}"))? {
                    0 => self.link.run(format!("DROP SCHEMA {schema} CASCADE")),
                    _ => Ok(()),
                }
            }
            None => Ok(()),
        }
    }

    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        if !self.has_notes()? {
            return Ok(Vec::new());
        }
        let most = limits::KEPT_NOTE;
        let notes = self.link.ask(&format!(
            "SELECT note FROM {}.notes WHERE octet_length(note) <= {most} ORDER BY run LIMIT 100",
            quoted(NOTES)
        ))?;
        Ok(notes
            .into_iter()
            .filter_map(|row| Some(row.into_iter().next()??.into_bytes()))
            .collect())
    }

    fn adopted(&mut self, swap: &DatabaseSwap) -> Result<DatabaseSwap> {
        let DatabaseSwap::Schemas(swap) = swap else { return Err(foreign("PostgreSQL")) };
        let mut swap = swap.clone();
        for schema in &swap.schemas {
            let (new, old) = (self.aside('n', &schema.name), self.aside('o', &schema.name));
            if schema.aside_new != new || schema.aside_old != old {
                return Err(foreign(&format!("schema {}", schema.name)));
            }
        }
        // No statement of the note is run: what stays is fitted as it is found here.
        swap.noted_numbers = None;
        swap.refit = switch::refits_of(&mut self.link, &swap)?;
        Ok(DatabaseSwap::Schemas(swap))
    }

    fn marks(&mut self, rows: &[(String, u64)]) -> Result<Vec<TableMark>> {
        // Whoever writes from now on has a number that is not smaller.
        let oldest = self
            .link
            .one("SELECT pg_snapshot_xmin(pg_current_snapshot())::text::int8 % 4294967296")?;
        let marked = |(table, rows): &(String, u64)| TableMark {
            table: table.clone(),
            rows: *rows,
            mark: oldest.clone(),
        };
        Ok(rows.iter().map(marked).collect())
    }

    fn came_in(&mut self, swap: &DatabaseSwap, before: &[TableMark]) -> Result<Vec<CameIn>> {
        let DatabaseSwap::Schemas(swap) = swap else { return Ok(Vec::new()) };
        let mut found = Vec::new();
        for TableMark { table, rows, mark } in before {
            let place = Qualified::parse(table);
            let aside = swap.schemas.iter().find(|schema| schema.name == place.schema);
            let Some(aside) = aside else { continue };
            let kept = Qualified::new(&aside.aside_old, &place.name).sql();
            let there = format!("SELECT to_regclass({})", text(&kept));
            if self.link.one(&there)?.is_none() {
                continue;
            }
            let mark = mark.as_deref().unwrap_or("0");
            let question = format!(
                "SELECT count(*), count(*) FILTER (WHERE xmin::text::int8 >= {mark}) FROM ONLY \
                 {kept}"
            );
            let answer = self.link.ask(&question)?;
            let cell = |n: usize| answer.first().map(|row| cells(row)(n)).unwrap_or_default();
            let now: i64 = self.link.parsed(&question, Some(&cell(0)))?;
            let newer: i64 = self.link.parsed(&question, Some(&cell(1)))?;
            let records = now - *rows as i64;
            // What came is new as well; what is new beyond that was changed.
            let changed = Some(newer > records.max(0));
            found.push(CameIn { table: table.clone(), records, changed });
        }
        Ok(found)
    }

    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>> {
        let DatabaseSwap::Schemas(swap) = swap else { return Ok(Vec::new()) };
        switch::absent(&mut self.link, swap, direction)
    }

    fn kept_bytes(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<Option<u64>> {
        let DatabaseSwap::Schemas(swap) = swap else { return Ok(None) };
        let names: Vec<String> = swap
            .schemas
            .iter()
            .flat_map(|schema| [schema.aside_new.clone(), schema.aside_old.clone()])
            .collect();
        let bytes = self.link.number(&format!(
            "SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::int8 FROM \
             pg_catalog.pg_class c \
             JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind IN ('r', 'm') AND n.nspname IN ({})",
            super::describe::in_list(&names)
        ))?;
        Ok(Some(bytes))
    }

    fn let_go(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<()> {
        let DatabaseSwap::Schemas(swap) = swap else { return Ok(()) };
        switch::let_go(&mut self.link, swap)
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        let mut found = Fingerprint::default();
        let mut marks = String::new();
        for listed in list(&mut self.link)? {
            let name = listed.name.to_string();
            if listed.is_table() && tables.contains(&name) {
                // Every change gives a row the number of its transaction.
                let question = format!(
                    "SELECT count(*), coalesce(sum(xmin::text::numeric), 0) FROM ONLY {}",
                    listed.name.sql()
                );
                let row = self.link.ask(&question)?;
                let cell = |n: usize| row.first().map(|row| cells(row)(n)).unwrap_or_default();
                marks.push_str(&format!("{} ", cell(1)));
                found.rows.push((name, self.link.parsed(&question, Some(&cell(0)))?));
            }
        }
        found.mark = sha256(marks.as_bytes());
        Ok(found)
    }
}
