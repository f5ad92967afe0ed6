//! What hangs on tables: keys, triggers, views, routines and events, those that an archive brings
//! and those that are there.

use super::build::MariadbTarget;
use super::describe::list;
use super::objects::{Objects, create_table, events, routines, triggers, views};
use super::{Link, quoted, switch};
use crate::server::Session;
use fernweh_core::sql::{ObjectKind, Statement, renamed, with_modes};
use fernweh_ports::{NamedSql, Result, SwapObjects, Trouble};
use std::collections::BTreeMap;

impl MariadbTarget {
    /// What hangs on the tables that are there now, and on others that refer to them.
    pub(super) fn present_objects(
        &mut self,
        replaced: &[String],
        new: &SwapObjects,
    ) -> Result<SwapObjects> {
        let mut objects = SwapObjects::default();
        for listed in list(&mut self.link)? {
            if !listed.is_table() {
                continue;
            }
            let is_replaced = replaced.contains(&listed.name);
            let keys = create_table(&mut self.link, &listed.name)?.foreign_keys;
            let refers = |key: &NamedSql| {
                replaced
                    .iter()
                    .any(|name| key.sql.contains(&format!("REFERENCES {} ", quoted(name))))
            };
            objects.foreign_keys.extend(keys.into_iter().filter(|key| is_replaced || refers(key)));
        }
        let hangs = |trigger: &NamedSql| replaced.contains(&trigger.table);
        objects.triggers = triggers(&mut self.link)?.found.into_iter().filter(hangs).collect();
        let again = |found: Vec<NamedSql>, new: &[NamedSql]| {
            let comes = |old: &NamedSql| new.iter().any(|one| one.name == old.name);
            found.into_iter().filter(comes).collect()
        };
        let (views, routines) = (views(&mut self.link)?, routines(&mut self.link)?);
        let events = events(&mut self.link)?;
        for (found, new) in
            [(&views, &new.views), (&routines, &new.routines), (&events, &new.events)]
        {
            self.refuse_hidden(found, new)?;
        }
        objects.views = again(views.found, &new.views);
        objects.routines = again(routines.found, &new.routines);
        objects.events = again(events.found, &new.events);
        Ok(objects)
    }

    /// What would be dropped could not come back where its statement cannot be read.
    fn refuse_hidden(&self, there: &Objects, new: &[NamedSql]) -> Result<()> {
        let hidden = there
            .hidden
            .iter()
            .find(|hidden| new.iter().any(|one| hidden.ends_with(&format!(" {}", one.name))));
        match hidden {
            None => Ok(()),
            Some(hidden) => Err(Trouble::outside(format!("{hidden} cannot be replaced"))
                .at(self.link.shown.clone())
                .because("the login may not read how it was made, so undo could not bring it back")
                .hint(format!(
                    "let its owner drop it, or leave it out of the archive: {hidden} belongs to \
                     somebody else"
                ))),
        }
    }

    /// A foreign key of another database follows a table that is put aside, and cannot be given
    /// to the new one from here.
    pub(super) fn refuse_far_keys(&mut self, replaced: &[String]) -> Result<()> {
        let found = self.link.ask(
            "SELECT concat(constraint_name, ' of ', constraint_schema, '.', table_name), \
             referenced_table_name FROM information_schema.referential_constraints \
             WHERE unique_constraint_schema = database() AND constraint_schema <> database()",
        )?;
        let mut far = found.into_iter().filter_map(|row| {
            let mut cells = row.into_iter().flatten();
            let (key, table) = (cells.next()?, cells.next()?);
            replaced.contains(&table).then_some((key, table))
        });
        match far.next() {
            None => Ok(()),
            Some((key, table)) => {
                Err(Trouble::outside(format!("table {table} cannot be replaced"))
                    .at(self.link.shown.clone())
                    .because(format!(
                        "foreign key {key}, in another database, refers to it and would go on \
                         referring to the old state"
                    ))
                    .hint("drop that key first, and add it again afterwards"))
            }
        }
    }

