//! The server's statements for tables, views, routines and the like, taken apart.

use super::{Link, quoted, text};
use crate::server::Session;
use fernweh_core::sql::{with_collations, without_database, without_definer};
use fernweh_ports::{NamedSql, Result};
use std::collections::BTreeMap;

/// Objects of a kind, and those whose statements the user may not see.
#[derive(Default)]
pub(super) struct Objects {
    pub found: Vec<NamedSql>,
    pub hidden: Vec<String>,
}

/// A table's statement without what needs other tables.
pub(super) struct TableSql {
    pub sql: String,
    pub foreign_keys: Vec<NamedSql>,
    /// Defaults that need a sequence.
    pub defaults: Vec<NamedSql>,
}

/// A column of the answer to `SHOW CREATE`.
fn shown(link: &mut Link, what: &str, column: usize) -> Result<Option<String>> {
    let row = link.ask(&format!("SHOW CREATE {what}"))?;
    Ok(row.into_iter().next().and_then(|row| row.into_iter().nth(column)).flatten())
}

/// The statement that creates a table, parted from its foreign keys.
pub(super) fn create_table(link: &mut Link, name: &str) -> Result<TableSql> {
    let sql = shown(link, &format!("TABLE {}", quoted(name)), 1)?.unwrap_or_default();
    let sql = with_all_collations(link, name, sql)?;
    let database = link.one("SELECT database()")?.unwrap_or_default();
    Ok(part_table(name, &sql, &database))
}

/// Some servers leave out a collation that is the usual one of its character set; on the next
/// server another one is.
fn with_all_collations(link: &mut Link, table: &str, sql: String) -> Result<String> {
    if with_collations(&sql, "", &|_| Some(String::new())) == sql {
        return Ok(sql);
    }
    let of_table = format!("table_schema = database() AND table_name = {}", text(table));
    let whole = link
        .one(&format!("SELECT table_collation FROM information_schema.tables WHERE {of_table}"))?;
    let columns = link.ask(&format!(
        "SELECT column_name, collation_name FROM information_schema.columns WHERE {of_table}"
    ))?;
    let columns: BTreeMap<String, String> = columns
        .into_iter()
        .filter_map(|row| {
            let mut cells = row.into_iter();
            Some((cells.next()??, cells.next()??))
        })
        .collect();
    Ok(with_collations(&sql, &whole.unwrap_or_default(), &|name| columns.get(name).cloned()))
}

/// Each definition stands on a line of its own; line breaks inside texts are escaped.
fn part_table(table: &str, sql: &str, database: &str) -> TableSql {
    let mut kept: Vec<String> = Vec::new();
    let (mut foreign_keys, mut defaults) = (Vec::new(), Vec::new());
    for line in sql.lines() {
        let definition = line.trim().trim_end_matches(',');
        let name = definition
            .strip_prefix("CONSTRAINT `")
            .and_then(|rest| rest.split_once("` FOREIGN KEY "))
            .map(|(name, _)| name.replace("``", "`"));
        if let Some(name) = name {
            let sql = format!("ALTER TABLE {} ADD {definition}", quoted(table));
            foreign_keys.push(NamedSql { sql, table: table.to_owned(), name, modes: Vec::new() });
            continue;
        }
        match sequence_default(line) {
            Some((column, range)) => {
                let value = without_database(&line[range.clone()], database);
                defaults.push(NamedSql {
                    sql: format!(
                        "ALTER TABLE {} ALTER COLUMN {column} SET {}",
                        quoted(table),
                        value.trim()
                    ),
                    table: table.to_owned(),
                    name: column.trim_matches('`').replace("``", "`"),
                    modes: Vec::new(),
                });
                kept.push(format!("{}{}", &line[..range.start], &line[range.end..]));
            }
            None => kept.push(line.to_owned()),
        }
    }
    // The line before the closing bracket has lost its successor.
    if let Some(close) = kept.iter().position(|line| line.starts_with(')'))
        && close > 1
    {
        kept[close - 1] = kept[close - 1].trim_end_matches(',').to_owned();
    }
    TableSql { sql: kept.join("\n"), foreign_keys, defaults }
}

/// The column (as quoted) of a line whose default takes a number from a sequence, and
/// where ` DEFAULT …` stands in it.
fn sequence_default(line: &str) -> Option<(&str, std::ops::Range<usize>)> {
    let column = line.trim_start().starts_with('`').then_some(line.trim_start())?;
    let start = line.find(" DEFAULT ")?;
    let value = &line[start + " DEFAULT ".len()..];
    let open = value.find('(')?;
    let before = value[..open].trim();
    if !(before.is_empty() || ["nextval", "lastval", "setval"].contains(&before)) {
        return None;
    }
    let (mut depth, mut quote, mut end) = (0, None, None);
    for (at, byte) in value.bytes().enumerate().skip(open) {
        match (quote, byte) {
            (Some(open), _) if byte == open => quote = None,
            (Some(_), _) => {}
            (None, b'`' | b'\'') => quote = Some(byte),
            (None, b'(') => depth += 1,
            (None, b')') => {
                depth -= 1;
                if depth == 0 {
                    end = Some(at + 1);
                    break;
                }
            }
            _ => {}
        }
    }
    let end = end?;
    let uses = ["nextval(", "lastval(", "setval("].iter().any(|call| value[..end].contains(call));
    let name_end = column[1..].find("` ")? + 2;
    uses.then(|| (&column[..name_end], start..start + " DEFAULT ".len() + end))
}

