//! Tables change names in one statement; what hangs on them follows.
//!
//! Foreign keys and triggers follow a renamed table, so they sit on the tables put
//! aside afterwards, and their names are unique in a database: they are taken off there
//! first and given to the tables in place then. Views go by name and see the new tables
//! at once. Each step looks first whether it is done already, so that a switch that was
//! broken off can be completed, or taken back.

use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_core::sql::{Dialect, Modes, Statement, disabled_event, renamed_default};
use fernweh_ports::{Direction, NamedSql, Progress, Result, SwapObjects, TablesSwap};

/// Seconds that a switch waits behind open readers before it lets them pass.
const LOCK_WAIT: u32 = 2;
/// How often it tries before it names who is in the way.
const TRIES: u32 = 5;

/// Who else is at work in the database.
const OTHERS: &str = "SELECT concat('connection ', id, ' of ', user, ', ', command, ' since ', \
     time, ' s') FROM information_schema.processlist \
     WHERE db = database() AND id <> connection_id()";

/// Makes the switch; gives the objects that the server refuses, and why.
pub(super) fn switch(
    link: &mut Link,
    swap: &TablesSwap,
    direction: Direction,
    progress: &dyn Progress,
) -> Result<Vec<String>> {
    link.run("SET NAMES utf8mb4")?;
    link.run(format!("SET SESSION lock_wait_timeout = {LOCK_WAIT}"))?;
    let (leaving, arriving) = match direction {
        Direction::Forward => (&swap.old, &swap.new),
        Direction::Back => (&swap.new, &swap.old),
    };
    if is_forward(link, swap)? != (direction == Direction::Forward) {
        rename(link, swap, direction)?;
    }
    progress.reached("tables-renamed");
    take_off(link, swap, leaving, direction)?;
    progress.reached("objects-taken-off");
    let refused = hang_on(link, leaving, arriving)?;
    for one in &refused {
        progress.note(&format!("not created: {one}\n"));
    }
    Ok(refused)
}

/// Whether the new tables are in place.
fn is_forward(link: &mut Link, swap: &TablesSwap) -> Result<bool> {
    match swap.tables.iter().find(|table| !table.gone).or(swap.tables.first()) {
        Some(table) if table.gone => Ok(!exists(link, &table.name)?),
        Some(table) => Ok(!exists(link, &table.aside_new)?),
        None => Ok(true),
    }
}

pub(super) fn exists(link: &mut Link, table: &str) -> Result<bool> {
    let found = link.one(&format!(
        "SELECT count(*) FROM information_schema.tables \
         WHERE table_schema = database() AND table_name = {}",
        text(table)
    ))?;
    Ok(found.as_deref() != Some("0"))
}

fn rename(link: &mut Link, swap: &TablesSwap, direction: Direction) -> Result<()> {
    let mut steps = Vec::new();
    let mut step = |from: &str, to: &str| steps.push(format!("{} TO {}", quoted(from), quoted(to)));
    for table in &swap.tables {
        match direction {
            Direction::Forward => {
                if let Some(old) = &table.aside_old {
                    step(&table.name, old);
                }
                if !table.gone {
                    step(&table.aside_new, &table.name);
                }
            }
            Direction::Back => {
                if !table.gone {
                    step(&table.name, &table.aside_new);
                }
                if let Some(old) = &table.aside_old {
                    step(old, &table.name);
                }
            }
        }
    }
    let sql = format!("RENAME TABLE {}", steps.join(", "));
    for attempt in 1.. {
        match link.try_run(&sql) {
            Ok(()) => break,
            Err(mysql_async::Error::Server(error)) if error.code == 1205 && attempt < TRIES => {}
            Err(error) => return Err(link.blocked(OTHERS, &error)),
        }
    }
    Ok(())
}

