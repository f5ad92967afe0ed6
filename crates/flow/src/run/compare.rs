//! Comparing one site with another, as a move has left it or should have.

use super::Surroundings;
use super::rules::{pair, ready};
use crate::compare::{CompareOptions, CompareReport, Pages, compare};
use crate::patterns::Patterns;
use crate::refresh::Refresh;
use crate::unpack::Part;
use fernweh_core::rewrite::Rule;
use fernweh_ports::{Result, SiteAccess};

/// What is compared, and how.
#[derive(Default)]
pub struct Compare {
    /// The rules beyond the one that follows from the two web addresses.
    pub rules: Vec<Rule>,
    /// The prefix that tables have at the second site.
    pub part: Part,
    /// Tables, views and the like.
    pub structure: bool,
    /// The records.
    pub records: bool,
    /// The files.
    pub files: bool,
    /// The pages, and which of them.
    pub pages: Option<Pages>,
    /// Tables whose records differ by nature.
    pub without_rows: Patterns,
    /// Files that are not looked at.
    pub leave_out: Patterns,
}

impl Compare {
    /// Everything that two sites may have in common.
    pub fn everything(rules: Vec<Rule>) -> Self {
        Self {
            rules,
            structure: true,
            records: true,
            files: true,
            pages: Some(Pages::default()),
            ..Self::default()
        }
    }

    /// Sets apart what differs because a move leaves it out, keeps it or takes it away: tables
    /// without their rows, files that do not go, files of the destination that stay.
    pub fn set_apart(
        &mut self,
        without_rows: &[String],
        files: impl IntoIterator<Item = String>,
        after: &Refresh,
    ) -> Result<()> {
        let emptied = after.empty.iter().map(|(tables, _)| tables.clone());
        let tables: Vec<String> = without_rows.iter().cloned().chain(emptied).collect();
        self.without_rows = Patterns::of_tables(&tables)?;
        let files: Vec<String> = files.into_iter().chain(after.remove.iter().cloned()).collect();
        self.leave_out = Patterns::of_paths(&files)?;
        Ok(())
    }

    /// Compares two sites.
    pub fn run(
        &self,
        from: &dyn SiteAccess,
        to: &dyn SiteAccess,
        around: Surroundings<'_>,
    ) -> Result<CompareReport> {
        let mut rules = self.rules.clone();
        if let (Some(one), Some(other)) = (from.url(), to.url()) {
            rules.extend(pair(&one.to_string(), &other.to_string())?);
        }
        let rewriter = ready(rules)?;
        let options = CompareOptions {
            rewriter: &rewriter,
            part: &self.part,
            structure: self.structure,
            records: self.records,
            files: self.files,
            pages: self.pages.as_ref(),
            without_rows: &self.without_rows,
            leave_out: &self.leave_out,
        };
        let doing = format!("comparing {} with {}", from.name(), to.name());
        compare(from, to, &options, around.progress).map_err(|trouble| trouble.doing(doing))
    }
}