/// The views of the database, without their definers.
pub(super) fn views(link: &mut Link) -> Result<Objects> {
    let names = link.ask(
        "SELECT table_name FROM information_schema.views WHERE table_schema = database() \
         ORDER BY table_name",
    )?;
    let database = link.one("SELECT database()")?.unwrap_or_default();
    let mut objects = Objects::default();
    for name in names.into_iter().filter_map(|row| row.into_iter().next()?) {
        // A view whose tables are gone, or one that the user may not look into.
        let shown = link.ask(&format!("SHOW CREATE VIEW {}", quoted(&name))).unwrap_or_default();
        let mut cells = shown.into_iter().next().unwrap_or_default().into_iter().skip(1);
        let (Some(sql), collation) = (cells.next().flatten(), cells.nth(1).flatten()) else {
            objects.hidden.push(format!("view {name}"));
            continue;
        };
        let sql = without_database(&without_definer(&sql), &database);
        let collation = collation.map(|name| format!("SET {COLLATION} = {}", text(&name)));
        let modes = [format!("SET sql_mode = {}", text(super::MODE))].into_iter().chain(collation);
        objects.found.push(NamedSql { table: name.clone(), name, sql, modes: modes.collect() });
    }
    objects.found = in_order(objects.found);
    Ok(objects)
}

/// Views that others are built on come first.
fn in_order(mut views: Vec<NamedSql>) -> Vec<NamedSql> {
    let mut ordered: Vec<NamedSql> = Vec::new();
    while !views.is_empty() {
        let names: Vec<String> = views.iter().map(|view| quoted(&view.name)).collect();
        let free = views.iter().position(|view| {
            let body = view.sql.split_once(" AS ").map_or("", |(_, body)| body);
            !names.iter().any(|name| *name != quoted(&view.name) && body.contains(name))
        });
        ordered.push(views.remove(free.unwrap_or(0)));
    }
    ordered
}

/// The collation of texts without one of their own. Statements are sent as UTF-8 whatever the
/// client used that made an object; its texts are converted to the characters of this.
const COLLATION: &str = "collation_connection";

/// An object's statement without its definer, and the settings of the session under which
/// it was made; nothing if the user may not see it. The answer to `SHOW CREATE` holds a name,
/// the value of each of `variables`, the statement, a character set and a collation.
fn made_under(
    link: &mut Link,
    what: &str,
    variables: &[&str],
) -> Result<Option<(String, Vec<String>)>> {
    let row = link.ask(&format!("SHOW CREATE {what}"))?.into_iter().next().unwrap_or_default();
    let cells = row.into_iter().skip(1).take(variables.len() + 3).collect::<Option<Vec<String>>>();
    Ok(cells.filter(|cells| cells.len() == variables.len() + 3).map(|cells| {
        let set = |(name, value): (&str, &String)| format!("SET {name} = {}", text(value));
        let values = variables.iter().copied().zip(&cells);
        let modes = values.chain([(COLLATION, &cells[variables.len() + 2])]).map(set).collect();
        (without_definer(&cells[variables.len()]), modes)
    }))
}

/// The triggers of the database, without their definers.
pub(super) fn triggers(link: &mut Link) -> Result<Objects> {
    let names = link.ask(
        "SELECT trigger_name, event_object_table FROM information_schema.triggers \
         WHERE trigger_schema = database() ORDER BY event_object_table, action_timing, \
         event_manipulation, action_order",
    )?;
    let mut objects = Objects::default();
    for row in names {
        let mut cells = row.into_iter().map(Option::unwrap_or_default);
        let (name, table) = (cells.next().unwrap_or_default(), cells.next().unwrap_or_default());
        let made = made_under(link, &format!("TRIGGER {}", quoted(&name)), &["sql_mode"])?;
        let Some((sql, modes)) = made else {
            objects.hidden.push(format!("trigger {name}"));
            continue;
        };
        objects.found.push(NamedSql { name, table, sql, modes });
    }
    Ok(objects)
}

