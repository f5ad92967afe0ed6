//! What a move has done, in words.

use super::plan::of_the_user;
use crate::context::Context;
use crate::render::{self, Page, Paint, Style, counted, duration, size};
use crate::site::Site;
use fernweh_flow::run::MoveReport;

/// What was moved.
pub(super) fn moved(context: &Context, report: &MoveReport, from: &Site, to: &Site) -> String {
    let style = context.style;
    let mut page = Page::new(style);
    let total = report.stages.iter().map(|(_, seconds)| seconds).sum();
    let (word, whole) = match report.rehearsed {
        true => {
            ("rehearsed", format!("site {} to {}; nothing was changed", report.from, report.to))
        }
        false => {
            let what = "every part is in place";
            (
                "moved",
                format!("site {} to {} in {}; {what}", report.from, report.to, duration(total)),
            )
        }
    };
    page.row(word, &whole);
    if report.went_on {
        page.more("resumed an interrupted run");
    }
    let mut label = "stages";
    for (name, seconds) in &report.stages {
        page.row(
            label,
            &format!("{name:<10} {:>8}   {}", duration(*seconds), about(style, report, name)),
        );
        label = "";
    }
    if let Some(archive) = &report.archive {
        page.row("archive", &format!("{archive}, {}", size(report.archive_bytes)));
    }
    let left = report.unpacked.rewriting.left();
    if left > 0 && !report.rehearsed {
        let addresses = counted(left, "old address", "old addresses");
        page.row("left", &format!("{addresses}; with reasons: fernweh rewrite {}", report.to));
    }
    page.list("left out", render::left_out(&report.unpacked.left_out));
    page.list("rejected", render::rejected(&report.unpacked));
    page.list("refused", report.unpacked.not_created.clone());
    page.list("note", report.unpacked.notes.clone());
    report.unpacked.hidden.iter().for_each(|effect| render::hidden(&mut page, style, effect));
    page.list(
        "after",
        report.refreshed.iter().map(|done| {
            let (paint, word) =
                if done.failed { (Paint::Bad, "failed") } else { (Paint::Good, "done") };
            format!("{}  {}: {}", style.paint(paint, word), done.what, done.outcome)
        }),
    );
    page.gap();
    if report.rehearsed {
        render::rewriting(&mut page, style, &report.unpacked.rewriting);
        page.gap();
        let over: &[&str] = if report.preflight.there.is_empty() { &[] } else { &["--overwrite"] };
        page.row("next", &context.typed.for_real(over));
        return page.finish();
    }
    page.row("undo", &format!("fernweh undo {}", report.to));
    if report.unpacked.tables > 0 {
        page.row("users", "all users and passwords of the old site work on the new one");
    }
    let seen = report.preflight.to_do.iter().cloned();
    page.list("to do", seen.chain(of_the_user(from, to)));
    let scanned = report.scanned.as_ref().is_some_and(|scanned| !scanned.findings.is_empty());
    let differs = report.compared.as_ref().is_some_and(|compared| !compared.identical);
    let next = if differs {
        format!("fernweh compare {} {}", report.from, report.to)
    } else if scanned {
        format!("fernweh scan {} --trace", report.to)
    } else {
        format!("look at {}", to.url.as_ref().map_or(report.to.clone(), ToString::to_string))
    };
    page.row("next", &next);
    page.finish()
}

/// What a stage has brought.
fn about(style: Style, report: &MoveReport, stage: &str) -> String {
    let unpacked = &report.unpacked;
    match stage {
        "packed" if report.at_once => {
            format!("{}, unpacked at the same time", size(report.archive_bytes))
        }
        "packed" => size(report.archive_bytes),
        "unpacked" | "rehearsed" if unpacked.tables + unpacked.files > 0 => format!(
            "{}; {} rewritten",
            render::counts(&[
                (unpacked.records, "record", "records"),
                (unpacked.files, "file", "files"),
            ])
            .join(", "),
            counted(unpacked.rewriting.replaced(), "address", "addresses"),
        ),
        "scanned" => about_scan(style, report),
        "compared" => about_comparison(style, report),
        _ => String::new(),
    }
}

/// What is said of a stage that has no report: it was complete before, or was not possible.
fn without(why: Option<&String>) -> String {
    why.map_or_else(|| "earlier".into(), |why| format!("not possible: {why}"))
}

fn about_comparison(style: Style, report: &MoveReport) -> String {
    let Some(compared) = &report.compared else { return without(report.not_compared.as_ref()) };
    let paint = if compared.identical { Paint::Good } else { Paint::Doubt };
    style.paint(paint, &render::compare_in_short(compared))
}

fn about_scan(style: Style, report: &MoveReport) -> String {
    let Some(scanned) = &report.scanned else { return without(report.not_scanned.as_ref()) };
    let verdict = crate::render::scan_in_short(scanned);
    let verdict = match scanned.is_fine(None) {
        true => style.paint(Paint::Good, &verdict),
        false => style.paint(Paint::Doubt, &verdict),
    };
    format!("{}; {verdict}", counted(scanned.pages, "page", "pages"))
}
