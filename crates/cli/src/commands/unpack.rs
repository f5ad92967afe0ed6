//! `fernweh unpack`

mod text;

use super::rules;
use crate::DONE;
use crate::args::{Half, Layer, SiteArgs};
use crate::config::Config;
use crate::context::Context;
use crate::document::{self, of_rewriting};
use crate::incoming::{self, Incoming};
use crate::render::size;
use crate::site::{DatabasePlace, Site};
use clap::{Args, ValueEnum};
use fernweh_core::record::is_of_engine;
use fernweh_core::rewrite::Rewriter;
use fernweh_core::settings::Setting;
use fernweh_core::sql::Prefix;
use fernweh_flow::archive::{ArchiveReader, Ledger, Level};
use fernweh_flow::journal::{Journal, Run, State};
use fernweh_flow::pack::PackOptions;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::undo::let_go;
use fernweh_flow::unpack::{
    Earlier, OnBadRecord, Part, Present, UnpackOptions, UnpackReport, look_before, mark, preview,
    set_aside, settle_earlier, unpack, unpack_in_place, visible,
};
use fernweh_ports::{DatabaseSource, Direction, FileSource, PageSource, Result, Trouble};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;
use text::{completed_text, preview_text, text};

/// Unpack an archive into a site, rewriting its addresses on the way
///
/// The new state is built beside the old one, checked, and put in place at the end.
/// What it replaces is kept until `fernweh undo SITE`, or `undo SITE --let-go`. All
/// users and passwords of the old site work on the new one. Examples:
///   fernweh unpack old-2026-11-23-0910.fernweh.tar new --preview
///   fernweh unpack glimmer.sql.gz new --from http://glimmerpoint.example
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UnpackArgs {
    /// The archive; or an SQL script (also .gz, .zst, .bz2, .xz, .zip), a folder, a tar or
    /// zip file of files, a database file of SQLite
    pub archive: PathBuf,
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// Replace what is there; it is kept for undo
    #[arg(long)]
    pub overwrite: bool,
    /// Where both states do not fit side by side: pack the old one into an archive first and
    /// remove it; the site is down meanwhile, and undo unpacks that archive again
    #[arg(
        long,
        requires = "overwrite",
        conflicts_with_all = ["preview", "tables", "file", "rows_only", "exactly", "prefix"]
    )]
    pub in_place: bool,
    /// The web address of the old site, for scripts and files that do not say it
    #[arg(long, value_name = "URL", conflicts_with = "as_is")]
    pub from: Option<String>,
    /// Leave addresses and settings as they are
    #[arg(long)]
    pub as_is: bool,
    /// Correct the lengths of serialized values that are damaged, where only one reading is
    /// possible
    #[arg(long)]
    pub mend_lengths: bool,
    /// Open values of this kind as well
    #[arg(long, value_name = "LAYER")]
    pub inside: Option<Layer>,
    /// Write the report of rewriting as a page, too
    #[arg(long, value_name = "FILE.html")]
    pub report: Option<PathBuf>,
    /// Change nothing: give the numbers of rewriting, and let the database try every record in
    /// tables of its own, which are taken away again
    #[arg(long)]
    pub preview: bool,
    /// Try no record at the destination either
    #[arg(skip)]
    pub untouched: bool,
    /// Unpack only one half of the archive
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Unpack only these tables, as gp_articles or gp_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub tables: Vec<String>,
    /// Unpack only these files or folders, as uploads/report.pdf or pictures/**; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub file: Vec<String>,
    /// Take the rows of the archive, and keep the structure of the tables that are there
    #[arg(long)]
    pub rows_only: bool,
    /// Remove tables of the site that the archive does not hold
    #[arg(long)]
    pub exactly: bool,
    /// Give the tables another prefix, as gp_=new_
    #[arg(long, value_name = "OLD=NEW")]
    pub prefix: Option<String>,
    /// What to do with records that the destination rejects: end, leave them out (kept in a
    /// file), or let the destination change values to fit (MariaDB)
    #[arg(long, value_name = "WHAT", default_value = "stop")]
    pub on_bad_record: BadRecords,
    /// Take links along that point out of the site
    #[arg(long)]
    pub outside_links: bool,
    /// Let the routines, triggers, views and events of an archive from elsewhere run with all
    /// rights of the site's login
    #[arg(long)]
    pub trust: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

