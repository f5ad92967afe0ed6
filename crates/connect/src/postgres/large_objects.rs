//! Large objects: values outside all tables, known by their numbers.
//!
//! They travel as the pages in which the server keeps them. Their numbers are those of the
//! whole database, so a new state that is built beside the old one can find a number taken;
//! its object gets another one then, and the columns that hold such numbers (types `oid` and
//! `lo`) follow.

use super::build::{LargeObjects, PostgresTarget};
use super::catalog::cells;
use super::copy::copy_out;
use super::describe::list;
use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_core::digest::from_hex;
use fernweh_core::record::{Column, LARGE_OBJECTS, Row, Table, Value};
use fernweh_core::sql::{ObjectKind, PAGE, Qualified, Statement};
use fernweh_ports::{Result, RowBatch, Scope, Trouble, counted};

/// Pages that are asked for together.
const PAGES: u64 = 512;
/// Objects that are made by one statement.
const TOGETHER: usize = 5000;

/// How they stand among the tables.
pub(super) fn table() -> Table {
    let column = |name: &str| Column { name: name.into(), text: None };
    let columns = ["loid", "pageno", "data"].map(column).into();
    Table { name: LARGE_OBJECTS.into(), columns, key: vec!["loid".into(), "pageno".into()] }
}

/// The numbers of those that belong to the tables of `scope`; all, if that holds every table.
pub(super) fn numbers(link: &mut Link, scope: &dyn Scope) -> Result<Vec<u32>> {
    let tables = list(link)?;
    let all = tables.iter().filter(|t| t.is_table()).all(|t| scope.holds(&t.name.to_string()));
    let mut query = "SELECT oid FROM pg_catalog.pg_largeobject_metadata".to_owned();
    if !all {
        let held = holders(link)?;
        let held = held.iter().filter(|holder| scope.holds(&holder.table.to_string()));
        query.push_str(&format!(" WHERE oid IN ({})", held_by(held)));
    }
    let rows = link.ask(&format!("{query} ORDER BY oid"))?;
    Ok(rows.iter().filter_map(|row| cells(row)(0).parse().ok()).collect())
}

/// The statement that makes one, still empty.
pub(super) fn statement(number: u32) -> Statement {
    let sql = format!("SELECT pg_catalog.lo_create({number})");
    Statement::Object { kind: ObjectKind::LargeObject, name: number.to_string(), table: None, sql }
}

/// Reads the pages of every one.
pub(super) fn pages(
    link: &mut Link,
    numbers: &[u32],
    sink: &mut dyn FnMut(Row) -> Result<()>,
) -> Result<()> {
    let kinds = [None; 3];
    for number in numbers {
        for from in (0..).step_by(PAGES as usize) {
            let mut found = 0;
            let query = format!(
                "COPY (WITH part AS MATERIALIZED \
                   (SELECT lo_get({number}, {}, {}) AS data) \
                 SELECT {number}, {from} + page, substr(data, page * {PAGE} + 1, {PAGE}) FROM part \
                 CROSS JOIN generate_series(0, (length(data) + {PAGE} - 1) / {PAGE} - 1) page) \
                 TO STDOUT",
                from * PAGE,
                PAGES * PAGE,
            );
            let read = copy_out(link, LARGE_OBJECTS, &query, &kinds, &mut |row| {
                found += 1;
                sink(row)
            });
            read.map_err(|mut trouble| {
                trouble.place = Some(format!("large object {number} of {}", link.shown));
                trouble
            })?;
            if found < PAGES {
                break;
            }
        }
    }
    Ok(())
}

/// A column that can hold the number of a large object.
struct Holder {
    table: Qualified,
    column: String,
}

/// Every such column of the database, outside the server's own schemas.
fn holders(link: &mut Link) -> Result<Vec<Holder>> {
    let rows = link.ask(
        "SELECT n.nspname, c.relname, a.attname FROM pg_catalog.pg_attribute a \
         JOIN pg_catalog.pg_class c ON c.oid = a.attrelid \
         JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
         JOIN pg_catalog.pg_type t ON t.oid = a.atttypid \
         WHERE c.relkind = 'r' AND a.attnum > 0 AND NOT a.attisdropped \
         AND nspname !~ '^pg_' AND nspname <> 'information_schema' \
         AND (t.oid = 'oid'::regtype OR t.typtype = 'd' AND t.typbasetype = 'oid'::regtype)",
    )?;
    let holder = |row: &Vec<Option<String>>| {
        let cell = cells(row);
        Holder { table: Qualified::new(&cell(0), &cell(1)), column: cell(2) }
    };
    Ok(rows.iter().map(holder).collect())
}

