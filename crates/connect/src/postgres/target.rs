//! Building the new objects in schemas of Fernweh's own.

use super::build::{LargeObjects, PostgresTarget};
use super::catalog::cells;
use super::describe::list;
use super::overview::overview;
use super::{Link, quoted, switch, text};
use crate::server::{ServerAddress, Session, short_run};
use bytes::Bytes;
use fernweh_core::digest::sha256;
use fernweh_core::finding::Check;
use fernweh_core::record::{LARGE_OBJECTS, Row, weight_of};
use fernweh_core::sql::{ObjectKind, Qualified, Statement, in_schemas, write_copy_row};
use fernweh_ports::{
    Counting, DatabaseSwap, DatabaseTarget, Direction, Fingerprint, Overview, Progress, Rejected,
    Result, RowBatch, Scope, Structure, Trouble,
};
use futures_util::{SinkExt, pin_mut};
use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;

/// Takes the lock of those who build in this database.
const LOCK: &str = "SELECT pg_try_advisory_lock(hashtext('fernweh'))";

/// Portions of rows in one transaction.
const TOGETHER: u32 = 64;

/// How long one statement may take at most: an index over the largest table is one.
const LONGEST: Duration = Duration::from_secs(6 * 3600);

/// By this a statement makes a range type.
const RANGE: &str = " AS RANGE (";

