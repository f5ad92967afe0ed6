//! The rows of an archive into tables that are built, rewritten on their way.
//!
//! One thread reads a table, one rewrites what it has read, one writes that. Where the destination
//! lends a second connection, all three are there twice, and whole tables go one way or the other:
//! the order of a table's rows says where to go on after a break.

use super::rejects::Rejects;
use super::rows::tables_of;
use super::writer::{Destination, Writer};
use super::{Part, UnpackOptions, UnpackReport};
use crate::archive::ArchiveReader;
use crate::report::{RewriteReport, TableReport};
use crate::stream;
use fernweh_core::archive::DatabaseManifest;
use fernweh_core::limits;
use fernweh_core::record::{Table, is_of_engine, weight_of};
use fernweh_core::rewrite::Rewriter;
use fernweh_core::sql::{Dialect, Insert};
use fernweh_ports::{Inlet, Progress, Result, RowBatch, Trouble, Unit, counted, pipe};
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Reads every row, and writes it if there is a target.
pub(super) fn read_rows(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    into: Option<(Destination<'_>, &mut Rejects)>,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<()> {
    progress.stage("database", archive.expected().rows, Unit::Records);
    let wanted = about.tables.iter().filter(|table| options.tables.holds(&table.name));
    let filling = Filling {
        archive,
        dialect: about.dialect,
        part: &options.part,
        rewriter: options.rewriter,
        progress,
        left: Mutex::new(Left { tables: wanted.collect(), trouble: None }),
    };
    match into {
        None => filling.read(report, &mut |_, _| Ok(())),
        Some((into, rejects)) => {
            let Destination { target, structure, dialect, policy, there } = into;
            let mut helper = match worth_two(options, archive, about)? {
                true => target.helper()?,
                false => None,
            };
            let beside = helper.as_mut().map(|helper| {
                let (target, there) = (&mut **helper as _, there.clone());
                Destination { target, structure, dialect, policy, there }
            });
            let into = Destination { target: &mut *target, structure, dialect, policy, there };
            match beside {
                None => filling.write(into, rejects, report),
                Some(beside) => filling.write_twice(into, beside, rejects, report),
            }
        }
    }
    filling.ended()?;
    let (tables, records) = (report.tables, report.records);
    progress.done(&format!(
        "{}, {}",
        counted(tables, "table", "tables"),
        counted(records, "record", "records")
    ));
    Ok(())
}

/// Records that the second largest table must have for two connections to be worth it.
const SECOND: u64 = 10_000;

/// Whether two connections help: nobody uses the database, there are two tables that take their
/// time, and no record that fills the memory by itself.
fn worth_two(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
) -> Result<bool> {
    let in_use = options.there.iter().any(|(_, rows)| *rows > 0) && !options.makes_room;
    if in_use || archive.is_growing() {
        return Ok(false);
    }
    let seal = archive.seal()?;
    let rows = |(name, _): (String, String)| seal.rows.get(&name).copied().unwrap_or(0);
    let large = tables_of(options, about).into_iter().map(rows).filter(|rows| *rows >= SECOND);
    Ok(large.count() > 1 && seal.large.is_empty())
}

/// The tables that nobody has begun yet, and what went wrong first.
struct Left<'a> {
    tables: VecDeque<&'a Table>,
    trouble: Option<Trouble>,
}

/// Tables that are being filled.
struct Filling<'a> {
    archive: &'a ArchiveReader,
    dialect: Dialect,
    part: &'a Part,
    rewriter: &'a Rewriter,
    progress: &'a dyn Progress,
    left: Mutex<Left<'a>>,
}

