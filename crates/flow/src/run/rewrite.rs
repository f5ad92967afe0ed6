//! Addresses in a live site: a preview, or for real with every old value kept.

use super::Surroundings;
use super::rules::warn_of_shadowed;
use crate::pack::is_database;
use crate::rewrite::{LiveReport, RewriteOptions, rewrite};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{Halves, Result, SiteAccess, Trouble};

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
        warn_of_shadowed(self.rewriter.rules(), around.watch);
        let _lock = if self.apply { Some(around.records.lock(site.name())?) } else { None };
        around.warn_of_earlier(site)?;
        let holds = |table: &str| site.holds_table(table);
        let inside = site.inside_files();
        let skip = |path: &[u8]| is_database(path, inside.as_deref());
        let options = RewriteOptions { rewriter: &self.rewriter, tables: &holds, skip: &skip };
        let mut journal = match self.apply {
            true => Some(around.records.begin("rewrite", site.name(), &self.input())?),
            false => None,
        };
        let mut editors = match site.editors(self.halves) {
            Ok(editors) => editors,
            Err(trouble) => {
                // Nothing was looked at yet, so there is nothing to take back.
                if let Some(journal) = journal {
                    journal.forget();
                }
                return Err(trouble);
            }
        };
        rewrite(&options, &mut editors, journal.as_mut(), around.watch).map_err(
            |trouble| match self.apply {
                true => self.incomplete(site, trouble),
                false => trouble,
            },
        )
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
            words.push("lengths mended".into());
        }
        words.join(", ")
    }
}
