//! What is done on the host while the new state takes its place: a worker is stopped, a notice is
//! shown, and afterwards the opposite.

use crate::refresh::{Refresh, Refreshed};
use fernweh_ports::{Editors, Progress, Result, Silent, SiteAccess, Trouble};

/// Steps before the switch, and their opposites at the end.
#[derive(Clone, Debug, Default)]
pub struct Notice {
    /// Commands for the host, in the site's folder.
    pub command: Vec<String>,
    /// Requests, and the status that is expected.
    pub request: Vec<(String, u16)>,
    /// Commands at the end, however the run ends.
    pub end_command: Vec<String>,
    /// Requests at the end.
    pub end_request: Vec<(String, u16)>,
}

impl Notice {
    /// Takes the steps before the switch.
    ///
    /// # Errors
    ///
    /// Where one does not work: the site would be switched while something writes into it. What
    /// was done by then is ended.
    pub fn begin(&self, site: &dyn SiteAccess, progress: &dyn Progress) -> Result<()> {
        let done = self.take(&self.command, &self.request, site, progress)?;
        match done.into_iter().find(|done| done.failed) {
            None => Ok(()),
            Some(failed) => Err(Trouble::outside("a step of [before] failed")
                .at(failed.what)
                .because(failed.outcome)
                .hint("try it on the host, or leave it out of [before]")),
        }
    }

    /// Takes the steps at the end, also where the user asked to stop; gives those that did not
    /// work, in words.
    pub fn end(&self, site: &dyn SiteAccess) -> Vec<String> {
        let failed = |done: Refreshed| {
            let Refreshed { what, outcome, .. } = done;
            format!("a step at the end of [before] failed; do it by hand: {what}: {outcome}")
        };
        match self.take(&self.end_command, &self.end_request, site, &Silent) {
            Ok(done) => done.into_iter().filter(|done| done.failed).map(failed).collect(),
            Err(trouble) => {
                vec![format!("the steps at the end of [before] were not carried out: {trouble}")]
            }
        }
    }

    fn take(
        &self,
        command: &[String],
        request: &[(String, u16)],
        site: &dyn SiteAccess,
        progress: &dyn Progress,
    ) -> Result<Vec<Refreshed>> {
        if command.is_empty() && request.is_empty() {
            return Ok(Vec::new());
        }
        let steps =
            Refresh { command: command.to_vec(), request: request.to_vec(), ..Refresh::default() };
        let pages = if request.is_empty() { None } else { Some(site.pages()?) };
        let pages = pages.as_ref().map(|pages| &**pages as _);
        steps.others(&mut Editors::default(), site, pages, progress)
    }
}
