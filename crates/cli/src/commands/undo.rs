//! `fernweh undo`

use crate::complete::site_names;
use crate::context::Context;
use crate::exit::{DONE, done};
use crate::options::SiteArgs;
use crate::prompt::person;
use crate::render::{Page, counted, moment, refused, size, unpacked};
use crate::site::Site;
use clap::{Args, ValueEnum};
use fernweh_flow::journal::{Records, Run};
use fernweh_flow::run::{Undo, Undone, kept_runs, take_over};
use fernweh_flow::undo::{Stack, UndoReport};
use fernweh_flow::unpack::UnpackReport;
use fernweh_ports::{Direction, Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Instant;

/// Takes back the last change of a site.
///
/// The state before it is put in place again. Typed again it takes back the change
/// before that. What was taken back is kept and can be redone with --to-run until
/// the site is changed in another way. Examples:
///   fernweh undo new
///   fernweh undo new --preview
///   fernweh undo new --let-go
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UndoArgs {
    /// The site's name in fernweh.toml
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// Change nothing: say what would be taken back, or given up
    #[arg(long, alias = "dry-run", short_alias = 'n')]
    pub preview: bool,
    /// Go step by step to the state that this run left behind, back or forward; fernweh runs
    /// lists what is kept
    #[arg(long, value_name = "RUN", conflicts_with = "let_go")]
    pub to_run: Option<String>,
    /// Give up what is kept of this site's earlier states, of all or of the oldest; asks first
    #[arg(
        long,
        value_name = "WHICH",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "all"
    )]
    pub let_go: Option<Which>,
    /// Also take back what another folder or machine has done: its record is read from the
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

/// What was taken back, or would be.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Outcome {
    /// Runs were turned, in this order.
    Turned {
        /// Each of them.
        turned: Vec<UndoReport>,
    },
    /// The old state was unpacked from the archive that the run had made of it.
    Unpacked(Box<UnpackReport>),
    /// Kept states were given up.
    LetGo {
        /// The runs that had kept them.
        let_go: Vec<String>,
    },
    /// Nothing was done.
    Preview {
        /// The runs that would be turned, in this order, or whose kept states would be given up.
        would_turn: Vec<String>,
        /// Bytes that would be freed, as far as that is known.
        would_free: u64,
    },
}

/// Runs the command.
pub fn run(context: &Context, args: &UndoArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let records = context.records(&config);
    if args.preview {
        return preview(context, args, &site, &records);
    }
    if args.trust {
        take_over(&site, context.around(&records))?;
    }
    let undo = match (args.let_go, &args.to_run) {
        (Some(which), _) => {
            let oldest = which == Which::Oldest;
            agree(context, &site, &kept_runs(&records, &site.name, oldest)?)?;
            Undo::LetGo { oldest }
        }
        (None, Some(run)) => Undo::ToRun(run.clone()),
        (None, None) => Undo::LastChange,
    };
    let mut something_refused = false;
    match undo.run(&site, context.around(&records))? {
        Undone::Turned(reports) => {
            let left = Stack::of(&records, &site.name)?;
            let redo = match reports.first() {
                // Where no change stands, the first one comes again.
                Some(first) if !left.standing.is_empty() || reports.len() > 1 => {
                    format!("fernweh undo {} --to-run {}", site.name, first.run)
                }
                _ => format!("fernweh undo {}", site.name),
            };
            let refused = |report: &UndoReport| {
                report.taken_back.as_ref().is_some_and(|taken| !taken.refused.is_empty())
            };
            something_refused = reports.iter().any(refused);
            let text = text(context, &site, &reports, &redo);
            context.print_done(&Outcome::Turned { turned: reports }, &text);
        }
        Undone::Unpacked(report) => {
            let seconds = began.elapsed().as_secs_f64();
            let text = unpacked(context.style, &site, &report, seconds);
            context.print_done(&Outcome::Unpacked(report), &text);
        }
        Undone::LetGo(given) => {
            let page = let_go(context, &site, &given);
            context.print_done(&Outcome::LetGo { let_go: given }, &page);
        }
    }
    Ok(done(something_refused))
}

/// Says what would be done, and does nothing.
fn preview(context: &Context, args: &UndoArgs, site: &Site, records: &Records) -> Result<u8> {
    let stack = Stack::of(records, &site.name)?;
    let runs = match (args.let_go, &args.to_run) {
        (Some(which), _) => kept_runs(records, &site.name, which == Which::Oldest)?,
        (None, Some(name)) => stack.way_to(name)?,
        (None, None) => stack.next().cloned().into_iter().collect(),
    };
    let mut page = Page::new(context.style);
    page.row("preview", "nothing was changed");
    let back = stack.standing.iter().map(|run| run.header.run.as_str()).collect::<Vec<_>>();
    let word = |run: &Run| match (args.let_go, back.contains(&run.header.run.as_str())) {
        (Some(_), _) => "would give up the state kept by",
        (None, true) => "would take back",
        (None, false) => "would redo",
    };
    let lines = runs.iter().map(|run| format!("{} {}", word(run), run.header.run));
    page.list("undo", lines);
    if runs.is_empty() {
        page.row("undo", &format!("no change of site {} is kept", site.name));
    }
    let would_free = match args.let_go {
        Some(_) => freed(&runs),
        None => 0,
    };
    if would_free > 0 {
        page.row("frees", &size(would_free));
    }
    if !runs.is_empty() {
        page.gap();
        page.row("next", &context.typed.for_real(&[]));
    }
    let would_turn = runs.into_iter().map(|run| run.header.run).collect();
    context.print(&Outcome::Preview { would_turn, would_free }, &page.finish());
    Ok(DONE)
}

/// Bytes that these runs keep, as far as that is known.
fn freed(runs: &[Run]) -> u64 {
    runs.iter().filter_map(Run::kept_bytes).sum()
}

/// Says what goes for good and how much it frees, and asks.
fn agree(context: &Context, site: &Site, runs: &[Run]) -> Result<()> {
    if runs.is_empty() || context.yes() {
        return Ok(());
    }
    let mut page = Page::new(context.style);
    let line = |run: &Run| {
        let room = run.kept_bytes().filter(|bytes| *bytes > 0);
        let room = room.map(|bytes| format!(", {}", size(bytes))).unwrap_or_default();
        format!("the state kept by {}{room}", run.header.run)
    };
    page.list("gives up", runs.iter().map(line));
    page.row(
        "frees",
        &match freed(runs) {
            0 => "not known how much".to_owned(),
            bytes => size(bytes),
        },
    );
    page.arrow(0, &format!("site {} cannot go back to it any more", site.name));
    context.say(&page.finish());
    match person().agrees("\ngo on?") {
        Some(true) => Ok(()),
        Some(false) => Err(Trouble::interrupted("not given up").because("you did not agree")),
        None => Err(Trouble::usage("giving up kept states needs confirmation")
            .because("without a terminal nobody can be asked")
            .hint("add --yes")),
    }
}

fn let_go(context: &Context, site: &Site, given: &[String]) -> String {
    let mut page = Page::new(context.style);
    if given.is_empty() {
        page.row("given up", &format!("nothing was kept of site {}", site.name));
    }
    page.list("given up", given.iter().map(|run| format!("the state kept by {run}")));
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
    let came = report.written.iter().any(|written| written.records > 0);
    if report.changed_since || came {
        page.arrow(0, "they are not in the present state; they are kept with the other one");
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
