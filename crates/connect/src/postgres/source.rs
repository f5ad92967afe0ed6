//! Reading a PostgreSQL database at one moment.

use super::catalog::{Class, Id, Sort, Unit, cells, needs, oid, units};
use super::copy::{BEGIN, copy_lines, copy_of, row_of};
use super::describe::{describe, schemas};
use super::fragments::{Fragment, Phase, fragments, positions};
use super::order::{in_order, with_dependents, with_needs};
use super::overview::overview;
use super::readers::{self, Collected, Readers};
use super::{Link, large_objects, quoted, text};
use crate::server::{ServerAddress, Session};
use fernweh_core::record::{LARGE_OBJECTS, Row, Table};
use fernweh_core::sql::{ObjectKind, Outside, Qualified, Statement};
use fernweh_ports::{
    Counting, DatabaseSource, KeyPosition, Lines, Overview, Result, Scope, Structure,
};
use std::collections::{BTreeMap, BTreeSet};

/// A database that is read.
pub struct PostgresSource {
    link: Link,
    address: ServerAddress,
    /// The numbers of the large objects that its structure names.
    large: Vec<u32>,
    /// Further connections for large tables.
    readers: Readers,
}

impl PostgresSource {
    /// Logs in.
    pub fn open(address: &ServerAddress) -> Result<Self> {
        let (link, address) = (Link::open(address)?, address.clone());
        Ok(Self { link, address, large: Vec::new(), readers: Readers::default() })
    }
}

/// Collects statements; names the schema whenever it changes.
#[derive(Default)]
struct Script {
    schema: Option<String>,
    statements: Vec<Statement>,
}

impl Script {
    fn add(&mut self, schema: &str, statement: Statement) {
        if self.schema.as_deref() != Some(schema) {
            let sql = format!("SET search_path = {}", quoted(schema));
            self.statements.push(Statement::Schema { name: schema.to_owned(), sql });
            self.schema = Some(schema.to_owned());
        }
        self.statements.push(statement);
    }

    fn fragments(&mut self, found: Vec<Fragment>, kept: &BTreeSet<Id>) {
        for fragment in found.into_iter().filter(|fragment| kept.contains(&fragment.owner)) {
            self.add(&fragment.schema, plain(ObjectKind::Property, String::new(), fragment.sql));
        }
    }

    fn unit(&mut self, unit: &Unit) {
        let (name, sql) = (unit.name.clone(), unit.sql.clone());
        let statement = match unit.sort {
            Sort::Table => Statement::Table { name, at: 0..0, sql },
            Sort::View | Sort::Materialized => Statement::View { name, sql },
            Sort::Sequence => plain(ObjectKind::Sequence, name, sql),
            Sort::Routine => plain(ObjectKind::Routine, name, sql),
            Sort::Type => plain(ObjectKind::Type, name, sql),
            Sort::Collation => plain(ObjectKind::Property, name, sql),
        };
        self.add(&unit.schema, statement);
    }
}

fn plain(kind: ObjectKind, name: String, sql: String) -> Statement {
    Statement::Object { kind, name, table: None, sql }
}

fn extensions(link: &mut Link) -> Result<Vec<Statement>> {
    let rows = link.ask(
        "SELECT e.extname, format('CREATE EXTENSION IF NOT EXISTS %I WITH SCHEMA %I', e.extname, \
         n.nspname) FROM pg_catalog.pg_extension e \
         JOIN pg_catalog.pg_namespace n ON n.oid = e.extnamespace \
         WHERE e.extname <> 'plpgsql' ORDER BY e.oid",
    )?;
    let made =
        |row: &Vec<Option<String>>| plain(ObjectKind::Extension, cells(row)(0), cells(row)(1));
    Ok(rows.iter().map(made).collect())
}