    /// What the statements of an archive hang on its tables; sequences are set at once.
    pub(super) fn objects_of(&mut self, afterwards: &[Statement]) -> Result<SwapObjects> {
        let mut new = SwapObjects::default();
        let mut modes: BTreeMap<&str, String> = BTreeMap::new();
        for (mode, statement) in with_modes(afterwards) {
            let sql = self.with_collations(mode, statement.sql().unwrap_or_default());
            if let Statement::Mode { name, .. } = statement {
                modes.insert(name, sql);
                continue;
            }
            let add = |list: &mut Vec<NamedSql>, name: &str, table: &str| {
                let modes = modes.values().cloned().collect();
                let (name, table, sql) = (name.to_owned(), table.to_owned(), sql.clone());
                list.push(NamedSql { name, table, sql, modes });
            };
            match statement {
                Statement::ForeignKey { table, name, .. } => {
                    add(&mut new.foreign_keys, name, table);
                }
                Statement::Trigger { name, table, .. } => add(&mut new.triggers, name, table),
                Statement::View { name, .. } => add(&mut new.views, name, name),
                Statement::Object {
                    kind: ObjectKind::Property, name, table: Some(table), ..
                } => {
                    add(&mut new.defaults, name, table);
                }
                Statement::Object { kind: ObjectKind::Routine, name, .. } => {
                    add(&mut new.routines, name, routine_kind(&sql));
                }
                Statement::Object { kind: ObjectKind::Event, name, .. } => {
                    add(&mut new.events, name, name);
                }
                Statement::Object { kind: ObjectKind::Sequence, name, .. } => {
                    self.sequence(name, &sql)?
                }
                _ => {}
            }
        }
        Ok(new)
    }

    /// Without the routines that the server refuses: each is made under another name, and
    /// taken away again.
    pub(super) fn possible(&mut self, mut new: SwapObjects) -> Result<SwapObjects> {
        let trial = format!("_fw{}_trial", self.run);
        let mut kept = Vec::new();
        for routine in new.routines {
            // A body needs its package, which is not there yet.
            let renamed = renamed(&routine.sql, &trial).filter(|_| routine.table != "PACKAGE BODY");
            let Some(sql) = renamed else {
                kept.push(routine);
                continue;
            };
            let tried = NamedSql { sql, ..routine.clone() };
            match switch::in_modes(&mut self.link, &tried) {
                Ok(()) => {
                    switch::drop_routine(&mut self.link, &routine.table, &trial)?;
                    kept.push(routine);
                }
                Err(error) => self.not_created.push(format!(
                    "{} {}: {}",
                    routine.table.to_lowercase(),
                    routine.name,
                    Link::message(&error)
                )),
            }
        }
        new.routines = kept;
        Ok(new)
    }
}

/// Columns (quoted), the other table, and its columns (quoted) of a foreign key.
pub(super) fn key_parts(sql: &str) -> Option<(Vec<String>, String, Vec<String>)> {
    let (_, rest) = sql.split_once(" FOREIGN KEY (")?;
    let (columns, rest) = rest.split_once(") REFERENCES ")?;
    let (parent, rest) = rest.split_once(" (")?;
    let (others, _) = rest.split_once(')')?;
    let list = |text: &str| text.split(", ").map(str::to_owned).collect();
    Some((list(columns), parent.trim_matches('`').replace("``", "`"), list(others)))
}

fn routine_kind(sql: &str) -> &'static str {
    let words: Vec<String> =
        sql.split_whitespace().take(12).map(|word| word.to_ascii_uppercase()).collect();
    let first = words.iter().find_map(|word| {
        ["PROCEDURE", "FUNCTION", "PACKAGE"].into_iter().find(|kind| word == kind)
    });
    match first {
        Some("PACKAGE") if words.iter().any(|word| word == "BODY") => "PACKAGE BODY",
        Some(kind) => kind,
        None => "PROCEDURE",
    }
}