impl UnpackArgs {
    /// An archive into a site, with no option at all.
    pub fn plain(archive: PathBuf, site: &str) -> Self {
        Self {
            archive,
            site: Some(site.to_owned()),
            overwrite: false,
            in_place: false,
            from: None,
            as_is: false,
            mend_lengths: false,
            inside: None,
            report: None,
            preview: false,
            untouched: false,
            only: None,
            tables: Vec::new(),
            file: Vec::new(),
            rows_only: false,
            exactly: false,
            prefix: None,
            on_bad_record: BadRecords::Stop,
            outside_links: false,
            trust: false,
            places: SiteArgs::default(),
        }
    }
}

/// What to do with records that the destination rejects.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum BadRecords {
    /// End, with nothing changed.
    Stop,
    /// Leave them out, and keep them in a file.
    Skip,
    /// Let the destination change values to fit.
    Adapt,
}

/// Runs the command.
pub fn run(context: &Context, args: &UnpackArgs) -> Result<u8> {
    let doing = |trouble: Trouble| trouble.doing(format!("unpacking {}", args.archive.display()));
    run_inner(context, args).map_err(doing)
}

/// Takes a run back whose old state is in an archive.
pub fn bring_back(context: &Context, site: &Site, run: &Run, places: &SiteArgs) -> Result<()> {
    let Some(archive) = run.set_aside() else { return Ok(()) };
    let args = UnpackArgs {
        overwrite: true,
        // An emptied site has nothing to be set aside.
        in_place: run.state() != State::Emptied,
        as_is: true,
        outside_links: true,
        trust: true,
        places: places.clone(),
        ..UnpackArgs::plain(archive, &site.name)
    };
    let (report, text) = make(context, &args, Some(run))?;
    context.print(&report, &text);
    Ok(())
}

fn run_inner(context: &Context, args: &UnpackArgs) -> Result<u8> {
    let (report, text) = make(context, args, None)?;
    context.print(&report, &text);
    Ok(DONE)
}

/// Unpacks, and gives the report and how it reads; the run `superseded` has brought the site
/// into its present state, and is over then.
pub fn make(
    context: &Context,
    args: &UnpackArgs,
    superseded: Option<&Run>,
) -> Result<(UnpackReport, String)> {
    make_of(context, args, superseded, None)
}

/// Unpacks an archive while it is written.
pub fn make_following(
    context: &Context,
    args: &UnpackArgs,
    ledger: Arc<Ledger>,
) -> Result<UnpackReport> {
    let archive = ArchiveReader::follow(&args.archive, ledger)?;
    make_of(context, args, None, Some(incoming::followed(archive))).map(|(report, _)| report)
}

