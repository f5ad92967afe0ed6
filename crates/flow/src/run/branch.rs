//! What a new change means for changes that were taken back.

use super::Surroundings;
use crate::journal::Run;
use crate::undo::{let_go, taken_back};
use fernweh_ports::{Result, SiteAccess};

/// A new change ends what was taken back: it could not come again over another state. Says so
/// before; what is kept of it goes when the change is complete.
pub(super) fn ends(site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Vec<Run>> {
    let ended = taken_back(around.records, site.name())?;
    for run in &ended {
        around.progress.note(&format!(
            "{} was taken back; once this has changed the site it cannot come again, and what is \
             kept of it goes\n",
            run.header.run
        ));
    }
    Ok(ended)
}

/// Gives up what is kept of runs that were taken back; gives what could not be removed.
pub(super) fn end(ended: &[Run], site: &dyn SiteAccess, around: Surroundings<'_>) -> Vec<String> {
    let given = ended.iter().filter_map(|run| {
        let given = site
            .targets(&run.header.run, site.has())
            .and_then(|mut targets| let_go(run, &mut targets, around.progress));
        let trouble = given.err()?;
        Some(format!(
            "what {} keeps could not be removed ({trouble}): fernweh undo {} --let-go tries again",
            run.header.run,
            site.name()
        ))
    });
    given.collect()
}
