//! `fernweh compare`

use crate::comparing::comparison;
use crate::complete::site_names;
use crate::context::Context;
use crate::document;
use crate::exit::done;
use crate::options::{SiteArgs, prefix};
use crate::plain_file::plain_text;
use crate::render::{compare_in_short, compared};
use crate::run_log::{Memory, RunLog};
use crate::site::Site;
use clap::{Args, ValueHint};
use fernweh_flow::compare::Pages;
use fernweh_ports::{Result, Trouble};
use std::path::PathBuf;

/// Shows what differs between two sites: structure, records, files, pages.
///
/// The rules of a move from the first to the second are applied before, so that
/// only what differs beside them is shown. Changes nothing. Examples:
///   fernweh compare old new
///   fernweh compare old new --pages --report compare.html
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct CompareArgs {
    /// The first site
    #[arg(add = site_names())]
    pub from: String,
    /// The second site
    #[arg(add = site_names())]
    pub to: String,
    /// Compare tables, views and the like, and no records
    #[arg(long)]
    pub structure: bool,
    /// Compare the databases: structure and records
    #[arg(long)]
    pub database: bool,
    /// Compare the files
    #[arg(long)]
    pub files: bool,
    /// Compare the pages: each address of the first site is opened on both
    #[arg(long)]
    pub pages: bool,
    /// Compare these pages: a file with a path or address of the first site on each line
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub addresses: Option<PathBuf>,
    /// Compare at most this many pages
    #[arg(long, value_name = "NUMBER", default_value_t = Pages::default().most)]
    pub max_pages: usize,
    /// Open one page after the other
    #[arg(long)]
    pub gently: bool,
    /// The tables of the second site have another prefix, as gp_=new_
    #[arg(long, value_name = "OLD=NEW")]
    pub prefix: Option<String>,
    /// Also write the report as a web page
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
}

/// Runs the command.
pub fn run(context: &Context, args: &CompareArgs) -> Result<u8> {
    document::check(args.report.as_deref())?;
    let config = context.config()?;
    let sites = SiteArgs::default();
    let doing =
        |trouble: Trouble| trouble.doing(format!("comparing {} with {}", args.from, args.to));
    let from = Site::resolve(&config, Some(&args.from), &sites).map_err(doing)?;
    let to = Site::resolve(&config, Some(&args.to), &sites).map_err(doing)?;
    let mut compare = comparison(&config, &from, &to).map_err(doing)?;
    compare.part.prefix = args.prefix.as_deref().map(prefix).transpose()?;
    let pages = args.pages || args.addresses.is_some();
    // What nobody asks for is all of it.
    if args.structure || args.database || args.files || pages {
        compare.structure = args.structure || args.database;
        (compare.records, compare.files) = (args.database, args.files);
        compare.pages = compare.pages.filter(|_| pages);
    }
    if let Some(how) = &mut compare.pages {
        let list = args.addresses.as_deref().map(|path| plain_text("cannot read the list", path));
        how.listed = list.transpose()?.map(|text| text.lines().map(str::to_owned).collect());
        (how.most, how.gently, how.required) = (args.max_pages, args.gently, pages);
    }
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "compare", &format!("{} {}", from.name, to.name));
    let report = compare.run(&from, &to, context.around(&records))?;
    log.end(&from.name, &compare_in_short(&report));
    Memory::of(&config, &records, &to.name).compared(&report);
    if let Some(path) = &args.report {
        document::write(path, &document::of_comparing(&report))?;
    }
    let text = compared(context.style, &report, &context.typed.again());
    context.print(&report, &document::named_in(text, args.report.as_deref(), context.style));
    Ok(done(!report.identical))
}
