//! Rows as the SQL of an archive, in blocks of bounded size.

use crate::archive::ArchiveWriter;
use fernweh_core::archive::Member;
use fernweh_core::limits;
use fernweh_core::record::{COUNTERS, LARGE_OBJECTS, Table, Value};
use fernweh_core::sql::{
    Dialect, MARIADB_ROW_SETTINGS, POSTGRES_SETTINGS, quote_name, write_copy_head, write_copy_row,
    write_insert_head, write_page, write_row,
};
use fernweh_ports::Result;

/// What ends the rows of a `COPY`.
const COPY_END: &[u8] = b"\\.\n";

/// The rows of one table, cut into blocks of `INSERT` or `COPY` statements.
pub(crate) struct Blocks<'a> {
    dialect: Dialect,
    table: &'a Table,
    block: u32,
    raw: Vec<u8>,
    /// Where the open statement begins; 0 if there is none.
    statement: usize,
}

impl<'a> Blocks<'a> {
    /// The blocks of a table, from the first one.
    pub(crate) fn new(dialect: Dialect, table: &'a Table) -> Self {
        Self { dialect, table, block: 1, raw: Vec::new(), statement: 0 }
    }

    /// The blocks of a table behind some that are written already.
    pub(crate) fn behind(dialect: Dialect, table: &'a Table, written: u32) -> Self {
        Self { block: written + 1, ..Self::new(dialect, table) }
    }

    /// How many have been handed over.
    pub(crate) fn written(&self) -> u32 {
        self.block - 1
    }

    /// Bytes that wait to be handed over.
    pub(crate) fn waiting(&self) -> usize {
        self.raw.len()
    }

    /// Adds a row.
    pub(crate) fn add(&mut self, row: &[Value], archive: &mut ArchiveWriter) -> Result<()> {
        if self.dialect == Dialect::Postgres {
            return self.add_line(row, archive);
        }
        if self.statement == 0 {
            if self.raw.is_empty() {
                self.begin();
            }
            self.statement = self.raw.len();
            let columns: Vec<String> = self.table.columns.iter().map(|c| c.name.clone()).collect();
            write_insert_head(self.dialect, &self.table.name, &columns, &mut self.raw);
        } else {
            self.raw.extend_from_slice(b",\n");
        }
        write_row(self.dialect, row, &mut self.raw);
        if self.raw.len() - self.statement >= limits::INSERT_STATEMENT {
            self.raw.extend_from_slice(b";\n");
            self.statement = 0;
            if self.raw.len() >= limits::ROW_BLOCK {
                self.hand_over(archive)?;
            }
        }
        Ok(())
    }

    /// One `COPY` makes a block.
    fn add_line(&mut self, row: &[Value], archive: &mut ArchiveWriter) -> Result<()> {
        let pages = self.table.name == LARGE_OBJECTS;
        if self.raw.is_empty() {
            self.begin();
        }
        if pages {
            write_page(row, &mut self.raw);
            return if self.raw.len() >= limits::ROW_BLOCK {
                self.hand_over(archive)
            } else {
                Ok(())
            };
        }
        if self.statement == 0 {
            self.statement = self.raw.len();
            let columns: Vec<String> = self.table.columns.iter().map(|c| c.name.clone()).collect();
            write_copy_head(&self.table.name, &columns, &mut self.raw);
        }
        write_copy_row(row, &mut self.raw);
        if self.raw.len() >= limits::ROW_BLOCK {
            self.raw.extend_from_slice(COPY_END);
            self.statement = 0;
            self.hand_over(archive)?;
        }
        Ok(())
    }

    fn begin(&mut self) {
        // Room for a whole block at once: a buffer that grows is copied again and again.
        self.raw.reserve(limits::ROW_BLOCK + limits::INSERT_STATEMENT);
        match self.dialect {
            Dialect::Postgres => self.raw.extend_from_slice(POSTGRES_SETTINGS.as_bytes()),
            Dialect::Mariadb => self.raw.extend_from_slice(MARIADB_ROW_SETTINGS.as_bytes()),
            Dialect::Sqlite => {
                self.raw.extend_from_slice(b"PRAGMA foreign_keys = OFF;\n");
                if self.table.name == COUNTERS && self.block == 1 {
                    let name = quote_name(self.dialect, &self.table.name);
                    self.raw.extend_from_slice(format!("DELETE FROM {name};\n").as_bytes());
                }
            }
        }
    }

    fn hand_over(&mut self, archive: &mut ArchiveWriter) -> Result<()> {
        let raw = std::mem::take(&mut self.raw);
        let member = Member::Rows { table: self.table.name.clone(), block: self.block };
        self.block += 1;
        archive.add(member, raw)
    }

    /// Hands over what waits; more rows may follow.
    pub(crate) fn close(&mut self, archive: &mut ArchiveWriter) -> Result<()> {
        if self.raw.is_empty() {
            return Ok(());
        }
        if self.dialect == Dialect::Postgres && self.statement > 0 {
            self.raw.extend_from_slice(COPY_END);
        } else if !self.raw.ends_with(b";\n") {
            self.raw.extend_from_slice(b";\n");
        }
        self.statement = 0;
        self.hand_over(archive)
    }
}