/// The numbers in these columns, as a question.
fn held_by<'a>(holders: impl Iterator<Item = &'a Holder>) -> String {
    let asked = holders.map(|Holder { table, column }| {
        let column = quoted(column);
        format!("SELECT {column}::oid FROM ONLY {} WHERE {column} IS NOT NULL", table.sql())
    });
    let asked: Vec<String> = asked.collect();
    if asked.is_empty() { "NULL::oid".into() } else { asked.join(" UNION ") }
}

/// Removes those to which only tables of the given schemas lead, for these tables go.
pub(super) fn let_go(link: &mut Link, schemas: &[String]) -> Result<()> {
    let any = "SELECT 1 FROM pg_catalog.pg_largeobject_metadata LIMIT 1";
    if link.one(any)?.is_none() {
        return Ok(());
    }
    let all = holders(link)?;
    let (going, staying): (Vec<_>, Vec<_>) =
        all.iter().partition(|holder| schemas.contains(&holder.table.schema));
    if going.is_empty() {
        return Ok(());
    }
    link.run(format!(
        "SELECT lo_unlink(m.oid) FROM pg_catalog.pg_largeobject_metadata m \
         WHERE m.oid IN ({}) AND pg_has_role(m.lomowner, 'USAGE') AND NOT EXISTS \
         (SELECT 1 FROM ({}) stays(number) WHERE stays.number = m.oid)",
        held_by(going.into_iter()),
        held_by(staying.into_iter()).replacen("NULL::oid", "SELECT NULL::oid", 1)
    ))
}

impl PostgresTarget {
    fn notes_of_numbers(&self) -> String {
        self.aside('n', LARGE_OBJECTS)
    }

    /// Makes those that the statements ask for.
    pub(super) fn make_large_objects(&mut self, statements: &[Statement]) -> Result<()> {
        let numbers: Vec<&str> = statements.iter().filter_map(Statement::large_object).collect();
        if numbers.is_empty() {
            return Ok(());
        }
        let schema = self.notes_of_numbers();
        let noted = quoted(&schema);
        // What is made is noted in the same transaction, so that it can be removed again.
        self.link.run(format!(
            "BEGIN; CREATE SCHEMA {noted}; \
             CREATE TABLE {noted}.numbers (old oid PRIMARY KEY, new oid NOT NULL)"
        ))?;
        let taken = "SELECT FROM pg_catalog.pg_largeobject_metadata m WHERE m.oid = n";
        for part in numbers.chunks(TOGETHER) {
            let part = part.join(",");
            self.link.run(format!(
                "INSERT INTO {noted}.numbers SELECT n, lo_create(n) \
                 FROM unnest('{{{part}}}'::oid[]) n WHERE NOT EXISTS ({taken})"
            ))?;
        }
        for part in numbers.chunks(TOGETHER) {
            let part = part.join(",");
            self.link.run(format!(
                "INSERT INTO {noted}.numbers SELECT n, lo_create(0) \
                 FROM unnest('{{{part}}}'::oid[]) n \
                 WHERE NOT EXISTS (SELECT FROM {noted}.numbers d WHERE d.old = n)"
            ))?;
        }
        self.link.run("COMMIT")?;
        self.learn_numbers()
    }

    /// Reads which numbers the new state uses.
    pub(super) fn learn_numbers(&mut self) -> Result<()> {
        let schema = self.notes_of_numbers();
        let noted = quoted(&schema);
        self.large = LargeObjects::default();
        let there = format!("SELECT to_regclass({})", text(&format!("{noted}.numbers")));
        if self.link.one(&there)?.is_none() {
            return Ok(());
        }
        self.large.noted_in = Some(schema);
        let rows =
            self.link.ask(&format!("SELECT old, new FROM {noted}.numbers WHERE old <> new"))?;
        let link = &self.link;
        let number =
            |row: &Vec<Option<String>>, n| link.parsed("large objects", Some(&cells(row)(n)));
        let instead = rows.iter().map(|row| Ok((number(row, 0)?, number(row, 1)?)));
        self.large.instead = instead.collect::<Result<_>>()?;
        Ok(())
    }

    /// Says in words which numbers changed.
    pub(super) fn tell_of_numbers(&mut self) {
        let changed = self.large.instead.len() as u64;
        if changed > 0 {
            self.notes.push(format!(
                "{} number, for that of the archive is taken here; columns of type oid and lo \
                 follow, numbers written elsewhere do not",
                counted(changed, "large object has another", "large objects have another")
            ));
        }
    }