/// Procedures, functions and packages; `table` says which.
pub(super) fn routines(link: &mut Link) -> Result<Objects> {
    let names = link.ask(
        "SELECT routine_name, routine_type FROM information_schema.routines \
         WHERE routine_schema = database() ORDER BY routine_type = 'PACKAGE BODY', routine_name",
    )?;
    let mut objects = Objects::default();
    for row in names {
        let mut cells = row.into_iter().map(Option::unwrap_or_default);
        let (name, kind) = (cells.next().unwrap_or_default(), cells.next().unwrap_or_default());
        let made = made_under(link, &format!("{kind} {}", quoted(&name)), &["sql_mode"])?;
        let Some((sql, modes)) = made else {
            objects.hidden.push(format!("{} {name}", kind.to_lowercase()));
            continue;
        };
        objects.found.push(NamedSql { name, table: kind, sql, modes });
    }
    Ok(objects)
}

/// The events of the database, with the time zones in which their times are meant.
pub(super) fn events(link: &mut Link) -> Result<Objects> {
    let names = link.ask(
        "SELECT event_name FROM information_schema.events WHERE event_schema = database() \
         ORDER BY event_name",
    )?;
    let mut objects = Objects::default();
    for name in names.into_iter().filter_map(|row| row.into_iter().next()?) {
        let variables = ["sql_mode", "time_zone"];
        let made = made_under(link, &format!("EVENT {}", quoted(&name)), &variables)?;
        let Some((sql, modes)) = made else {
            objects.hidden.push(format!("event {name}"));
            continue;
        };
        objects.found.push(NamedSql { table: name.clone(), name, sql, modes });
    }
    Ok(objects)
}

/// A sequence: how it is made, and where it stands.
pub(super) fn sequence(link: &mut Link, name: &str) -> Result<(String, String)> {
    let sql = shown(link, &format!("SEQUENCE {}", quoted(name)), 1)?.unwrap_or_default();
    let at =
        link.ask(&format!("SELECT next_not_cached_value, cycle_count FROM {}", quoted(name)))?;
    let mut cells =
        at.into_iter().next().unwrap_or_default().into_iter().map(Option::unwrap_or_default);
    let (next, round) = (cells.next().unwrap_or_default(), cells.next().unwrap_or_default());
    Ok((sql, format!("DO setval({}, {next}, 0, {round})", quoted(name))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn foreign_keys_are_parted_from_the_table() {
        let sql = "CREATE TABLE `a` (\n  `id` int(11) NOT NULL,\n  KEY `k` (`id`),\n  \
             CONSTRAINT `f` FOREIGN KEY (`id`) REFERENCES `b` (`id`) ON DELETE CASCADE\n) ENGINE=InnoDB";
        let TableSql { sql: table, foreign_keys: keys, .. } = part_table("a", sql, "d");
        assert_eq!(
            table,
            "CREATE TABLE `a` (\n  `id` int(11) NOT NULL,\n  KEY `k` (`id`)\n) ENGINE=InnoDB"
        );
        assert_eq!(keys.len(), 1);
        assert_eq!(
            keys[0].sql,
            "ALTER TABLE `a` ADD CONSTRAINT `f` FOREIGN KEY (`id`) REFERENCES `b` (`id`) ON \
             DELETE CASCADE"
        );
    }

    #[test]
    fn defaults_that_need_a_sequence_are_parted() {
        let sql = "CREATE TABLE `d` (\n  `a` int(11) DEFAULT nextval(`zoo`.`s (1`),\n  \
            `b` int(11) NOT NULL DEFAULT (nextval(`zoo`.`s`) * 2) COMMENT 'DEFAULT nextval(',\n  \
            `c` text DEFAULT 'nextval(`x`)'\n) ENGINE=InnoDB";
        let parted = part_table("d", sql, "zoo");
        assert_eq!(
            parted.sql,
            "CREATE TABLE `d` (\n  `a` int(11),\n  `b` int(11) NOT NULL COMMENT 'DEFAULT \
             nextval(',\n  \
             `c` text DEFAULT 'nextval(`x`)'\n) ENGINE=InnoDB"
        );
        let found: Vec<&str> = parted.defaults.iter().map(|one| one.sql.as_str()).collect();
        assert_eq!(
            found,
            [
                "ALTER TABLE `d` ALTER COLUMN `a` SET DEFAULT nextval(`s (1`)",
                "ALTER TABLE `d` ALTER COLUMN `b` SET DEFAULT (nextval(`s`) * 2)",
            ]
        );
    }

    #[test]
    fn views_on_views_come_after_them() {
        let view = |name: &str, on: &str| NamedSql {
            name: name.into(),
            table: name.into(),
            sql: format!("CREATE VIEW `{name}` AS select * from `{on}`"),
            modes: Vec::new(),
        };
        let ordered = in_order(vec![view("a", "b"), view("b", "c"), view("c", "t")]);
        let names: Vec<_> = ordered.iter().map(|view| view.name.as_str()).collect();
        assert_eq!(names, ["c", "b", "a"]);
    }
}
