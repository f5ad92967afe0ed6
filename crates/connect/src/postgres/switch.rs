//! Objects change their schemas, all of them in one transaction.
//!
//! Views, keys, triggers and sequences follow their tables by number, so what was built
//! together stays together. What stays in place and refers to what is replaced (foreign
//! keys and views of other tables) is fitted to what is there afterwards.

use super::build::PostgresTarget;
use super::catalog::{cells, oid};
use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_core::sql::Qualified;
use fernweh_ports::counted;
use fernweh_ports::{
    Direction, ObjectId, Progress, Refit, Result, SchemasSwap, SwapSchema, Trouble,
};

/// How long a switch waits behind open readers before it lets them pass.
const LOCK_WAIT: &str = "2s";
/// The same where it is only tried.
const TRIAL_WAIT: &str = "200ms";
/// How often it tries before it names who is in the way.
const TRIES: u32 = 5;

/// Who else is at work in the database.
const OTHERS: &str = "SELECT format('process %s of %s, %s since %s', pid, usename, state, \
     date_trunc('second', now() - xact_start)) FROM pg_catalog.pg_stat_activity \
     WHERE datname = current_database() AND pid <> pg_backend_pid() AND xact_start IS NOT NULL";

/// The number of a schema, as a question; nothing if it is not there.
pub(super) fn namespace(schema: &str) -> String {
    format!("(SELECT oid FROM pg_catalog.pg_namespace WHERE nspname = {})", text(schema))
}

/// Every object of a schema that is moved by itself: class, number, name, and a name that
/// tells routines of one name apart.
fn movable(condition: &str) -> String {
    format!(
        "SELECT 'pg_class'::regclass::oid AS class, c.oid AS number, 'r' AS kind, \
           c.relname::text AS name FROM pg_catalog.pg_class c \
         WHERE c.relkind IN ('r', 'p', 'v', 'm', 'S', 'f') AND c.relnamespace = {condition} \
         AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d WHERE c.relkind = 'S' \
           AND d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.objsubid = 0 \
           AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i')) \
         UNION ALL SELECT 'pg_type'::regclass::oid, t.oid, 't', t.typname FROM pg_catalog.pg_type t \
         LEFT JOIN pg_catalog.pg_class k ON k.oid = t.typrelid \
         WHERE t.typnamespace = {condition} AND (t.typtype IN ('e', 'd') \
           OR t.typtype = 'c' AND k.relkind = 'c') \
         UNION ALL SELECT 'pg_proc'::regclass::oid, p.oid, 'p', \
           p.proname || ' ' || p.proargtypes::text FROM pg_catalog.pg_proc p \
         WHERE p.pronamespace = {condition} AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_depend d \
           WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype IN ('i', 'e')) \
         UNION ALL SELECT 'pg_collation'::regclass::oid, x.oid, 'c', x.collname \
         FROM pg_catalog.pg_collation x WHERE x.collnamespace = {condition} \
         UNION ALL SELECT 'pg_statistic_ext'::regclass::oid, s.oid, 's', s.stxname \
         FROM pg_catalog.pg_statistic_ext s WHERE s.stxnamespace = {condition}"
    )
}

fn ids(link: &Link, rows: &[Vec<Option<String>>]) -> Result<Vec<ObjectId>> {
    let number = |row: &Vec<Option<String>>, n| oid(link, &cells(row)(n));
    rows.iter()
        .map(|row| Ok(ObjectId { class: number(row, 0)?, number: number(row, 1)? }))
        .collect()
}

/// Objects that are to come into place and are not there any more.
pub(super) fn absent(
    link: &mut Link,
    swap: &SchemasSwap,
    direction: Direction,
) -> Result<Vec<String>> {
    let mut absent = Vec::new();
    for schema in &swap.schemas {
        let (ids, aside) = match direction {
            Direction::Forward => (&schema.new, &schema.aside_new),
            Direction::Back => (&schema.old, &schema.aside_old),
        };
        let there = link.number(&format!(
            "SELECT count(*) FROM (VALUES {}) want (class, number) WHERE EXISTS (\
               SELECT 1 FROM pg_catalog.pg_class c WHERE class = 'pg_class'::regclass::oid AND c.oid = number \
               UNION ALL SELECT 1 FROM pg_catalog.pg_type t WHERE class = 'pg_type'::regclass::oid AND t.oid = number \
               UNION ALL SELECT 1 FROM pg_catalog.pg_proc p WHERE class = 'pg_proc'::regclass::oid AND p.oid = number \
               UNION ALL SELECT 1 FROM pg_catalog.pg_collation x \
                 WHERE class = 'pg_collation'::regclass::oid AND x.oid = number \
               UNION ALL SELECT 1 FROM pg_catalog.pg_statistic_ext s \
                 WHERE class = 'pg_statistic_ext'::regclass::oid AND s.oid = number)",
            id_list(ids)
        ))?;
        let missing = (ids.len() as u64).saturating_sub(there);
        if missing > 0 {
            let objects = counted(missing, "table or other object", "tables or other objects");
            absent.push(format!("{objects} of schema {}, kept as {aside}", schema.name));
        }
    }
    Ok(absent)
}

