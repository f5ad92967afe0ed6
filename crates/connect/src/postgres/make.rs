//! Making the objects of an archive in schemas of Fernweh's own.

use super::build::PostgresTarget;
use super::{Link, quoted, switch, text};
use crate::server::Session;
use fernweh_core::sql::{ObjectKind, Qualified, Statement, in_schemas};
use fernweh_ports::{Result, Trouble};

/// By this a statement makes a range type.
const RANGE: &str = " AS RANGE (";

impl PostgresTarget {
    /// Knows what the statements of an archive make.
    pub(super) fn begin_with(&mut self, structure: &[Statement]) {
        self.names.clear();
        self.learn(structure);
        let tables = structure.iter().filter_map(|statement| match statement {
            Statement::Table { name, .. } => Some(name.clone()),
            _ => None,
        });
        self.tables = tables.collect();
    }

    /// Learns which names the statements make, and in which schemas.
    pub(super) fn learn(&mut self, statements: &[Statement]) {
        let mut schema = "public".to_owned();
        for statement in statements {
            // The index of a partition may lie in another schema than the one that it joins.
            if let Some(sql) = statement.sql()
                && let Some(rest) = sql.strip_prefix("ALTER INDEX ")
                && let Some((joined, _)) = rest.split_once(" ATTACH PARTITION ")
            {
                let joined = Qualified::parse(joined);
                self.names.entry(joined.schema).or_default().insert(joined.name);
                continue;
            }
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
    pub(super) fn make(&mut self, statements: &[Statement]) -> Result<()> {
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
    pub(super) fn enter(&mut self, schema: &str) -> Result<()> {
        let aside = quoted(&self.aside('n', schema));
        self.link.run(format!("CREATE SCHEMA IF NOT EXISTS {aside}")).map_err(|trouble| {
            trouble.hint(format!(
                "the new state is built in a schema of its own; ask the database's owner for: \
                 GRANT CREATE ON DATABASE … TO … ({aside})"
            ))
        })?;
        // What stays in the site's schema, and extensions there, are found too.
        self.link.run(format!("SET search_path = {aside}, {}, public", quoted(schema)))
    }

    pub(super) fn make_one(
        &mut self,
        statement: &Statement,
        sql: &str,
        schema: &str,
    ) -> Result<()> {
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

    pub(super) fn is_there(&mut self, schema: &str, name: &str) -> Result<bool> {
        let (schema, name) = (switch::namespace(schema), text(name));
        let found = self.link.one(&format!(
            "SELECT 1 FROM pg_catalog.pg_type WHERE typname = {name} AND typnamespace = {schema} \
             UNION SELECT 1 FROM pg_catalog.pg_proc WHERE proname = {name} \
             AND pronamespace = {schema}"
        ))?;
        Ok(found.is_some())
    }

    pub(super) fn one(&mut self, statement: &Statement, sql: &str) -> Result<()> {
        let Err(error) = self.link.try_one(sql) else { return Ok(()) };
        if crate::stop::asked() {
            return Err(Trouble::interrupted("interrupted").because(
                "stopped with Ctrl-C or a \
                             signal",
            ));
        }
        let code = error.code().map(|code| code.code().to_owned()).unwrap_or_default();
        let first: String = sql.lines().next().unwrap_or_default().chars().take(70).collect();
        let permissive = sql.starts_with("CREATE POLICY") && sql.contains(" AS PERMISSIVE ");
        match (statement, code.as_str()) {
            (Statement::ForeignKey { table, name, .. }, "42P01" | "42830") => {
                self.not_created.push(format!(
                    "foreign key {name} of table {table}: the table it refers to does not exist \
                     here"
                ));
                Ok(())
            }
            // The rows are all there; the key guards what comes from now on.
            (Statement::ForeignKey { table, name, .. }, "23503") => {
                self.orphans.push(format!(
                    "foreign key {name} of table {table}: records refer to records that do not \
                     exist; {}",
                    Link::message(&error)
                ));
                let sql = format!("{sql} NOT VALID");
                self.link.try_one(&sql).map(drop).map_err(|error| {
                    self.link.trouble(&format!("the database rejected: {first}"), &error)
                })
            }
            // Without its role nobody gains or loses anything by the missing policy.
            (Statement::Object { kind: ObjectKind::Rule, name, table, .. }, "42704")
                if permissive =>
            {
                let table = table.as_deref().unwrap_or_default();
                self.not_created
                    .push(format!("policy {name} of table {table}: {}", Link::message(&error)));
                Ok(())
            }
            (Statement::Object { kind: ObjectKind::Refresh, name, .. }, _) => {
                self.notes.push(format!(
                    "materialized view {name} could not be filled: {}",
                    Link::message(&error)
                ));
                Ok(())
            }
            _ => Err(self.link.trouble(&format!("the database rejected: {first}"), &error)),
        }
    }

    /// The functions of a range type belong to the server, and cannot be moved to another
    /// schema; so the type is made in place, where nothing uses it yet.
    pub(super) fn range(&mut self, schema: &str, name: &str, sql: &str) -> Result<()> {
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
        let what = format!("the database rejected type {name}");
        self.link.try_one(sql).map_err(|error| self.link.trouble(&what, &error))?;
        self.link.run(format!("SET search_path = {path}"))?;
        self.notes.push(format!("range type {name} was created; undo leaves it there"));
        Ok(())
    }

    pub(super) fn extend(&mut self, name: &str, sql: &str) -> Result<()> {
        let there = format!("SELECT 1 FROM pg_catalog.pg_extension WHERE extname = {}", text(name));
        if self.link.one(&there)?.is_some() {
            return Ok(());
        }
        self.link.try_one(sql).map_err(|error| {
            self.link
                .trouble(&format!("extension {name} is missing and cannot be installed"), &error)
                .hint(format!("ask the host to install it: CREATE EXTENSION {}", quoted(name)))
        })?;
        self.notes.push(format!("extension {name} was installed; undo leaves it there"));
        Ok(())
    }
}