fn structure(link: &mut Link, scope: &dyn Scope) -> Result<Structure> {
    let schemas = schemas(link)?;
    let found = units(link, &schemas)?;
    let needs = needs(link)?;
    // The site's own by name, and what these need.
    let own = found
        .all
        .iter()
        .filter(|unit| scope.holds(&Qualified::new(&unit.schema, &unit.name).to_string()));
    let mut kept = with_needs(own.map(|unit| unit.id), &needs);
    kept.extend(sequences_of(link, &kept)?);
    let called = functions_of_triggers(link, &kept)?;
    kept.extend(with_needs(called, &needs));
    let units: BTreeMap<Id, &Unit> = found
        .all
        .iter()
        .filter(|unit| kept.contains(&unit.id))
        .map(|unit| (unit.id, unit))
        .collect();
    let ids: Vec<Id> =
        found.all.iter().map(|unit| unit.id).filter(|id| units.contains_key(id)).collect();
    let is_table = |id: &Id| units.get(id).is_some_and(|unit| unit.sort == Sort::Table);
    let is_view =
        |id: &Id| units.get(id).is_some_and(|u| matches!(u.sort, Sort::View | Sort::Materialized));
    let late = with_dependents(ids.iter().copied().filter(|id| is_view(id)), &needs, &is_table);
    let ordered = in_order(&ids, &needs);

    let mut before = Script::default();
    for schema in schemas.iter().filter(|name| *name != "public") {
        let sql = format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(schema));
        before.statements.push(plain(ObjectKind::Schema, schema.clone(), sql));
    }
    before.statements.extend(extensions(link)?);
    let large = large_objects::numbers(link, scope)?;
    before.statements.extend(large.iter().map(|number| large_objects::statement(*number)));
    for id in ordered.iter().filter(|id| !late.contains(id)) {
        before.unit(units[id]);
    }
    let mut afterwards = Script::default();
    for schema in &schemas {
        before.fragments(fragments(link, schema, Phase::Ties)?, &kept);
        afterwards.fragments(fragments(link, schema, Phase::Keys)?, &kept);
    }
    for id in ordered.iter().filter(|id| late.contains(id)) {
        afterwards.unit(units[id]);
    }
    for phase in [Phase::ViewIndexes, Phase::Guards, Phase::Properties] {
        for schema in &schemas {
            afterwards.fragments(fragments(link, schema, phase)?, &kept);
        }
    }
    for schema in &schemas {
        afterwards.fragments(positions(link, schema)?, &kept);
    }
    let filled =
        link.ask("SELECT oid FROM pg_catalog.pg_class WHERE relkind = 'm' AND relispopulated")?;
    let filled: BTreeSet<u32> =
        filled.iter().filter_map(|row| cells(row)(0).parse().ok()).collect();
    for unit in ordered.iter().map(|id| units[id]) {
        if unit.sort == Sort::Materialized && filled.contains(&unit.id.1) {
            let sql = format!("REFRESH MATERIALIZED VIEW {}", quoted(&unit.name));
            afterwards.add(&unit.schema, plain(ObjectKind::Refresh, unit.name.clone(), sql));
        }
    }
    let mut tables = Vec::new();
    for unit in ordered.iter().map(|id| units[id]).filter(|unit| unit.sort == Sort::Table) {
        tables.push(describe(link, unit.id.1, &Qualified::new(&unit.schema, &unit.name))?);
    }
    tables.sort_by(|a, b| a.name.cmp(&b.name));
    if !large.is_empty() {
        tables.push(large_objects::table());
    }
    link.run("SET search_path = ''")?;
    let outside = found.all.iter().filter(|unit| !kept.contains(&unit.id)).filter_map(outside);
    Ok(Structure {
        tables,
        outside: outside.collect(),
        before: before.statements,
        afterwards: afterwards.statements,
        not_carried: Vec::new(),
    })
}

/// What can look at tables, or be looked at.
fn outside(unit: &Unit) -> Option<Outside> {
    let kind = match unit.sort {
        Sort::Table => "table",
        Sort::View => "view",
        Sort::Materialized => "materialized view",
        Sort::Routine => "function",
        Sort::Collation | Sort::Type | Sort::Sequence => return None,
    };
    let sql = if unit.sort == Sort::Table { String::new() } else { unit.sql.clone() };
    let name = Qualified::new(&unit.schema, &unit.name).to_string();
    Some(Outside { kind: kind.into(), name, sql })
}

