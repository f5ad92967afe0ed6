//! `fernweh unpack`

use crate::complete::site_names;
use crate::config::{BeforeSection, Config};
use crate::context::Context;
use crate::document::{self, of_rewriting};
use crate::exit::done;
use crate::incoming;
use crate::options::{Half, Layer, SiteArgs, prefix};
use crate::render::{preview_text, unpacked};
use crate::rules;
use crate::site::Site;
use clap::{Args, ValueEnum, ValueHint};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::{Preview, Unpack};
use fernweh_flow::unpack::{OnBadRecord, Part};
use fernweh_ports::{Halves, Result, Trouble};
use std::path::PathBuf;
use std::time::Instant;

/// Unpacks an archive into a site and rewrites its addresses.
///
/// The new state is built beside the old one, checked, and put in place at the end.
/// What it replaces is kept for `fernweh undo SITE`. All users and passwords of the
/// old site work on the new one. Examples:
///   fernweh unpack glimmer.fernweh.tar new --preview
///   fernweh unpack glimmer.fernweh.tar new --overwrite
///   fernweh unpack glimmer.sql.gz new --from old
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct UnpackArgs {
    /// The archive; or an SQL script (also .gz, .zst, .bz2, .xz, .zip), a folder, a tar or
    /// zip file of files, a database file of SQLite
    #[arg(value_hint = ValueHint::AnyPath)]
    pub archive: PathBuf,
    /// The site's name in fernweh.toml
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// Change nothing: give the numbers of rewriting, and let the database try every record in
    /// tables of its own, which are removed again
    #[arg(long, alias = "dry-run", short_alias = 'n')]
    pub preview: bool,
    /// Replace what is there; it is kept for undo
    #[arg(long)]
    pub overwrite: bool,
    /// Where both states do not fit side by side: pack the old one into an archive first and
    /// remove it; the site is down meanwhile, and undo unpacks that archive again
    #[arg(
        long,
        requires = "overwrite",
        conflicts_with_all = ["preview", "tables", "paths", "rows_only", "exactly", "prefix"]
    )]
    pub in_place: bool,
    /// The old site, for scripts and files that do not name it: a web address, or a site's name
    #[arg(long, value_name = "ADDRESS or SITE", conflicts_with = "as_is", add = site_names())]
    pub from: Option<String>,
    /// Leave addresses and settings unchanged
    #[arg(long)]
    pub as_is: bool,
    /// Correct the lengths of serialized values that are damaged, where only one reading is
    /// possible
    #[arg(long)]
    pub mend_lengths: bool,
    /// Open values of this kind as well
    #[arg(long, value_name = "LAYER")]
    pub inside: Option<Layer>,
    /// Also write the report of rewriting as a web page
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Unpack only one half of the archive
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Unpack only these tables, as gp_articles or gp_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub tables: Vec<String>,
    /// Unpack only these files or folders, as uploads/report.pdf or pictures/**; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub paths: Vec<String>,
    /// Where the site's folder is a mount point: replace its entries one by one; for some
    /// seconds visitors see a mixture
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
    /// What to do with records that the destination rejects: stop, skip them (they are kept in
    /// a file), or let the destination adapt values (MariaDB)
    #[arg(long, value_name = "WHAT", default_value = "stop")]
    pub on_bad_record: BadRecords,
    /// Create links that point out of the site, too
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
    let from = args.from.as_deref().map(|text| rules::address_of(&config, text)).transpose()?;
    let (from, links) = (from.as_deref(), args.outside_links);
    let incoming = incoming::open(context, &config, &site, &args.archive, from, links)?;
    let report = options.run(&site, &incoming, context.around(&context.records(&config)))?;
    if let Some(path) = &args.report {
        let title = format!("Unpacking {} into site {}", args.archive.display(), site.name);
        document::write(path, &of_rewriting(title, !args.preview, &report.rewriting, &[]))?;
    }
    match args.preview {
        true => {
            let over = if report.replaced.is_some() { &["--overwrite"][..] } else { &[] };
            let again = context.typed.for_real(over);
            let text = preview_text(context.style, &report, &again);
            let text = document::named_in(text, args.report.as_deref(), context.style);
            context.print(&report, &text);
        }
        false => {
            let seconds = began.elapsed().as_secs_f64();
            let text = unpacked(context.style, &site, &report, seconds);
            let text = document::named_in(text, args.report.as_deref(), context.style);
            context.print_done(&report, &text);
        }
    }
    Ok(done(!report.is_whole()))
}

fn options(context: &Context, args: &UnpackArgs, config: &Config, site: &Site) -> Result<Unpack> {
    Ok(Unpack {
        input: args.archive.display().to_string(),
        preview: args.preview.then_some(Preview::Tried),
        overwrite: args.overwrite,
        in_place: args.in_place,
        halves: halves(args)?,
        tables: Patterns::of_tables(&args.tables)?,
        part: part(args, &config.unpacking(&site.name).prefix_in)?,
        may_remove: context.yes(),
        on_bad_record: match args.on_bad_record {
            BadRecords::Stop => OnBadRecord::Stop,
            BadRecords::Skip => OnBadRecord::Skip,
            BadRecords::Adapt => OnBadRecord::Adapt,
        },
        keep: Patterns::of_paths(&config.unpacking(&site.name).keep)?,
        kept_bounds: config.unpacking(&site.name).kept_bounds(),
        entry_by_entry: args.entry_by_entry,
        notice: config.before(&site.name).map(BeforeSection::notice).unwrap_or_default(),
        outside_links: args.outside_links,
        trust: args.trust,
        as_is: args.as_is,
        rules: rules::configured(config, &site.name)?,
        mend_lengths: args.mend_lengths,
        opens_base64: args.inside.is_some(),
    })
}

/// Which halves are asked for: naming tables or files leaves the other half alone.
fn halves(args: &UnpackArgs) -> Result<Halves> {
    let of_tables = !args.tables.is_empty() || args.rows_only || args.prefix.is_some();
    let of_files = !args.paths.is_empty();
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
            .because("--only excludes what --tables or --paths names")
            .hint("leave --only out"));
    }
    Ok(wanted)
}

/// Which part of the archive is asked for.
fn part(args: &UnpackArgs, prefix_in: &[String]) -> Result<Part> {
    let files = (!args.paths.is_empty()).then(|| Patterns::of_paths(&args.paths));
    Ok(Part {
        some_tables: !args.tables.is_empty(),
        files: files.transpose()?,
        rows_only: args.rows_only,
        exactly: args.exactly,
        prefix: args.prefix.as_deref().map(prefix).transpose()?,
        prefix_in: prefix_in.to_vec(),
    })
}
