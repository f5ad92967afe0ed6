//! `fernweh undo`

use crate::context::Context;
use crate::exit::DONE;
use crate::options::SiteArgs;
use crate::render::{Page, counted, moment, refused, unpacked};
use crate::site::Site;
use clap::Args;
use fernweh_flow::run::{Undo, Undone};
use fernweh_flow::undo::UndoReport;
use fernweh_ports::{Direction, Result};
use std::time::Instant;

/// Back to the state before the last change of a site
///
/// The newer state is kept in turn: undo once more brings it back. Example:
///   fernweh undo new
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UndoArgs {
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// Give up everything that is kept of this site's earlier states
    #[arg(long)]
    pub let_go: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Runs the command.
pub fn run(context: &Context, args: &UndoArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let undo = if args.let_go { Undo::LetGo } else { Undo::LastChange };
    match undo.run(&site, context.around(&context.records(&config)))? {
        Undone::Turned(report) => context.print(&report, &text(context, &site, &report)),
        Undone::Unpacked(report) => {
            let seconds = began.elapsed().as_secs_f64();
            context.print(&report, &unpacked(context.style, &site, &report, seconds));
        }
        Undone::LetGo(given) => {
            let page = let_go(context, &site, &given);
            context.print(&serde_json::json!({ "let_go": given }), &page);
        }
    }
    Ok(DONE)
}

fn let_go(context: &Context, site: &Site, given: &[String]) -> String {
    let mut page = Page::new(context.style);
    if given.is_empty() {
        page.row("let go", &format!("nothing was kept of site {}", site.name));
    }
    page.list("let go", given.iter().map(|run| format!("what {run} had kept")));
    page.finish()
}

fn text(context: &Context, site: &Site, report: &UndoReport) -> String {
    let mut page = Page::new(context.style);
    let (word, again) = match report.direction {
        Direction::Back => ("undone", "the newer state"),
        Direction::Forward => ("redone", "the older state"),
    };
    page.row(word, &format!("{} of site {}", report.run, site.name));
    page.row("left", &format!("the state that stood since {}", moment(&report.since)));
    for written in &report.written {
        let number = counted(written.records.unsigned_abs(), "record", "records");
        let what = if written.records > 0 { "came to" } else { "went from" };
        page.more(&format!("since then {number} {what} {}", written.table));
    }
    if report.changed_since && report.written.is_empty() {
        page.more("since then records may have been changed");
    }
    if report.changed_since || !report.written.is_empty() {
        page.arrow(
            0,
            "they are not in the state that stands now; they are kept with the other one",
        );
    }
    if let Some(taken) = &report.taken_back {
        page.row(
            "changed",
            &format!(
                "{}, {}",
                counted(taken.cells, "cell", "cells"),
                counted(taken.files, "file", "files")
            ),
        );
        page.list("refused", refused(&taken.refused));
    }
    page.gap();
    page.row("again", &format!("{again} is kept; fernweh undo {} brings it back", site.name));
    page.finish()
}
