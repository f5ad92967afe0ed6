//! Writing rows so that a lost connection, or a run that was broken off, loses none: what is
//! not yet secured is kept, and how many rows a table holds says where to go on, for rows
//! always come in the order of the archive.

use super::rejects::{OnBadRecord, Rejects};
use crate::retry;
use fernweh_core::limits;
use fernweh_core::record::{Table, is_of_engine, weight_of};
use fernweh_core::sql::{Dialect, Statement};
use fernweh_ports::{DatabaseTarget, Progress, Result, RowBatch, Trouble};
use std::collections::{BTreeMap, BTreeSet};

/// Writes the rows of an archive.
pub(super) struct Writer<'a> {
    target: &'a mut dyn DatabaseTarget,
    structure: &'a [Statement],
    dialect: Dialect,
    policy: OnBadRecord,
    rejects: &'a mut Rejects,
    progress: &'a dyn Progress,
    /// Rows of each table that are there for good.
    secured: BTreeMap<String, u64>,
    /// Rows of each table that an earlier run has written.
    there: BTreeMap<String, u64>,
    kept: Vec<Unsecured<'a>>,
    weight: usize,
    /// How often the connection was lost since rows were secured.
    losses: u32,
}

/// Rows that are written but not secured.
struct Unsecured<'a> {
    table: &'a Table,
    portion: RowBatch,
    /// Whether what the destination rejects of them has been dealt with.
    noted: bool,
}

/// What rows are written into, and how.
pub(super) struct Destination<'a> {
    pub target: &'a mut dyn DatabaseTarget,
    /// What is made before the rows.
    pub structure: &'a [Statement],
    pub dialect: Dialect,
    pub policy: OnBadRecord,
    /// How many rows of each table an earlier run has written.
    pub there: BTreeMap<String, u64>,
}

impl<'a> Writer<'a> {
    /// Begins.
    pub fn new(
        into: Destination<'a>,
        rejects: &'a mut Rejects,
        progress: &'a dyn Progress,
    ) -> Self {
        let Destination { target, structure, dialect, policy, there } = into;
        let (kept, weight, secured) = (Vec::new(), 0, there.clone());
        Self {
            target,
            structure,
            dialect,
            policy,
            rejects,
            progress,
            secured,
            there,
            kept,
            weight,
            losses: 0,
        }
    }

    /// Writes a portion of a table.
    pub fn write(&mut self, table: &'a Table, mut portion: RowBatch) -> Result<()> {
        self.pass(&mut portion);
        if portion.rows.is_empty() {
            return Ok(());
        }
        self.weight += weight_of(&portion.rows);
        self.kept.push(Unsecured { table, portion, noted: false });
        match self.send(self.kept.len() - 1) {
            Err(trouble) if trouble.lost => self.connect_anew(trouble)?,
            sent => sent?,
        }
        if self.weight >= limits::UNSECURED_ROWS { self.secure() } else { Ok(()) }
    }

    /// Leaves out what an earlier run has written.
    fn pass(&mut self, portion: &mut RowBatch) {
        if let Some(there) = self.there.get_mut(&portion.table) {
            let passed = (*there).min(portion.rows.len() as u64);
            *there -= passed;
            portion.rows.drain(..passed as usize);
        }
    }

    /// Sends rows that are kept.
    fn send(&mut self, place: usize) -> Result<()> {
        let Unsecured { table, portion, noted } = &mut self.kept[place];
        let refused = self.target.write(portion, self.policy == OnBadRecord::Adapt)?;
        if !std::mem::replace(noted, true) {
            self.rejects.note(self.dialect, self.policy, table, portion, &refused)?;
        }
        // What is left out counts for nothing from here on.
        let out = |place| refused.iter().any(|one| one.row == place && !one.adapted);
        let mut places = 0..;
        portion.rows.retain(|_| places.next().is_some_and(|place| !out(place)));
        Ok(())
    }

    /// Makes sure of what has been written so far.
    pub fn secure(&mut self) -> Result<()> {
        while let Err(trouble) = self.target.secure() {
            if !trouble.lost {
                return Err(trouble);
            }
            self.connect_anew(trouble)?;
        }
        for Unsecured { portion, .. } in self.kept.drain(..) {
            *self.secured.entry(portion.table).or_default() += portion.rows.len() as u64;
        }
        self.weight = 0;
        self.losses = 0;
        self.progress.reached("secured");
        Ok(())
    }

    /// Connects anew, and writes again what went with the connection.
    fn connect_anew(&mut self, mut lost: Trouble) -> Result<()> {
        loop {
            self.losses += 1;
            if self.losses > retry::SAME_PLACE {
                return Err(lost);
            }
            let (target, structure) = (&mut *self.target, self.structure);
            let complete = retry::reconnect(lost, self.progress, &mut || target.resume(structure))?;
            if !complete {
                return Err(unsure("what was built no longer exists"));
            }
            let sent = self
                .forget_what_is_there()
                .and_then(|()| (0..self.kept.len()).try_for_each(|place| self.send(place)));
            match sent {
                Err(trouble) if trouble.lost => lost = trouble,
                sent => return sent,
            }
        }
    }

    /// What the tables hold now is there for good; the rest of what is kept comes behind it.
    fn forget_what_is_there(&mut self) -> Result<()> {
        let names: BTreeSet<&String> = self.kept.iter().map(|kept| &kept.portion.table).collect();
        let names: Vec<String> =
            names.into_iter().filter(|name| !is_of_engine(name)).cloned().collect();
        for (name, found) in self.target.built_rows(&names)? {
            let secured = self.secured.entry(name.clone()).or_default();
            let Some(mut more) = found.checked_sub(*secured) else {
                return Err(unsure(&format!(
                    "table {name} holds {found} records; {secured} were confirmed"
                )));
            };
            *secured = found;
            for Unsecured { portion, .. } in &mut self.kept {
                if portion.table == name {
                    let passed = more.min(portion.rows.len() as u64);
                    portion.rows.drain(..passed as usize);
                    more -= passed;
                }
            }
            if more > 0 {
                return Err(unsure(&format!("table {name} holds {more} records too many")));
            }
        }
        self.kept.retain(|kept| !kept.portion.rows.is_empty());
        Ok(())
    }
}

fn unsure(because: &str) -> Trouble {
    Trouble::damaged("it is not sure what was written before the connection was lost")
        .because(because)
        .hint("unpack again from the beginning")
}

#[cfg(test)]
#[path = "writer_tests.rs"]
mod tests;
