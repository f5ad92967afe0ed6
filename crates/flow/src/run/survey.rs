//! What a site consists of, and whether everything needed can be reached.

use super::Surroundings;
use crate::patterns::Patterns;
use crate::survey::{SurveyOptions, SurveyReport, survey};
use crate::undo::Stack;
use fernweh_ports::{DatabaseSource, FileSource, Result, SiteAccess};

/// How to look at a site.
pub struct Survey {
    /// Files and folders that packing leaves out; they are counted apart.
    pub leave_out: Patterns,
}

impl Survey {
    /// Looks at the site.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<SurveyReport> {
        self.look(site, around)
            .map_err(|trouble| trouble.doing(format!("surveying site {}", site.name())))
    }

    fn look(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<SurveyReport> {
        let holds = |table: &str| site.holds_table(table);
        let options = SurveyOptions {
            site: site.name().to_owned(),
            url: site.url().map(ToString::to_string),
            tables: &holds,
            leave_out: self.leave_out.clone(),
            inside_files: site.inside_files(),
        };
        let mut database = site.database()?;
        let mut files = site.files()?;
        let source = database.as_mut().map(|source| &mut **source as &mut dyn DatabaseSource);
        let files = files.as_mut().map(|source| &mut **source as &mut dyn FileSource);
        let mut report = survey(&options, source, files, around.progress)?;
        let stack = Stack::of(around.records, site.name())?;
        let kept: Vec<_> = stack.standing.iter().chain(&stack.undone).collect();
        report.kept_states = kept.iter().filter(|run| run.is_kept()).count() as u64;
        report.kept_bytes = kept.iter().filter_map(|run| run.kept_bytes()).sum();
        Ok(report)
    }
}