impl<'a> Filling<'a> {
    fn left(&self) -> MutexGuard<'_, Left<'a>> {
        self.left.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes what went wrong; whoever fills another table stops. What comes later only follows.
    fn fail(&self, trouble: Trouble) {
        let mut left = self.left();
        left.tables.clear();
        left.trouble.get_or_insert(trouble);
    }

    /// What went wrong first, once all is over.
    fn ended(&self) -> Result<()> {
        self.left().trouble.take().map_or(Ok(()), Err)
    }

    /// Fills tables over two connections.
    fn write_twice(
        &self,
        into: Destination<'_>,
        beside: Destination<'_>,
        rejects: &mut Rejects,
        report: &mut UnpackReport,
    ) {
        let mut other_rejects = rejects.beside();
        let rewriting = RewriteReport::of(self.rewriter);
        let mut other = UnpackReport { rewriting, ..UnpackReport::default() };
        std::thread::scope(|scope| {
            let other = scope.spawn(|| self.write(beside, &mut other_rejects, &mut other));
            self.write(into, rejects, report);
            if other.join().is_err() {
                self.fail(stopped());
            }
        });
        report.tables += other.tables;
        report.records += other.records;
        report.prefixed += other.prefixed;
        for (column, tally) in other.rewriting.columns {
            report.rewriting.columns.entry(column).or_default().merge(&tally);
        }
        rejects.absorb(other_rejects);
    }

    /// Fills tables over one connection, on a thread of its own: the next rows are read and
    /// rewritten while the server takes the last ones.
    fn write(&self, into: Destination<'_>, rejects: &mut Rejects, report: &mut UnpackReport) {
        let Destination { target, structure, dialect, policy, there } = into;
        let into = Destination { target: &mut *target, structure, dialect, policy, there };
        let progress = self.progress;
        std::thread::scope(|scope| {
            let (send, incoming) = pipe::<(&Table, RowBatch)>();
            let writer = scope.spawn(move || {
                let mut writer = Writer::new(into, rejects, progress);
                for (table, rows) in incoming {
                    writer.write(table, rows)?;
                }
                writer.secure()
            });
            let read = self.rewrite(report, &mut |table, rows| {
                let weight = weight_of(&rows.rows);
                taken(send.send((table, rows), weight))
            });
            drop(send);
            // What stopped the writer says more than that it stopped.
            let written = writer.join().unwrap_or_else(|_| Err(stopped()));
            if let Err(trouble) = written.and(read) {
                self.fail(trouble);
            }
        });
    }

    /// Only reads and rewrites.
    fn read(
        &self,
        report: &mut UnpackReport,
        visit: &mut dyn FnMut(&'a Table, RowBatch) -> Result<()>,
    ) {
        if let Err(trouble) = self.rewrite(report, visit) {
            self.fail(trouble);
        }
    }

    /// The rows of tables that nobody else takes, rewritten, as the destination calls them. The
    /// next ones are read on a thread of their own while these are rewritten.
    fn rewrite(
        &self,
        report: &mut UnpackReport,
        visit: &mut dyn FnMut(&'a Table, RowBatch) -> Result<()>,
    ) -> Result<()> {
        std::thread::scope(|scope| {
            let (send, mut incoming) = pipe::<Handed<'a>>();
            let reader = scope.spawn(move || self.read_tables(&send));
            let mut rewrite = || -> Result<()> {
                // The reader ends a table; if it stops before, it says why.
                while let Some(Handed::Table(table)) = incoming.next() {
                    self.rewrite_table(table, &mut incoming, report, visit)?;
                }
                Ok(())
            };
            let rewritten = rewrite();
            // A reader that waits to hand something over is let go.
            drop(incoming);
            let read = reader.join().unwrap_or_else(|_| Err(stopped()));
            // It complains that nobody listens when rewriting has ended for a reason of its own.
            rewritten.and(read)
        })
    }

    fn rewrite_table(
        &self,
        table: &'a Table,
        incoming: &mut dyn Iterator<Item = Handed<'a>>,
        report: &mut UnpackReport,
        visit: &mut dyn FnMut(&'a Table, RowBatch) -> Result<()>,
    ) -> Result<()> {
        let is_table = !is_of_engine(&table.name);
        let here = self.part.renamed(self.dialect, &table.name);
        report.tables += u64::from(is_table);
        let mut tallies = TableReport::new(self.rewriter, table);
        while let Some(Handed::Rows(mut insert)) = incoming.next() {
            self.progress.go_on()?;
            if self.left().trouble.is_some() {
                return Err(stopped());
            }
            for row in &mut insert.rows {
                tallies.row(table, row);
            }
            if self.part.prefix.is_some() {
                report.prefixed += self.part.change_values(table, &mut insert.rows);
            }
            if is_table {
                report.records += insert.rows.len() as u64;
            }
            self.progress.advance(insert.rows.len() as u64);
            let (columns, rows) = (insert.columns, insert.rows);
            visit(table, RowBatch { table: here.clone(), columns, rows })?;
        }
        tallies.into_report(table, &mut report.rewriting);
        Ok(())
    }

    /// Reads the blocks of one table after the other, as long as there is one that nobody reads.
    fn read_tables(&self, send: &Inlet<Handed<'a>>) -> Result<()> {
        loop {
            let Some(table) = self.left().tables.pop_front() else { return Ok(()) };
            taken(send.send(Handed::Table(table), 0))?;
            self.read_table(table, send)?;
            taken(send.send(Handed::End, 0))?;
        }
    }

    fn read_table(&self, table: &Table, send: &Inlet<Handed<'a>>) -> Result<()> {
        let archive = self.archive;
        let expected: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
        // While an archive is still written, nobody knows yet how many there will be.
        let seal = if archive.is_growing() { None } else { Some(archive.seal()?) };
        let sealed = seal.map(|seal| seal.rows.get(&table.name).copied().unwrap_or(0));
        let mut found = 0;
        for member in archive.blocks(&table.name) {
            let member = member?;
            let mut waiting: Option<(Insert, usize)> = None;
            stream::rows(archive, self.dialect, &member, table, &mut |insert| {
                if insert.columns != expected {
                    return Err(stream::other_columns(&member));
                }
                found += insert.rows.len() as u64;
                if let Some(sealed) = sealed.filter(|sealed| found > *sealed)
                    && !is_of_engine(&table.name)
                {
                    return Err(Trouble::damaged("the archive contradicts itself")
                        .at(member.to_string())
                        .because(format!(
                            "it holds more records of table {} than its seal says ({sealed})",
                            table.name
                        ))
                        .hint("do not use this archive; find out where it comes from"));
                }
                let mut weight = weight_of(&insert.rows);
                match &mut waiting {
                    Some((held, all)) => {
                        held.rows.extend(insert.rows);
                        *all += weight;
                        weight = *all;
                    }
                    None => waiting = Some((insert, weight)),
                }
                if weight >= limits::ROWS_PORTION { hand_over(send, &mut waiting) } else { Ok(()) }
            })?;
            hand_over(send, &mut waiting)?;
        }
        Ok(())
    }
}

/// What a reader hands over.
enum Handed<'a> {
    /// A table begins.
    Table(&'a Table),
    /// Some of its rows.
    Rows(Insert),
    /// It has ended.
    End,
}

fn hand_over(send: &Inlet<Handed<'_>>, waiting: &mut Option<(Insert, usize)>) -> Result<()> {
    let Some((insert, weight)) = waiting.take() else { return Ok(()) };
    taken(send.send(Handed::Rows(insert), weight))
}

fn taken(sent: bool) -> Result<()> {
    if sent { Ok(()) } else { Err(stopped()) }
}

fn stopped() -> Trouble {
    Trouble::damaged("reading or writing records has stopped")
}