fn id_list(ids: &[ObjectId]) -> String {
    let pairs: Vec<String> = ids.iter().map(|id| format!("({},{})", id.class, id.number)).collect();
    if pairs.is_empty() { "(0,0)".into() } else { pairs.join(",") }
}

/// What will move, in both directions, and what has to be said about it.
pub(super) fn plan(target: &mut PostgresTarget) -> Result<(SchemasSwap, Vec<String>)> {
    let mut swap = SchemasSwap::default();
    let schemas: Vec<String> = target.names.keys().cloned().collect();
    for name in schemas {
        let (aside_new, aside_old) = (target.aside('n', &name), target.aside('o', &name));
        let link = &mut target.link;
        let there =
            format!("SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = {}", text(&name));
        let made = link.one(&there)?.is_none();
        let new_of = namespace(&aside_new);
        let new = link.ask(&format!("SELECT class, number FROM ({}) n", movable(&new_of)))?;
        let mut old = Vec::new();
        if !made {
            let old_of = namespace(&name);
            // Arguments of routines are compared by the names of their types.
            old = link.ask(&format!(
                "SELECT o.class, o.number FROM ({}) o JOIN ({}) n ON n.kind = o.kind \
                 AND (n.name = o.name OR n.kind = 'p' AND split_part(n.name, ' ', 1) = \
                   split_part(o.name, ' ', 1) AND {} = {}) \
                 UNION SELECT 'pg_class'::regclass::oid, part.relid::oid FROM ({}) o JOIN ({}) n \
                   ON n.kind = 'r' AND o.kind = 'r' AND n.name = o.name \
                 CROSS JOIN LATERAL pg_partition_tree(o.number) part WHERE part.level > 0",
                movable(&old_of),
                movable(&new_of),
                arguments("n.number", &aside_new),
                arguments("o.number", &name),
                movable(&old_of),
                movable(&new_of),
            ))?;
        }
        let (new, mut old) = (ids(link, &new)?, ids(link, &old)?);
        let removed = target.removed.iter().map(|table| Qualified::parse(table));
        for table in removed.filter(|table| table.schema == name) {
            let found = link.ask(&format!(
                "SELECT 'pg_class'::regclass::oid, relid::oid FROM pg_partition_tree({0}) \
                 UNION SELECT 'pg_class'::regclass::oid, {0}::regclass::oid",
                text(&table.sql())
            ))?;
            old.extend(ids(link, &found)?);
        }
        if !made {
            refuse_clashes(link, &name, &aside_new, &old)?;
        }
        swap.schemas.push(SwapSchema { name, aside_new, aside_old, made, new, old });
    }
    let list = target.schema_list();
    let old: Vec<ObjectId> = swap.schemas.iter().flat_map(|schema| schema.old.clone()).collect();
    let (refit, notes) = refits(&mut target.link, &old, &list)?;
    swap.refit = refit;
    Ok((swap, notes))
}

/// The types of a routine's arguments as texts in which its own schema does not occur.
fn arguments(number: &str, schema: &str) -> String {
    format!(
        "(SELECT array_agg(replace(format_type(a.type, NULL), {0} || '.', '') ORDER BY \
         a.place)::text \
         FROM pg_catalog.pg_proc f CROSS JOIN LATERAL unnest(f.proargtypes::oid[]) WITH ORDINALITY \
         AS a(type, place) WHERE f.oid = {number})",
        format_args!("quote_ident({})", text(schema))
    )
}

