//! Addresses in a live site: a preview, or for real with every old value kept.

use super::Surroundings;
use super::branch::{end, ends, note};
use super::hidden;
use super::rules::warn_of_shadowed;
use crate::identity::{RulesIdentity, identity};
use crate::journal::{Journal, Operation, Run, RunState};
use crate::pack::is_database;
use crate::rewrite::{LiveReport, RewriteOptions, rewrite};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{Halves, Result, SiteAccess, Trouble};
use serde::Serialize;

/// What tells the same rewriting from any other; the version changes with the meaning of a field.
#[derive(Serialize)]
struct Identity<'a> {
    version: u32,
    halves: Halves,
    rules: RulesIdentity<'a>,
}

/// What to rewrite, and whether to do it.
pub struct Rewrite {
    /// The rules.
    pub rewriter: Rewriter,
    /// Which halves of the site.
    pub halves: Halves,
    /// Change the site; without it this is a preview.
    pub apply: bool,
}

impl Rewrite {
    /// Goes through the site.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<LiveReport> {
        self.work(site, around)
            .map_err(|trouble| trouble.doing(format!("rewriting site {}", site.name())))
    }

    fn work(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<LiveReport> {
        warn_of_shadowed(self.rewriter.rules(), around.progress);
        let _lock = if self.apply { Some(around.records.lock(site.name())?) } else { None };
        around.warn_of_earlier(site)?;
        let holds = |table: &str| site.holds_table(table);
        let inside = site.inside_files();
        let skip = |path: &[u8]| is_database(path, inside.as_deref());
        let hidden = site.is_hidden() && self.halves.files;
        let options =
            RewriteOptions { rewriter: &self.rewriter, tables: &holds, skip: &skip, hidden };
        // Nothing is begun before the site can be reached: there would be nothing to take back.
        let mut editors = site.editors(self.halves)?;
        let ended = if self.apply { ends(site, around)? } else { Vec::new() };
        let mut journal = if self.apply { Some(self.journal(site, around)?) } else { None };
        if let Some(journal) = &mut journal {
            note(journal, &ended, around)?;
        }
        let done = rewrite(&options, &mut editors, journal.as_mut(), around.progress);
        let mut report = done.map_err(|trouble| match self.apply {
            true => self.incomplete(site, trouble),
            false => trouble,
        })?;
        match journal.filter(|_| report.run.is_none()) {
            Some(journal) => journal.forget(),
            None => report.notes = end(&ended, site, around),
        }
        if hidden && self.apply {
            report.hidden = hidden::verified(site)?;
        }
        Ok(report)
    }

    /// The journal of the same rewriting, if it was broken off: its changes and those of this one
    /// are taken back together. Or a new one.
    fn journal(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Journal> {
        let mark = self.mark()?;
        let runs = around.records.runs_of(site.name())?;
        let same = |run: &&Run| {
            let is_rewriting = run.header.command == Operation::Rewrite;
            is_rewriting && run.header.mark == mark && run.state() == RunState::Open
        };
        // Only the last change can be gone on with: what lies over it would be passed over.
        // A preview has changed nothing, whatever became of it.
        let mut changing = runs.iter().filter(|run| run.header.command != Operation::Preview);
        let last = changing.find(|run| run.is_unfinished() || run.is_kept());
        match last.filter(same) {
            Some(run) => Journal::resume(run),
            None => {
                around.records.begin_marked(Operation::Rewrite, site.name(), &self.input(), mark)
            }
        }
    }

    /// By what the same command knows its own unfinished run again.
    fn mark(&self) -> Result<String> {
        let rules = RulesIdentity::of(&self.rewriter);
        identity(&Identity { version: 1, halves: self.halves, rules })
    }

    fn incomplete(&self, site: &dyn SiteAccess, trouble: Trouble) -> Trouble {
        trouble.incomplete(format!(
            "some cells may have been changed; type the same command again to go on, or fernweh \
             undo {} to take it back",
            site.name()
        ))
    }

    /// What goes in, as the journal has it.
    fn input(&self) -> String {
        let rules = self.rewriter.rules().iter();
        let mut words: Vec<String> =
            rules.map(|rule| format!("{} → {}", rule.from, rule.to)).collect();
        if self.rewriter.mends() {
            words.push("lengths repaired".into());
        }
        words.join(", ")
    }
}
