//! Rows as the SQL of an archive, in blocks of bounded size.

use crate::archive::{ArchiveWriter, Fill};
use fernweh_core::archive::{LargeRecord, Member};
use fernweh_core::limits;
use fernweh_core::record::{COUNTERS, LARGE_OBJECTS, Row, Table, Value, weight_of};
use fernweh_core::sql::{
    Dialect, MARIADB_ROW_SETTINGS, POSTGRES_SETTINGS, copy_row_in_pieces, quote_name,
    row_in_pieces, write_copy_head, write_copy_row, write_insert_head, write_page, write_row,
};
use fernweh_ports::{Result, Trouble, size};
use std::slice::from_ref;

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
    /// The largest row, if it is a very large one.
    largest: Option<LargeRecord>,
}

impl<'a> Blocks<'a> {
    /// The blocks of a table, from the first one.
    pub(crate) fn new(dialect: Dialect, table: &'a Table) -> Self {
        Self { dialect, table, block: 1, raw: Vec::new(), statement: 0, largest: None }
    }

    /// The blocks of a table behind some that are written already.
    pub(crate) fn behind(dialect: Dialect, table: &'a Table, written: u32) -> Self {
        Self { block: written + 1, ..Self::new(dialect, table) }
    }

    /// How many have been handed over.
    pub(crate) fn written(&self) -> u32 {
        self.block - 1
    }

    /// The largest row, if it is a very large one.
    pub(crate) fn largest(&mut self) -> Option<LargeRecord> {
        self.largest.take()
    }

    /// Bytes that wait to be handed over.
    pub(crate) fn waiting(&self) -> usize {
        self.raw.len()
    }

    /// Adds a row.
    pub(crate) fn add(&mut self, row: &Row, archive: &mut ArchiveWriter) -> Result<()> {
        let weight = weight_of(from_ref(row));
        if weight > limits::RECORD {
            return Err(self.too_large(weight, self.table.record_name(row)));
        }
        if weight > limits::NAMED_ROW
            && self.largest.as_ref().is_none_or(|largest| weight as u64 > largest.bytes)
        {
            let record = self.table.record_name(row);
            self.largest = Some(LargeRecord { record, bytes: weight as u64 });
        }
        if weight > limits::LARGE_ROW {
            return self.add_large(row, archive);
        }
        if self.dialect == Dialect::Postgres {
            return self.add_line(row, archive);
        }
        if self.statement == 0 {
            self.open_statement();
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

    /// Adds rows that are lines already.
    pub(crate) fn add_lines(&mut self, lines: &[u8], archive: &mut ArchiveWriter) -> Result<()> {
        if lines.len() >= limits::LARGEST_STATEMENT {
            return Err(self.too_large(lines.len(), "one of its records".into()));
        }
        if lines.len() > limits::LARGE_ROW {
            return self.add_pieces(archive, &mut |emit| {
                lines.chunks(1 << 20).try_for_each(&mut *emit)?;
                emit(COPY_END)
            });
        }
        if self.statement == 0 {
            self.open_statement();
        }
        self.raw.extend_from_slice(lines);
        self.close_if_full(archive)
    }

    /// What could be packed and never unpacked is not packed.
    fn too_large(&self, bytes: usize, record: String) -> Trouble {
        Trouble::outside("a record is too large for an archive")
            .at(format!("table {}, {record}", self.table.name))
            .because(format!(
                "it has {}; at most {} can be packed and unpacked again",
                size(bytes as u64),
                size(limits::RECORD as u64)
            ))
            .hint(format!(
                "take its content out of the database, or pack with --without-rows {}",
                self.table.name
            ))
    }

    /// A very large row is a block of its own, which is never held whole.
    fn add_large(&mut self, row: &Row, archive: &mut ArchiveWriter) -> Result<()> {
        let dialect = self.dialect;
        self.add_pieces(archive, &mut |emit| match dialect {
            Dialect::Postgres => {
                copy_row_in_pieces(row, emit)?;
                emit(COPY_END)
            }
            _ => {
                row_in_pieces(dialect, row, emit)?;
                emit(b";\n")
            }
        })
    }

    /// A block of its own for what `fill` gives.
    fn add_pieces(&mut self, archive: &mut ArchiveWriter, fill: Fill<'_>) -> Result<()> {
        self.close(archive)?;
        self.open_statement();
        let head = std::mem::take(&mut self.raw);
        self.statement = 0;
        let member = self.next_member();
        archive.add_in_pieces(&member, &mut |emit| {
            emit(&head)?;
            fill(emit)
        })
    }

    /// The settings of a block, if it begins, and the head of a statement.
    fn open_statement(&mut self) {
        if self.raw.is_empty() {
            self.begin();
        }
        self.statement = self.raw.len();
        let columns: Vec<String> = self.table.columns.iter().map(|c| c.name.clone()).collect();
        match self.dialect {
            Dialect::Postgres => write_copy_head(&self.table.name, &columns, &mut self.raw),
            _ => write_insert_head(self.dialect, &self.table.name, &columns, &mut self.raw),
        }
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
            self.open_statement();
        }
        write_copy_row(row, &mut self.raw);
        self.close_if_full(archive)
    }

    /// Ends a `COPY` that is as long as a block should be.
    fn close_if_full(&mut self, archive: &mut ArchiveWriter) -> Result<()> {
        if self.raw.len() < limits::ROW_BLOCK {
            return Ok(());
        }
        self.raw.extend_from_slice(COPY_END);
        self.statement = 0;
        self.hand_over(archive)
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
        archive.add(self.next_member(), raw)
    }

    fn next_member(&mut self) -> Member {
        self.block += 1;
        Member::Rows { table: self.table.name.clone(), block: self.block - 1 }
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
