//! Steps beside the writing of rows outlast a lost connection, too.

use crate::retry;
use fernweh_core::sql::Statement;
use fernweh_ports::{DatabaseTarget, Progress, Result, Trouble};

/// Does something that is done over or not at all once more, if the connection is lost.
pub(super) fn persistently<T>(
    progress: &dyn Progress,
    target: &mut dyn DatabaseTarget,
    structure: &[Statement],
    work: &mut dyn FnMut(&mut dyn DatabaseTarget) -> Result<T>,
) -> Result<T> {
    for _ in 0..retry::SAME_PLACE {
        progress.go_on()?;
        match work(target) {
            Err(trouble) if trouble.lost => {
                let resume = &mut || target.resume(structure);
                if !retry::reconnect(trouble, progress, resume)? {
                    return Err(Trouble::damaged("the new tables no longer exist")
                        .hint("unpack again from the beginning"));
                }
            }
            done => return done,
        }
    }
    work(target)
}