    /// Whether every object that the statements make is there.
    pub(super) fn has_large_objects(&mut self, statements: &[Statement]) -> Result<bool> {
        let wanted = statements.iter().filter_map(Statement::large_object).count();
        let Some(schema) = &self.large.noted_in else { return Ok(wanted == 0) };
        let found = self.link.one(&format!(
            "SELECT count(*) FROM {}.numbers JOIN pg_catalog.pg_largeobject_metadata ON oid = new",
            quoted(schema)
        ))?;
        Ok(found.and_then(|n| n.parse().ok()) == Some(wanted))
    }

    /// Writes pages into their objects. Writing them again changes nothing.
    pub(super) fn write_pages(&mut self, rows: &[Row]) -> Result<()> {
        let broken = || {
            Trouble::damaged("the archive holds a page of a large object that cannot be read")
                .hint("do not use this archive; find out where it comes from")
        };
        let mut run: Option<(u32, u64, Vec<u8>)> = None;
        for row in rows {
            let (number, page, data) = page(row).ok_or_else(broken)?;
            let at = page * PAGE;
            match &mut run {
                Some((same, from, bytes))
                    if *same == number && *from + bytes.len() as u64 == at =>
                {
                    bytes.extend_from_slice(&data);
                }
                _ => {
                    self.put(run.take())?;
                    run = Some((number, at, data));
                }
            }
        }
        self.put(run)
    }

    fn put(&mut self, run: Option<(u32, u64, Vec<u8>)>) -> Result<()> {
        let Some((number, at, bytes)) = run else { return Ok(()) };
        let new = self.large.instead.get(&number).copied().unwrap_or(number);
        let Some(schema) = self.large.noted_in.as_deref() else { return Ok(()) };
        // Only what this run has made is written to.
        let sql = format!(
            "SELECT lo_put(new, $2, $3) FROM {}.numbers WHERE old = $1 AND new = {new}",
            quoted(schema)
        );
        let Link { runtime, client, .. } = &self.link;
        let put = runtime.block_on(client.execute(&sql, &[&number, &(at as i64), &bytes]));
        match put {
            Ok(1) => Ok(()),
            Ok(_) => Err(Trouble::damaged("the archive contradicts itself")
                .at(format!("large object {number}"))
                .because("it has pages, but the structure does not make it")
                .hint("do not use this archive; find out where it comes from")),
            Err(error) => Err(self
                .link
                .trouble("the database rejected a page", &error)
                .at(format!("large object {number} of {}", self.link.shown))),
        }
    }

    /// Puts the numbers that are used here into the columns that hold them.
    pub(super) fn follow_numbers(&mut self, portion: &RowBatch) -> Result<Option<RowBatch>> {
        if self.large.instead.is_empty() {
            return Ok(None);
        }
        if !self.large.following.contains_key(&portion.table) {
            let built = self.built(&portion.table);
            let found = holders(&mut self.link)?.into_iter();
            let own = found.filter(|holder| holder.table == built).map(|holder| holder.column);
            self.large.following.insert(portion.table.clone(), own.collect());
        }
        let following = &self.large.following[&portion.table];
        let places: Vec<usize> = (0..portion.columns.len())
            .filter(|place| following.contains(&portion.columns[*place]))
            .collect();
        if places.is_empty() {
            return Ok(None);
        }
        let mut portion = portion.clone();
        for row in &mut portion.rows {
            for place in &places {
                if let Value::Number(digits) = &row[*place]
                    && let Some(new) = parsed(digits).and_then(|n| self.large.instead.get(&n))
                {
                    row[*place] = Value::Number(new.to_string().into_bytes());
                }
            }
        }
        Ok(Some(portion))
    }

    /// Removes those of a new state that nobody will see.
    pub(super) fn discard_large_objects(&mut self) -> Result<()> {
        self.learn_numbers()?;
        let Some(schema) = &self.large.noted_in else { return Ok(()) };
        let noted = quoted(schema);
        self.link.run(format!(
            "BEGIN; SELECT lo_unlink(new) FROM {noted}.numbers \
             JOIN pg_catalog.pg_largeobject_metadata ON oid = new; \
             DROP SCHEMA {noted} CASCADE; COMMIT"
        ))
    }
}

fn parsed<N: std::str::FromStr>(digits: &[u8]) -> Option<N> {
    std::str::from_utf8(digits).ok()?.parse().ok()
}

/// Number, page and bytes of a row.
fn page(row: &Row) -> Option<(u32, u64, Vec<u8>)> {
    let [Value::Number(number), Value::Number(page), Value::Number(data)] = &row[..] else {
        return None;
    };
    let data = from_hex(data.strip_prefix(b"\\x")?)?;
    let page = parsed::<u64>(page).filter(|page| *page <= i32::MAX as u64)?;
    (data.len() as u64 <= PAGE).then_some((parsed(number)?, page, data))
}
