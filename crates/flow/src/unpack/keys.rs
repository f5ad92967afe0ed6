//! Keys of large tables, which had to wait until the rows are in.

use super::reconnecting::persistently;
use super::rejects::Rejects;
use super::{Building, tables_of};
use crate::journal::{Journal, Step};
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
    let waiting = persistently(progress, target, structure, &mut |target| target.waiting_keys())?;
    if waiting.is_empty() {
        return Ok(());
    }
    journal.step(&Step::Filled, progress)?;
    let all: u64 = waiting.iter().map(|one| one.keys).sum();
    progress.stage("keys", Some(all), Unit::Keys);
    for one in &waiting {
        let mut make = |target: &mut dyn DatabaseTarget| target.make_keys(&one.table);
        while let Some(found) = persistently(progress, target, structure, &mut make)? {
            reject(building, about, &found, rejects)?;
            persistently(progress, target, structure, &mut |target| target.take_out(&found.rows))?;
        }
        progress.advance(one.keys);
    }
    let (keys, tables) = (counted(all, "key", "keys"), waiting.len() as u64);
    progress.done(&format!("{keys} of {}", counted(tables, "large table", "large tables")));
    Ok(())
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
