//! The objects that can be created one after the other: types, sequences, tables, views,
//! routines. Each comes as its statement, with what it needs.
//!
//! The server writes expressions and definitions itself (`pg_get_…`); names in them are
//! written without their schema where the search path finds them, so that the statement
//! can be run in another schema.

use super::describe::no_member;
use super::order::Needs;
use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_ports::Result;
use std::collections::BTreeMap;

/// The catalogs in which units stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Class {
    Relation,
    Type,
    Routine,
    Collation,
}

/// An object by its place in the catalogs.
pub(super) type Id = (Class, u32);

/// What kind of object a unit is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    Collation,
    Type,
    Sequence,
    Table,
    View,
    Materialized,
    Routine,
}

/// One object that is created by one statement.
#[derive(Clone, Debug)]
pub(super) struct Unit {
    pub id: Id,
    pub sort: Sort,
    pub schema: String,
    pub name: String,
    pub sql: String,
}

/// All units, in the order of their kinds, and what cannot be carried.
#[derive(Default)]
pub(super) struct Units {
    pub all: Vec<Unit>,
    pub not_carried: Vec<String>,
}

/// The cells of a row as texts.
pub(super) fn cells(row: &[Option<String>]) -> impl Fn(usize) -> String + '_ {
    |n| row.get(n).cloned().flatten().unwrap_or_default()
}

/// The number of an object, as the catalog gives it.
pub(super) fn oid(link: &Link, cell: &str) -> Result<u32> {
    link.parsed("the number of an object", Some(cell))
}

pub(super) fn units(link: &mut Link, schemas: &[String]) -> Result<Units> {
    let mut found = Units::default();
    for schema in schemas {
        link.run(format!("SET search_path = {}", quoted(schema)))?;
        collations(link, schema, &mut found)?;
        types(link, schema, &mut found)?;
        sequences(link, schema, &mut found)?;
        tables(link, schema, &mut found)?;
        views(link, schema, &mut found)?;
        routines(link, schema, &mut found)?;
        aggregates(link, schema, &mut found)?;
    }
    Ok(found)
}

fn take(
    link: &mut Link,
    schema: &str,
    (class, sort): (Class, Sort),
    query: &str,
    found: &mut Units,
) -> Result<()> {
    for row in link.ask(query)? {
        let cell = cells(&row);
        let (id, name, sql) = ((class, oid(link, &cell(0))?), cell(1), cell(2));
        found.all.push(Unit { id, sort, schema: schema.to_owned(), name, sql });
    }
    Ok(())
}

fn collations(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let number: u32 = link.number("SHOW server_version_num")?;
    let locale: &str = match number {
        170_000.. => "colllocale",
        150_000.. => "colliculocale",
        _ => "NULL::text",
    };
    let query = format!(
        "SELECT c.oid, c.collname, format('CREATE COLLATION %I (provider = %s, %s, deterministic \
         = %s)', \
         c.collname, CASE c.collprovider WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE 'libc' END, \
         CASE WHEN coalesce({locale}, '') <> '' THEN format('locale = %L', {locale}) \
           WHEN c.collprovider = 'i' THEN format('locale = %L', c.collcollate) \
           ELSE format('lc_collate = %L, lc_ctype = %L', c.collcollate, c.collctype) END, \
         CASE WHEN c.collisdeterministic THEN 'true' ELSE 'false' END) FROM pg_catalog.pg_collation c \
         WHERE c.collnamespace = {}::regnamespace AND {} ORDER BY c.collname",
        text(&quoted(schema)),
        no_member("pg_collation", "c.oid")
    );
    take(link, schema, (Class::Collation, Sort::Collation), &query, found)
}