fn make_of(
    context: &Context,
    args: &UnpackArgs,
    superseded: Option<&Run>,
    followed: Option<Incoming>,
) -> Result<(UnpackReport, String)> {
    let began = Instant::now();
    document::check(args.report.as_deref())?;
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let records = context.records(&config);
    let wanted = wanted_halves(args)?;
    let from = args.from.as_deref();
    let incoming = match followed {
        Some(incoming) => incoming,
        None => incoming::open(context, &config, &site, &args.archive, from, args.outside_links)?,
    };
    let archive = &incoming.archive;
    let halves = halves(archive, &site, wanted)?;
    let rewriter = rewriter(&config, &incoming, &site, args.as_is)?
        .mending(args.mend_lengths)
        .opening_base64(args.inside.is_some());
    rules::warn(context, rewriter.rules());
    let part = part(args, &config.content.unpack.prefix_in)?;
    let chosen = Patterns::of_tables(&args.tables)?;
    let dialect = archive.manifest.database.as_ref().map(|about| about.dialect);
    let holds = |table: &str| {
        let here = dialect.map_or(table.to_owned(), |dialect| part.renamed(dialect, table));
        // What the engine keeps for tables goes with whatever tables come.
        let of_engine = is_of_engine(table);
        let chosen = chosen.is_empty() || chosen.hold(table.as_bytes());
        of_engine || site.holds_table(&here) && chosen
    };
    let own_tables = |table: &str| site.holds_table(table);
    let as_is = args.as_is;
    let setting = |one: &Setting, all: &[Setting]| site.setting(one, all).filter(|_| !as_is);
    let mut options = UnpackOptions {
        site: site.name.clone(),
        overwrite: args.overwrite,
        tables: &holds,
        own_tables: &own_tables,
        part: part.clone(),
        remove: Vec::new(),
        on_bad_record: match args.on_bad_record {
            BadRecords::Stop => OnBadRecord::Stop,
            BadRecords::Skip => OnBadRecord::Skip,
            BadRecords::Adapt => OnBadRecord::Adapt,
        },
        tables_bounded: !site.tables.is_empty(),
        keep: Patterns::of_paths(&config.content.unpack.keep)?,
        inside_files: site.inside_files(),
        rewriter: &rewriter,
        settings: &setting,
        outside_links: args.outside_links,
        makes_room: args.in_place,
        // What is followed while it is written is packed by this very run.
        trusted: args.trust
            || archive.is_growing()
            || archive.digest.as_ref().is_some_and(|digest| records.remembers(digest)),
    };
    if args.preview {
        let mut report = try_out(context, &config, &site, args, &options, archive, halves)?;
        tell_incoming(&mut report, &incoming)?;
        let from = from.map(|url| format!(" --from {url}")).unwrap_or_default();
        let over = if args.overwrite { " --overwrite" } else { "" };
        let again = format!("fernweh unpack {} {}{from}{over}", args.archive.display(), site.name);
        write_report(args, &site, false, &report)?;
        let text = preview_text(context, &report, &again);
        return Ok((report, text));
    }
    let lock = records.lock(&site.name)?;
    let mark = mark(&options, archive, halves)?;
    let earlier = settle_earlier(
        &records,
        &site.name,
        &mark,
        superseded.map(|run| run.header.run.as_str()),
        &mut |run, work| {
            site.with_targets(&run.header.run, (true, true), false, &mut |targets| work(targets))
        },
        &context.watch,
    )?;
    if let Earlier::Completed(Direction::Forward) = earlier {
        let report = UnpackReport { undo: true, ..UnpackReport::default() };
        return Ok((report, completed_text(context, &site)));
    }
    let there = site.with_targets("look", halves, false, &mut |targets| {
        look_before(&options, archive, targets)
    })?;
    options.remove = there.as_ref().map(|there| there.removed.clone()).unwrap_or_default();
    if !options.remove.is_empty() && !context.yes() {
        return Err(Trouble::usage(
            "with --exactly, tables would go that the archive does not hold",
        )
        .because(format!("these go: {}", options.remove.join(", ")))
        .hint("add --yes if that is meant; they are kept, and fernweh undo brings them back"));
    }
    let mut journal = match earlier {
        Earlier::GoesOn(run) => Journal::resume(&run)?,
        _ => {
            let input = args.archive.display().to_string();
            records.begin_marked("unpack", &site.name, &input, mark)?
        }
    };
    let run = journal.header.run.clone();
    let emptied = journal.run()?.state() == State::Emptied;
    let mut report = if emptied || (args.in_place && there.is_some()) {
        in_place(context, &site, halves, &options, archive, &mut journal)?
    } else {
        site.with_targets(&run, halves, args.rows_only, &mut |targets| {
            unpack(&options, archive, targets, &mut journal, &context.watch)
        })?
    };
    if let Some(old) = superseded {
        let halves = (site.database.is_some(), site.files.is_some());
        site.with_targets(&old.header.run, halves, false, &mut |targets| {
            let_go(old, targets, &context.watch)
        })?;
    }
    if halves.1 && there.is_some() {
        // The work is done: that nobody could look is no reason to end with an error.
        report.notes.extend(shown_to_others(&site, &run).unwrap_or_default());
    }
    drop(lock);
    tell_incoming(&mut report, &incoming)?;
    report.replaced = there;
    report.undo = true;
    let seconds = began.elapsed().as_secs_f64();
    write_report(args, &site, true, &report)?;
    let text = text(context, &site, &report, seconds);
    Ok((report, text))
}

