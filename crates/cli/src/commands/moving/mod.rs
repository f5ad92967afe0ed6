//! `fernweh move`: the whole journey from one site to another.

mod plan;
mod text;

use crate::comparing::comparison;
use crate::complete::site_names;
use crate::config::{AfterSection, BeforeSection, Config};
use crate::context::Context;
use crate::exit::{DONE, REFUSED, done};
use crate::options::{Half, SiteArgs};
use crate::render::{Page, amount};
use crate::rules;
use crate::run_log::Memory;
use crate::site::Site;
use crate::tell::notify;
use clap::{Args, ValueHint};
use fernweh_flow::journal::Run;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::preflight::Preflight;
use fernweh_flow::run::{Move, MoveReport, Scan, Witness};
use fernweh_ports::{Progress, Result, Trouble};
use std::path::PathBuf;

/// Moves a site: tests, packs, unpacks, rewrites and scans.
///
/// Shows a plan and asks before anything changes. What is replaced is kept for
/// `fernweh undo TO`. Typed again after a break, it goes on where it stopped.
/// Examples:
///   fernweh move old new --preview
///   fernweh move old new --rehearse
///   fernweh move old new --overwrite
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct MoveArgs {
    /// The site that is read
    #[arg(add = site_names())]
    pub from: String,
    /// The site that is written
    #[arg(add = site_names())]
    pub to: String,
    /// Test both ends, show the plan, and stop; the tests write a table and files at the
    /// destination and remove them again
    #[arg(long, alias = "dry-run", short_alias = 'n', conflicts_with = "rehearse")]
    pub preview: bool,
    /// Do everything but write: also pack the site, and give the numbers of rewriting
    #[arg(long)]
    pub rehearse: bool,
    /// Replace what is there; it is kept for undo
    #[arg(long)]
    pub overwrite: bool,
    /// Keep the archive that is made on the way, under this name
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub keep_archive: Option<PathBuf>,
    /// Move only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Where the folder of TO is a mount point: replace its entries one by one; for some
    /// seconds visitors see a mixture
    #[arg(long)]
    pub entry_by_entry: bool,
    /// Do not open the pages of the new site afterwards
    #[arg(long)]
    pub no_scan: bool,
    /// Compare both sites at last: structure, records, files, pages
    #[arg(long)]
    pub compare: bool,
    /// Show a notice at FROM until it is moved, so that nobody writes there meanwhile; it ends by
    /// itself
    #[arg(long, conflicts_with_all = ["preview", "rehearse"])]
    pub quiet_source: bool,
}

/// Runs the command.
pub fn run(context: &Context, args: &MoveArgs) -> Result<u8> {
    let config = context.config()?;
    let (from, to) = (&args.from, &args.to);
    let doing = |trouble: Trouble| trouble.doing(format!("moving site {from} to {to}"));
    let sites = SiteArgs::default();
    let from = Site::resolve(&config, Some(from), &sites).map_err(doing)?;
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
    if report.preflight.has_failed() || args.preview {
        let mut plan = at.plan(&report.preflight);
        let failed = report.preflight.has_failed();
        plan.push_str(&what_comes_next(&at, &report.preflight));
        if !args.preview {
            at.word(&format!("not begun, a test failed: {} to {}", from.name, to.name), &plan);
        }
        context.print(&report, &plan);
        return Ok(if failed { REFUSED } else { DONE });
    }
    let memory = Memory::of(&config, &records, &to.name);
    report.scanned.iter().for_each(|scanned| memory.scanned(scanned));
    report.compared.iter().for_each(|compared| memory.compared(compared));
    let text = text::moved(context, &report, &from, &to);
    let complete = is_complete(&report);
    let word = if complete { "done" } else { "done, and there is something to look at" };
    at.word(&format!("{word}: {} to {}", from.name, to.name), &text);
    match report.rehearsed {
        true => context.print(&report, &text),
        false => context.print_done(&report, &text),
    }
    Ok(done(!complete))
}

/// The last lines of a plan that was not carried out.
fn what_comes_next(at: &Terminal<'_>, found: &Preflight) -> String {
    let mut page = Page::new(at.context.style);
    page.gap();
    let (from, to) = (&at.from.name, &at.to.name);
    let next = match (found.has_failed(), found.there.is_empty() || at.args.overwrite) {
        (true, _) => format!("fix what failed, then: fernweh survey {from} --for {to}"),
        (false, true) => at.context.typed.for_real(&[]),
        (false, false) => at.context.typed.for_real(&["--overwrite"]),
    };
    page.row("next", &next);
    format!("\n{}", page.finish())
}

/// Whether every step was taken, and nothing is left to look at.
fn is_complete(report: &MoveReport) -> bool {
    let found = report.scanned.as_ref().is_some_and(|scanned| !scanned.is_fine(None));
    let failed = report.refreshed.iter().any(|done| done.failed);
    let differs = report.compared.as_ref().is_some_and(|compared| !compared.identical);
    let unseen = report.not_scanned.is_some() || report.not_compared.is_some();
    !(found || failed || differs || unseen) && report.unpacked.is_whole()
}

fn options<'a>(args: &MoveArgs, config: &Config, from: &'a Site, to: &'a Site) -> Result<Move<'a>> {
    let (packing, unpacking) = (config.packing(&from.name), config.unpacking(&to.name));
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
        preview: args.preview,
        rehearse: args.rehearse,
        overwrite: args.overwrite,
        wanted: Half::halves(args.only),
        halves: from.halves_to_pack(args.only)?,
        keep_archive: args.keep_archive.clone(),
        leave_out: Patterns::of_paths(&packing.leave_out)?,
        without_rows: Patterns::of_tables(&packing.without_rows)?,
        keep: Patterns::of_paths(&unpacking.keep)?,
        kept_bounds: unpacking.kept_bounds(),
        notice: config.before(&to.name).map(BeforeSection::notice).unwrap_or_default(),
        entry_by_entry: args.entry_by_entry,
        prefix_in: unpacking.prefix_in.clone(),
        rules: rules::configured(config, &to.name)?,
        refresh: config.after(&to.name).map(AfterSection::refresh).unwrap_or_default(),
        scan,
        compare: args.compare.then(|| comparison(config, from, to)).transpose()?,
        quiet_source: args.quiet_source,
    })
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
