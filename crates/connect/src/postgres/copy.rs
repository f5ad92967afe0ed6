//! Reading rows by `COPY … TO STDOUT` (PostgreSQL, "COPY").

use super::{Link, quoted};
use crate::server::Session;
use fernweh_core::record::{Row, Table};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::{Qualified, read_copy_row};
use fernweh_ports::{Result, Trouble};
use futures_util::{StreamExt, pin_mut};

/// Begins to read at one moment.
pub(super) const BEGIN: &str = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";

/// Reads all rows of a table itself, without those of its heirs.
pub(super) fn stream(
    link: &mut Link,
    table: &Table,
    sink: &mut dyn FnMut(Row) -> Result<()>,
) -> Result<()> {
    let kinds: Vec<_> = table.columns.iter().map(|column| column.text).collect();
    copy_out(link, &table.name, &copy_of(table), &kinds, sink)
}

/// The statement that reads a whole table.
pub(super) fn copy_of(table: &Table) -> String {
    let names: Vec<String> = table.columns.iter().map(|column| quoted(&column.name)).collect();
    let place = Qualified::parse(&table.name).sql();
    // A table can be without columns of its own.
    let names = if names.is_empty() { String::new() } else { format!(" ({})", names.join(", ")) };
    format!("COPY {place}{names} TO STDOUT")
}

/// The rows that a `COPY` gives.
pub(super) fn copy_out(
    link: &mut Link,
    table: &str,
    query: &str,
    kinds: &[Option<ColumnText>],
    sink: &mut dyn FnMut(Row) -> Result<()>,
) -> Result<()> {
    copy_lines(link, query, &mut |line| sink(row_of(line, table, kinds)?))
}

/// The row of such a line.
pub(super) fn row_of(line: &[u8], table: &str, kinds: &[Option<ColumnText>]) -> Result<Row> {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    let unreadable = || Trouble::damaged("the server sent a row that cannot be read").at(table);
    read_copy_row(line, kinds).map_err(|_| unreadable())
}

/// The lines that a `COPY` gives, each with its line break.
pub(super) fn copy_lines(
    link: &mut Link,
    query: &str,
    sink: &mut dyn FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let Link { runtime, client, .. } = link;
    let outcome: std::result::Result<Result<()>, tokio_postgres::Error> = runtime.block_on(async {
        let lines = client.copy_out(query).await?;
        pin_mut!(lines);
        while let Some(line) = lines.next().await {
            if let Err(stop) = sink(&line?) {
                return Ok(Err(stop));
            }
        }
        Ok(Ok(()))
    });
    outcome.map_err(|error| link.trouble("cannot read a table", &error))?
}
