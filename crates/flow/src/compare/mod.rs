//! What differs between two sites: structure, records, files.
//!
//! Both sides are read once, at the same time, and nothing is changed. The rules of a move are applied
//! to what the first one holds before it is compared: what is different after that is a difference.

mod database;
mod files;
mod matching;

pub use database::{DatabaseDifferences, Object};
pub use files::{FileDifference, FileDifferences};
pub use matching::{Record, TableDifferences, What};

use crate::patterns::Patterns;
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{Progress, Result, SiteAccess, Trouble};
use serde::Serialize;
use std::time::Instant;

/// What is compared, and how.
pub struct CompareOptions<'a> {
    /// The rules by which the first site became the second.
    pub rewriter: &'a Rewriter,
    /// Tables, views and the like.
    pub structure: bool,
    /// The records.
    pub records: bool,
    /// The files.
    pub files: bool,
    /// Tables whose records differ by nature (sessions, caches); they are only counted.
    pub without_rows: &'a Patterns,
    /// Files that differ by nature (caches, logs); they are not looked at.
    pub leave_out: &'a Patterns,
}

/// Examples that are shown of one kind of difference; all are counted.
pub const EXAMPLES: usize = 20;

/// What differs.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct CompareReport {
    /// The first site.
    pub from: String,
    /// The second site.
    pub to: String,
    /// Whether nothing differs of what was compared.
    pub identical: bool,
    /// The databases, if they were compared.
    pub database: Option<DatabaseDifferences>,
    /// The files, if they were compared.
    pub files: Option<FileDifferences>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// Compares two sites.
pub fn compare(
    from: &dyn SiteAccess,
    to: &dyn SiteAccess,
    options: &CompareOptions<'_>,
    progress: &dyn Progress,
) -> Result<CompareReport> {
    let began = Instant::now();
    let mut report = CompareReport {
        from: from.name().to_owned(),
        to: to.name().to_owned(),
        ..CompareReport::default()
    };
    if options.structure || options.records {
        report.database = match (from.database()?, to.database()?) {
            (Some(one), Some(other)) => {
                Some(database::compare((from, one), (to, other), options, progress)?)
            }
            (None, None) => None,
            (one, _) => return Err(one_sided("database", if one.is_some() { to } else { from })),
        };
    }
    if options.files {
        report.files = match (from.files()?, to.files()?) {
            (Some(one), Some(other)) => {
                let trees = ((one, from.inside_files()), (other, to.inside_files()));
                Some(files::compare(trees.0, trees.1, options, progress)?)
            }
            (None, None) => None,
            (one, _) => return Err(one_sided("files", if one.is_some() { to } else { from })),
        };
    }
    if report.database.is_none() && report.files.is_none() {
        return Err(Trouble::usage("there is nothing to compare")
            .because("neither site has a database or files in the configuration")
            .hint("set database and files of both sites"));
    }
    report.identical = report.database.as_ref().is_none_or(DatabaseDifferences::is_empty)
        && report.files.as_ref().is_none_or(FileDifferences::is_empty);
    report.seconds = (began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0;
    Ok(report)
}

fn one_sided(what: &str, without: &dyn SiteAccess) -> Trouble {
    let half = if what == "files" { "--database" } else { "--files" };
    Trouble::usage(format!("site {} has no {what} to compare with", without.name()))
        .hint(format!("set {what} in [site.{}], or compare the other half: {half}", without.name()))
}