/// An index or a sequence of a table that stays can have a name that the new state needs.
fn refuse_clashes(link: &mut Link, name: &str, aside: &str, old: &[ObjectId]) -> Result<()> {
    let found = link.ask(&format!(
        "SELECT stays.relname, coalesce(x.indrelid, d.refobjid)::regclass \
         FROM pg_catalog.pg_class stays JOIN pg_catalog.pg_class comes \
           ON comes.relname = stays.relname AND comes.relnamespace = {} \
         LEFT JOIN pg_catalog.pg_index x ON x.indexrelid = stays.oid \
         LEFT JOIN pg_catalog.pg_depend d ON stays.relkind = 'S' AND d.objid = stays.oid \
           AND d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass \
           AND d.deptype IN ('a', 'i') \
         WHERE stays.relnamespace = {} AND stays.relkind IN ('i', 'I', 'S') \
         AND ('pg_class'::regclass::oid, stays.oid) NOT IN ({old}) \
         AND ('pg_class'::regclass::oid, coalesce(x.indrelid, d.refobjid, 0)) NOT IN ({old}) LIMIT 1",
        namespace(aside),
        namespace(name),
        old = id_list(old),
    ))?;
    let Some(row) = found.first() else { return Ok(()) };
    let cell = cells(row);
    Err(Trouble::outside("the new tables do not fit beside those that stay")
        .at(link.shown.clone())
        .because(format!("{} is the name of an index or sequence of table {}", cell(0), cell(1)))
        .hint("rename it there, or remove that table if it is not needed"))
}

/// What stays and refers to something that moves either way, as it is now.
pub(super) fn refits_of(link: &mut Link, swap: &SchemasSwap) -> Result<Vec<Refit>> {
    let moving: Vec<ObjectId> = swap
        .schemas
        .iter()
        .flat_map(|schema| schema.new.iter().chain(&schema.old))
        .cloned()
        .collect();
    let names: Vec<String> = swap.schemas.iter().map(|schema| schema.name.clone()).collect();
    let schemas = super::describe::in_list(&names);
    // Names stand with their schemas.
    link.run("SET search_path = ''")?;
    Ok(refits(link, &moving, &schemas)?.0)
}

/// Foreign keys and views that stay and refer to what moves.
fn refits(link: &mut Link, old: &[ObjectId], schemas: &str) -> Result<(Vec<Refit>, Vec<String>)> {
    let old = id_list(old);
    let mut notes = Vec::new();
    let keys = link.ask(&format!(
        "SELECT k.conname, k.conrelid::regclass, format('ALTER TABLE %s DROP CONSTRAINT %I', \
           k.conrelid::regclass, k.conname), format('ALTER TABLE %s ADD CONSTRAINT %I %s%s', \
           k.conrelid::regclass, k.conname, pg_get_constraintdef(k.oid), \
           CASE WHEN k.convalidated AND c.relkind = 'r' THEN ' NOT VALID' ELSE '' END) \
         FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
         WHERE k.contype = 'f' AND k.conparentid = 0 \
         AND ('pg_class'::regclass::oid, k.confrelid) IN ({old}) \
         AND ('pg_class'::regclass::oid, k.conrelid) NOT IN ({old})"
    ))?;
    let mut found = Vec::new();
    for row in keys {
        let cell = cells(&row);
        notes.push(format!(
            "foreign key {} of table {}, which stays, refers to the new table now; its records \
             were not checked (ALTER TABLE … VALIDATE CONSTRAINT does that)",
            cell(0),
            cell(1)
        ));
        let shown = format!("foreign key {} of table {}", cell(0), cell(1));
        found.push(Refit { shown, take_off: cell(2), put_back: cell(3) });
    }
    let views = link.ask(&format!(
        "SELECT DISTINCT v.oid, v.relkind, v.oid::regclass, \
           format('CREATE OR REPLACE VIEW %s AS %s', v.oid::regclass, pg_get_viewdef(v.oid)) \
         FROM pg_catalog.pg_depend d JOIN pg_catalog.pg_rewrite w ON w.oid = d.objid \
         JOIN pg_catalog.pg_class v ON v.oid = w.ev_class \
         JOIN pg_catalog.pg_namespace n ON n.oid = v.relnamespace \
         WHERE d.classid = 'pg_rewrite'::regclass AND v.relkind IN ('v', 'm') \
         AND (d.refclassid, d.refobjid) IN ({old}) AND n.nspname IN ({schemas}) \
         AND ('pg_class'::regclass::oid, v.oid) NOT IN ({old}) ORDER BY v.oid"
    ))?;
    for row in views {
        let cell = cells(&row);
        if cell(1) == "m" {
            notes.push(format!(
                "materialized view {}, which stays, still shows the replaced tables; create it \
                 again",
                cell(2)
            ));
            continue;
        }
        let shown = format!("view {}", cell(2));
        found.push(Refit { shown, take_off: String::new(), put_back: cell(3) });
    }
    Ok((found, notes))
}