fn types(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let collated = "CASE WHEN x.oid IS NULL THEN '' ELSE ' COLLATE ' || x.oid::regcollation END";
    let query = format!(
        "SELECT t.oid, t.typname, CASE t.typtype \
         WHEN 'e' THEN format('CREATE TYPE %I AS ENUM (%s)', t.typname, \
           (SELECT string_agg(quote_literal(l.enumlabel), ', ' ORDER BY l.enumsortorder) \
            FROM pg_catalog.pg_enum l WHERE l.enumtypid = t.oid)) \
         WHEN 'c' THEN format('CREATE TYPE %I AS (%s)', t.typname, \
           (SELECT string_agg(format('%I %s%s', a.attname, format_type(a.atttypid, a.atttypmod), \
              {collated}), ', ' ORDER BY a.attnum) \
            FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_type b ON b.oid = a.atttypid \
            LEFT JOIN pg_catalog.pg_collation x ON x.oid = a.attcollation \
              AND a.attcollation <> b.typcollation \
            WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped)) \
         WHEN 'd' THEN format('CREATE DOMAIN %I AS %s%s%s%s%s', t.typname, \
           format_type(t.typbasetype, t.typtypmod), \
           (SELECT {collated} FROM pg_catalog.pg_type b LEFT JOIN pg_catalog.pg_collation x \
             ON x.oid = t.typcollation AND t.typcollation <> b.typcollation \
             WHERE b.oid = t.typbasetype), \
           coalesce(' DEFAULT ' || pg_get_expr(t.typdefaultbin, 0), ''), \
           CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, \
           (SELECT coalesce(string_agg(format(' CONSTRAINT %I %s', k.conname, \
              pg_get_constraintdef(k.oid)), '' ORDER BY k.conname), '') \
            FROM pg_catalog.pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c' \
            AND k.convalidated)) \
         ELSE format('CREATE TYPE %I AS RANGE (SUBTYPE = %s%s%s%s, MULTIRANGE_TYPE_NAME = %I)', \
           t.typname, format_type(r.rngsubtype, NULL), \
           CASE WHEN o.opcdefault THEN '' ELSE format(', SUBTYPE_OPCLASS = %I', o.opcname) END, \
           CASE WHEN r.rngcollation = s.typcollation OR r.rngcollation = 0 THEN '' \
             ELSE ', COLLATION = ' || r.rngcollation::regcollation END, \
           CASE WHEN r.rngsubdiff = 0 THEN '' ELSE ', SUBTYPE_DIFF = ' || r.rngsubdiff::regproc END, \
           m.typname) END \
         FROM pg_catalog.pg_type t LEFT JOIN pg_catalog.pg_range r ON r.rngtypid = t.oid \
         LEFT JOIN pg_catalog.pg_type s ON s.oid = r.rngsubtype \
         LEFT JOIN pg_catalog.pg_type m ON m.oid = r.rngmultitypid \
         LEFT JOIN pg_catalog.pg_opclass o ON o.oid = r.rngsubopc \
         LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid \
         WHERE t.typnamespace = {0}::regnamespace AND t.typtype IN ('e', 'c', 'd', 'r') \
         AND (t.typtype <> 'c' OR c.relkind = 'c') AND {1} ORDER BY t.typname",
        text(&quoted(schema)),
        no_member("pg_type", "t.oid")
    );
    take(link, schema, (Class::Type, Sort::Type), &query, found)?;
    let own = link.ask(&format!(
        "SELECT t.typname FROM pg_catalog.pg_type t WHERE t.typnamespace = {}::regnamespace \
         AND t.typtype = 'b' AND t.typcategory <> 'A' AND {} ORDER BY 1",
        text(&quoted(schema)),
        no_member("pg_type", "t.oid")
    ))?;
    let names = own.into_iter().filter_map(|row| row.into_iter().next()?);
    found.not_carried.extend(names.map(|name| format!("base type {name}")));
    Ok(())
}

fn sequences(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let query = format!(
        "SELECT c.oid, c.relname, format('CREATE%s SEQUENCE %I AS %s INCREMENT BY %s MINVALUE %s \
         MAXVALUE %s START WITH %s CACHE %s%s', \
         CASE c.relpersistence WHEN 'u' THEN ' UNLOGGED' ELSE '' END, c.relname, \
         format_type(s.seqtypid, NULL), s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, \
         CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) \
         FROM pg_catalog.pg_class c JOIN pg_catalog.pg_sequence s ON s.seqrelid = c.oid \
         WHERE c.relnamespace = {}::regnamespace AND c.relpersistence <> 't' AND {} \
         AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend i \
           WHERE i.classid = 'pg_class'::regclass AND i.objid = c.oid AND i.deptype = 'i') \
         ORDER BY c.relname",
        text(&quoted(schema)),
        no_member("pg_class", "c.oid")
    );
    take(link, schema, (Class::Relation, Sort::Sequence), &query, found)
}

/// The options of a relation as `WITH` takes them; `c` is the relation.
const OPTIONS: &str = "(SELECT coalesce(' WITH (' || string_agg(format('%s = %L', \
     o.option_name, o.option_value), ', ') || ')', '') FROM ( \
       SELECT option_name, option_value FROM pg_options_to_table(c.reloptions) UNION ALL \
       SELECT 'toast.' || option_name, option_value FROM pg_catalog.pg_class toast, \
         pg_options_to_table(toast.reloptions) WHERE toast.oid = c.reltoastrelid) o)";

