//! `fernweh undo`

use super::unpack;
use crate::DONE;
use crate::args::SiteArgs;
use crate::config::Config;
use crate::context::Context;
use crate::render::{Page, counted, moment, refused};
use crate::site::Site;
use clap::Args;
use fernweh_flow::journal::{Records, State};
use fernweh_flow::undo::{UndoReport, last_change, let_go, turn_rewrite, turn_unpack};
use fernweh_ports::{Direction, Result, Trouble, Watch};

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
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let doing = |trouble: Trouble| {
        trouble.doing(format!("taking back the last change of site {}", site.name))
    };
    run_inner(context, args, &config, &site).map_err(doing)
}

fn run_inner(context: &Context, args: &UndoArgs, config: &Config, site: &Site) -> Result<u8> {
    let records = context.records(config);
    let lock = records.lock(&site.name)?;
    if args.let_go {
        return give_up(context, site, &records);
    }
    let run = last_change(&records, &site.name)?;
    let switching = matches!(run.state(), State::Switching(..));
    if run.set_aside().is_some() && !switching {
        // Unpacking takes the lock itself.
        drop(lock);
        let name = &run.header.run;
        context.watch.note(&format!("taking back {name}: its old state is in an archive\n"));
        return unpack::bring_back(context, site, &run, &args.places).map(|()| DONE);
    }
    let report = if run.header.command == "rewrite" {
        let halves = (site.database.is_some(), site.files.is_some());
        site.with_parts(halves, &mut |parts| turn_rewrite(&run, parts, &context.watch))?
    } else {
        let halves = (site.database.is_some(), site.files.is_some());
        site.with_targets(&run.header.run, halves, false, &mut |targets| {
            turn_unpack(&run, targets, &context.watch)
        })?
    };
    context.print(&report, &text(context, site, &report));
    Ok(DONE)
}

fn give_up(context: &Context, site: &Site, records: &Records) -> Result<u8> {
    let mut given = Vec::new();
    for run in records.runs_of(&site.name)? {
        if !matches!(run.state(), State::InPlace { .. }) {
            continue;
        }
        let halves = (site.database.is_some(), site.files.is_some());
        site.with_targets(&run.header.run, halves, false, &mut |targets| {
            let_go(&run, targets, &context.watch)
        })?;
        given.push(run.header.run.clone());
    }
    let mut page = Page::new(context.style);
    if given.is_empty() {
        page.row("let go", &format!("nothing was kept of site {}", site.name));
    }
    page.list("let go", given.iter().map(|run| format!("what {run} had kept")));
    context.print(&serde_json::json!({ "let_go": given }), &page.finish());
    Ok(DONE)
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
