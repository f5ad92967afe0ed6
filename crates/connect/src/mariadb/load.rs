//! Bulk loading. `LOAD DATA LOCAL` is fast, but truncates values and skips records with
//! mere warnings; so after every portion the warnings must be none and the count exact,
//! or the portion is taken back and inserted by statements, which name what is wrong.

use super::{Link, message, quoted};
use bytes::Bytes;
use fernweh_core::record::Row;
use fernweh_core::sql::write_load_row;
use fernweh_ports::Result;
use futures_util::{StreamExt, stream};
use mysql_async::Error;

/// Portions in one transaction.
const TOGETHER: u32 = 24;

/// Whether and how a connection loads in bulk.
#[derive(Default)]
pub(super) struct Loader {
    /// Why it does not, if it was refused.
    pub refused: Option<String>,
    /// The table that takes rows at the moment, and whether it can take a portion back.
    table: Option<(String, bool)>,
    portions: u32,
}

impl Loader {
    /// Loads a portion into the built table `name`; `false` if it must be inserted instead.
    pub fn load(
        &mut self,
        link: &mut Link,
        name: &str,
        columns: &[String],
        rows: &[Row],
    ) -> Result<bool> {
        if self.table.as_ref().is_none_or(|(table, _)| table != name) {
            self.end(link)?;
            self.table = Some((name.to_owned(), takes_back(link, name)?));
            link.run("START TRANSACTION")?;
        }
        let takes_back = self.table.as_ref().is_some_and(|(_, takes_back)| *takes_back);
        if !takes_back || self.refused.is_some() {
            return Ok(false);
        }
        let mut lines = Vec::new();
        rows.iter().for_each(|row| write_load_row(row, &mut lines));
        link.run("SAVEPOINT loaded")?;
        let whole = match self.send(link, name, columns, lines) {
            Ok(()) => {
                let count = link.conn.affected_rows() == rows.len() as u64;
                count && link.conn.get_warnings() == 0
            }
            Err(Error::Server(error)) => {
                if [1148, 3948, 4166, 1045, 1227, 2068].contains(&error.code) {
                    self.refused = Some(message(&Error::Server(error)));
                }
                false
            }
            Err(error) => return Err(link.trouble("the database does not take records", &error)),
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

    fn send(
        &self,
        link: &mut Link,
        name: &str,
        columns: &[String],
        lines: Vec<u8>,
    ) -> std::result::Result<(), Error> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let sql = format!(
            "LOAD DATA LOCAL INFILE 'rows' INTO TABLE {} CHARACTER SET binary ({})",
            quoted(name),
            names.join(",")
        );
        let lines = Bytes::from(lines);
        link.conn.set_infile_handler(async { Ok(stream::iter([Ok(lines)]).boxed()) });
        link.try_run(sql)
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

/// Only InnoDB takes a portion back; a versioned table is filled by statements.
fn takes_back(link: &mut Link, name: &str) -> Result<bool> {
    let found = link.one(&format!(
        "SELECT engine FROM information_schema.tables WHERE table_schema = database() \
         AND table_name = {} AND table_type = 'BASE TABLE'",
        super::text(name)
    ))?;
    Ok(found.as_deref() == Some("InnoDB"))
}
