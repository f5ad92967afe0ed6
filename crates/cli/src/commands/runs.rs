//! `fernweh runs`

use crate::context::Context;
use crate::exit::DONE;
use crate::options::SiteArgs;
use crate::render::{Page, Paint, aligned, cut_middle, duration, moment};
use crate::site::Site;
use clap::Args;
use fernweh_flow::noted::{KeptNote, elsewhere};
use fernweh_flow::run::discard_run;
use fernweh_flow::runs::{RunLine, runs};
use fernweh_ports::{Result, size};

/// What ran, how it ended, what is unfinished
///
/// With a site, what is kept there by runs of other folders and machines is listed, too. Examples:
///   fernweh runs new
///   fernweh runs --discard 2026-11-23-091000-unpack-new-0a1b2c3d4e
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct RunsArgs {
    /// Only those of this site; and what others keep there
    #[arg(conflicts_with = "discard")]
    pub site: Option<String>,
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
    let mut found = runs(&records)?;
    let Some(name) = &args.site else {
        context.print(&found, &text(context, &found, "", &[]));
        return Ok(DONE);
    };
    let site = Site::resolve(&config, Some(name), &SiteArgs::default())?;
    found.retain(|run| run.site == site.name);
    let others = elsewhere(&site, &records)?;
    let text = text(context, &found, &site.name, &others);
    context.print(&serde_json::json!({ "runs": found, "elsewhere": others }), &text);
    Ok(DONE)
}

fn clean_up(context: &Context, name: &str) -> Result<u8> {
    let config = context.config()?;
    let records = context.records(&config);
    let run = discard_run(name, context.around(&records), |site| {
        Site::resolve(&config, Some(site), &SiteArgs::default())
    })?;
    let mut page = Page::new(context.style);
    let what = match run.is_move() {
        // What it changed belongs to other runs.
        true => "its archive is removed".to_owned(),
        false => format!("site {} stands as before", run.header.site),
    };
    page.row("cleaned up", &format!("{name}; {what}"));
    context.print(&serde_json::json!({ "discarded": name }), &page.finish());
    Ok(DONE)
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
    let rows: Vec<Vec<String>> = found
        .iter()
        .map(|run| {
            let paint = match run.state.as_str() {
                "done" | "undone" => Paint::Good,
                "half switched" | "unfinished" | "emptied" => Paint::Bad,
                _ => Paint::Quiet,
            };
            let kept = match (run.kept, run.state.as_str()) {
                (false, _) => "",
                (true, "undone") => "can come again",
                (true, _) => "undo possible",
            };
            let room = run.kept_bytes.filter(|bytes| *bytes > 0);
            let room = room.map(|bytes| format!("{} kept", size(bytes)));
            vec![
                run.run.clone(),
                context.style.paint(paint, &run.state),
                run.seconds.map(took).unwrap_or_default(),
                kept.into(),
                room.unwrap_or_default(),
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
