//! `fernweh unpack`

use super::rules;
use crate::DONE;
use crate::args::{Half, SiteArgs};
use crate::config::Config;
use crate::context::Context;
use crate::render::{Page, counted, duration, left_out, rewriting, size};
use crate::site::Site;
use clap::Args;
use fernweh_core::rewrite::Rewriter;
use fernweh_core::settings::Setting;
use fernweh_flow::archive::ArchiveReader;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::unpack::{
    Replaced, UnpackOptions, UnpackReport, look_before, preview, settle_earlier, unpack,
};
use fernweh_ports::{Direction, Result, Trouble};
use std::path::PathBuf;
use std::time::Instant;

/// Unpack an archive into a site, rewriting its addresses on the way
///
/// The new state is built beside the old one, checked, and put in place at the end.
/// What it replaces is kept until `fernweh undo SITE`, or `undo SITE --let-go`. All
/// users and passwords of the old site work on the new one. Example:
///   fernweh unpack old-2026-11-23-0910.fernweh.tar new --preview
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UnpackArgs {
    /// The archive
    pub archive: PathBuf,
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// Replace what is there; it is kept for undo
    #[arg(long)]
    pub overwrite: bool,
    /// Leave addresses and settings as they are
    #[arg(long)]
    pub as_is: bool,
    /// Change nothing, and give the numbers of rewriting
    #[arg(long)]
    pub preview: bool,
    /// Unpack only one half of the archive
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Take links along that point out of the site
    #[arg(long)]
    pub outside_links: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Runs the command.
pub fn run(context: &Context, args: &UnpackArgs) -> Result<u8> {
    let doing = |trouble: Trouble| trouble.doing(format!("unpacking {}", args.archive.display()));
    run_inner(context, args).map_err(doing)
}

fn run_inner(context: &Context, args: &UnpackArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let records = context.records(&config);
    let archive = ArchiveReader::open(&args.archive)?;
    let halves = halves(&archive, &site, args.only)?;
    let rewriter = rewriter(&config, &archive, &site, args.as_is)?;
    let holds = |table: &str| site.holds_table(table);
    let as_is = args.as_is;
    let setting = |one: &Setting, all: &[Setting]| site.setting(one, all).filter(|_| !as_is);
    let mut keep = config.content.unpack.keep.clone();
    if let (Some(inside), true) = (site.inside_files(), !halves.0) {
        // The database lies in the files, but is not in the archive: it stays.
        let endings = ["", "-wal", "-shm", "-journal"];
        keep.extend(endings.map(|ending| Patterns::exactly(&format!("{inside}{ending}"))));
    }
    let options = UnpackOptions {
        site: site.name.clone(),
        overwrite: args.overwrite,
        tables: &holds,
        tables_bounded: !site.tables.is_empty(),
        keep: Patterns::of_paths(&keep)?,
        rewriter: &rewriter,
        settings: &setting,
        outside_links: args.outside_links,
    };
    if args.preview {
        let report = preview(&options, &archive, halves, &context.watch)?;
        let again = format!("fernweh unpack {} {}", args.archive.display(), site.name);
        context.print(&report, &preview_text(context, &report, &again));
        return Ok(DONE);
    }
    let lock = records.lock(&site.name)?;
    let earlier = settle_earlier(
        &records,
        &site.name,
        &mut |run, work| {
            site.with_targets(&run.header.run, (true, true), &mut |targets| work(targets))
        },
        &context.watch,
    )?;
    if earlier == Some(Direction::Forward) {
        let report = UnpackReport { undo: true, ..UnpackReport::default() };
        context.print(&report, &completed_text(context, &site));
        return Ok(DONE);
    }
    let there =
        site.with_targets("look", halves, &mut |targets| look_before(&options, &archive, targets))?;
    let mut journal = records.begin("unpack", &site.name, &args.archive.display().to_string())?;
    let run = journal.header.run.clone();
    let mut report = site.with_targets(&run, halves, &mut |targets| {
        unpack(&options, &archive, targets, &mut journal, &context.watch)
    })?;
    drop(lock);
    report.replaced = there;
    report.undo = true;
    let seconds = began.elapsed().as_secs_f64();
    context.print(&report, &text(context, &site, &report, seconds));
    Ok(DONE)
}

/// Which halves the archive has and the site takes.
fn halves(archive: &ArchiveReader, site: &Site, only: Option<Half>) -> Result<(bool, bool)> {
    let manifest = &archive.manifest;
    let wanted = (
        manifest.database.is_some() && only != Some(Half::Files),
        manifest.files.is_some() && only != Some(Half::Database),
    );
    let missing = |what: &str| {
        Trouble::usage(format!("site {} has no place for the archive's {what}", site.name))
            .hint(format!("set {what} in [site.{}], or leave this half out with --only", site.name))
    };
    if wanted.0 && site.database.is_none() {
        return Err(missing("database"));
    }
    if wanted.1 && site.files.is_none() {
        return Err(missing("files"));
    }
    if wanted == (false, false) {
        return Err(Trouble::usage("the archive does not hold this half"));
    }
    Ok(wanted)
}

fn rewriter(
    config: &Config,
    archive: &ArchiveReader,
    site: &Site,
    as_is: bool,
) -> Result<Rewriter> {
    if as_is {
        return rules::ready(Vec::new());
    }
    let mut found = rules::configured(config, &site.name)?;
    match (&archive.manifest.url, &site.url) {
        (Some(from), Some(to)) => found.extend(rules::pair(from, &to.to_string())?),
        (Some(from), None) => {
            return Err(Trouble::usage(format!("site {} has no url", site.name))
                .because(format!("the archive's site is at {from}; what shall become of it?"))
                .hint(format!(
                    "set url in [site.{}], or use --as-is to leave addresses alone",
                    site.name
                )));
        }
        _ => {}
    }
    rules::ready(found)
}

fn preview_text(context: &Context, report: &UnpackReport, again: &str) -> String {
    let mut page = Page::new(context.style);
    page.row("preview", "nothing was changed; unpacking gives these numbers");
    page.row(
        "archive",
        &format!(
            "{}, {}, {}",
            counted(report.tables, "table", "tables"),
            counted(report.records, "record", "records"),
            counted(report.files, "file", "files")
        ),
    );
    page.list("left out", left_out(&report.left_out));
    page.gap();
    rewriting(&mut page, context.style, &report.rewriting);
    page.gap();
    page.row("next", again);
    page.finish()
}

fn completed_text(context: &Context, site: &Site) -> String {
    let mut page = Page::new(context.style);
    page.row(
        "completed",
        &format!("the earlier unpacking of site {}, which was broken off", site.name),
    );
    page.more("in the middle of its switch; every part is in place now");
    page.row("undo", &format!("fernweh undo {}", site.name));
    page.finish()
}

fn text(context: &Context, site: &Site, report: &UnpackReport, seconds: f64) -> String {
    let mut page = Page::new(context.style);
    page.row(
        "unpacked",
        &format!("site {} in {}; every part is in place", site.name, duration(seconds)),
    );
    if report.tables > 0 {
        page.row(
            "database",
            &format!(
                "{}, {}, as many as the archive holds",
                counted(report.tables, "table", "tables"),
                counted(report.records, "record", "records")
            ),
        );
    }
    if report.files > 0 {
        page.row(
            "files",
            &format!(
                "{}, {}, {}",
                counted(report.files, "file", "files"),
                size(report.file_bytes),
                counted(report.links, "link", "links")
            ),
        );
    }
    if report.kept > 0 {
        page.more(&format!(
            "{} of the old site carried over",
            counted(report.kept, "file", "files")
        ));
    }
    if !report.settings.is_empty() {
        page.row(
            "settings",
            &format!("the new connection is written into {}", report.settings.join(", ")),
        );
    }
    page.list("left out", left_out(&report.left_out));
    page.list("note", report.notes.clone());
    page.gap();
    rewriting(&mut page, context.style, &report.rewriting);
    page.gap();
    match &report.replaced {
        Some(Replaced { tables, records, entries }) => {
            page.row(
                "replaced",
                &format!(
                    "{} with {}, {} of files; kept",
                    counted(*tables, "table", "tables"),
                    counted(*records, "record", "records"),
                    counted(*entries, "entry", "entries"),
                ),
            );
            page.row(
                "undo",
                &format!(
                    "fernweh undo {0}   (or give the old state up: fernweh undo {0} --let-go)",
                    site.name
                ),
            );
        }
        None => {
            page.row("undo", &format!("fernweh undo {}   (the place was empty before)", site.name))
        }
    }
    page.row("users", "everybody logs in as on the old site: users and passwords came along");
    if site.url.is_some() {
        page.row("next", &format!("fernweh scan {}", site.name));
    }
    page.finish()
}
