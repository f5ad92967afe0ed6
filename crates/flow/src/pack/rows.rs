//! The rows of a database, on their way into an archive, across breaks of the connection.

use super::{Blocks, PackOptions, site_rows};
use crate::archive::{ArchiveWriter, Checkpoint, TablePart};
use crate::retry;
use fernweh_core::archive::{DatabaseManifest, Member, Seal};
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::sql::{is_same_structure, write_structure};
use fernweh_ports::{
    DatabaseSource, KeyPosition, Lines, Progress, Result, Structure, Trouble, counted,
};

pub(super) struct PackRows<'a> {
    pub options: &'a PackOptions<'a>,
    pub about: &'a DatabaseManifest,
    pub structure: &'a Structure,
    pub archive: &'a mut ArchiveWriter,
    pub progress: &'a dyn Progress,
    /// The table in which an earlier run was broken off, its records so far, and the place.
    pub part: Option<(String, u64, TablePart)>,
}

/// Rows of which progress is told together.
const TOGETHER: u64 = 1024;

/// How far a table has come.
struct TableProgress<'a> {
    blocks: Blocks<'a>,
    rows: u64,
    /// Where an earlier run was broken off.
    begun_behind: Option<KeyPosition>,
    /// The key of the last row, and where it stands in a row if reading can go on behind it.
    last: Row,
    key: Vec<usize>,
}

impl TableProgress<'_> {
    /// Where reading can go on, if it can.
    fn behind(&self) -> Option<KeyPosition> {
        if self.last.is_empty() { self.begun_behind.clone() } else { whole_numbers(&self.last) }
    }

    /// Keeps the key of the last of some lines.
    fn passed_lines(&mut self, lines: &Lines) {
        self.rows += lines.rows;
        self.begun_behind = lines.last.clone().filter(|_| !self.key.is_empty());
        self.last.clear();
    }

    /// Keeps the key of a row.
    fn passed(&mut self, mut row: Row) {
        self.rows += 1;
        self.begun_behind = None;
        self.last.clear();
        let key = |place: &usize| std::mem::replace(&mut row[*place], Value::Null);
        self.last.extend(self.key.iter().map(key));
    }
}

