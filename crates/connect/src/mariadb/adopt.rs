//! What a destination says of a switch that another folder has made.
//!
//! The note lies in the database, where the site's own programs can write. Its statements give
//! keys, triggers and other objects back to tables that are kept: each must be one statement of
//! just this kind, for the object that the note names, and is made anew from what was parsed.

use fernweh_core::sql::{Dialect, Modes, ObjectKind, Statement};
use fernweh_ports::{NamedSql, Result, SwapObjects, Trouble, foreign};

/// The objects with statements that are what their names say; others are refused.
pub(super) fn parsed(objects: &SwapObjects) -> Result<SwapObjects> {
    let is = |made: &Statement, wanted: ObjectKind, one: &NamedSql| {
        matches!(made, Statement::Object { kind, name, .. }
            if *kind == wanted && *name == one.name)
    };
    Ok(SwapObjects {
        foreign_keys: each(&objects.foreign_keys, "foreign key", |one, made| {
            matches!(made, Statement::ForeignKey { table, name, .. }
                if *table == one.table && *name == one.name)
        })?,
        triggers: each(&objects.triggers, "trigger", |one, made| {
            matches!(made, Statement::Trigger { name, table, .. }
                if *table == one.table && *name == one.name)
        })?,
        views: each(
            &objects.views,
            "view",
            |one, made| matches!(made, Statement::View { name, .. } if *name == one.name),
        )?,
        routines: each(&objects.routines, "routine", |one, made| {
            ROUTINES.contains(&one.table.as_str()) && is(made, ObjectKind::Routine, one)
        })?,
        events: each(&objects.events, "event", |one, made| is(made, ObjectKind::Event, one))?,
        defaults: each(&objects.defaults, "default of column", |one, made| {
            matches!(made, Statement::Object { kind: ObjectKind::Property, name, table, .. }
                if table.as_ref() == Some(&one.table) && *name == one.name)
        })?,
    })
}

/// The kinds of routines, as the server names them.
const ROUTINES: [&str; 4] = ["FUNCTION", "PROCEDURE", "PACKAGE", "PACKAGE BODY"];

fn each(
    objects: &[NamedSql],
    what: &str,
    fits: impl Fn(&NamedSql, &Statement) -> bool,
) -> Result<Vec<NamedSql>> {
    let checked = |one: &NamedSql| {
        let (mut modes, mut settings) = (Modes::default(), Vec::new());
        for setting in &one.modes {
            let set = Statement::parse(Dialect::Mariadb, Modes::default(), setting.as_bytes());
            let Ok(set @ Statement::Mode { .. }) = set else { return Err(unlike(what, one)) };
            modes = set.sets_modes().unwrap_or(modes);
            settings.extend(set.sql().map(str::to_owned));
        }
        let made = Statement::parse(Dialect::Mariadb, modes, one.sql.as_bytes());
        let made = made.ok().filter(|made| fits(one, made));
        let sql = made.as_ref().and_then(Statement::sql).ok_or_else(|| unlike(what, one))?;
        Ok(NamedSql { sql: sql.to_owned(), modes: settings, ..one.clone() })
    };
    objects.iter().map(checked).collect()
}

fn unlike(what: &str, one: &NamedSql) -> Trouble {
    foreign(&format!("{what} {}", one.name))
}
