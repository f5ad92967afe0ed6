//! `fernweh move`: the whole journey from one site to another.

mod overlap;
mod plan;
mod refresh;

use super::pack::{self, PackArgs};
use super::preflight;
use super::scan::{self, ScanArgs};
use super::tell::tell;
use super::unpack::{self, UnpackArgs};
use crate::args::{Half, SiteArgs};
use crate::config::Config;
use crate::context::Context;
use crate::render::{Page, Paint, counted, duration, size};
use crate::site::Site;
use crate::{DONE, FINDINGS};
use clap::Args;
use fernweh_core::finding::Severity;
use fernweh_flow::archive::ArchiveReader;
use fernweh_flow::journal::{Journal, Run, State, Step};
use fernweh_flow::preflight::Preflight;
use fernweh_flow::refresh::{Refresh, Refreshed};
use fernweh_flow::scan::ScanReport;
use fernweh_flow::undo::last_change;
use fernweh_flow::unpack::UnpackReport;
use fernweh_ports::{Direction, Kind, Result, Trouble, Watch};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::Instant;

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
    /// Do not open the pages of the new site afterwards
    #[arg(long)]
    pub no_scan: bool,
}

/// What a move has done.
#[derive(Default, Serialize)]
struct MoveReport {
    from: String,
    to: String,
    rehearsed: bool,
    run: String,
    went_on: bool,
    preflight: Preflight,
    archive: Option<String>,
    archive_bytes: u64,
    stages: Vec<(String, f64)>,
    unpacked: UnpackReport,
    refreshed: Vec<Refreshed>,
    /// Whether unpacking began while the site was still being packed.
    at_once: bool,
    #[serde(skip)]
    taken_back: bool,
    scanned: Option<ScanReport>,
    not_scanned: Option<String>,
}

/// Runs the command.
pub fn run(context: &Context, args: &MoveArgs) -> Result<u8> {
    let config = context.config()?;
    let to = args.into.as_deref().unwrap_or(&args.to);
    let doing = |trouble: Trouble| trouble.doing(format!("moving site {} to {to}", args.from));
    let sites = SiteArgs::default();
    let from = Site::resolve(&config, Some(&args.from), &sites).map_err(doing)?;
    let to = Site::resolve(&config, Some(to), &sites)?;
    if from.name == to.name {
        return Err(Trouble::usage("a site cannot move to itself").hint("name two sites"));
    }
    let moving = Moving { context, config: &config, args, from: &from, to: &to };
    moving.run().map_err(doing)
}

/// A move with all that it needs.
struct Moving<'a> {
    context: &'a Context,
    config: &'a Config,
    args: &'a MoveArgs,
    from: &'a Site,
    to: &'a Site,
}

