//! What the server tells about tables, and its statements taken apart.

use super::{Link, is_aside, quoted, text};
use fernweh_core::record::{Column, Table};
use fernweh_core::rewrite::ColumnText;
use fernweh_ports::{NamedSql, Result};

/// A table as the server lists it.
pub(super) struct Listed {
    pub name: String,
    /// `BASE TABLE`, `VIEW`, `SEQUENCE` or `SYSTEM VERSIONED`.
    pub kind: String,
    pub engine: String,
    pub bytes: u64,
}

pub(super) fn list(link: &mut Link) -> Result<Vec<Listed>> {
    let rows = link.ask(
        "SELECT table_name, table_type, ifnull(engine, ''), \
         ifnull(data_length, 0) + ifnull(index_length, 0) \
         FROM information_schema.tables WHERE table_schema = database() ORDER BY table_name",
    )?;
    let listed = rows.into_iter().map(|row| {
        let mut cells = row.into_iter().map(Option::unwrap_or_default);
        let mut next = || cells.next().unwrap_or_default();
        let (name, kind, engine) = (next(), next(), next());
        Listed { name, kind, engine, bytes: next().parse().unwrap_or(0) }
    });
    Ok(listed.filter(|table| !is_aside(&table.name)).collect())
}

/// How the values of a column travel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Travel {
    /// As digits.
    Number,
    /// As digits, through a wider type that keeps all of them.
    Float,
    /// As text in the column's character set.
    Text,
    /// As so many bytes, for types whose texts look like bytes to a session of bytes.
    Raw(u8),
    /// As bytes.
    Bytes,
}

/// A column as reading and writing need it.
pub(super) struct Described {
    pub table: Table,
    pub travel: Vec<Travel>,
    /// Columns that the server sets by itself when a row is updated.
    pub automatic: Vec<String>,
}

pub(super) fn describe(link: &mut Link, name: &str) -> Result<Described> {
    let rows = link.ask(&format!(
        "SELECT column_name, data_type, ifnull(character_set_name, ''), ifnull(extra, ''), \
         ifnull(generation_expression, '') FROM information_schema.columns \
         WHERE table_schema = database() AND table_name = {} ORDER BY ordinal_position",
        text(name)
    ))?;
    let mut described = Described {
        table: Table { name: name.to_owned(), columns: Vec::new(), key: Vec::new() },
        travel: Vec::new(),
        automatic: Vec::new(),
    };
    for row in rows {
        let cell = |n: usize| row.get(n).cloned().flatten().unwrap_or_default();
        let (column, kind, charset) = (cell(0), cell(1).to_lowercase(), cell(2));
        let extra = cell(3).to_lowercase();
        if !cell(4).is_empty() || extra.contains("generated") {
            continue;
        }
        if extra.contains("on update") {
            described.automatic.push(column.clone());
        }
        let travel = travel_of(&kind);
        let rewritable = !matches!(kind.as_str(), "enum" | "set");
        let text = match travel {
            Travel::Bytes if kind.contains("blob") || kind.contains("binary") => {
                Some(ColumnText::Binary)
            }
            Travel::Text if !charset.is_empty() && rewritable => Some(text_of(&charset)),
            _ => None,
        };
        described.table.columns.push(Column { name: column, text });
        described.travel.push(travel);
    }
    let key = link.ask(&format!(
        "SELECT column_name FROM information_schema.statistics WHERE table_schema = database() \
         AND table_name = {} AND index_name = 'PRIMARY' ORDER BY seq_in_index",
        text(name)
    ))?;
    described.table.key = key.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    Ok(described)
}

fn travel_of(kind: &str) -> Travel {
    match kind {
        "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "double" | "year" => {
            Travel::Number
        }
        "float" => Travel::Float,
        "inet6" | "uuid" => Travel::Raw(16),
        "inet4" => Travel::Raw(4),
        "bit" | "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob"
        | "geometry" | "point" | "linestring" | "polygon" | "multipoint" | "multilinestring"
        | "multipolygon" | "geometrycollection" => Travel::Bytes,
        _ => Travel::Text,
    }
}

fn text_of(charset: &str) -> ColumnText {
    match charset {
        "utf8" | "utf8mb3" | "utf8mb4" | "ascii" => ColumnText::Utf8,
        "latin1" => ColumnText::Latin1,
        _ => ColumnText::Other,
    }
}

/// The statement that creates a table, parted from its foreign keys.
pub(super) fn create_table(link: &mut Link, name: &str) -> Result<(String, Vec<NamedSql>)> {
    let row = link.ask(&format!("SHOW CREATE TABLE {}", quoted(name)))?;
    let sql = row.into_iter().next().and_then(|row| row.into_iter().nth(1)).flatten();
    Ok(part_foreign_keys(name, &sql.unwrap_or_default()))
}

