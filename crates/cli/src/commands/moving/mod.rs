//! `fernweh move`: the whole journey from one site to another.

mod plan;
mod text;

use crate::config::{Config, Emptied, Requested};
use crate::context::Context;
use crate::exit::{DONE, FINDINGS, REFUSED};
use crate::options::{Half, SiteArgs};
use crate::render::amount;
use crate::rules;
use crate::site::Site;
use crate::tell::notify;
use clap::Args;
use fernweh_flow::journal::Run;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::preflight::Preflight;
use fernweh_flow::refresh::Refresh;
use fernweh_flow::run::{Move, MoveReport, Scan, Witness};
use fernweh_ports::{Progress, Result, Trouble};
use std::path::PathBuf;

/// Move a site to another place: test, pack, unpack with rewriting, refresh, scan
///
/// Shows a plan and asks before anything changes. What is replaced is kept; fernweh undo
/// brings it back. A move that was broken off goes on with the same command. Examples:
///   fernweh move old new --rehearse
///   fernweh move old new --overwrite
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct MoveArgs {
    /// The site that is read
    pub from: String,
    /// The site that is written
    pub to: String,
    /// Do everything but write: test, pack, and give the numbers of rewriting; the tests write
    /// a table and files at the destination and take them away again
    #[arg(long)]
    pub rehearse: bool,
    /// Move to this other site instead, a staging copy
    #[arg(long, value_name = "SITE")]
    pub into: Option<String>,
    /// Replace what is there; it is kept for undo
    #[arg(long)]
    pub overwrite: bool,
    /// Keep the archive that is made on the way, under this name
    #[arg(long, value_name = "FILE")]
    pub keep_archive: Option<PathBuf>,
    /// Move only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Where the folder of TO is a mount point: its entries change places one by one, and for
    /// some seconds visitors see a mixture
    #[arg(long)]
    pub entry_by_entry: bool,
    /// Do not open the pages of the new site afterwards
    #[arg(long)]
    pub no_scan: bool,
}

/// Runs the command.
pub fn run(context: &Context, args: &MoveArgs) -> Result<u8> {
    let config = context.config()?;
    let to = args.into.as_deref().unwrap_or(&args.to);
    let doing = |trouble: Trouble| trouble.doing(format!("moving site {} to {to}", args.from));
    let sites = SiteArgs::default();
    let from = Site::resolve(&config, Some(&args.from), &sites).map_err(doing)?;
    let to = Site::resolve(&config, Some(to), &sites)?;
    let options = options(args, &config, &from, &to).map_err(doing)?;
    let mut at = Terminal {
        context,
        config: &config,
        args,
        options: &options,
        from: &from,
        to: &to,
        has_told_failure: false,
    };
    let records = context.records(&config);
    let report = options.run(context.around(&records), &mut at).inspect_err(|trouble| {
        // What fails once it has begun has told so itself.
        if !at.has_told_failure {
            at.word(&format!("not begun: {} to {}", from.name, to.name), &failure(trouble));
        }
    })?;
    if report.preflight.has_failed() {
        let plan = at.plan(&report.preflight);
        at.word(&format!("not begun, a test failed: {} to {}", from.name, to.name), &plan);
        context.print(&report, &plan);
        return Ok(REFUSED);
    }
    let text = text::moved(context.style, &report, &from, &to);
    let complete = is_complete(&report);
    let word = if complete { "done" } else { "done, and there is something to look at" };
    at.word(&format!("{word}: {} to {}", from.name, to.name), &text);
    context.print(&report, &text);
    Ok(if complete { DONE } else { FINDINGS })
}

/// Whether every step was taken, and nothing is left to look at.
fn is_complete(report: &MoveReport) -> bool {
    let found = report.scanned.as_ref().is_some_and(|scanned| !scanned.findings.is_empty());
    let failed = report.refreshed.iter().any(|done| done.failed);
    !found && !failed && report.not_scanned.is_none() && report.unpacked.is_whole()
}

fn options<'a>(args: &MoveArgs, config: &Config, from: &'a Site, to: &'a Site) -> Result<Move<'a>> {
    let content = &config.content;
    let url = to.url.as_ref().map(ToString::to_string);
    let scan = match args.no_scan {
        true => None,
        false => {
            let old = rules::old_addresses(config, &to.name, url.as_deref())?;
            Some(Scan::own_pages(old))
        }
    };
    Ok(Move {
        from,
        to,
        rehearse: args.rehearse,
        overwrite: args.overwrite,
        wanted: Half::halves(args.only),
        halves: from.halves_to_pack(args.only)?,
        keep_archive: args.keep_archive.clone(),
        leave_out: Patterns::of_paths(&content.pack.leave_out)?,
        without_rows: Patterns::of_tables(&content.pack.without_rows)?,
        keep: Patterns::of_paths(&content.unpack.keep)?,
        kept_bounds: content.unpack.kept_bounds(),
        notice: content.before.notice(),
        entry_by_entry: args.entry_by_entry,
        prefix_in: content.unpack.prefix_in.clone(),
        rules: rules::configured(config, &to.name)?,
        refresh: refresh(config),
        scan,
    })
}

/// What is to be done after the new state is in place.
fn refresh(config: &Config) -> Refresh {
    let section = &config.content.after;
    let empty = section.empty.iter().map(|one| match one {
        Emptied::All(tables) => (tables.clone(), None),
        Emptied::Some { tables, r#where } => (tables.clone(), Some(r#where.clone())),
    });
    let request = section.request.iter().map(Requested::expected);
    Refresh {
        empty: empty.collect(),
        sql: section.sql.clone(),
        remove: section.remove.clone(),
        command: section.command.clone(),
        request: request.collect(),
    }
}

/// Whoever is at the terminal, and those to whom word is passed on.
struct Terminal<'a> {
    context: &'a Context,
    config: &'a Config,
    args: &'a MoveArgs,
    options: &'a Move<'a>,
    from: &'a Site,
    to: &'a Site,
    /// Word of a failure is out.
    has_told_failure: bool,
}

impl Terminal<'_> {
    fn word(&self, subject: &str, text: &str) {
        notify(&self.context.progress, self.config, &format!("Fernweh: {subject}"), text);
    }

    fn plan(&self, found: &Preflight) -> String {
        plan::text(self, found)
    }
}

impl Witness for Terminal<'_> {
    fn goes_on(&mut self, run: &Run) {
        self.context.progress.note(&plan::going_on(run));
    }

    fn agree(&mut self, preflight: &Preflight) -> Result<()> {
        plan::agree(self, &self.plan(preflight), preflight)
    }

    fn begun(&mut self, report: &MoveReport) {
        let subject = format!("begun: {} to {}", report.from, report.to);
        self.word(&subject, &amount(&report.preflight));
    }

    fn failed(&mut self, trouble: &Trouble) {
        let subject = format!("failed: {} to {}", self.from.name, self.to.name);
        self.word(&subject, &failure(trouble));
        self.has_told_failure = true;
    }
}

/// An error as it stands in a message.
fn failure(trouble: &Trouble) -> String {
    let mut text = format!("{trouble}\n");
    for (label, part) in
        [("where", &trouble.place), ("try", &trouble.hint), ("state", &trouble.changed)]
    {
        if let Some(part) = part {
            text.push_str(&format!("{label}: {part}\n"));
        }
    }
    text
}
