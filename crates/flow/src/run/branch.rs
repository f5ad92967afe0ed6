//! What a new change means for what is kept of earlier ones.

use super::Surroundings;
use crate::journal::{Journal, Run, Step};
use crate::undo::{Stack, let_go, taken_back};
use fernweh_ports::{Result, SiteAccess, Trouble, size};

/// How much of earlier states is kept of a site, at most. Nothing is removed in silence: a run
/// that would keep more is not begun.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KeptBounds {
    /// Number of states; no bound if it is 0.
    pub states: usize,
    /// Bytes of all of them.
    pub bytes: Option<u64>,
}

impl KeptBounds {
    /// Refuses one more state where as many are kept as there may be.
    pub(super) fn check(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<()> {
        let stack = Stack::of(around.records, site.name())?;
        let mut kept = stack.standing;
        // What a rewriting keeps are the values that it changed.
        kept.retain(|run| run.is_kept() && run.builds());
        let bytes: u64 = kept.iter().filter_map(Run::kept_bytes).sum();
        let many = self.states > 0 && kept.len() >= self.states;
        let large = self.bytes.is_some_and(|most| bytes > most);
        if !many && !large {
            return Ok(());
        }
        let (setting, value) = match many {
            true => ("keep-states", self.states.to_string()),
            false => ("keep-room", size(self.bytes.unwrap_or_default())),
        };
        Err(Trouble::usage(format!("the limit of kept states of site {} is reached", site.name()))
            .because(format!(
                "{} of them, {}; {setting} in [unpack] allows {value}",
                kept.len(),
                size(bytes)
            ))
            .hint(format!(
                "give up the oldest with: fernweh undo {} --let-go=oldest; or raise {setting}",
                site.name()
            )))
    }
}

/// A new change ends what was taken back: it could not come again over another state. Says so
/// before; what is kept of it goes when the change is complete.
pub(super) fn ends(site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Vec<Run>> {
    let ended = taken_back(around.records, site.name())?;
    let stack = Stack::of(around.records, site.name())?;
    for run in &stack.undone {
        around.progress.note(&format!(
            "{} was undone; after this run it cannot be redone, and what it kept is given up\n",
            run.header.run
        ));
    }
    Ok(ended)
}

/// Notes in a run which ones it ends.
pub(super) fn note(journal: &mut Journal, ended: &[Run], around: Surroundings<'_>) -> Result<()> {
    if ended.is_empty() {
        return Ok(());
    }
    let runs = ended.iter().map(|run| run.header.run.clone()).collect();
    journal.step(&Step::Ends { runs }, around.progress)
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
