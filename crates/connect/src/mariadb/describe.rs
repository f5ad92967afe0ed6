//! What the server tells about tables, and its statements taken apart.

use super::{Link, text};
use crate::server::{Session, is_aside};
use fernweh_core::record::{Column, Table};
use fernweh_core::rewrite::ColumnText;
use fernweh_ports::Result;

/// A table as the server lists it.
pub(super) struct Listed {
    pub name: String,
    /// `BASE TABLE`, `VIEW`, `SEQUENCE` or `SYSTEM VERSIONED`.
    pub kind: String,
    pub engine: String,
    pub bytes: u64,
    /// Its records, as the server estimates them.
    pub rows: u64,
}

impl Listed {
    /// Whether it holds rows of the site.
    pub fn is_table(&self) -> bool {
        self.kind == "BASE TABLE" && !self.is_merge() || self.is_versioned()
    }

    /// Whether it shows the rows of other tables (storage engine MERGE) and has none of its own.
    pub fn is_merge(&self) -> bool {
        self.engine.eq_ignore_ascii_case("MRG_MyISAM")
    }

    /// Whether the server keeps the former states of its rows.
    pub fn is_versioned(&self) -> bool {
        self.kind == "SYSTEM VERSIONED"
    }
}

/// What makes a question about a table see the former states of its rows too.
pub(super) fn with_history(link: &mut Link, table: &str) -> Result<&'static str> {
    let kind = link.one(&format!(
        "SELECT table_type FROM information_schema.tables WHERE table_schema = database() \
         AND table_name = {}",
        text(table)
    ))?;
    Ok(if kind.as_deref() == Some("SYSTEM VERSIONED") { " FOR SYSTEM_TIME ALL" } else { "" })
}

/// The columns that say from when until when a row was valid, in a versioned table.
fn period_columns(link: &mut Link, table: &str) -> Result<Vec<String>> {
    let named = link.ask(&format!(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = database() \
         AND table_name = {} AND generation_expression IN ('ROW START', 'ROW END') \
         AND data_type = 'timestamp' ORDER BY generation_expression DESC",
        text(table)
    ))?;
    let named: Vec<String> = named.into_iter().filter_map(|row| row.into_iter().next()?).collect();
    match named.is_empty() {
        true => Ok(vec!["row_start".into(), "row_end".into()]),
        false => Ok(named),
    }
}

/// A versioned table with the columns of its period, as it is packed.
pub(super) fn describe_with_history(link: &mut Link, name: &str) -> Result<Described> {
    let mut described = describe(link, name)?;
    if !with_history(link, name)?.is_empty() {
        for column in period_columns(link, name)? {
            described.table.columns.push(Column { name: column, text: None });
            described.travel.push(Travel::Text);
        }
    }
    Ok(described)
}

pub(super) fn list(link: &mut Link) -> Result<Vec<Listed>> {
    let rows = link.ask(
        "SELECT table_name, table_type, ifnull(engine, ''), \
         ifnull(data_length, 0) + ifnull(index_length, 0), ifnull(table_rows, 0) \
         FROM information_schema.tables WHERE table_schema = database() ORDER BY table_name",
    )?;
    let mut found = Vec::new();
    for row in rows {
        let mut cells = row.into_iter().map(Option::unwrap_or_default);
        let mut next = || cells.next().unwrap_or_default();
        let (name, kind, engine) = (next(), next(), next());
        let mut size = |what| link.parsed(&format!("{what} of {name}"), Some(&next()));
        let (bytes, rows) = (size("bytes")?, size("rows")?);
        if !is_aside(&name) {
            found.push(Listed { name, kind, engine, bytes, rows });
        }
    }
    Ok(found)
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
    /// As text of a type of its own (MySQL), which takes no bytes.
    Json,
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
        if is_generated(&extra, &cell(4)) {
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
            Travel::Json => Some(ColumnText::Utf8),
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

/// Whether a column is computed from others. MySQL says `DEFAULT_GENERATED` of one that only has a
/// default: its values are the site's own.
fn is_generated(extra: &str, expression: &str) -> bool {
    let extra = extra.to_ascii_lowercase();
    !expression.is_empty()
        || extra.contains("virtual generated")
        || extra.contains("stored generated")
        || extra.contains("persistent generated")
}

fn travel_of(kind: &str) -> Travel {
    match kind {
        "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "double" | "year" => {
            Travel::Number
        }
        "float" => Travel::Float,
        "json" => Travel::Json,
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_column_with_a_default_is_no_generated_one() {
        for own in [
            "",
            "auto_increment",
            "DEFAULT_GENERATED",
            "DEFAULT_GENERATED on update CURRENT_TIMESTAMP",
            "on update current_timestamp()",
            "DEFAULT_GENERATED INVISIBLE",
        ] {
            assert!(!is_generated(own, ""), "{own}");
        }
        assert!(is_generated("VIRTUAL GENERATED", "") && is_generated("STORED GENERATED", ""));
        assert!(is_generated("", "lower(`a`)"));
    }
}
