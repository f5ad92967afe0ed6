//! `fernweh runs`

use crate::DONE;
use crate::args::SiteArgs;
use crate::context::Context;
use crate::render::{Page, Paint, aligned, cut_middle, duration, moment};
use crate::site::Site;
use clap::Args;
use fernweh_flow::journal::{Journal, Run, State, Step};
use fernweh_flow::runs::{RunLine, runs};
use fernweh_flow::unpack::discard;
use fernweh_ports::{Result, Trouble};

/// What ran, how it ended, what is unfinished
///
/// Example:
///   fernweh runs --discard 2026-11-23-091000-unpack-new
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct RunsArgs {
    /// Clean up an unfinished run
    #[arg(long, value_name = "RUN")]
    pub discard: Option<String>,
}

/// Runs the command.
pub fn run(context: &Context, args: &RunsArgs) -> Result<u8> {
    let config = context.config()?;
    let records = context.records(&config);
    if let Some(name) = &args.discard {
        return clean_up(context, name);
    }
    let found = runs(&records)?;
    context.print(&found, &text(context, &found));
    Ok(DONE)
}

fn clean_up(context: &Context, name: &str) -> Result<u8> {
    let config = context.config()?;
    let records = context.records(&config);
    let all = records.runs()?;
    let run = all.iter().find(|run| run.header.run == *name).ok_or_else(|| {
        Trouble::usage(format!("there is no run `{name}`")).hint("fernweh runs lists them")
    })?;
    if run.is_move() && run.state() == State::Open {
        return drop_move(context, run);
    }
    let site_name = run.header.site.clone();
    let _lock = records.lock(&site_name)?;
    match run.state() {
        State::Open if run.builds() => {}
        State::Switching(..) => {
            return Err(Trouble::usage("this run is in the middle of its switch")
                .because("the site stands half on its old state and half on its new one")
                .hint(format!(
                    "type its command again to complete it, or fernweh undo {site_name}"
                )));
        }
        State::Open => {
            return Err(Trouble::usage("this rewriting has changed cells already")
                .hint(format!("fernweh undo {site_name} takes it back")));
        }
        _ => {
            return Err(
                Trouble::usage("this run is not unfinished").hint("fernweh runs shows its state")
            );
        }
    }
    let site = Site::resolve(&config, Some(&site_name), &SiteArgs::default())?;
    let halves = (site.database.is_some(), site.files.is_some());
    site.with_targets(name, halves, false, &mut |targets| {
        discard(&mut Journal::resume(run)?, targets, &context.watch)
    })?;
    let mut page = Page::new(context.style);
    page.row("cleaned up", &format!("{name}; site {site_name} stands as before"));
    context.print(&serde_json::json!({ "discarded": name }), &page.finish());
    Ok(DONE)
}

/// How long a run took; its record knows whole seconds.
fn took(seconds: f64) -> String {
    if seconds < 1.0 { "under 1 s".into() } else { duration(seconds) }
}

/// A move that was broken off leaves an archive; what it changed belongs to other runs.
fn drop_move(context: &Context, run: &Run) -> Result<u8> {
    run.clear();
    Journal::resume(run)?.step(&Step::Discarded, &context.watch)?;
    let mut page = Page::new(context.style);
    page.row("cleaned up", &format!("{}; its archive is removed", run.header.run));
    context.print(&serde_json::json!({ "discarded": run.header.run }), &page.finish());
    Ok(DONE)
}

fn text(context: &Context, found: &[RunLine]) -> String {
    let mut page = Page::new(context.style);
    if found.is_empty() {
        page.row("runs", "none yet in this folder");
        return page.finish();
    }
    let rows: Vec<Vec<String>> = found
        .iter()
        .map(|run| {
            let paint = match run.state.as_str() {
                "done" | "undone" => Paint::Good,
                "half switched" | "unfinished" | "emptied" => Paint::Bad,
                _ => Paint::Quiet,
            };
            let kept = if run.kept { "undo possible" } else { "" };
            vec![
                run.run.clone(),
                context.style.paint(paint, &run.state),
                run.seconds.map(took).unwrap_or_default(),
                kept.into(),
            ]
        })
        .collect();
    let mut label = "runs";
    for (run, line) in found.iter().zip(aligned(&rows, &[])) {
        page.row(label, &line);
        label = "";
        let stage = |(name, seconds): &(String, f64)| format!("{name} {}", duration(*seconds));
        let stages: Vec<String> = run.stages.iter().map(stage).collect();
        let input = cut_middle(&run.input, context.style.width.saturating_sub(16));
        let more = if stages.is_empty() { input } else { stages.join(", ") };
        page.exact(&format!("  {more}"));
    }
    if let Some(open) = found
        .iter()
        .find(|run| matches!(run.state.as_str(), "unfinished" | "half switched" | "emptied"))
    {
        page.gap();
        let next = match (open.command.as_str(), open.state.as_str()) {
            ("unpack" | "preview" | "move", "unfinished") => {
                format!("fernweh runs --discard {}", open.run)
            }
            _ => format!("fernweh undo {}", open.site),
        };
        page.row(
            "next",
            &format!("type the unfinished command of {} again, or: {next}", moment(&open.started)),
        );
    }
    page.finish()
}