/// Takes keys and triggers off the tables that were put aside.
fn take_off(
    link: &mut Link,
    swap: &TablesSwap,
    leaving: &SwapObjects,
    direction: Direction,
) -> Result<()> {
    let aside_of = |name: &str| {
        let table = swap.tables.iter().find(|table| table.name == name)?;
        match direction {
            Direction::Forward => table.aside_old.clone(),
            Direction::Back => Some(table.aside_new.clone()),
        }
    };
    let renamed = leaving.defaults.iter().map(|default| NamedSql {
        sql: renamed_default(&default.sql, &mut |name| {
            name.table.or(name.sequence).and_then(aside_of)
        }),
        ..default.clone()
    });
    set_defaults(link, &renamed.collect::<Vec<_>>())?;
    for key in &leaving.foreign_keys {
        // A key of a table that stays is taken off too: it points at the table put aside.
        let table = aside_of(&key.table).unwrap_or_else(|| key.table.clone());
        // A name that the server has given follows its table: `gp_log_ibfk_1`.
        let followed = key.name.strip_prefix(&key.table).map(|end| format!("{table}{end}"));
        for name in [Some(key.name.clone()), followed].into_iter().flatten() {
            if has_key(link, &table, &name)? {
                link.run(format!(
                    "ALTER TABLE {} DROP FOREIGN KEY {}",
                    quoted(&table),
                    quoted(&name)
                ))?;
                break;
            }
        }
    }
    for trigger in &leaving.triggers {
        let Some(aside) = aside_of(&trigger.table) else { continue };
        if table_of_trigger(link, &trigger.name)?.as_deref() == Some(aside.as_str()) {
            link.run(format!("DROP TRIGGER {}", quoted(&trigger.name)))?;
        }
    }
    Ok(())
}

/// Gives keys, triggers and views to the tables that are in place now; gives the objects that
/// the server refuses, and why.
fn hang_on(link: &mut Link, leaving: &SwapObjects, arriving: &SwapObjects) -> Result<Vec<String>> {
    link.run("SET SESSION foreign_key_checks = 0")?;
    set_defaults(link, &arriving.defaults)?;
    for key in &arriving.foreign_keys {
        if !has_key(link, &key.table, &key.name)? {
            link.run(&key.sql)?;
        }
    }
    for trigger in &arriving.triggers {
        if table_of_trigger(link, &trigger.name)?.is_none() {
            in_modes(link, trigger)
                .map_err(|error| link.trouble("the database refuses a trigger", &error))?;
        }
    }
    let mut refused = Vec::new();
    routines(link, leaving, arriving, &mut refused)?;
    views(link, leaving, arriving, &mut refused)?;
    events(link, leaving, arriving, &mut refused)?;
    Ok(refused)
}

/// Sets defaults that need sequences: all of a table at once, since nothing can be done to a table
/// while one of its defaults asks a sequence that is not there.
fn set_defaults(link: &mut Link, defaults: &[NamedSql]) -> Result<()> {
    for of_table in defaults.chunk_by(|one, next| one.table == next.table) {
        let more = of_table[1..].iter().filter_map(|one| {
            let column = one.sql.find(" ALTER COLUMN ")?;
            Some(one.sql[column..].to_owned())
        });
        let mut steps = vec![of_table[0].sql.clone()];
        steps.extend(more);
        link.run(steps.join(","))?;
    }
    Ok(())
}

/// Whether an object that leaves comes again, and need not be dropped first.
fn comes_again(one: &NamedSql, among: &[NamedSql]) -> bool {
    among.iter().any(|other| other.name == one.name && other.table == one.table)
}

fn routines(
    link: &mut Link,
    leaving: &SwapObjects,
    arriving: &SwapObjects,
    refused: &mut Vec<String>,
) -> Result<()> {
    for one in leaving.routines.iter().filter(|one| !comes_again(one, &arriving.routines)) {
        drop_routine(link, &one.table, &one.name)?;
    }
    for one in &arriving.routines {
        drop_routine(link, &one.table, &one.name)?;
        if let Err(error) = in_modes(link, one) {
            let kind = one.table.to_lowercase();
            refused.push(format!("{kind} {}: {}", one.name, Link::message(&error)));
        }
    }
    Ok(())
}