impl Moving<'_> {
    fn run(&self) -> Result<u8> {
        let Self { context, config, args, from, to } = *self;
        let records = context.records(config);
        let refresh = refresh::configured(config);
        let earlier = self.earlier()?;
        let mut report = MoveReport {
            from: from.name.clone(),
            to: to.name.clone(),
            rehearsed: args.rehearse,
            went_on: earlier.is_some(),
            ..MoveReport::default()
        };
        // A move that goes on was agreed to when it began.
        match &earlier {
            Some(run) => context.watch.note(&plan::going_on(run)),
            None => {
                report.preflight = preflight::run(context, config, (from, to), args.only, None)?;
                let plan = plan::text(self, &report.preflight, &refresh)?;
                if report.preflight.has_failed() {
                    context.print(&report, &plan);
                    return Ok(3);
                }
                plan::agree(self, &plan, &report.preflight)?;
            }
        }
        let mut journal = match &earlier {
            Some(run) => Journal::resume(run)?,
            None => records.begin_marked("move", &self.journey(), &from.name, self.mark())?,
        };
        report.run.clone_from(&journal.header.run);
        self.word(
            &format!("begun: {} to {}", from.name, to.name),
            &preflight::amount(&report.preflight),
        );
        match self.stages(&mut journal, &refresh, &mut report) {
            Ok(()) => {}
            Err(trouble) => {
                // Only what was broken off from outside is gone on with; what failed begins anew.
                let broken_off = trouble.lost || trouble.kind == Kind::Interrupted;
                let kept = self.args.keep_archive.is_some() && !report.taken_back;
                if report.taken_back || !(broken_off || kept) {
                    journal.run()?.clear();
                    journal.step(&Step::Discarded, &context.watch)?;
                }
                self.word(&format!("failed: {} to {}", from.name, to.name), &failure(&trouble));
                let trouble = trouble.doing(format!("moving site {} to {}", from.name, to.name));
                return Err(match trouble.kind {
                    Kind::Interrupted if trouble.changed.is_none() => trouble.incomplete(
                        "nothing was changed; type the same command again to go on from here",
                    ),
                    _ => trouble,
                });
            }
        }
        journal.step(&Step::Ended { at: fernweh_flow::now() }, &context.watch)?;
        let text = self.text(&report);
        self.word(&format!("done: {} to {}", from.name, to.name), &text);
        context.print(&report, &text);
        let broken = report.scanned.as_ref().is_some_and(|scanned| !scanned.findings.is_empty());
        let failed = report.refreshed.iter().any(|done| done.failed);
        Ok(if broken || failed { FINDINGS } else { DONE })
    }

    fn stages(
        &self,
        journal: &mut Journal,
        refresh: &Refresh,
        report: &mut MoveReport,
    ) -> Result<()> {
        let archive = self.archive(journal.folder());
        let marks = archive.with_file_name(format!(
            ".{}.partial.marks",
            archive.file_name().unwrap_or_default().to_string_lossy()
        ));
        let begun = marks.exists() || archive.exists() || !journal.run()?.stages().is_empty();
        if !self.args.rehearse && !begun {
            self.carry(journal, report, &archive)?;
        }
        let run = journal.run()?;
        self.stage(journal, report, "packed", |_| {
            if self.is_packed(&run, &archive) {
                return Ok(());
            }
            pack::make(self.context, &self.pack_args(&archive, marks.exists())).map(drop)
        })?;
        report.archive_bytes = std::fs::metadata(&archive).map_or(0, |found| found.len());
        let run = journal.run()?;
        let noted = run.stages().iter().any(|(name, ..)| *name == "unpacked");
        if !self.args.rehearse && !noted && self.stands(&run).unwrap_or(false) {
            // It was broken off between the end of unpacking and the note of it.
            self.note_stage(journal, "unpacked", 0.0)?;
        }
        let word = if self.args.rehearse { "rehearsed" } else { "unpacked" };
        self.stage(journal, report, word, |report| {
            let (unpacked, _) = unpack::make(self.context, &self.unpack_args(&archive), None)?;
            report.unpacked = unpacked;
            Ok(())
        })?;
        if !self.args.rehearse {
            if refresh.has_database_steps() {
                self.stage(journal, report, "emptied", |report| {
                    let (context, config) = (self.context, self.config);
                    let done = refresh::database(context, config, self.to, refresh)?;
                    report.taken_back = done.is_err();
                    report.refreshed = done?;
                    Ok(())
                })?;
            }
            if refresh.has_other_steps() {
                self.stage(journal, report, "refreshed", |report| {
                    report.refreshed.extend(refresh::others(self.context, self.to, refresh)?);
                    Ok(())
                })?;
            }
            if self.to.url.is_some() && !self.args.no_scan {
                self.stage(journal, report, "scanned", |report| {
                    // A site that cannot be scanned has been moved all the same.
                    match scan::make(self.context, &self.scan_args()) {
                        Ok((_, scanned)) => report.scanned = Some(scanned),
                        Err(trouble) if trouble.kind == Kind::Interrupted => return Err(trouble),
                        Err(trouble) => report.not_scanned = Some(trouble.to_string()),
                    }
                    Ok(())
                })?;
            }
        }
        match &self.args.keep_archive {
            Some(path) => report.archive = Some(path.display().to_string()),
            None => {
                let _ = std::fs::remove_file(&archive);
            }
        }
        Ok(())
    }

    /// Whether this move has written its archive to the end, but was broken off before that was
    /// noted.
    fn is_packed(&self, run: &Run, archive: &Path) -> bool {
        let found = ArchiveReader::open(archive).ok();
        found.is_some_and(|found| {
            found.manifest.site == self.from.name && found.manifest.created >= run.header.started
        })
    }

    /// Packs and unpacks at the same time, and notes what of it is complete.
    fn carry(&self, journal: &mut Journal, report: &mut MoveReport, archive: &Path) -> Result<()> {
        let carried = overlap::carry(self, archive)?;
        self.note_stage(journal, "packed", carried.packing)?;
        if let Some(unpacked) = carried.unpacked {
            report.unpacked = unpacked?;
            report.at_once = true;
            self.note_stage(journal, "unpacked", carried.rest)?;
        }
        Ok(())
    }

    /// Runs a stage unless it is complete already, and notes it.
    fn stage(
        &self,
        journal: &mut Journal,
        report: &mut MoveReport,
        name: &str,
        work: impl FnOnce(&mut MoveReport) -> Result<()>,
    ) -> Result<()> {
        let run = journal.run()?;
        if let Some((_, seconds, _)) = run.stages().into_iter().find(|(done, ..)| *done == name) {
            report.stages.push((name.into(), seconds));
            return Ok(());
        }
        self.context.watch.go_on()?;
        let began = Instant::now();
        work(report)?;
        let seconds = began.elapsed().as_secs_f64();
        self.note_stage(journal, name, seconds)?;
        report.stages.push((name.into(), seconds));
        Ok(())
    }

    fn note_stage(&self, journal: &mut Journal, name: &str, seconds: f64) -> Result<()> {
        let step = Step::Stage { name: name.into(), seconds, about: fernweh_flow::now() };
        journal.step(&step, &self.context.watch)?;
        self.context.watch.reached(name);
        Ok(())
    }

    /// What stands as the site of the run: it belongs to two.
    fn journey(&self) -> String {
        format!("{}-to-{}", self.from.name, self.to.name)
    }

    /// What tells the same move from another one.
    fn mark(&self) -> String {
        let MoveArgs { rehearse, only, keep_archive, overwrite, .. } = self.args;
        format!("{rehearse} {only:?} {keep_archive:?} {overwrite}")
    }

    /// The same move, if it was broken off.
    fn earlier(&self) -> Result<Option<Run>> {
        let runs = self.context.records(self.config).runs_of(&self.journey())?;
        let mut same = runs.into_iter().filter(|run| {
            run.is_move() && run.state() == State::Open && run.header.mark == self.mark()
        });
        let Some(run) = same.next() else { return Ok(None) };
        let unpacked = run.stages().iter().any(|(name, ..)| *name == "unpacked");
        if unpacked && !self.stands(&run)? {
            // Its new state was taken back, or another one came: this begins anew.
            run.clear();
            Journal::resume(&run)?.step(&Step::Discarded, &self.context.watch)?;
            return Ok(None);
        }
        Ok(Some(run))
    }

    /// Whether what an earlier run of this move has put in place is in place still.
    fn stands(&self, run: &Run) -> Result<bool> {
        let last = last_change(&self.context.records(self.config), &self.to.name)?;
        let forward = matches!(last.state(), State::InPlace { direction: Direction::Forward, .. });
        Ok(forward && last.header.input == self.archive(&run.folder).display().to_string())
    }

    /// The archive that is made on the way.
    fn archive(&self, folder: &Path) -> PathBuf {
        match &self.args.keep_archive {
            Some(path) => path.clone(),
            None => folder.join(format!("{}.fernweh.tar", self.from.name)),
        }
    }

    fn pack_args(&self, archive: &Path, go_on: bool) -> PackArgs {
        PackArgs {
            site: Some(self.from.name.clone()),
            output: Some(archive.to_owned()),
            sql: None,
            only: self.args.only,
            leave_out: Vec::new(),
            without_rows: Vec::new(),
            tables: Vec::new(),
            outside_links: false,
            // What nobody keeps need not be as small as it can be.
            level: if self.args.keep_archive.is_some() { 3 } else { 1 },
            go_on,
            places: SiteArgs::default(),
        }
    }

    fn unpack_args(&self, archive: &Path) -> UnpackArgs {
        UnpackArgs {
            overwrite: self.args.overwrite,
            preview: self.args.rehearse,
            untouched: self.args.rehearse,
            only: self.args.only,
            ..UnpackArgs::plain(archive.to_owned(), &self.to.name)
        }
    }

    fn scan_args(&self) -> ScanArgs {
        ScanArgs {
            site: Some(self.to.name.clone()),
            // Other hosts are asked slowly; that is for a scan of its own.
            own_only: true,
            trace: false,
            report: None,
            max_pages: 20_000,
            max_depth: 100,
            max_minutes: 240,
            places: SiteArgs::default(),
        }
    }

    fn word(&self, subject: &str, text: &str) {
        tell(self.context, self.config, &format!("Fernweh: {subject}"), text);
    }

    fn text(&self, report: &MoveReport) -> String {
        let mut page = Page::new(self.context.style);
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
            page.more("gone on where an earlier run had stopped");
        }
        let mut label = "stages";
        for (name, seconds) in &report.stages {
            page.row(
                label,
                &format!("{name:<10} {:>8}   {}", duration(*seconds), self.about(report, name)),
            );
            label = "";
        }
        if let Some(archive) = &report.archive {
            page.row("archive", &format!("{archive}, {}", size(report.archive_bytes)));
        }
        page.list("note", report.unpacked.notes.clone());
        page.list(
            "after",
            report.refreshed.iter().map(|done| {
                let (paint, word) =
                    if done.failed { (Paint::Bad, "failed") } else { (Paint::Good, "done") };
                format!(
                    "{}  {}: {}",
                    self.context.style.paint(paint, word),
                    done.what,
                    done.outcome
                )
            }),
        );
        page.gap();
        if report.rehearsed {
            crate::render::rewriting(&mut page, self.context.style, &report.unpacked.rewriting);
            page.gap();
            let over = if report.preflight.there.is_empty() { "" } else { " --overwrite" };
            page.row("next", &format!("fernweh move {} {}{over}", report.from, report.to));
            return page.finish();
        }
        page.row("undo", &format!("fernweh undo {}", report.to));
        page.row("users", "everybody logs in as on the old site: users and passwords came along");
        page.list("yours", plan::of_the_user(self));
        let next = match report.scanned.as_ref().is_some_and(|scanned| !scanned.findings.is_empty())
        {
            true => format!("fernweh scan {} --trace", report.to),
            false => format!(
                "look at {}",
                self.to.url.as_ref().map_or(report.to.clone(), ToString::to_string)
            ),
        };
        page.row("next", &next);
        page.finish()
    }

    /// What a stage has brought.
    fn about(&self, report: &MoveReport, stage: &str) -> String {
        let unpacked = &report.unpacked;
        match stage {
            "packed" if report.at_once => {
                format!("{}, unpacked from its beginning on", size(report.archive_bytes))
            }
            "packed" => size(report.archive_bytes),
            "unpacked" | "rehearsed" if unpacked.tables + unpacked.files > 0 => format!(
                "{}, {}; {} rewritten",
                counted(unpacked.records, "record", "records"),
                counted(unpacked.files, "file", "files"),
                counted(unpacked.rewriting.replaced(), "address", "addresses"),
            ),
            "scanned" => self.about_scan(report),
            _ => String::new(),
        }
    }

    fn about_scan(&self, report: &MoveReport) -> String {
        let Some(scanned) = &report.scanned else {
            return report
                .not_scanned
                .as_ref()
                .map_or_else(|| "earlier".into(), |why| format!("not possible: {why}"));
        };
        let broken =
            |finding: &&fernweh_core::finding::Finding| finding.code.severity() == Severity::Broken;
        let broken = scanned.findings.iter().filter(broken).count() as u64;
        let style = self.context.style;
        let verdict = match (scanned.findings.len() as u64, broken) {
            (0, _) => style.paint(Paint::Good, "nothing wrong was found"),
            (all, 0) => style.paint(Paint::Doubt, &counted(all, "warning", "warnings")),
            (all, broken) => style.paint(
                Paint::Bad,
                &format!(
                    "{}, {}",
                    counted(broken, "thing is broken", "things are broken"),
                    counted(all - broken, "warning", "warnings")
                ),
            ),
        };
        format!("{}; {verdict}", counted(scanned.pages, "page", "pages"))
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