/// Puts everything in place; objects that are there already stay there.
pub(super) fn switch(
    link: &mut Link,
    swap: &SchemasSwap,
    direction: Direction,
    progress: &dyn Progress,
) -> Result<()> {
    for attempt in 1.. {
        match in_one_transaction(link, swap, direction, progress) {
            Ok(()) => return Ok(()),
            Err(Stop::Told(trouble)) => {
                let _ = link.try_run("ROLLBACK");
                return Err(trouble);
            }
            Err(Stop::Server(error)) => {
                let _ = link.try_run("ROLLBACK");
                if !is_waiting(&error) {
                    return Err(link.trouble("the tables cannot be switched", &error));
                }
                if attempt >= TRIES {
                    return Err(link.blocked(OTHERS, &error));
                }
            }
        }
    }
    Ok(())
}

/// Tries the whole switch and takes it back: what would fail is found while nothing has changed.
/// Somebody who holds a table is not waited for; the switch itself does that.
pub(super) fn rehearse(link: &mut Link, swap: &SchemasSwap) -> Result<()> {
    let tried = moved(link, swap, Direction::Forward, TRIAL_WAIT, &mut |_| ());
    link.run("ROLLBACK")?;
    match tried {
        Ok(()) => Ok(()),
        Err(Stop::Told(trouble)) => Err(trouble),
        Err(Stop::Server(error)) if is_waiting(&error) => Ok(()),
        Err(Stop::Server(error)) => Err(link.trouble("the tables cannot be switched", &error)),
    }
}

/// Whether somebody else holds what is needed.
fn is_waiting(error: &tokio_postgres::Error) -> bool {
    error.code().is_some_and(|code| ["55P03", "40P01"].contains(&code.code()))
}

enum Stop {
    Server(tokio_postgres::Error),
    Told(Trouble),
}

impl From<tokio_postgres::Error> for Stop {
    fn from(error: tokio_postgres::Error) -> Self {
        Stop::Server(error)
    }
}

fn in_one_transaction(
    link: &mut Link,
    swap: &SchemasSwap,
    direction: Direction,
    progress: &dyn Progress,
) -> std::result::Result<(), Stop> {
    moved(link, swap, direction, LOCK_WAIT, &mut |step| progress.reached(step))?;
    Ok(link.try_run("COMMIT")?)
}

/// Begins a transaction in which everything is in place.
fn moved(
    link: &mut Link,
    swap: &SchemasSwap,
    direction: Direction,
    wait: &str,
    reached: &mut dyn FnMut(&str),
) -> std::result::Result<(), Stop> {
    link.try_run(format!("BEGIN; SET LOCAL lock_timeout = '{wait}'; SET LOCAL search_path = ''"))?;
    if let (Direction::Forward, Some(noted)) = (direction, &swap.noted_numbers) {
        link.try_run(format!("DROP SCHEMA IF EXISTS {} CASCADE", quoted(noted)))?;
    }
    let mut moves = Vec::new();
    for schema in &swap.schemas {
        for name in [&schema.name, &schema.aside_new, &schema.aside_old] {
            link.try_run(format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(name)))?;
        }
        let (name, new, old) = (&schema.name, &schema.aside_new, &schema.aside_old);
        moves.extend(match direction {
            Direction::Forward => [(&schema.old, name, old), (&schema.new, new, name)],
            Direction::Back => [(&schema.new, name, new), (&schema.old, old, name)],
        });
    }
    // Routines are named by the types of their arguments, so they move before these do.
    let (mut routines, mut others) = (Vec::new(), Vec::new());
    for (ids, from, to) in moves.into_iter().filter(|(ids, ..)| !ids.is_empty()) {
        for row in link.ask(&moving(ids, from, to)).map_err(Stop::Told)? {
            let cell = cells(&row);
            if cell(1) == "t" { routines.push(cell(0)) } else { others.push(cell(0)) }
        }
    }
    let steps = [routines.join(";"), others.join(";")];
    if steps.iter().all(String::is_empty) {
        return Ok(());
    }
    for refit in &swap.refit {
        link.try_run(&refit.take_off)?;
    }
    for step in steps {
        link.try_run(&step)?;
    }
    reached("objects-moved");
    for refit in &swap.refit {
        if let Err(error) = link.try_run(&refit.put_back) {
            let what = format!("{} does not fit the tables in place", refit.shown);
            return Err(Stop::Told(link.trouble(&what, &error).hint("remove it, and try again")));
        }
    }
    for schema in swap.schemas.iter().filter(|s| s.made && direction == Direction::Back) {
        let within = namespace(&schema.name);
        let rest = link.one(&format!("SELECT count(*) FROM ({}) n", movable(&within)));
        if rest.map_err(Stop::Told)?.as_deref() == Some("0") {
            link.try_run(format!("DROP SCHEMA {}", quoted(&schema.name)))?;
        }
    }
    Ok(())
}