/// Views stand in an order in which each has what it needs; where that cannot be told from
/// their statements, those that fail are tried again after the others.
fn views(
    link: &mut Link,
    leaving: &SwapObjects,
    arriving: &SwapObjects,
    refused: &mut Vec<String>,
) -> Result<()> {
    for view in leaving.views.iter().filter(|view| !comes_again(view, &arriving.views)) {
        link.run(format!("DROP VIEW IF EXISTS {}", quoted(&view.name)))?;
    }
    let mut left: Vec<&NamedSql> = arriving.views.iter().collect();
    loop {
        let (before, mut failed, mut because) = (left.len(), Vec::new(), Vec::new());
        for view in left {
            let body = view.sql.strip_prefix("CREATE ").unwrap_or(&view.sql);
            let replacing = NamedSql { sql: format!("CREATE OR REPLACE {body}"), ..view.clone() };
            if let Err(error) = in_modes(link, &replacing) {
                because.push(format!("view {}: {}", view.name, Link::message(&error)));
                failed.push(view);
            }
        }
        if failed.is_empty() || failed.len() == before {
            refused.extend(because);
            return Ok(());
        }
        left = failed;
    }
}

/// No event runs before everything is in place.
fn events(
    link: &mut Link,
    leaving: &SwapObjects,
    arriving: &SwapObjects,
    refused: &mut Vec<String>,
) -> Result<()> {
    for event in leaving.events.iter().filter(|event| !comes_again(event, &arriving.events)) {
        link.run(format!("DROP EVENT IF EXISTS {}", quoted(&event.name)))?;
    }
    let mut sleeping = Vec::new();
    for event in &arriving.events {
        link.run(format!("DROP EVENT IF EXISTS {}", quoted(&event.name)))?;
        let (sql, wakes) = disabled_event(&event.sql, modes_of(event));
        match in_modes(link, &NamedSql { sql, ..event.clone() }) {
            Ok(()) if wakes => sleeping.push(&event.name),
            Ok(()) => {}
            Err(error) => {
                refused.push(format!("event {}: {}", event.name, Link::message(&error)));
            }
        }
    }
    for event in sleeping {
        link.run(format!("ALTER EVENT {} ENABLE", quoted(event)))?;
    }
    Ok(())
}

/// The modes in which the statement of an object is written.
fn modes_of(object: &NamedSql) -> Modes {
    let mode = object.modes.iter().find_map(|sql| {
        match Statement::parse(Dialect::Mariadb, Modes::default(), sql.as_bytes()) {
            Ok(mode) => mode.sets_modes(),
            Err(_) => None,
        }
    });
    mode.unwrap_or_default()
}

/// Drops a routine if it is there; packages are known in one mode of the server only.
pub(super) fn drop_routine(link: &mut Link, kind: &str, name: &str) -> Result<()> {
    let drop = format!("DROP {kind} IF EXISTS {}", quoted(name));
    if !kind.starts_with("PACKAGE") {
        return link.run(drop);
    }
    link.run("SET SESSION sql_mode = 'ORACLE'")?;
    let dropped = link.run(drop);
    link.run(super::SESSION).and(dropped)
}

/// Creates an object with the settings of the session under which it was made, as far as the
/// server knows them. The session's own come back, whatever fails.
pub(super) fn in_modes(
    link: &mut Link,
    object: &NamedSql,
) -> std::result::Result<(), mysql_async::Error> {
    if object.modes.is_empty() {
        return link.try_run(&object.sql);
    }
    let set = object.modes.iter().try_for_each(|mode| {
        let mode = link.known(mode);
        link.try_run(mode)
    });
    let created = set.and_then(|()| link.try_run(&object.sql));
    let back = link.try_run("SET NAMES utf8mb4").and_then(|()| link.try_run(super::SESSION));
    created.and(back)
}

fn has_key(link: &mut Link, table: &str, key: &str) -> Result<bool> {
    let found = link.one(&format!(
        "SELECT count(*) FROM information_schema.table_constraints \
         WHERE constraint_schema = database() AND constraint_type = 'FOREIGN KEY' \
         AND table_name = {} AND constraint_name = {}",
        text(table),
        text(key)
    ))?;
    Ok(found.as_deref() != Some("0"))
}

fn table_of_trigger(link: &mut Link, trigger: &str) -> Result<Option<String>> {
    link.one(&format!(
        "SELECT event_object_table FROM information_schema.triggers \
         WHERE trigger_schema = database() AND trigger_name = {}",
        text(trigger)
    ))
}
