//! Where texts live in a site.

use super::Surroundings;
use crate::pack::is_database;
use crate::trace::{TraceOptions, TraceReport, trace};
use fernweh_core::address::WebAddress;
use fernweh_core::rewrite::Rule;
use fernweh_core::trace::Needles;
use fernweh_ports::{DatabaseSource, FileSource, Halves, Result, SiteAccess, Trouble};

/// What to search for, and where.
pub struct Trace {
    /// The texts.
    pub texts: Vec<String>,
    /// Which halves of the site.
    pub halves: Halves,
    /// Propose rules that would change what was found.
    pub propose: Option<Known>,
}

/// What is known already where rules are proposed.
pub struct Known {
    /// The rules that hold for the site; they need no proposing.
    pub rules: Vec<Rule>,
    /// The addresses of other sites.
    pub addresses: Vec<WebAddress>,
}

impl Trace {
    /// Searches the site.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<TraceReport> {
        around.warn_of_earlier(site)?;
        let needles = Needles::new(&self.texts).map_err(|error| {
            Trouble::usage("a text cannot be searched for").because(error).hint("name more of it")
        })?;
        let mut report = self
            .search(&needles, site, around)
            .map_err(|trouble| trouble.doing(format!("tracing site {}", site.name())))?;
        if let Some(Known { rules, addresses }) = &self.propose {
            report.propose(site.url(), addresses);
            report
                .proposed
                .retain(|one| !rules.iter().any(|rule| rule.from.to_string() == one.from));
        }
        Ok(report)
    }

    fn search(
        &self,
        needles: &Needles,
        site: &dyn SiteAccess,
        around: Surroundings<'_>,
    ) -> Result<TraceReport> {
        let mut database = if self.halves.database { site.database()? } else { None };
        let mut files = if self.halves.files { site.files()? } else { None };
        let holds = |table: &str| site.holds_table(table);
        let inside = site.inside_files();
        let skip = |path: &[u8]| is_database(path, inside.as_deref());
        let options = TraceOptions { needles, tables: &holds, skip: &skip };
        let source = database.as_mut().map(|source| &mut **source as &mut dyn DatabaseSource);
        let files = files.as_mut().map(|source| &mut **source as &mut dyn FileSource);
        trace(&options, source, files, around.progress)
    }
}
