//! How what was unpacked reads.

use super::{Page, Style, counted, counts, duration, hidden, left_out, rewriting, size, tree};
use fernweh_flow::unpack::{Replaced, UnpackReport};
use fernweh_ports::{SiteAccess, named};

/// What a preview has found.
pub fn preview_text(style: Style, report: &UnpackReport, again: &str) -> String {
    let mut page = Page::new(style);
    page.row("preview", "nothing was changed; unpacking makes these changes");
    page.row(
        "archive",
        &counts(&[
            (report.tables, "table", "tables"),
            (report.records, "record", "records"),
            (report.files, "file", "files"),
        ])
        .join(", "),
    );
    old_names(&mut page, report);
    page.list("left out", left_out(&report.left_out));
    page.list("rejected", rejected(report));
    page.list("refused", report.not_created.clone());
    page.list("orphans", report.orphans.clone());
    page.list("note", report.notes.clone());
    page.gap();
    rewriting(&mut page, style, &report.rewriting);
    page.gap();
    page.row("next", again);
    page.finish()
}

fn completed_text(style: Style, site: &dyn SiteAccess) -> String {
    let mut page = Page::new(style);
    page.row(
        "completed",
        &format!("the earlier unpacking of site {}, which was interrupted", site.name()),
    );
    page.more("in the middle of its switch; every part is in place now");
    page.row("undo", &format!("fernweh undo {}", site.name()));
    page.finish()
}

/// The records that the destination did not take as they are.
pub fn rejected(report: &UnpackReport) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some(file) = &report.rejected_file {
        let count = counted(report.rejected, "record is", "records are");
        lines.push(format!("{count} left out, and kept in {file}"));
    }
    if report.rejected > 0 && report.rejected_file.is_none() {
        let count = counted(report.rejected, "record", "records");
        lines.push(format!("the database rejects {count}; unpacking would stop at the first,"));
        lines.push("or skip them with --on-bad-record skip".into());
    }
    if report.adapted > 0 {
        let count = counted(report.adapted, "record was", "records were");
        lines.push(format!("{count} changed by the database to fit"));
    }
    for bad in &report.bad_records {
        let what = match (bad.adapted, &report.rejected_file) {
            (true, _) => "changed: ",
            (false, Some(_)) => "left out: ",
            (false, None) => "",
        };
        lines.push(format!("  {}, {}: {what}{}", bad.table, bad.record, bad.because));
    }
    lines
}

/// What came in while the new state was built.
fn came_in(report: &UnpackReport) -> Vec<String> {
    let mut lines: Vec<String> = report
        .came_in
        .iter()
        .map(|came| {
            let number = counted(came.records.unsigned_abs(), "record", "records");
            let count = match came.records {
                0 => String::new(),
                1.. => format!("{number} came"),
                _ => format!("{number} went"),
            };
            let changed = match came.changed {
                Some(true) if came.records == 0 => "records were changed",
                Some(true) => "records may have been changed too",
                Some(false) => "",
                None => "whether records were changed is not known",
            };
            let words: Vec<&str> =
                [count.as_str(), changed].into_iter().filter(|words| !words.is_empty()).collect();
            format!("table {}: {}", came.table, words.join("; "))
        })
        .collect();
    lines
        .extend(report.came_in_files.iter().map(|path| format!("file {path} came or was changed")));
    let named = report.came_in_files.len() as u64;
    if let Some(more) = report.came_in_files_count.filter(|count| *count > named) {
        lines.push(format!("and {} more", counted(more - named, "file", "files")));
    }
    if report.came_in_files_unknown {
        lines.push("whether files came in is not known: this host tells no exact times".into());
    }
    lines
}

/// What still names the old site.
fn old_names(page: &mut Page, report: &UnpackReport) {
    let lines = report.still_named.iter();
    page.list(
        "old names",
        lines.map(|one| format!("{} line {}: {}", one.file, one.line, one.what)),
    );
    if !report.still_named.is_empty() {
        page.arrow(0, "these lines name things of the old site: check whether that is intended");
    }
}