fn tables(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let columns = columns(link, schema)?;
    let checks = link.ask(&format!(
        "SELECT k.conrelid, format('CONSTRAINT %I %s', k.conname, pg_get_constraintdef(k.oid)) \
         FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
         WHERE c.relnamespace = {}::regnamespace AND k.contype = 'c' AND k.convalidated \
         AND (k.conislocal OR c.relispartition) ORDER BY k.conname",
        text(&quoted(schema))
    ))?;
    let mut lines: BTreeMap<String, Vec<String>> = columns;
    for row in checks {
        let cell = cells(&row);
        lines.entry(cell(0)).or_default().push(cell(1));
    }
    let rows = link.ask(&format!(
        "SELECT c.oid, c.relname, CASE c.relpersistence WHEN 'u' THEN 'UNLOGGED ' ELSE '' END, \
         coalesce((SELECT ' INHERITS (' || string_agg(h.inhparent::regclass::text, ', ' \
             ORDER BY h.inhseqno) || ')' FROM pg_catalog.pg_inherits h \
             WHERE h.inhrelid = c.oid AND NOT c.relispartition), '') \
         || coalesce(' PARTITION BY ' || pg_get_partkeydef(c.oid), '') \
         || CASE WHEN am.amname <> 'heap' THEN ' USING ' || quote_ident(am.amname) ELSE '' END \
         || {OPTIONS}, c.reloftype <> 0 \
         FROM pg_catalog.pg_class c LEFT JOIN pg_catalog.pg_am am ON am.oid = c.relam \
         WHERE c.relnamespace = {}::regnamespace AND c.relkind IN ('r', 'p') \
         AND c.relpersistence <> 't' AND {} ORDER BY c.relname",
        text(&quoted(schema)),
        no_member("pg_class", "c.oid")
    ))?;
    for row in rows {
        let cell = cells(&row);
        let (number, name) = (cell(0), cell(1));
        let body = lines.remove(&number).unwrap_or_default().join(",\n  ");
        let sql = format!("CREATE {}TABLE {} (\n  {body}\n){}", cell(2), quoted(&name), cell(3));
        if cell(4) == "t" {
            found.not_carried.push(format!("the tie of table {name} to a type (its columns come)"));
        }
        let id = (Class::Relation, oid(link, &number)?);
        let schema = schema.to_owned();
        found.all.push(Unit { id, sort: Sort::Table, schema, name, sql });
    }
    Ok(())
}

/// The column lines of every table, by its number.
fn columns(link: &mut Link, schema: &str) -> Result<BTreeMap<String, Vec<String>>> {
    let rows = link.ask(&format!(
        "SELECT a.attrelid, format('%I %s%s%s%s%s', a.attname, \
         format_type(a.atttypid, a.atttypmod), \
         CASE a.attcompression WHEN 'p' THEN ' COMPRESSION pglz' WHEN 'l' THEN ' COMPRESSION lz4' \
           ELSE '' END, \
         CASE WHEN a.attcollation <> t.typcollation \
           THEN ' COLLATE ' || a.attcollation::regcollation ELSE '' END, \
         CASE WHEN a.attgenerated = 's' \
             THEN ' GENERATED ALWAYS AS (' || pg_get_expr(d.adbin, d.adrelid) || ') STORED' \
           WHEN a.attidentity <> '' THEN format(' GENERATED %s AS IDENTITY (SEQUENCE NAME %I \
             INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s%s)', \
             CASE a.attidentity WHEN 'a' THEN 'ALWAYS' ELSE 'BY DEFAULT' END, q.relname, \
             s.seqincrement, s.seqmin, s.seqmax, s.seqstart, s.seqcache, \
             CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) \
           WHEN d.adbin IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(d.adbin, d.adrelid) ELSE '' END, \
         CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END) \
         FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid \
         JOIN pg_catalog.pg_type t ON t.oid = a.atttypid \
         LEFT JOIN pg_catalog.pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum \
         LEFT JOIN pg_catalog.pg_depend i ON a.attidentity <> '' \
           AND i.refclassid = 'pg_class'::regclass AND i.refobjid = a.attrelid \
           AND i.refobjsubid = a.attnum AND i.classid = 'pg_class'::regclass AND i.deptype = 'i' \
         LEFT JOIN pg_catalog.pg_class q ON q.oid = i.objid \
         LEFT JOIN pg_catalog.pg_sequence s ON s.seqrelid = q.oid \
         WHERE c.relnamespace = {}::regnamespace AND c.relkind IN ('r', 'p') AND a.attnum > 0 \
         AND NOT a.attisdropped AND (a.attislocal OR c.relispartition) ORDER BY a.attrelid, a.attnum",
        text(&quoted(schema))
    ))?;
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for row in rows {
        let cell = cells(&row);
        found.entry(cell(0)).or_default().push(cell(1));
    }
    Ok(found)
}

