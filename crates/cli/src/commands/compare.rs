//! `fernweh compare`

use crate::complete::site_names;
use crate::context::Context;
use crate::exit::done;
use crate::options::SiteArgs;
use crate::render::{LABEL, Page, Paint, Style, count, counted, counts, cut_middle, duration};
use crate::rules;
use crate::run_log::RunLog;
use crate::site::Site;
use clap::Args;
use fernweh_flow::compare::{
    CompareOptions, CompareReport, DatabaseDifferences, FileDifferences, TableDifferences, What,
    compare,
};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::{pair, ready};
use fernweh_ports::{Result, Trouble, size};

/// Shows what differs between two sites: structure, records, files.
///
/// The rules of a move from the first to the second are applied before, so that
/// only what differs beside them is shown. Changes nothing. Examples:
///   fernweh compare old new
///   fernweh compare old new --files
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
}

/// Runs the command.
pub fn run(context: &Context, args: &CompareArgs) -> Result<u8> {
    let config = context.config()?;
    let sites = SiteArgs::default();
    let doing =
        |trouble: Trouble| trouble.doing(format!("comparing {} with {}", args.from, args.to));
    let from = Site::resolve(&config, Some(&args.from), &sites).map_err(doing)?;
    let to = Site::resolve(&config, Some(&args.to), &sites).map_err(doing)?;
    let mut found = rules::configured(&config, &to.name)?;
    if let (Some(one), Some(other)) = (&from.url, &to.url) {
        found.extend(pair(&one.to_string(), &other.to_string())?);
    }
    let (rewriter, packing) = (ready(found)?, config.packing(&from.name));
    let every = !(args.structure || args.database || args.files);
    let options = CompareOptions {
        rewriter: &rewriter,
        structure: every || args.structure || args.database,
        records: every || args.database,
        files: every || args.files,
        without_rows: &Patterns::of_tables(&packing.without_rows)?,
        leave_out: &Patterns::of_paths(&packing.leave_out)?,
    };
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "compare", &format!("{} {}", from.name, to.name));
    let report = compare(&from, &to, &options, context.around(&records).progress).map_err(doing)?;
    log.end(&from.name, &in_short(&report));
    context.print(&report, &text(context, &report));
    Ok(done(!report.identical))
}

/// The verdict in a few words.
fn in_short(report: &CompareReport) -> String {
    if report.identical {
        return "identical".into();
    }
    let mut parts = Vec::new();
    if let Some(database) = &report.database {
        let of = |number: fn(&TableDifferences) -> u64| database.differing.iter().map(number).sum();
        parts.extend(counts(&[
            (database.objects.len() as u64, "object", "objects"),
            (
                of(|table| table.changed + table.missing + table.extra + table.untold),
                "record",
                "records",
            ),
        ]));
    }
    if let Some(files) = &report.files {
        let others = files.missing + files.extra + files.others;
        parts.extend(counts(&[(files.content + others, "file", "files")]));
        if parts.is_empty() {
            parts.push(counted(
                files.not_compared.len() as u64,
                "file not compared",
                "files not compared",
            ));
        }
    }
    format!("{} differ", parts.join(", "))
}

fn text(context: &Context, report: &CompareReport) -> String {
    let style = context.style;
    let mut page = Page::new(style);
    let paint = if report.identical { Paint::Good } else { Paint::Doubt };
    let verdict = style.paint(paint, &in_short(report));
    page.row("compared", &format!("site {} with {}: {verdict}", report.from, report.to));
    let mut read = Vec::new();
    if let Some(database) = &report.database {
        read.extend(counts(&[
            (database.tables, "table", "tables"),
            (database.records, "record", "records"),
        ]));
    }
    if let Some(files) = &report.files {
        read.extend(counts(&[(files.entries, "file or folder", "files and folders")]));
        read.push(size(files.bytes));
    }
    page.row("read", &format!("{}, in {}", read.join(", "), duration(report.seconds)));
    if let Some(found) = &report.database {
        database(&mut page, style, found);
    }
    if let Some(found) = &report.files {
        files(&mut page, style, found);
    }
    page.gap();
    match report.identical {
        true => page.row("next", "nothing is left to do here"),
        false => {
            page.row("next", &format!("correct what differs, then: {}", context.typed.again()))
        }
    }
    page.finish()
}

fn database(page: &mut Page, style: Style, found: &DatabaseDifferences) {
    for (table, one, other) in &found.set_apart {
        page.row(
            "set apart",
            &format!(
                "{table}: {} and {}; its rows differ by nature",
                counted(*one, "record", "records"),
                count(*other)
            ),
        );
    }
    if !found.objects.is_empty() {
        page.gap();
        page.list(
            "structure",
            found.objects.iter().map(|it| format!("{:<8} {}", it.what, it.object)),
        );
    }
    for table in &found.differing {
        page.gap();
        let parts = counts(&[
            (table.changed, "changed", "changed"),
            (table.missing, "missing", "missing"),
            (table.extra, "extra", "extra"),
            (table.untold, "more that differ", "more that differ"),
        ]);
        page.row(
            "records",
            &format!("{}: {}; {} the same", table.table, parts.join(", "), count(table.same)),
        );
        let shown = if style.verbose { usize::MAX } else { 5 };
        for example in table.examples.iter().take(shown) {
            let word = match example.what {
                What::Changed => "changed",
                What::Missing => "missing",
                What::Extra => "extra",
            };
            page.exact(&format!("  {word:<8} {}", example.record));
            for (column, expected, there) in &example.cells {
                let room = style.width.saturating_sub(LABEL + 6 + column.len());
                page.exact(&format!("    {column} {}", cut_middle(expected, room)));
                page.exact(&format!("    {:>1$} {2}", "→", column.len(), cut_middle(there, room)));
            }
        }
    }
}

fn files(page: &mut Page, style: Style, found: &FileDifferences) {
    for path in &found.settings {
        page.row("set apart", &format!("{path}: only its connection settings differ"));
    }
    if found.times + found.owners > 0 {
        let parts = counts(&[
            (found.times, "file has another time", "files have another time"),
            (found.owners, "entry has another owner", "entries have another owner"),
        ]);
        page.row("set apart", &parts.join(", "));
    }
    if found.is_empty() {
        return;
    }
    page.gap();
    let parts = counts(&[
        (found.content, "with other content", "with other content"),
        (found.missing, "missing", "missing"),
        (found.extra, "extra", "extra"),
        (
            found.others,
            "of another kind or with other permissions",
            "of another kind or with other permissions",
        ),
        (found.not_compared.len() as u64, "not compared", "not compared"),
    ]);
    page.row("files", &parts.join(", "));
    let shown = if style.verbose { usize::MAX } else { 10 };
    for example in found.examples.iter().take(shown) {
        let line = format!("  {:<8} {} {}", example.what, example.path, example.detail);
        page.exact(&cut_middle(line.trim_end(), style.width.saturating_sub(LABEL)));
    }
    for (path, because) in found.not_compared.iter().take(shown) {
        page.exact(&format!("  {path}: {because}"));
    }
}