/// How much is in place.
fn amounts(page: &mut Page, report: &UnpackReport) {
    if report.tables > 0 {
        page.row(
            "database",
            &format!(
                "{}, {}, {}",
                counted(report.tables, "table", "tables"),
                counted(report.records, "record", "records"),
                match (report.rejected, report.not_taken.len()) {
                    (0, 0) => "as many as the archive holds",
                    (0, _) => "as many as the archive holds of these tables",
                    _ => "without those that the database rejects",
                }
            ),
        );
        if !report.not_taken.is_empty() {
            let tables = counted(report.not_taken.len() as u64, "table", "tables");
            page.more(&format!(
                "{tables} of the archive not unpacked: {}",
                named(&report.not_taken, 6)
            ));
        }
    }
    if report.files > 0 {
        page.row("files", &tree(report.files, report.file_bytes, 0, report.links));
    }
    if report.kept > 0 {
        page.more(&format!(
            "carried over from what was there: {}",
            counted(report.kept, "file", "files")
        ));
    }
}

/// What was unpacked.
pub fn unpacked(
    style: Style,
    site: &dyn SiteAccess,
    report: &UnpackReport,
    seconds: f64,
) -> String {
    if report.completed_earlier {
        return completed_text(style, site);
    }
    let mut page = Page::new(style);
    page.row(
        "unpacked",
        &format!("site {} in {}; every part is in place", site.name(), duration(seconds)),
    );
    if report.went_on {
        page.more("resumed an interrupted run");
    }
    amounts(&mut page, report);
    if !report.settings.is_empty() {
        page.row(
            "settings",
            &format!("the new database connection was written into {}", report.settings.join(", ")),
        );
    }
    old_names(&mut page, report);
    page.list("left out", left_out(&report.left_out));
    page.list("rejected", rejected(report));
    page.list("removed", report.removed.iter().map(|name| format!("table {name}, kept for undo")));
    if report.prefixed > 0 {
        page.row(
            "prefix",
            &counted(report.prefixed, "value carries it too", "values carry it too"),
        );
    }
    page.list("refused", report.not_created.clone());
    page.list("orphans", report.orphans.clone());
    page.list("note", report.notes.clone());
    report.hidden.iter().for_each(|effect| hidden(&mut page, style, effect));
    page.gap();
    rewriting(&mut page, style, &report.rewriting);
    page.gap();
    match &report.replaced {
        _ if !report.undo => {
            page.row(
                "stands",
                "the state from before the run that had removed it; nothing else is kept",
            );
        }
        Some(Replaced { tables, records, entries, named_files, .. }) => {
            let mut words = Vec::new();
            if *tables > 0 {
                let tables = counted(*tables, "table", "tables");
                words.push(format!("{tables} with {}", counted(*records, "record", "records")));
            }
            if *entries > 0 {
                words.push(format!("{} of files", counted(*entries, "entry", "entries")));
            }
            if *named_files {
                words.push("those of the named files that were there".into());
            }
            let room = report.kept_bytes.map(|bytes| format!(" ({})", size(bytes)));
            page.row(
                "replaced",
                &format!("{}; kept{}", words.join(", "), room.unwrap_or_default()),
            );
            if *named_files {
                page.more("all other files are untouched");
            }
            let came = came_in(report);
            if !came.is_empty() {
                page.list("meanwhile", came);
                page.arrow(
                    0,
                    &format!(
                        "what came in is in the kept state, not in the new one; fernweh undo {} \
                         goes \
                         back to it",
                        site.name()
                    ),
                );
            }
            page.row(
                "undo",
                &format!(
                    "fernweh undo {0}   (or give up the old state: fernweh undo {0} --let-go)",
                    site.name()
                ),
            );
        }
        None => page
            .row("undo", &format!("fernweh undo {}   (the place was empty before)", site.name())),
    }
    if !report.part && report.tables > 0 {
        page.row("users", "all users and passwords of the old site work on the new one");
    }
    if site.url().is_some() {
        page.row("next", &format!("fernweh scan {}", site.name()));
    }
    page.finish()
}
