//! `fernweh undo`

use crate::context::Context;
use crate::exit::DONE;
use crate::options::SiteArgs;
use crate::render::{Page, counted, moment, refused, unpacked};
use crate::site::Site;
use clap::{Args, ValueEnum};
use fernweh_flow::run::{Undo, Undone, take_over};
use fernweh_flow::undo::{Stack, UndoReport};
use fernweh_ports::{Direction, Result};
use std::time::Instant;

/// Back to the state before the last change of a site
///
/// Each undo takes back the last change that stands. What is taken back is kept, and comes again
/// with --to-run, as long as nothing else is done to the site; where no change stands any more,
/// undo brings the first one again. Examples:
///   fernweh undo new
///   fernweh undo new --to-run 2026-11-23-091000-unpack-new-0a1b2c3d4e
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UndoArgs {
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// Go step by step to the state that this run has left, back or forward; fernweh runs lists
    /// what is kept
    #[arg(long, value_name = "RUN", conflicts_with = "let_go")]
    pub to_run: Option<String>,
    /// Give up what is kept of this site's earlier states: of all, or of the oldest alone
    #[arg(
        long,
        value_name = "WHICH",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "all"
    )]
    pub let_go: Option<Which>,
    /// Also take back what another folder or machine has done: its record is taken over from the
    /// destination, where the site's own programs can write
    #[arg(long)]
    pub trust: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Which of the kept states.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Which {
    /// All of them.
    All,
    /// The oldest.
    Oldest,
}

/// Runs the command.
pub fn run(context: &Context, args: &UndoArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    if args.trust {
        take_over(&site, context.around(&context.records(&config)))?;
    }
    let undo = match (args.let_go, &args.to_run) {
        (Some(which), _) => Undo::LetGo { oldest: which == Which::Oldest },
        (None, Some(run)) => Undo::ToRun(run.clone()),
        (None, None) => Undo::LastChange,
    };
    match undo.run(&site, context.around(&context.records(&config)))? {
        Undone::Turned(reports) => {
            let left = Stack::of(&context.records(&config), &site.name)?;
            let redo = match reports.first() {
                // Where no change stands, the first one comes again.
                Some(first) if !left.standing.is_empty() || reports.len() > 1 => {
                    format!("fernweh undo {} --to-run {}", site.name, first.run)
                }
                _ => format!("fernweh undo {}", site.name),
            };
            let text = text(context, &site, &reports, &redo);
            match (&args.to_run, reports.as_slice()) {
                (None, [report]) => context.print(report, &text),
                _ => context.print(&serde_json::json!({ "turned": reports }), &text),
            }
        }
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

fn text(context: &Context, site: &Site, reports: &[UndoReport], redo: &str) -> String {
    let mut page = Page::new(context.style);
    reports.iter().for_each(|report| step(&mut page, site, report));
    let Some(last) = reports.last() else { return page.finish() };
    page.gap();
    match last.direction {
        Direction::Back => page.row("redo", redo),
        Direction::Forward => page.row("undo", &format!("fernweh undo {}", site.name)),
    }
    page.finish()
}

/// One run that was turned.
fn step(page: &mut Page, site: &Site, report: &UndoReport) {
    let word = match report.direction {
        Direction::Back => "undone",
        Direction::Forward => "redone",
    };
    page.row(word, &format!("{} of site {}", report.run, site.name));
    page.row("before", &format!("state of {} (kept)", moment(&report.since)));
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
}
