//! `fernweh runs`

use crate::complete::site_names;
use crate::context::Context;
use crate::exit::DONE;
use crate::options::SiteArgs;
use crate::render::{Page, Paint, aligned, cut_middle, duration, moment};
use crate::site::Site;
use clap::Args;
use fernweh_flow::noted::{KeptNote, elsewhere};
use fernweh_flow::run::discard_run;
use fernweh_flow::runs::{RunLine, runs};
use fernweh_ports::{Result, Trouble, size};
use schemars::JsonSchema;
use serde::Serialize;

/// Lists what ran, how it ended, and what is unfinished.
///
/// With a site it also lists what other folders and machines keep there. Examples:
///   fernweh runs
///   fernweh runs new
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct RunsArgs {
    /// Only those of this site; and what others keep there
    #[arg(conflicts_with = "discard", add = site_names())]
    pub site: Option<String>,
    /// Clean up an unfinished run
    #[arg(long, value_name = "RUN")]
    pub discard: Option<String>,
    /// With --discard: change nothing, and say what would be cleaned up
    #[arg(long, alias = "dry-run", short_alias = 'n', requires = "discard")]
    pub preview: bool,
}

/// What ran, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Listed {
    /// The runs, the oldest first; times in UTC.
    runs: Vec<RunLine>,
    /// What is kept at the site by runs of other folders and machines, if a site was named.
    #[serde(skip_serializing_if = "Option::is_none")]
    elsewhere: Option<Vec<KeptNote>>,
}

/// What was cleaned up, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Discarded {
    /// The run.
    discarded: String,
    /// Whether nothing was done yet.
    preview: bool,
}

/// Runs the command.
pub fn run(context: &Context, args: &RunsArgs) -> Result<u8> {
    let config = context.config()?;
    let records = context.records(&config);
    if let Some(name) = &args.discard {
        return clean_up(context, name, args.preview);
    }
    let mut found = runs(&records)?;
    let Some(name) = &args.site else {
        let text = text(context, &found, "", &[]);
        context.print(&Listed { runs: found, elsewhere: None }, &text);
        return Ok(DONE);
    };
    let site = Site::resolve(&config, Some(name), &SiteArgs::default())?;
    found.retain(|run| run.site == site.name);
    let others = elsewhere(&site, &records)?;
    let text = text(context, &found, &site.name, &others);
    context.print(&Listed { runs: found, elsewhere: Some(others) }, &text);
    Ok(DONE)
}

fn clean_up(context: &Context, name: &str, preview: bool) -> Result<u8> {
    let config = context.config()?;
    let records = context.records(&config);
    if preview {
        let found = runs(&records)?.into_iter().find(|run| run.run == name);
        let found = found.ok_or_else(|| {
            Trouble::usage(format!("there is no run `{name}`")).hint("fernweh runs lists them")
        })?;
        let mut page = Page::new(context.style);
        page.row("preview", "nothing was changed");
        let what = match found.state.as_str() {
            "unfinished" => format!("{name} would be cleaned up"),
            state => format!("{name} is {state}, not unfinished: nothing would be done"),
        };
        page.row("discard", &what);
        let document = Discarded { discarded: name.to_owned(), preview };
        context.print(&document, &page.finish());
        return Ok(DONE);
    }
    let run = discard_run(name, context.around(&records), |site| {
        Site::resolve(&config, Some(site), &SiteArgs::default())
    })?;
    let mut page = Page::new(context.style);
    let what = match run.is_move() {
        // What it changed belongs to other runs.
        true => "its archive is removed".to_owned(),
        false => format!("site {} is as it was before", run.header.site),
    };
    page.row("cleaned up", &format!("{name}; {what}"));
    context.print_done(&Discarded { discarded: name.to_owned(), preview }, &page.finish());
    Ok(DONE)
}

/// When something ran, what it was, how it ended, and how long it took.
fn head(context: &Context, run: &RunLine) -> Vec<String> {
    let paint = match run.state.as_str() {
        "done" | "undone" | "nothing wrong" => Paint::Good,
        "half switched" | "unfinished" | "emptied" => Paint::Bad,
        _ => Paint::Quiet,
    };
    let state = context.style.paint(paint, &run.state);
    vec![
        moment(&run.started),
        format!("{} {}", run.command, run.site.replace("-to-", " to ")),
        match run.seconds.filter(|_| run.is_change()) {
            Some(seconds) => format!("{state}, {}", took(seconds)),
            None => state,
        },
    ]
}

/// What went into a run: of an archive that a move has made on the way, that move.
fn input(run: &RunLine) -> &str {
    match run.input.split_once(".fernweh/runs/") {
        Some((_, rest)) => rest.split('/').next().unwrap_or(rest),
        None => &run.input,
    }
}

/// How long a run took; its record knows whole seconds.
fn took(seconds: f64) -> String {
    if seconds < 1.0 { "under 1 s".into() } else { duration(seconds) }
}

/// The runs of all sites, or of one, with what others keep there.
fn text(context: &Context, found: &[RunLine], site: &str, others: &[KeptNote]) -> String {
    let mut page = Page::new(context.style);
    if found.is_empty() {
        page.row("runs", "none yet in this folder");
    }
    let heads: Vec<Vec<String>> = found.iter().map(|run| head(context, run)).collect();
    let mut label = "runs";
    for (run, line) in found.iter().zip(aligned(&heads, &[])) {
        page.row(label, &line);
        label = "";
        let room = context.style.width.saturating_sub(16);
        if run.is_change() {
            page.exact(&format!("  {}", run.run));
        }
        let stage = |(name, seconds): &(String, f64)| format!("{name} {}", duration(*seconds));
        let stages: Vec<String> = run.stages.iter().map(stage).collect();
        match stages.is_empty() {
            true if run.command != "move" => {
                page.exact(&format!("  {}", cut_middle(input(run), room)));
            }
            true => {}
            false => page.exact(&format!("  {}", stages.join(", "))),
        }
        let kept = match (run.kept, run.state.as_str()) {
            (false, _) => continue,
            (true, "undone") => "can be redone",
            (true, _) => "undo possible",
        };
        match run.kept_bytes.filter(|bytes| *bytes > 0) {
            Some(bytes) => page.exact(&format!("  {kept}, {} kept", size(bytes))),
            None => page.exact(&format!("  {kept}")),
        }
    }
    if !others.is_empty() {
        let kept = |note: &KeptNote| {
            format!("{}, begun {} by {}", note.run, moment(&note.started), note.by)
        };
        page.gap();
        page.list("elsewhere", others.iter().map(kept));
        page.arrow(0, &format!("undo it there; or take it over with: fernweh undo {site} --trust"));
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