fn views(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    for (kind, sort, words, end) in [
        ('v', Sort::View, "VIEW", ""),
        ('m', Sort::Materialized, "MATERIALIZED VIEW", " WITH NO DATA"),
    ] {
        let query = format!(
            "SELECT c.oid, c.relname, format(E'CREATE {words} %I%s AS\\n%s{end}', c.relname, \
             {OPTIONS}, rtrim(pg_get_viewdef(c.oid), ';')) \
             FROM pg_catalog.pg_class c WHERE c.relnamespace = {}::regnamespace \
             AND c.relkind = '{kind}' AND c.relpersistence <> 't' AND {} ORDER BY c.relname",
            text(&quoted(schema)),
            no_member("pg_class", "c.oid")
        );
        take(link, schema, (Class::Relation, sort), &query, found)?;
    }
    Ok(())
}

fn routines(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let rows = link.ask(&format!(
        "SELECT p.oid, p.proname, CASE WHEN l.lanname IN ('c', 'internal') THEN NULL \
         ELSE pg_get_functiondef(p.oid) END, p.oid::regprocedure, l.lanname \
         FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_language l ON l.oid = p.prolang \
         WHERE p.pronamespace = {}::regnamespace AND p.prokind <> 'a' AND {} \
         AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend i WHERE i.classid = 'pg_proc'::regclass \
           AND i.objid = p.oid AND i.deptype = 'i') ORDER BY p.proname, p.oid",
        text(&quoted(schema)),
        no_member("pg_proc", "p.oid")
    ))?;
    for row in rows {
        let cell = cells(&row);
        if row.get(2).is_none_or(Option::is_none) {
            found.not_carried.push(format!("function {} in {}", cell(3), cell(4)));
            continue;
        }
        // The server always writes the schema here.
        let sql = without_schema(link, schema, &cell(2))?;
        let id = (Class::Routine, oid(link, &cell(0))?);
        let schema = schema.to_owned();
        found.all.push(Unit { id, sort: Sort::Routine, schema, name: cell(1), sql });
    }
    Ok(())
}

/// Takes the schema off the name of a routine or a statistics object that is created.
pub(super) fn without_schema(link: &mut Link, schema: &str, sql: &str) -> Result<String> {
    let ident = link.one(&format!("SELECT quote_ident({})", text(schema)))?.unwrap_or_default();
    Ok(sql.replacen(&format!(" {ident}."), " ", 1))
}

fn aggregates(link: &mut Link, schema: &str, found: &mut Units) -> Result<()> {
    let query = format!(
        "SELECT p.oid, p.proname, format('CREATE AGGREGATE %I (%s) (SFUNC = %s, STYPE = \
         %s%s%s%s%s%s)', \
         p.proname, CASE WHEN p.pronargs = 0 THEN '*' ELSE pg_get_function_arguments(p.oid) END, \
         a.aggtransfn::regproc, format_type(a.aggtranstype, NULL), \
         CASE WHEN a.aggfinalfn = 0 THEN '' ELSE ', FINALFUNC = ' || a.aggfinalfn::regproc END, \
         CASE WHEN a.aggfinalextra THEN ', FINALFUNC_EXTRA' ELSE '' END, \
         CASE WHEN a.aggcombinefn = 0 THEN '' ELSE ', COMBINEFUNC = ' || a.aggcombinefn::regproc END, \
         CASE WHEN a.agginitval IS NULL THEN '' ELSE format(', INITCOND = %L', a.agginitval) END, \
         CASE p.proparallel WHEN 's' THEN ', PARALLEL = safe' WHEN 'r' THEN ', PARALLEL = restricted' \
           ELSE '' END) \
         FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_aggregate a ON a.aggfnoid = p.oid \
         WHERE p.pronamespace = {0}::regnamespace AND a.aggkind = 'n' AND a.aggmtransfn = 0 AND {1} \
         ORDER BY p.proname, p.oid",
        text(&quoted(schema)),
        no_member("pg_proc", "p.oid")
    );
    take(link, schema, (Class::Routine, Sort::Routine), &query, found)?;
    let others = link.ask(&format!(
        "SELECT p.oid::regprocedure FROM pg_catalog.pg_proc p \
         JOIN pg_catalog.pg_aggregate a ON a.aggfnoid = p.oid \
         WHERE p.pronamespace = {}::regnamespace AND (a.aggkind <> 'n' OR a.aggmtransfn <> 0) AND {}",
        text(&quoted(schema)),
        no_member("pg_proc", "p.oid")
    ))?;
    let names = others.into_iter().filter_map(|row| row.into_iter().next()?);
    found.not_carried.extend(names.map(|name| format!("aggregate {name}")));
    Ok(())
}

