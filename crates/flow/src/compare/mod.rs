//! What differs between two sites: structure, records, files, pages.
//!
//! Both sides are read once, at the same time, and nothing is changed. The rules of a move are applied
//! to what the first one holds before it is compared: what is different after that is a difference.

mod database;
mod files;
mod matching;
mod pages;

pub use database::{DatabaseDifferences, Object};
pub use files::{FileDifference, FileDifferences};
pub use matching::{Record, TableDifferences, What};
pub use pages::{PageDifference, PageDifferences, Pages, SlowerPage};

use crate::patterns::Patterns;
use crate::unpack::Part;
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{Progress, Result, SiteAccess, Trouble};
use serde::Serialize;
use std::time::Instant;

/// What is compared, and how.
pub struct CompareOptions<'a> {
    /// The rules by which the first site became the second.
    pub rewriter: &'a Rewriter,
    /// The prefix that tables have at the second site.
    pub part: &'a Part,
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
    /// The pages, and which of them.
    pub pages: Option<&'a Pages>,
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
    /// The pages, if they were compared.
    pub pages: Option<PageDifferences>,
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
                Some(files::compare((from, one), (to, other), options, progress)?)
            }
            (None, None) => None,
            (one, _) => return Err(one_sided("files", if one.is_some() { to } else { from })),
        };
    }
    if let Some(how) = options.pages {
        report.pages = match (from.url(), to.url()) {
            (Some(_), Some(_)) => Some(pages::compare(from, to, how, options.rewriter, progress)?),
            (None, None) => None,
            (one, _) => return Err(one_sided("url", if one.is_some() { to } else { from })),
        };
    }
    if report.database.is_none() && report.files.is_none() && report.pages.is_none() {
        return Err(Trouble::usage("there is nothing to compare")
            .because("the configuration of neither site names what is to be compared")
            .hint("set database, files and url of both sites"));
    }
    report.identical = report.database.as_ref().is_none_or(DatabaseDifferences::is_empty)
        && report.files.as_ref().is_none_or(FileDifferences::is_empty)
        && report.pages.as_ref().is_none_or(PageDifferences::is_empty);
    report.seconds = (began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0;
    Ok(report)
}

fn one_sided(what: &str, without: &dyn SiteAccess) -> Trouble {
    let halves: Vec<String> =
        [("database", "--database"), ("files", "--files"), ("url", "--pages")]
            .into_iter()
            .filter(|(part, _)| *part != what)
            .map(|(_, option)| option.to_owned())
            .collect();
    let name = without.name();
    Trouble::usage(format!("site {name} has no {what} to compare with"))
        .hint(format!("set {what} in [site.{name}], or compare the rest: {}", halves.join(" ")))
}

/// Two texts from a little before the place where they begin to differ, up to so many bytes.
fn excerpts(a: &[u8], b: &[u8], room: usize) -> (String, String) {
    let same = a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let begin = same.saturating_sub(room / 5);
    let cut = |bytes: &[u8]| {
        let part = &bytes[begin.min(bytes.len())..(begin + room).min(bytes.len())];
        let part = String::from_utf8_lossy(part);
        // A character that was cut through is not shown.
        let part = if begin > 0 { part.trim_start_matches('\u{fffd}') } else { &part };
        let trail = begin + room < bytes.len();
        let part = if trail { part.trim_end_matches('\u{fffd}') } else { part };
        let part: String = part.chars().map(|c| if c.is_control() { '·' } else { c }).collect();
        let lead = if begin > 0 { "…" } else { "" };
        format!("{lead}{part}{}", if trail { "…" } else { "" })
    };
    (cut(a), cut(b))
}