/// What the site's web server shows of what is kept, with what to do.
fn shown_to_others(site: &Site, run: &str) -> Result<Option<String>> {
    let Some(url) = site.url.as_ref().map(ToString::to_string) else { return Ok(None) };
    let mut pages = || Ok(Box::new(site.pages()?) as Box<dyn PageSource>);
    let mut found = None;
    site.with_targets(run, (false, true), false, &mut |targets| {
        if let Some(files) = &mut targets.files {
            found = visible(*files, &url, &mut pages)?;
        }
        Ok(())
    })?;
    Ok(found.map(|address| {
        format!(
            "the web server shows what Fernweh keeps ({address} came back): forbid that folder \
             there, or give the old state up with: fernweh undo {} --let-go",
            site.name
        )
    }))
}

/// The page that --report asks for.
fn write_report(
    args: &UnpackArgs,
    site: &Site,
    applied: bool,
    report: &UnpackReport,
) -> Result<()> {
    let Some(path) = &args.report else { return Ok(()) };
    let title = format!("Unpacking {} into site {}", args.archive.display(), site.name);
    document::write(path, &of_rewriting(title, applied, &report.rewriting, &[]))
}

/// Sets the old state aside, removes it, and unpacks.
fn in_place(
    context: &Context,
    site: &Site,
    halves: (bool, bool),
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    journal: &mut Journal,
) -> Result<UnpackReport> {
    let run = journal.header.run.clone();
    if journal.run()?.state() != State::Emptied {
        let mut database = if halves.0 { site.database_source()? } else { None };
        let mut files = if halves.1 { site.file_source()? } else { None };
        let own_tables = |table: &str| site.holds_table(table);
        let none = Patterns::of_paths(&[])?;
        let present = Present {
            options: PackOptions {
                site: site.name.clone(),
                url: site.url.as_ref().map(ToString::to_string),
                root: None,
                archive: PathBuf::new(),
                leave_out: none.clone(),
                without_rows: none,
                tables: &own_tables,
                some_tables: false,
                database_name: site.database.as_ref().map(DatabasePlace::name).unwrap_or_default(),
                inside_files: site.inside_files(),
                outside_links: true,
                program: env!("CARGO_PKG_VERSION").into(),
                level: Level::default(),
                go_on: false,
                follower: None,
                again: None,
            },
            database: database.as_mut().map(|source| &mut **source as &mut dyn DatabaseSource),
            files: files.as_mut().map(|source| &mut **source as &mut dyn FileSource),
        };
        set_aside(present, journal, &context.watch)?;
    }
    let mut report = site.with_targets(&run, halves, false, &mut |targets| {
        unpack_in_place(options, archive, targets, journal, &context.watch)
    })?;
    if let Some(kept) = journal.run()?.set_aside() {
        let bytes = std::fs::metadata(&kept).map_or(0, |found| found.len());
        report.notes.push(format!(
            "the old state was packed and removed first; undo unpacks {} ({})",
            kept.display(),
            size(bytes)
        ));
    }
    Ok(report)
}