/// Which unit needs which, by the server's own account.
pub(super) fn needs(link: &mut Link) -> Result<Needs<Id>> {
    // Defaults, checks and rules stand for the table or view that they belong to, row types
    // for their relation, arrays for their element, multiranges for their range.
    let unit = |class: &str, object: &str| {
        format!(
            "CASE {class} WHEN 'pg_class'::regclass THEN 'r' || coalesce( \
               (SELECT 't' || c.reltype FROM pg_catalog.pg_class c \
                WHERE c.oid = {object} AND c.relkind = 'c'), {object}::text) \
             WHEN 'pg_type'::regclass THEN (SELECT CASE \
               WHEN t.typrelid <> 0 AND c.relkind <> 'c' THEN 'r' || t.typrelid \
               WHEN t.typcategory = 'A' AND t.typelem <> 0 THEN 'e' || t.typelem \
               ELSE 't' || coalesce((SELECT r.rngtypid FROM pg_catalog.pg_range r \
                 WHERE r.rngmultitypid = t.oid), t.oid) END \
               FROM pg_catalog.pg_type t LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid \
               WHERE t.oid = {object}) \
             WHEN 'pg_proc'::regclass THEN 'p' || {object} \
             WHEN 'pg_collation'::regclass THEN 'c' || {object} \
             WHEN 'pg_attrdef'::regclass THEN \
               (SELECT 'r' || adrelid FROM pg_catalog.pg_attrdef WHERE oid = {object}) \
             WHEN 'pg_constraint'::regclass THEN (SELECT CASE WHEN conrelid <> 0 \
               THEN 'r' || conrelid ELSE 't' || contypid END FROM pg_catalog.pg_constraint \
               WHERE oid = {object} AND contype = 'c') \
             WHEN 'pg_rewrite'::regclass THEN (SELECT 'r' || ev_class FROM pg_catalog.pg_rewrite \
               WHERE oid = {object} AND rulename = '_RETURN') END"
        )
    };
    let rows = link.ask(&format!(
        "SELECT DISTINCT a.one, a.other FROM (SELECT {} AS one, {} AS other \
         FROM pg_catalog.pg_depend d WHERE d.deptype IN ('n', 'a', 'i') AND d.refobjid >= 16384 \
         AND NOT (d.deptype IN ('a', 'i') AND d.classid = 'pg_class'::regclass \
           AND d.refclassid = 'pg_class'::regclass \
           AND EXISTS (SELECT 1 FROM pg_catalog.pg_class s WHERE s.oid = d.objid AND s.relkind = 'S'))) a \
         WHERE a.one IS NOT NULL AND a.other IS NOT NULL AND a.one <> a.other",
        unit("d.classid", "d.objid"),
        unit("d.refclassid", "d.refobjid")
    ))?;
    let rows_of_types = link.ask(
        "SELECT t.oid, t.typrelid FROM pg_catalog.pg_type t \
         JOIN pg_catalog.pg_class c ON c.oid = t.typrelid WHERE c.relkind <> 'c' AND t.oid >= 16384",
    )?;
    let relation_of: BTreeMap<String, String> =
        rows_of_types.iter().map(|row| (cells(row)(0), cells(row)(1))).collect();
    let id = |text: &str| -> Option<Id> {
        let number = |digits: &str| digits.parse::<u32>().ok();
        // A composite type is known by the number of its type.
        let text = text.strip_prefix("rt").map_or(text.to_owned(), |rest| format!("t{rest}"));
        let (first, digits) = text.split_at(1);
        match first {
            "r" => Some((Class::Relation, number(digits)?)),
            "t" => Some((Class::Type, number(digits)?)),
            // The element of an array may be the row of a table.
            "e" => Some(match relation_of.get(digits) {
                Some(relation) => (Class::Relation, number(relation)?),
                None => (Class::Type, number(digits)?),
            }),
            "p" => Some((Class::Routine, number(digits)?)),
            "c" => Some((Class::Collation, number(digits)?)),
            _ => None,
        }
    };
    let mut needs: Needs<Id> = Needs::new();
    for row in rows {
        let cell = cells(&row);
        if let (Some(one), Some(other)) = (id(&cell(0)), id(&cell(1)))
            && one != other
        {
            needs.entry(one).or_default().insert(other);
        }
    }
    Ok(needs)
}
