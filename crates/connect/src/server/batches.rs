//! How cells of a live site are changed: rows are read in one stream over one connection, and
//! changed in batches over another.

use super::Session;
use fernweh_core::limits;
use fernweh_core::record::{Row, Value};
use fernweh_ports::{Applied, Change, Inlet, Record, Refused, Result, Trouble, pipe};

/// Hands rows over to another thread, several at once.
pub(crate) struct Portions<'a> {
    to: &'a Inlet<Vec<Row>>,
    rows: Vec<Row>,
    weight: usize,
}

impl<'a> Portions<'a> {
    /// Nothing collected yet.
    pub fn new(to: &'a Inlet<Vec<Row>>) -> Self {
        Self { to, rows: Vec::new(), weight: 0 }
    }

    /// Adds a row.
    pub fn add(&mut self, row: Row) -> Result<()> {
        self.weight += row.iter().map(Value::weight).sum::<usize>();
        self.rows.push(row);
        if self.rows.len() < limits::EDITED_TOGETHER && self.weight < limits::EDITED_ROWS {
            return Ok(());
        }
        self.close()
    }

    /// Hands over what waits; more rows may follow.
    pub fn close(&mut self) -> Result<()> {
        let rows = std::mem::take(&mut self.rows);
        // Whoever has stopped taking them tells why.
        match self.to.send(rows, std::mem::take(&mut self.weight)) {
            true => Ok(()),
            false => Err(Trouble::interrupted("the rows are not wanted any more")),
        }
    }
}

/// Collects the rows of a stream into batches, lets `visit` say what changes, and makes the
/// changes with `apply`.
pub(crate) struct Batches<'a> {
    /// The places of the key in a row.
    pub key: Vec<usize>,
    /// Says what changes.
    pub visit: &'a mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    /// Makes the changes.
    pub apply: &'a mut dyn FnMut(&[Change]) -> Result<Applied>,
    total: Applied,
}

impl<'a> Batches<'a> {
    /// Nothing collected yet.
    pub fn new(
        key: Vec<usize>,
        visit: &'a mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
        apply: &'a mut dyn FnMut(&[Change]) -> Result<Applied>,
    ) -> Self {
        Self { key, visit, apply, total: Applied::default() }
    }

    /// Takes the rows that `read` gives on a thread of its own, while the changes are made on
    /// this one: a connection cannot wait for an answer in the middle of another's. Gives what
    /// became of all changes.
    pub fn read<R>(mut self, read: R) -> Result<Applied>
    where
        R: FnOnce(&mut dyn FnMut(Row) -> Result<()>) -> Result<()> + Send,
    {
        let (to, mut from) = pipe::<Vec<Row>>();
        std::thread::scope(|scope| {
            let reading = scope.spawn(move || {
                let mut portions = Portions::new(&to);
                read(&mut |row| portions.add(row))?;
                portions.close()
            });
            let changed = from.try_for_each(|rows| self.change(rows));
            drop(from);
            let read = reading.join().unwrap_or_else(|_| {
                Err(Trouble::outside("reading the site's records ended unexpectedly"))
            });
            changed.and(read)
        })?;
        Ok(self.total)
    }

    fn change(&mut self, rows: Vec<Row>) -> Result<()> {
        let record = |row: Row| {
            let key = self.key.iter().map(|place| row[*place].clone()).collect();
            Record { key, row }
        };
        let batch: Vec<Record> = rows.into_iter().map(record).collect();
        let changes = (self.visit)(&batch)?;
        let applied = (self.apply)(&changes)?;
        self.total.changed += applied.changed;
        self.total.refused.extend(applied.refused);
        Ok(())
    }
}

/// Makes the changes of one table, in one transaction where it takes part in transactions, each only where the cell still holds what
/// was read; what the server does not take is said, and stops nothing else. `statement` writes
/// one change.
pub(crate) fn apply<S: Session>(
    writer: &mut S,
    (table, transactional): (&str, bool),
    changes: &[Change],
    statement: impl Fn(&Change) -> Vec<u8>,
) -> Result<Applied> {
    let mut applied = Applied::default();
    if changes.is_empty() {
        return Ok(applied);
    }
    if transactional {
        writer.run("BEGIN")?;
    }
    for change in changes {
        let mut refuse = |because: String| {
            let place = format!("{table}.{}, {}", change.column, change.record);
            applied.refused.push(Refused { place, because });
        };
        match writer.try_change(&statement(change)) {
            Ok(0) => refuse("the cell was changed in the meantime".into()),
            Ok(_) => applied.changed += 1,
            Err(error) if S::is_about_value(&error) => {
                refuse(format!("the new value is not allowed here ({})", S::message(&error)));
            }
            Err(error) => {
                let trouble = writer.trouble("cannot change the site's database", &error);
                // Over a connection that is gone there is nothing to take back.
                let _ = writer.try_run("ROLLBACK");
                return Err(trouble);
            }
        }
    }
    if transactional {
        writer.run("COMMIT")?;
    }
    Ok(applied)
}