/// Gives the numbers of unpacking; the site's database tries every record, in tables of its own.
fn try_out(
    context: &Context,
    config: &Config,
    site: &Site,
    args: &UnpackArgs,
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    halves: (bool, bool),
) -> Result<UnpackReport> {
    if !halves.0 || args.untouched {
        return preview(options, archive, halves, None, &context.watch);
    }
    let records = context.records(config);
    let _lock = records.lock(&site.name)?;
    let mut journal = records.begin("preview", &site.name, &args.archive.display().to_string())?;
    let run = journal.header.run.clone();
    let report = site.with_targets(&run, (true, false), args.rows_only, &mut |targets| {
        let trial = Some((targets, &mut journal));
        preview(options, archive, halves, trial, &context.watch)
    });
    journal.forget();
    report
}

/// Which halves are asked for: naming tables or files leaves the other half alone.
fn wanted_halves(args: &UnpackArgs) -> Result<(bool, bool)> {
    let of_tables = !args.tables.is_empty() || args.rows_only || args.prefix.is_some();
    let of_files = !args.file.is_empty();
    if args.rows_only && args.prefix.is_some() {
        return Err(Trouble::usage("--rows-only and --prefix do not go together")
            .because("the structure that is there has names of its own")
            .hint("leave one of them out"));
    }
    let chosen = |half| args.only.is_none_or(|only| only == half);
    let named = !args.tables.is_empty() || args.rows_only || of_files;
    let wanted = (
        chosen(Half::Database) && (!named || of_tables),
        chosen(Half::Files) && (!named || of_files),
    );
    match wanted {
        (false, false) => Err(Trouble::usage("nothing is left to unpack")
            .because("--only leaves out what --tables or --file names")
            .hint("leave --only out")),
        wanted => Ok(wanted),
    }
}

/// Which part of the archive is asked for.
fn part(args: &UnpackArgs, prefix_in: &[String]) -> Result<Part> {
    let prefix = args.prefix.as_deref().map(|text| {
        Prefix::parse(text).ok_or_else(|| {
            Trouble::usage(format!("`{text}` is no pair of prefixes"))
                .hint("write the old and the new one, as in --prefix gp_=new_")
        })
    });
    let files = (!args.file.is_empty()).then(|| Patterns::of_paths(&args.file));
    Ok(Part {
        some_tables: !args.tables.is_empty(),
        files: files.transpose()?,
        rows_only: args.rows_only,
        exactly: args.exactly,
        prefix: prefix.transpose()?,
        prefix_in: prefix_in.to_vec(),
    })
}

/// Which halves the archive has and the site takes.
fn halves(archive: &ArchiveReader, site: &Site, wanted: (bool, bool)) -> Result<(bool, bool)> {
    let manifest = &archive.manifest;
    let wanted = (manifest.database.is_some() && wanted.0, manifest.files.is_some() && wanted.1);
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

fn rewriter(config: &Config, incoming: &Incoming, site: &Site, as_is: bool) -> Result<Rewriter> {
    if as_is {
        return rules::ready(Vec::new());
    }
    let mut found = rules::configured(config, &site.name)?;
    match (&incoming.archive.manifest.url, &site.url) {
        (None, _) if incoming.foreign && found.is_empty() => {
            return Err(Trouble::usage("from which web address does this come?")
                .because("a script or folder does not say it, so no address could be rewritten")
                .hint("add --from http://old.example, or --as-is to leave addresses alone"));
        }
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

/// Adds what is to be said about something of others.
fn tell_incoming(report: &mut UnpackReport, incoming: &Incoming) -> Result<()> {
    report.notes.splice(0..0, incoming.notes.iter().cloned());
    if !incoming.archive.seal()?.breaks.is_empty() {
        report.notes.push(
            "the archive was packed with a break, so its tables are not all of one moment".into(),
        );
    }
    report.left_out.splice(0..0, incoming.left_out.iter().cloned());
    Ok(())
}