impl PackRows<'_> {
    pub fn all(&mut self, source: &mut dyn DatabaseSource, seal: &mut Seal) -> Result<()> {
        for table in &self.about.tables {
            if let Some(done) = seal.rows.get(&table.name) {
                self.progress.advance(*done);
                continue;
            }
            let mut rows = 0;
            if !self.about.without_rows.contains(&table.name) {
                rows = self.table(source, table, seal)?;
            }
            seal.rows.insert(table.name.clone(), rows);
            self.mark(table, rows, None, seal)?;
            self.progress.reached("table-packed");
        }
        let after = write_structure(self.about.dialect, &self.structure.afterwards);
        self.archive.add(Member::Afterwards, after)?;
        let read = counted(site_rows(seal), "record", "records");
        self.progress.done(&format!("read {read}"));
        Ok(())
    }

    fn mark(
        &mut self,
        table: &Table,
        rows: u64,
        part: Option<TablePart>,
        seal: &Seal,
    ) -> Result<()> {
        let (table, anew) = (Some(table.name.clone()), seal.breaks.last().cloned());
        self.archive.checkpoint(Checkpoint { table, rows, part, anew, end: 0 })
    }

    /// Reads a table, from its beginning or from where it was left; gives the number of its
    /// records.
    fn table(
        &mut self,
        source: &mut dyn DatabaseSource,
        table: &Table,
        seal: &mut Seal,
    ) -> Result<u64> {
        let mut progress = self.begun(table);
        self.progress.advance(progress.rows);
        let mut losses = 0;
        loop {
            let came_to = progress.rows;
            match self.read(source, table, &mut progress, seal) {
                Err(trouble) if trouble.lost && losses < retry::SAME_PLACE => {
                    self.connect_anew(source, trouble)?;
                    let comes_on = progress.behind().is_some() && progress.rows > came_to;
                    losses = if comes_on { 1 } else { losses + 1 };
                    if progress.behind().is_none() {
                        self.archive.take_back(&table.name)?;
                        progress = self.begun(table);
                    }
                    seal.breaks.push(crate::now());
                }
                read => break read?,
            }
        }
        if let Some(largest) = progress.blocks.largest() {
            seal.large.insert(table.name.clone(), largest);
        }
        progress.blocks.close(self.archive)?;
        Ok(progress.rows)
    }

    /// What an earlier run has left of a table.
    fn begun<'t>(&mut self, table: &'t Table) -> TableProgress<'t> {
        let part = self.part.take_if(|(name, ..)| *name == table.name);
        let (rows, part) = part.map_or((0, None), |(_, rows, part)| (rows, Some(part)));
        let blocks = part.as_ref().map_or(0, |part| part.blocks);
        let blocks = Blocks::behind(self.about.dialect, table, blocks);
        let begun_behind = part.map(|part| part.behind);
        TableProgress { blocks, rows, begun_behind, last: Row::new(), key: Vec::new() }
    }

    fn read(
        &mut self,
        source: &mut dyn DatabaseSource,
        table: &Table,
        progress: &mut TableProgress<'_>,
        seal: &Seal,
    ) -> Result<()> {
        let in_order = source.in_order(table)?;
        progress.key = key_of(table).filter(|_| in_order).unwrap_or_default();
        let behind = progress.behind();
        let as_lines = source.lines(table, behind.as_ref(), &mut |lines| {
            let written = progress.blocks.written();
            progress.blocks.add_lines(&lines.text, self.archive)?;
            progress.passed_lines(&lines);
            self.mark_new_blocks(table, progress, written, seal)?;
            self.advance(progress.rows, lines.rows)
        })?;
        if as_lines {
            return Ok(());
        }
        source.rows(table, behind.as_ref(), &mut |row| {
            let written = progress.blocks.written();
            progress.blocks.add(&row, self.archive)?;
            progress.passed(row);
            self.mark_new_blocks(table, progress, written, seal)?;
            let due = progress.rows.is_multiple_of(TOGETHER);
            if due { self.advance(progress.rows, TOGETHER) } else { Ok(()) }
        })?;
        self.progress.advance(progress.rows % TOGETHER);
        Ok(())
    }

    /// Tells that so many more rows are read, and asks whether to go on.
    fn advance(&self, rows: u64, more: u64) -> Result<()> {
        self.progress.advance(more);
        if rows / TOGETHER > (rows - more) / TOGETHER {
            self.progress.reached("rows-read");
        }
        self.progress.go_on()
    }

    /// Notes how far a table has come whenever blocks of it were handed over.
    fn mark_new_blocks(
        &mut self,
        table: &Table,
        progress: &TableProgress<'_>,
        written: u32,
        seal: &Seal,
    ) -> Result<()> {
        let blocks = progress.blocks.written();
        if blocks == written {
            return Ok(());
        }
        match progress.behind() {
            Some(behind) => {
                self.mark(table, progress.rows, Some(TablePart { blocks, behind }), seal)
            }
            None => Ok(()),
        }
    }

    /// Reads on at another moment; the structure must still be the same.
    fn connect_anew(&self, source: &mut dyn DatabaseSource, lost: Trouble) -> Result<()> {
        let scope = self.options.tables;
        let again = retry::reconnect(lost, self.progress, &mut || {
            source.reopen()?;
            source.begin()?;
            source.structure(scope)
        })?;
        let dialect = self.about.dialect;
        let same = again.tables == self.about.tables
            && is_same_structure(
                dialect,
                &write_structure(dialect, &again.before),
                &write_structure(dialect, &self.structure.before),
            );
        if same {
            return Ok(());
        }
        Err(Trouble::outside("the site's structure changed while it was packed")
            .because("the connection was lost, and the tables are not what they were before")
            .hint("pack the site again"))
    }
}

/// The places of the key's columns in a row.
fn key_of(table: &Table) -> Option<Vec<usize>> {
    let place = |name: &String| table.columns.iter().position(|column| column.name == *name);
    table.key.iter().map(place).collect()
}

/// A key, if it is made of whole numbers.
fn whole_numbers(key: &Row) -> Option<KeyPosition> {
    let whole = |value: &Value| match value {
        Value::Integer(number) => Some(number.to_string()),
        Value::Number(digits) => {
            let digits = std::str::from_utf8(digits).ok()?;
            digits.parse::<i128>().ok().map(|_| digits.to_owned())
        }
        _ => None,
    };
    key.iter().map(whole).collect()
}