/// The statements that move those of `ids` that lie in `from`.
fn moving(ids: &[ObjectId], from: &str, to: &str) -> String {
    format!(
        "SELECT format('ALTER %s %s SET SCHEMA %I', CASE i.type WHEN 'statistics object' \
           THEN 'STATISTICS' WHEN 'composite type' THEN 'TYPE' ELSE upper(i.type) END, i.identity, \
           {}), v.class::oid = 'pg_proc'::regclass FROM (VALUES {}) AS v(class, number) \
         CROSS JOIN LATERAL pg_identify_object(v.class::oid, v.number::oid, 0) i \
         WHERE i.schema = quote_ident({}) ORDER BY i.type <> 'table', v.number",
        text(to),
        id_list(ids),
        text(from)
    )
}

/// Drops what lies aside, unless something of the site leans on it.
pub(super) fn let_go(link: &mut Link, swap: &SchemasSwap) -> Result<()> {
    let mut aside = Vec::new();
    for schema in &swap.schemas {
        aside.extend([schema.aside_new.clone(), schema.aside_old.clone()]);
    }
    let list = super::describe::in_list(&aside);
    let within = format!("(SELECT oid FROM pg_catalog.pg_namespace WHERE nspname IN ({list}))");
    let leaning = link.one(&format!(
        "SELECT pg_describe_object(d.classid, d.objid, d.objsubid) FROM pg_catalog.pg_depend d \
         WHERE d.deptype = 'n' AND ( \
           d.refclassid = 'pg_class'::regclass AND d.refobjid IN \
             (SELECT oid FROM pg_catalog.pg_class WHERE relnamespace IN {within}) \
           OR d.refclassid = 'pg_type'::regclass AND d.refobjid IN \
             (SELECT oid FROM pg_catalog.pg_type WHERE typnamespace IN {within}) \
           OR d.refclassid = 'pg_proc'::regclass AND d.refobjid IN \
             (SELECT oid FROM pg_catalog.pg_proc WHERE pronamespace IN {within})) \
         AND (SELECT n FROM (SELECT CASE d.classid \
           WHEN 'pg_class'::regclass THEN (SELECT relnamespace FROM pg_catalog.pg_class WHERE oid = d.objid) \
           WHEN 'pg_type'::regclass THEN (SELECT typnamespace FROM pg_catalog.pg_type WHERE oid = d.objid) \
           WHEN 'pg_proc'::regclass THEN (SELECT pronamespace FROM pg_catalog.pg_proc WHERE oid = d.objid) \
           WHEN 'pg_constraint'::regclass THEN \
             (SELECT connamespace FROM pg_catalog.pg_constraint WHERE oid = d.objid) \
           WHEN 'pg_rewrite'::regclass THEN (SELECT c.relnamespace FROM pg_catalog.pg_rewrite w \
             JOIN pg_catalog.pg_class c ON c.oid = w.ev_class WHERE w.oid = d.objid) \
           WHEN 'pg_attrdef'::regclass THEN (SELECT c.relnamespace FROM pg_catalog.pg_attrdef w \
             JOIN pg_catalog.pg_class c ON c.oid = w.adrelid WHERE w.oid = d.objid) \
           WHEN 'pg_trigger'::regclass THEN (SELECT c.relnamespace FROM pg_catalog.pg_trigger w \
             JOIN pg_catalog.pg_class c ON c.oid = w.tgrelid WHERE w.oid = d.objid) END AS n) x) \
           NOT IN {within} LIMIT 1"
    ))?;
    if let Some(object) = leaning {
        return Err(Trouble::outside("the state that is kept cannot be given up")
            .at(link.shown.clone())
            .because(format!("something that stays depends on it: {object}"))
            .hint("remove or change that first"));
    }
    super::large_objects::let_go(link, &aside)?;
    for name in aside {
        link.run(format!("DROP SCHEMA IF EXISTS {} CASCADE", quoted(&name)))?;
    }
    Ok(())
}