/// Each definition stands on a line of its own; line breaks inside texts are escaped.
fn part_foreign_keys(table: &str, sql: &str) -> (String, Vec<NamedSql>) {
    let mut kept: Vec<&str> = Vec::new();
    let mut keys = Vec::new();
    for line in sql.lines() {
        let definition = line.trim().trim_end_matches(',');
        let name = definition
            .strip_prefix("CONSTRAINT `")
            .and_then(|rest| rest.split_once("` FOREIGN KEY "))
            .map(|(name, _)| name.replace("``", "`"));
        match name {
            Some(name) => keys.push(NamedSql {
                sql: format!("ALTER TABLE {} ADD {definition}", quoted(table)),
                table: table.to_owned(),
                name,
            }),
            None => kept.push(line),
        }
    }
    // The line before the closing bracket has lost its successor.
    if let Some(close) = kept.iter().position(|line| line.starts_with(')'))
        && close > 1
    {
        kept[close - 1] = kept[close - 1].trim_end_matches(',');
    }
    (kept.join("\n"), keys)
}

/// The views of the database, without their definers.
pub(super) fn views(link: &mut Link) -> Result<Vec<NamedSql>> {
    let names = link.ask(
        "SELECT table_name FROM information_schema.views WHERE table_schema = database() \
         ORDER BY table_name",
    )?;
    let database = link.one("SELECT database()")?.unwrap_or_default();
    let mut found = Vec::new();
    for name in names.into_iter().filter_map(|row| row.into_iter().next()?) {
        let row = link.ask(&format!("SHOW CREATE VIEW {}", quoted(&name)))?;
        let sql = row.into_iter().next().and_then(|row| row.into_iter().nth(1)).flatten();
        let sql = without_definer(&sql.unwrap_or_default())
            .replace(&format!("{}.", quoted(&database)), "");
        found.push(NamedSql { table: name.clone(), name, sql });
    }
    Ok(in_order(found))
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

/// The triggers of the database, without their definers.
pub(super) fn triggers(link: &mut Link) -> Result<Vec<NamedSql>> {
    let names = link.ask(
        "SELECT trigger_name, event_object_table FROM information_schema.triggers \
         WHERE trigger_schema = database() ORDER BY event_object_table, action_order",
    )?;
    let mut found = Vec::new();
    for row in names {
        let mut cells = row.into_iter().map(Option::unwrap_or_default);
        let (name, table) = (cells.next().unwrap_or_default(), cells.next().unwrap_or_default());
        let row = link.ask(&format!("SHOW CREATE TRIGGER {}", quoted(&name)))?;
        let sql = row.into_iter().next().and_then(|row| row.into_iter().nth(2)).flatten();
        found.push(NamedSql { name, table, sql: without_definer(&sql.unwrap_or_default()) });
    }
    Ok(found)
}

/// Drops ``DEFINER=`user`@`host` ``: on the target the current user takes this place.
fn without_definer(sql: &str) -> String {
    let Some(start) = sql.find("DEFINER=`") else { return sql.to_owned() };
    let mut at = start + "DEFINER=".len();
    let bytes = sql.as_bytes();
    for _ in 0..2 {
        at += 1;
        while at < bytes.len() && bytes[at] != b'`' {
            at += 1;
        }
        at += 1;
        if bytes.get(at) == Some(&b'@') {
            at += 1;
        }
    }
    format!("{}{}", &sql[..start], sql.get(at..).unwrap_or_default().trim_start())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn foreign_keys_are_parted_from_the_table() {
        let sql = "CREATE TABLE `a` (\n  `id` int(11) NOT NULL,\n  KEY `k` (`id`),\n  \
             CONSTRAINT `f` FOREIGN KEY (`id`) REFERENCES `b` (`id`) ON DELETE CASCADE\n) ENGINE=InnoDB";
        let (table, keys) = part_foreign_keys("a", sql);
        assert_eq!(
            table,
            "CREATE TABLE `a` (\n  `id` int(11) NOT NULL,\n  KEY `k` (`id`)\n) ENGINE=InnoDB"
        );
        assert_eq!(keys.len(), 1);
        assert_eq!(
            keys[0].sql,
            "ALTER TABLE `a` ADD CONSTRAINT `f` FOREIGN KEY (`id`) REFERENCES `b` (`id`) ON DELETE CASCADE"
        );
    }

    #[test]
    fn definers_are_dropped_and_the_rest_stays() {
        let sql = "CREATE ALGORITHM=UNDEFINED DEFINER=`kee per`@`%` SQL SECURITY DEFINER VIEW `v` AS select 1";
        assert_eq!(
            without_definer(sql),
            "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1"
        );
    }

    #[test]
    fn views_on_views_come_after_them() {
        let view = |name: &str, on: &str| NamedSql {
            name: name.into(),
            table: name.into(),
            sql: format!("CREATE VIEW `{name}` AS select * from `{on}`"),
        };
        let ordered = in_order(vec![view("a", "b"), view("b", "c"), view("c", "t")]);
        let names: Vec<_> = ordered.iter().map(|view| view.name.as_str()).collect();
        assert_eq!(names, ["c", "b", "a"]);
    }
}
