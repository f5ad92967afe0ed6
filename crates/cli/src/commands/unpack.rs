//! `fernweh unpack`

use crate::config::Config;
use crate::context::Context;
use crate::document::{self, of_rewriting};
use crate::exit::{DONE, FINDINGS};
use crate::incoming;
use crate::options::{Half, Layer, SiteArgs};
use crate::render::{preview_text, unpacked};
use crate::rules;
use crate::site::Site;
use clap::{Args, ValueEnum};
use fernweh_core::sql::Prefix;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::{Preview, Unpack};
use fernweh_flow::unpack::{OnBadRecord, Part};
use fernweh_ports::{Halves, Result, Trouble};
use std::path::PathBuf;
use std::time::Instant;

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
    /// Unpack only one half of the archive
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Unpack only these tables, as gp_articles or gp_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub tables: Vec<String>,
    /// Unpack only these files or folders, as uploads/report.pdf or pictures/**; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub file: Vec<String>,
    /// Where the site's folder is a mount point: its entries change places one by one, and for
    /// some seconds visitors see a mixture
    #[arg(long, conflicts_with = "in_place")]
    pub entry_by_entry: bool,
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
    unpack(context, args)
        .map_err(|trouble| trouble.doing(format!("unpacking {}", args.archive.display())))
}

fn unpack(context: &Context, args: &UnpackArgs) -> Result<u8> {
    let began = Instant::now();
    document::check(args.report.as_deref())?;
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let options = options(context, args, &config, &site)?;
    let (from, links) = (args.from.as_deref(), args.outside_links);
    let incoming = incoming::open(context, &config, &site, &args.archive, from, links)?;
    let report = options.run(&site, &incoming, context.around(&context.records(&config)))?;
    if let Some(path) = &args.report {
        let title = format!("Unpacking {} into site {}", args.archive.display(), site.name);
        document::write(path, &of_rewriting(title, !args.preview, &report.rewriting, &[]))?;
    }
    let text = match args.preview {
        true => preview_text(context.style, &report, &again(args, &site)),
        false => unpacked(context.style, &site, &report, began.elapsed().as_secs_f64()),
    };
    context.print(&report, &text);
    Ok(if report.is_whole() { DONE } else { FINDINGS })
}

fn options(context: &Context, args: &UnpackArgs, config: &Config, site: &Site) -> Result<Unpack> {
    Ok(Unpack {
        input: args.archive.display().to_string(),
        preview: args.preview.then_some(Preview::Tried),
        overwrite: args.overwrite,
        in_place: args.in_place,
        halves: halves(args)?,
        tables: Patterns::of_tables(&args.tables)?,
        part: part(args, &config.content.unpack.prefix_in)?,
        may_remove: context.yes(),
        on_bad_record: match args.on_bad_record {
            BadRecords::Stop => OnBadRecord::Stop,
            BadRecords::Skip => OnBadRecord::Skip,
            BadRecords::Adapt => OnBadRecord::Adapt,
        },
        keep: Patterns::of_paths(&config.content.unpack.keep)?,
        kept_bounds: config.content.unpack.kept_bounds(),
        entry_by_entry: args.entry_by_entry,
        notice: config.content.before.notice(),
        outside_links: args.outside_links,
        trust: args.trust,
        as_is: args.as_is,
        rules: rules::configured(config, &site.name)?,
        mend_lengths: args.mend_lengths,
        opens_base64: args.inside.is_some(),
    })
}

/// The command that does for real what was tried.
fn again(args: &UnpackArgs, site: &Site) -> String {
    let from = args.from.as_deref().map(|url| format!(" --from {url}")).unwrap_or_default();
    let over = if args.overwrite { " --overwrite" } else { "" };
    format!("fernweh unpack {} {}{from}{over}", args.archive.display(), site.name)
}

/// Which halves are asked for: naming tables or files leaves the other half alone.
fn halves(args: &UnpackArgs) -> Result<Halves> {
    let of_tables = !args.tables.is_empty() || args.rows_only || args.prefix.is_some();
    let of_files = !args.file.is_empty();
    if args.rows_only && args.prefix.is_some() {
        return Err(Trouble::usage("--rows-only and --prefix do not go together")
            .because("the structure that is there has names of its own")
            .hint("leave one of them out"));
    }
    let named = !args.tables.is_empty() || args.rows_only || of_files;
    let asked = Halves { database: !named || of_tables, files: !named || of_files };
    let wanted = Half::halves(args.only).and(asked);
    if wanted.is_empty() {
        return Err(Trouble::usage("nothing is left to unpack")
            .because("--only leaves out what --tables or --file names")
            .hint("leave --only out"));
    }
    Ok(wanted)
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