/// Functions that are called by triggers of tables that are kept.
fn functions_of_triggers(link: &mut Link, kept: &BTreeSet<Id>) -> Result<Vec<Id>> {
    let rows = link.ask(
        "SELECT tgfoid::oid, tgrelid::oid FROM pg_catalog.pg_trigger WHERE NOT tgisinternal",
    )?;
    let mut found = Vec::new();
    for row in rows {
        let cell = cells(&row);
        if kept.contains(&(Class::Relation, oid(link, &cell(1))?)) {
            found.push((Class::Routine, oid(link, &cell(0))?));
        }
    }
    Ok(found)
}

/// Sequences that belong to columns of tables that are kept.
fn sequences_of(link: &mut Link, kept: &BTreeSet<Id>) -> Result<Vec<Id>> {
    let rows = link.ask(
        "SELECT d.objid, d.refobjid FROM pg_catalog.pg_depend d \
         JOIN pg_catalog.pg_class s ON s.oid = d.objid AND s.relkind = 'S' \
         WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass \
         AND d.deptype = 'a'",
    )?;
    let mut found = Vec::new();
    for row in rows {
        let cell = cells(&row);
        if kept.contains(&(Class::Relation, oid(link, &cell(1))?)) {
            found.push((Class::Relation, oid(link, &cell(0))?));
        }
    }
    Ok(found)
}

impl DatabaseSource for PostgresSource {
    fn reopen(&mut self) -> Result<()> {
        self.readers = Readers::default();
        self.link = Link::open(&self.address)?;
        Ok(())
    }

    fn overview(&mut self, scope: &dyn Scope, counting: Counting) -> Result<Overview> {
        overview(&mut self.link, scope, counting)
    }

    fn begin(&mut self) -> Result<Vec<String>> {
        self.link.run(BEGIN)?;
        // The first question fixes the moment.
        self.link.one("SELECT 1")?;
        Ok(Vec::new())
    }

    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure> {
        let structure = structure(&mut self.link, scope)?;
        let numbers = structure.before.iter().filter_map(Statement::large_object);
        self.large = numbers.filter_map(|number| number.parse().ok()).collect();
        Ok(structure)
    }

    fn in_order(&mut self, table: &Table) -> Result<bool> {
        readers::in_order(&mut self.link, table)
    }

    fn rows(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Row) -> Result<()>,
    ) -> Result<()> {
        if table.name == LARGE_OBJECTS {
            return large_objects::pages(&mut self.link, &self.large, sink);
        }
        let kinds: Vec<_> = table.columns.iter().map(|column| column.text).collect();
        self.lines(table, behind, &mut |lines| {
            let lines = lines.text.split_inclusive(|byte| *byte == b'\n');
            lines.into_iter().try_for_each(|line| sink(row_of(line, &table.name, &kinds)?))
        })?;
        Ok(())
    }

    fn lines(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Lines) -> Result<()>,
    ) -> Result<bool> {
        if table.name == LARGE_OBJECTS {
            return Ok(false);
        }
        let place = Qualified::parse(&table.name);
        let partitioned = self.link.one(&format!(
            "SELECT relkind FROM pg_catalog.pg_class WHERE oid = {}::regclass",
            text(&place.sql())
        ))?;
        if partitioned.as_deref() == Some("p") {
            return Ok(true);
        }
        let parts = readers::parts(&mut self.link, table, behind)?;
        match parts.is_empty() && behind.is_none() {
            true => {
                let mut lines = Collected::new(table, sink);
                copy_lines(&mut self.link, &copy_of(table), &mut |line| lines.add(line))?;
                lines.close()?;
            }
            false => self.readers.read((&mut self.link, &self.address), table, &parts, sink)?,
        }
        Ok(true)
    }
}
