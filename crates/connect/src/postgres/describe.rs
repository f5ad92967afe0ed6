//! What the server tells about schemas, tables and columns.

use super::{Link, text};
use crate::server::{Session, is_aside};
use fernweh_core::record::{Column, Table};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::Qualified;
use fernweh_ports::Result;

/// A relation of one of the site's schemas.
pub(super) struct Listed {
    pub oid: u32,
    pub name: Qualified,
    /// `r` table, `p` partitioned table, `v` view, `m` materialized view, `f` foreign table.
    pub kind: char,
    pub bytes: u64,
    /// Its records, as the server estimates them; none if it has never looked.
    pub rows: Option<u64>,
}

impl Listed {
    /// Whether it is a table; a partitioned one holds no rows of its own.
    pub fn is_table(&self) -> bool {
        matches!(self.kind, 'r' | 'p')
    }
}

/// The schemas that can hold the site's objects, without those of the server, of its
/// extensions and of Fernweh.
pub(super) fn schemas(link: &mut Link) -> Result<Vec<String>> {
    let rows = link.ask(
        "SELECT nspname FROM pg_catalog.pg_namespace n \
         WHERE nspname !~ '^pg_' AND nspname <> 'information_schema' AND NOT EXISTS \
         (SELECT 1 FROM pg_catalog.pg_depend e WHERE e.classid = 'pg_namespace'::regclass \
          AND e.objid = n.oid AND e.deptype = 'e') ORDER BY nspname <> 'public', nspname",
    )?;
    let names = rows.into_iter().filter_map(|row| row.into_iter().next()?);
    Ok(names.filter(|name| !is_aside(name)).collect())
}

/// The schemas as a list for `IN`.
pub(super) fn in_list(schemas: &[String]) -> String {
    let texts: Vec<String> = schemas.iter().map(|name| text(name)).collect();
    if texts.is_empty() { "NULL".into() } else { texts.join(",") }
}

/// Leaves out what belongs to an extension.
pub(super) fn no_member(class: &str, oid: &str) -> String {
    format!(
        "NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend e WHERE e.classid = '{class}'::regclass \
         AND e.objid = {oid} AND e.deptype = 'e')"
    )
}

pub(super) fn list(link: &mut Link) -> Result<Vec<Listed>> {
    let schemas = schemas(link)?;
    let rows = link.ask(&format!(
        "SELECT c.oid, n.nspname, c.relname, c.relkind, \
         CASE WHEN c.relkind = 'r' THEN pg_total_relation_size(c.oid) ELSE 0 END, \
         CASE WHEN c.relkind = 'r' AND c.reltuples >= 0 AND c.relpages > 0 \
         THEN (c.reltuples / c.relpages * pg_relation_size(c.oid) \
         / current_setting('block_size')::int)::bigint END \
         FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
         WHERE n.nspname IN ({}) AND c.relkind IN ('r', 'p', 'v', 'm', 'f') \
         AND c.relpersistence <> 't' AND {} ORDER BY n.nspname <> 'public', n.nspname, c.relname",
        in_list(&schemas),
        no_member("pg_class", "c.oid")
    ))?;
    let listed = rows.into_iter().map(|row| {
        let cell = |n: usize| row.get(n).cloned().flatten().unwrap_or_default();
        Ok(Listed {
            oid: link.parsed("the number of a table", Some(&cell(0)))?,
            name: Qualified::new(&cell(1), &cell(2)),
            kind: cell(3).chars().next().unwrap_or('?'),
            bytes: link.parsed("the size of a table", Some(&cell(4)))?,
            rows: cell(5).parse().ok(),
        })
    });
    listed.collect()
}

/// The columns of a table that hold values, and its primary key.
pub(super) fn describe(link: &mut Link, oid: u32, name: &Qualified) -> Result<Table> {
    // The type below a domain, and the type of an array's elements, decide.
    let rows = link.ask(&format!(
        "WITH RECURSIVE typed AS ( \
           SELECT a.attnum, a.attname, a.atttypid AS type FROM pg_catalog.pg_attribute a \
           WHERE a.attrelid = {oid} AND a.attnum > 0 AND NOT a.attisdropped \
           AND a.attgenerated = '' \
           UNION ALL \
           SELECT attnum, attname, CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.typelem END \
           FROM typed JOIN pg_catalog.pg_type t ON t.oid = typed.type \
           WHERE t.typtype = 'd' OR t.typcategory = 'A') \
         SELECT attname, CASE WHEN t.typname = 'bytea' THEN 'bytes' \
           WHEN t.typcategory = 'S' OR t.typtype = 'c' \
             OR t.typname IN ('json', 'jsonb', 'xml', 'hstore') THEN 'text' ELSE '' END, \
           EXISTS (SELECT 1 FROM typed up WHERE up.attnum = typed.attnum AND up.type <> t.oid \
             AND (SELECT typcategory FROM pg_catalog.pg_type WHERE oid = up.type) = 'A') \
         FROM typed JOIN pg_catalog.pg_type t ON t.oid = typed.type \
         WHERE t.typtype <> 'd' AND t.typcategory <> 'A' ORDER BY attnum"
    ))?;
    let columns = rows.into_iter().map(|row| {
        let cell = |n: usize| row.get(n).cloned().flatten().unwrap_or_default();
        let text = match (cell(1).as_str(), cell(2) == "t") {
            ("text", _) => Some(ColumnText::Utf8),
            ("bytes", false) => Some(ColumnText::Binary),
            _ => None,
        };
        Column { name: cell(0), text }
    });
    let columns = columns.collect();
    let key = link.ask(&format!(
        "SELECT a.attname FROM pg_catalog.pg_index i \
         CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k(attnum, place) \
         JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum \
         WHERE i.indrelid = {oid} AND i.indisprimary ORDER BY k.place"
    ))?;
    let key = key.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    Ok(Table { name: name.to_string(), columns, key })
}