impl PostgresTarget {
    /// Logs in; `run` names what is built.
    pub fn open(address: &ServerAddress, run: &str) -> Result<Self> {
        let run = short_run(run);
        let link = Link::open(address)?;
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
            notes: Vec::new(),
            large: LargeObjects::default(),
        })
    }

    /// Knows what the statements of an archive make.
    fn begin_with(&mut self, structure: &[Statement]) {
        self.names.clear();
        self.learn(structure);
        let tables = structure.iter().filter_map(|statement| match statement {
            Statement::Table { name, .. } => Some(name.clone()),
            _ => None,
        });
        self.tables = tables.collect();
    }

    /// Learns which names the statements make, and in which schemas.
    fn learn(&mut self, statements: &[Statement]) {
        let mut schema = "public".to_owned();
        for statement in statements {
            let (place, name) = match statement {
                Statement::Schema { name, .. } => {
                    schema.clone_from(name);
                    self.names.entry(name.clone()).or_default();
                    continue;
                }
                Statement::Table { name, .. } | Statement::View { name, .. } => {
                    let place = Qualified::parse(name);
                    (place.schema, place.name)
                }
                Statement::Object { kind: ObjectKind::Type, sql, .. } if sql.contains(RANGE) => {
                    continue;
                }
                Statement::Object {
                    kind: ObjectKind::Type | ObjectKind::Routine | ObjectKind::Sequence,
                    name,
                    ..
                } => (schema.clone(), name.clone()),
                _ => continue,
            };
            self.names.entry(place).or_default().insert(name);
        }
    }

    /// Runs the statements of an archive so that they make their objects aside.
    fn make(&mut self, statements: &[Statement]) -> Result<()> {
        let mut schema = "public".to_owned();
        let mut entered = false;
        for statement in statements {
            let Some(sql) = statement.sql() else { continue };
            match statement {
                Statement::Schema { name, .. } => {
                    schema.clone_from(name);
                    self.enter(name)?;
                    entered = true;
                }
                Statement::Object {
                    kind: ObjectKind::Schema | ObjectKind::LargeObject | ObjectKind::Extension,
                    ..
                } => self.make_one(statement, sql, &schema)?,
                // Nothing is ever made in the schema that the site uses.
                _ if !entered => {
                    self.enter(&schema)?;
                    entered = true;
                    self.make_one(statement, sql, &schema)?;
                }
                _ => self.make_one(statement, sql, &schema)?,
            }
        }
        Ok(())
    }

    /// Makes the schema in which the new state of a schema is built, and goes there.
    fn enter(&mut self, schema: &str) -> Result<()> {
        let aside = quoted(&self.aside('n', schema));
        self.link.run(format!("CREATE SCHEMA IF NOT EXISTS {aside}")).map_err(|trouble| {
            trouble.hint(format!(
                "the new state is built in a schema of its own; let the database's owner say: \
                 GRANT CREATE ON DATABASE … TO … ({aside})"
            ))
        })?;
        // What stays in the site's schema, and extensions there, are found too.
        self.link.run(format!("SET search_path = {aside}, {}, public", quoted(schema)))
    }

    fn make_one(&mut self, statement: &Statement, sql: &str, schema: &str) -> Result<()> {
        match statement {
            Statement::Object { kind: ObjectKind::Schema | ObjectKind::LargeObject, .. } => {}
            Statement::Object { kind: ObjectKind::Extension, name, .. } => {
                self.extend(name, sql)?
            }
            Statement::Object { kind: ObjectKind::Type, name, .. } if sql.contains(RANGE) => {
                self.range(schema, name, sql)?;
            }
            Statement::Object { kind: ObjectKind::Type | ObjectKind::Routine, name, .. }
                if self.uses_what_is_there && self.is_there(schema, name)? => {}
            _ => {
                let moved = in_schemas(sql, &self.names, &|schema| self.aside('n', schema));
                self.one(statement, &moved)?;
            }
        }
        Ok(())
    }

    fn is_there(&mut self, schema: &str, name: &str) -> Result<bool> {
        let (schema, name) = (switch::namespace(schema), text(name));
        let found = self.link.one(&format!(
            "SELECT 1 FROM pg_catalog.pg_type WHERE typname = {name} AND typnamespace = {schema} \
             UNION SELECT 1 FROM pg_catalog.pg_proc WHERE proname = {name} \
             AND pronamespace = {schema}"
        ))?;
        Ok(found.is_some())
    }

    fn one(&mut self, statement: &Statement, sql: &str) -> Result<()> {
        let Err(error) = self.link.try_one(sql) else { return Ok(()) };
        if crate::stop::asked() {
            return Err(Trouble::interrupted("interrupted").because("you asked to stop"));
        }
        let code = error.code().map(|code| code.code().to_owned()).unwrap_or_default();
        let first: String = sql.lines().next().unwrap_or_default().chars().take(70).collect();
        let permissive = sql.starts_with("CREATE POLICY") && sql.contains(" AS PERMISSIVE ");
        match (statement, code.as_str()) {
            (Statement::ForeignKey { table, name, .. }, "42P01" | "42830") => {
                self.notes.push(format!(
                    "foreign key {name} of table {table} is left out: the table that it points at \
                     is not here"
                ));
                Ok(())
            }
            // The rows are all there; the key guards what comes from now on.
            (Statement::ForeignKey { table, name, .. }, "23503") => {
                self.orphans.push(format!(
                    "foreign key {name} of table {table}: records point at records that are not \
                     there; {}",
                    Link::message(&error)
                ));
                let sql = format!("{sql} NOT VALID");
                self.link.try_one(&sql).map(drop).map_err(|error| {
                    self.link.trouble(&format!("the database does not take: {first}"), &error)
                })
            }
            // Without its role nobody gains or loses anything by the missing policy.
            (Statement::Object { kind: ObjectKind::Rule, name, table, .. }, "42704")
                if permissive =>
            {
                let table = table.as_deref().unwrap_or_default();
                self.notes.push(format!(
                    "policy {name} of table {table} is left out: {}",
                    Link::message(&error)
                ));
                Ok(())
            }
            (Statement::Object { kind: ObjectKind::Refresh, name, .. }, _) => {
                self.notes.push(format!(
                    "materialized view {name} could not be filled: {}",
                    Link::message(&error)
                ));
                Ok(())
            }
            _ => Err(self.link.trouble(&format!("the database does not take: {first}"), &error)),
        }
    }

    /// The functions of a range type belong to the server, and cannot be moved to another
    /// schema; so the type is made in place, where nothing uses it yet.
    fn range(&mut self, schema: &str, name: &str, sql: &str) -> Result<()> {
        let subtype = self.link.one(&format!(
            "SELECT format_type(r.rngsubtype, NULL) FROM pg_catalog.pg_range r \
             JOIN pg_catalog.pg_type t ON t.oid = r.rngtypid \
             WHERE t.typname = {} AND t.typnamespace = {}",
            text(name),
            switch::namespace(schema)
        ))?;
        if let Some(subtype) = subtype {
            if sql.contains(&format!("(SUBTYPE = {subtype},")) {
                return Ok(());
            }
            return Err(Trouble::outside("a range type of the database is another one")
                .at(format!("{name} of {}", self.link.shown))
                .because(format!("it is made of {subtype}; the archive says: {sql}"))
                .hint("rename the type that is there, and try again"));
        }
        let path = self.link.one("SHOW search_path")?.unwrap_or_default();
        let place = quoted(schema);
        self.link.run(format!(
            "CREATE SCHEMA IF NOT EXISTS {place}; SET search_path = {place}, public"
        ))?;
        let what = format!("the database does not take type {name}");
        self.link.try_one(sql).map_err(|error| self.link.trouble(&what, &error))?;
        self.link.run(format!("SET search_path = {path}"))?;
        self.notes.push(format!("range type {name} was made; undo leaves it there"));
        Ok(())
    }

    fn extend(&mut self, name: &str, sql: &str) -> Result<()> {
        let there = format!("SELECT 1 FROM pg_catalog.pg_extension WHERE extname = {}", text(name));
        if self.link.one(&there)?.is_some() {
            return Ok(());
        }
        self.link.try_one(sql).map_err(|error| {
            self.link
                .trouble(&format!("extension {name} is missing and cannot be installed"), &error)
                .hint(format!("let the host install it: CREATE EXTENSION {}", quoted(name)))
        })?;
        self.notes.push(format!("extension {name} was installed; undo leaves it there"));
        Ok(())
    }

    /// Ends the transaction in which rows are written.
    fn close(&mut self) -> Result<()> {
        if std::mem::take(&mut self.portions) > 0 { self.link.run("COMMIT") } else { Ok(()) }
    }

    fn refused(&self, table: &str, error: &tokio_postgres::Error) -> Trouble {
        let mut trouble = self.link.trouble("the database does not take a record", error);
        trouble.place = Some(format!("table {table} of {}", self.link.shown));
        trouble
    }

    /// The statement that takes rows; it is prepared once for all portions of a table.
    fn statement(
        &mut self,
        columns: &[String],
        table: &str,
    ) -> std::result::Result<tokio_postgres::Statement, tokio_postgres::Error> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let names =
            if names.is_empty() { String::new() } else { format!(" ({})", names.join(",")) };
        let sql = format!("COPY {}{names} FROM STDIN", self.built(table).sql());
        if let Some((_, statement)) = self.prepared.as_ref().filter(|(known, _)| *known == sql) {
            return Ok(statement.clone());
        }
        let Link { runtime, client, .. } = &mut self.link;
        let statement = runtime.block_on(client.prepare(&sql))?;
        self.prepared = Some((sql, statement.clone()));
        Ok(statement)
    }

    /// Sends rows in one `COPY`, behind a savepoint which goes if all is well. On a long way
    /// each wait for an answer counts, so what belongs together is sent without waiting.
    fn copy(
        &mut self,
        columns: &[String],
        table: &str,
        rows: &[Row],
    ) -> std::result::Result<(), tokio_postgres::Error> {
        let statement = self.statement(columns, table)?;
        let mut lines = Vec::with_capacity(weight_of(rows));
        rows.iter().for_each(|row| write_copy_row(row, &mut lines));
        let Link { runtime, client, .. } = &mut self.link;
        runtime.block_on(async {
            let savepoint = client.batch_execute("SAVEPOINT portion");
            let (savepoint, sink) = tokio::join!(savepoint, client.copy_in(&statement));
            savepoint?;
            let sink = sink?;
            pin_mut!(sink);
            sink.send(Bytes::from(lines)).await?;
            let release = client.batch_execute("RELEASE SAVEPOINT portion");
            let (copied, released) = tokio::join!(sink.finish(), release);
            copied?;
            released
        })
    }

    /// Sends rows so that a refusal takes only these back.
    fn copy_or_take_back(&mut self, portion: &RowBatch, rows: &[Row]) -> Result<Option<String>> {
        let Err(error) = self.copy(&portion.columns, &portion.table, rows) else {
            return Ok(None);
        };
        if !Link::is_about_value(&error) {
            return Err(self.refused(&portion.table, &error));
        }
        self.link.run("ROLLBACK TO SAVEPOINT portion")?;
        Ok(Some(Link::message(&error)))
    }

    /// Sends a stretch of rows; where some are refused, by halves, until it is known which.
    fn write_halves(
        &mut self,
        portion: &RowBatch,
        stretch: Range<usize>,
        rejected: &mut Vec<Rejected>,
    ) -> Result<()> {
        let refused = self.copy_or_take_back(portion, &portion.rows[stretch.clone()])?;
        let Some(because) = refused else { return Ok(()) };
        if stretch.len() == 1 {
            rejected.push(Rejected { row: stretch.start, because, adapted: false });
            return Ok(());
        }
        let middle = stretch.start + stretch.len() / 2;
        self.write_halves(portion, stretch.start..middle, rejected)?;
        self.write_halves(portion, middle..stretch.end, rejected)
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

impl DatabaseTarget for PostgresTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        overview(&mut self.link, scope, Counting::Exact)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        self.link.lock(LOCK, "t")?;
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
        self.link = Link::open(&self.address)?;
        self.prepared = None;
        self.portions = 0;
        self.link.lock(LOCK, "t")?;
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

    fn write(&mut self, rows: &RowBatch, _: bool) -> Result<Vec<Rejected>> {
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
        let mut rejected = Vec::new();
        self.write_halves(rows, 0..rows.rows.len(), &mut rejected)?;
        if self.portions >= TOGETHER {
            self.close()?;
        }
        Ok(rejected)
    }

    fn powers(&mut self) -> Result<Vec<String>> {
        super::rights::powers(&mut self.link)
    }

    fn incompatibilities(&mut self, from: &Overview, structure: &Structure) -> Result<Vec<Check>> {
        super::incompatibilities::checks(&mut self.link, from, structure)
    }

    fn use_what_is_there(&mut self) {
        self.uses_what_is_there = true;
    }

    fn remove(&mut self, tables: &[String]) {
        self.removed = tables.to_vec();
    }

    fn orphans(&mut self, _: &DatabaseSwap) -> Result<Vec<String>> {
        Ok(self.orphans.clone())
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
        Ok(DatabaseSwap::Schemas(swap))
    }

    fn clear(&mut self, tables: &[String]) -> Result<()> {
        let there = list(&mut self.link)?;
        let own =
            there.iter().filter(|one| one.is_table() && tables.contains(&one.name.to_string()));
        let names: Vec<String> = own.map(|one| one.name.sql()).collect();
        if names.is_empty() {
            return Ok(());
        }
        self.link.run("SET lock_timeout = '60s'")?;
        self.link.run(format!("TRUNCATE {}", names.join(", "))).map_err(|trouble| {
            trouble.hint("tables that others point at cannot be emptied; unpack without --in-place")
        })
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
                switch::switch(&mut self.link, swap, direction, progress)
            }
            _ => Ok(()),
        }
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
