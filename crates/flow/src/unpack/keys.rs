//! Keys of large tables, which had to wait until the rows are in.

use super::rejects::Rejects;
use super::{Building, tables_of};
use crate::journal::{Journal, Step};
use crate::retry;
use fernweh_core::archive::DatabaseManifest;
use fernweh_core::sql::Statement;
use fernweh_ports::{DatabaseTarget, InTheWay, Rejected, Result, Trouble, Unit, counted};

/// Makes the keys that wait. Records in the way of a unique one are rejected like those that the
/// destination did not take before.
pub(super) fn make_keys(
    building: &Building<'_>,
    about: &DatabaseManifest,
    target: &mut dyn DatabaseTarget,
    structure: &[Statement],
    journal: &mut Journal,
    rejects: &mut Rejects,
) -> Result<()> {
    let progress = building.progress;
    let waiting = persistently(building, target, structure, &mut |target| target.waiting_keys())?;
    if waiting.is_empty() {
        return Ok(());
    }
    journal.step(&Step::Filled, progress)?;
    let all: u64 = waiting.iter().map(|one| one.keys).sum();
    progress.stage("keys", Some(all), Unit::Keys);
    for one in &waiting {
        let mut make = |target: &mut dyn DatabaseTarget| target.make_keys(&one.table);
        while let Some(found) = persistently(building, target, structure, &mut make)? {
            reject(building, about, &found, rejects)?;
            persistently(building, target, structure, &mut |target| target.take_out(&found.rows))?;
        }
        progress.advance(one.keys);
    }
    let (keys, tables) = (counted(all, "key", "keys"), waiting.len() as u64);
    progress.done(&format!("{keys} of {}", counted(tables, "large table", "large tables")));
    Ok(())
}

/// Does something that is done over or not at all once more, if the connection is lost.
fn persistently<T>(
    building: &Building<'_>,
    target: &mut dyn DatabaseTarget,
    structure: &[Statement],
    work: &mut dyn FnMut(&mut dyn DatabaseTarget) -> Result<T>,
) -> Result<T> {
    for _ in 0..retry::SAME_PLACE {
        building.progress.go_on()?;
        match work(target) {
            Err(trouble) if trouble.lost => {
                let progress = building.progress;
                let resume = &mut || target.resume(structure);
                if !retry::reconnect(trouble, progress, resume)? {
                    return Err(Trouble::damaged("the new tables are not there any more")
                        .hint("unpack again from the beginning"));
                }
            }
            done => return done,
        }
    }
    work(target)
}

/// Deals with records that are in the way of a key.
fn reject(
    building: &Building<'_>,
    about: &DatabaseManifest,
    found: &InTheWay,
    rejects: &mut Rejects,
) -> Result<()> {
    let mut names = tables_of(building.options, about).into_iter();
    let packed = names.find(|(_, here)| *here == found.rows.table);
    let table = packed.and_then(|(name, _)| about.tables.iter().find(|table| table.name == name));
    let table = table.ok_or_else(|| Trouble::damaged("a table that is built is not packed"))?;
    let because = &found.because;
    let rejected = (0..found.rows.rows.len()).map(|row| Rejected {
        row,
        because: because.clone(),
        adapted: false,
    });
    let rejected: Vec<Rejected> = rejected.collect();
    rejects.note(about.dialect, building.policy, table, &found.rows, &rejected)
}
