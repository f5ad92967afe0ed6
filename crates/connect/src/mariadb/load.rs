//! Bulk loading. MariaDB takes many records with one prepared statement
//! (`COM_STMT_BULK_EXECUTE`), which spares it reading SQL. Other servers, and records too large
//! for a packet, need `LOAD DATA LOCAL`, which truncates values and skips records with mere
//! warnings. So after every portion the warnings must be none and the count exact, or the
//! portion is taken back and inserted by statements, which name what is wrong.

use super::intake::Intake;
use super::{Link, quoted};
use crate::server::Session;
use bytes::Bytes;
use fernweh_core::record::{Row, Value, weight_of};
use fernweh_core::sql::write_load_row;
use fernweh_ports::Result;
use futures_util::{StreamExt, stream};
use mysql_async::prelude::Queryable;
use mysql_async::{Error, Params};

/// Portions in one transaction.
const TOGETHER: u32 = 24;

/// Bytes of a packet of lines; no server takes less.
const PIECE: usize = 256 << 10;

/// Whether and how a connection loads in bulk.
#[derive(Default)]
pub(super) struct Loader {
    /// Why it does not, if it was refused.
    pub refused: Option<String>,
    /// The table that takes rows at the moment.
    table: Option<String>,
    portions: u32,
    /// Bytes of a portion that a prepared statement takes; 0 if it takes none.
    prepared: Option<usize>,
}

impl Loader {
    /// Loads a portion into the built table `name`; `false` if it must be inserted instead.
    pub fn load(
        &mut self,
        link: &mut Link,
        name: &str,
        columns: &[String],
        intake: &Intake,
        rows: &[Row],
    ) -> Result<bool> {
        if self.table.as_deref() != Some(name) {
            self.end(link)?;
            self.table = Some(name.to_owned());
            // What cannot be taken back may not stand in a transaction everywhere (GTID, 1785).
            if intake.takes_back {
                link.run("START TRANSACTION")?;
            }
        }
        if !intake.in_bulk || self.refused.is_some() {
            return Ok(false);
        }
        let prepared = match self.prepared {
            Some(prepared) => prepared,
            None => *self.prepared.insert(takes_prepared(link)?),
        };
        link.run("SAVEPOINT loaded")?;
        let sent = match weight_of(rows) <= prepared {
            true => execute(link, name, columns, &intake.charsets, rows),
            false => load(link, name, columns, &intake.charsets, rows),
        };
        let whole = match sent {
            Ok(()) => {
                let count = link.conn.affected_rows() == rows.len() as u64;
                count && link.conn.get_warnings() == 0
            }
            Err(Error::Server(error)) => {
                if [1148, 3948, 4166, 1045, 1227, 2068].contains(&error.code) {
                    self.refused = Some(Link::message(&Error::Server(error)));
                }
                false
            }
            Err(error) => return Err(link.trouble("the database rejected records", &error)),
        };
        if !whole {
            link.run("ROLLBACK TO SAVEPOINT loaded")?;
        }
        self.portions += 1;
        if self.portions >= TOGETHER {
            link.run("COMMIT")?;
            link.run("START TRANSACTION")?;
            self.portions = 0;
        }
        Ok(whole)
    }

    /// Forgets what a lost connection was at.
    pub fn begin_anew(&mut self) {
        self.table = None;
        self.portions = 0;
    }

    /// Ends the table that takes rows at the moment.
    pub fn end(&mut self, link: &mut Link) -> Result<()> {
        if self.table.take().is_some() {
            self.portions = 0;
            link.run("COMMIT")?;
        }
        Ok(())
    }
}

type Sent = std::result::Result<(), Error>;

fn names(columns: &[String]) -> String {
    columns.iter().map(|name| quoted(name)).collect::<Vec<_>>().join(",")
}

/// A value as it comes: bytes, or a text in the characters in which it was packed.
fn coming(mark: &str, charset: Option<&String>) -> String {
    match charset {
        Some(charset) => format!("CONVERT({mark} USING {charset})"),
        None => mark.to_owned(),
    }
}

/// All rows as parameters of one prepared statement.
pub(super) fn execute(
    link: &mut Link,
    name: &str,
    columns: &[String],
    charsets: &[Option<String>],
    rows: &[Row],
) -> Sent {
    let marks: Vec<String> = charsets.iter().map(|one| coming("?", one.as_ref())).collect();
    let (table, marks) = (quoted(name), marks.join(","));
    let sql = format!("INSERT INTO {table} ({}) VALUES ({marks})", names(columns));
    let rows = rows.iter().map(|row| Params::Positional(row.iter().map(parameter).collect()));
    link.runtime.block_on(link.conn.exec_batch(sql, rows))
}

pub(super) fn parameter(value: &Value) -> mysql_async::Value {
    match value {
        Value::Null => mysql_async::Value::NULL,
        Value::Integer(number) => mysql_async::Value::Int(*number),
        Value::Real(number) => mysql_async::Value::Double(*number),
        Value::Number(bytes) | Value::Text(bytes) | Value::Bytes(bytes) => {
            mysql_async::Value::Bytes(bytes.clone())
        }
    }
}

fn load(
    link: &mut Link,
    name: &str,
    columns: &[String],
    charsets: &[Option<String>],
    rows: &[Row],
) -> Sent {
    let mut lines = Vec::new();
    rows.iter().for_each(|row| write_load_row(row, &mut lines));
    let (mut into, mut set) = (Vec::new(), Vec::new());
    for (place, (column, charset)) in columns.iter().zip(charsets).enumerate() {
        let column = quoted(column);
        match charset {
            None => into.push(column),
            Some(_) => {
                let value = format!("@c{place}");
                set.push(format!("{column} = {}", coming(&value, charset.as_ref())));
                into.push(value);
            }
        }
    }
    let set = if set.is_empty() { String::new() } else { format!(" SET {}", set.join(",")) };
    let sql = format!(
        "LOAD DATA LOCAL INFILE 'rows' INTO TABLE {} CHARACTER SET binary ({}){set}",
        quoted(name),
        into.join(",")
    );
    // Each piece is a packet of its own, and the server hangs up on one that it finds too large.
    let mut lines = Bytes::from(lines);
    let mut pieces = Vec::new();
    while !lines.is_empty() {
        pieces.push(Ok(lines.split_to(lines.len().min(PIECE))));
    }
    link.conn.set_infile_handler(async { Ok(stream::iter(pieces).boxed()) });
    link.try_run(&sql)
}

/// Bytes of a portion that the server takes with one prepared statement; 0 if it is not MariaDB.
fn takes_prepared(link: &mut Link) -> Result<usize> {
    if !link.server.is_mariadb() {
        return Ok(0);
    }
    let packet: usize = link.number("SELECT @@max_allowed_packet")?;
    // Weights are larger than what is sent; half a packet is room enough.
    Ok(packet / 2)
}
