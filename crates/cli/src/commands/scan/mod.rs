//! `fernweh scan`

mod table;
mod text;

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::document::{self, write_scan};
use crate::exit::{DONE, FINDINGS, INCOMPLETE};
use crate::options::SiteArgs;
use crate::render::{Page, scan_in_short, trace_command, traced_place, traced_places};
use crate::rules;
use crate::run_log::{Memory, RunLog};
use crate::saved_scan::saved;
use crate::site::Site;
use clap::{Args, ValueEnum, ValueHint};
use fernweh_core::finding::{Finding, Severity};
use fernweh_flow::run::{SLOW, Scan, Trace};
use fernweh_flow::scan::{ScanReport, Since};
use fernweh_flow::trace::{TraceReport, searchable};
use fernweh_ports::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use std::time::Duration;

/// Opens every page of a site and checks what it refers to.
///
/// Finds broken links and pictures, http: parts on https pages and what browsers
/// do about them, and addresses of the old site. Sends no forms, and follows no
/// link that logs out or deletes. Examples:
///   fernweh scan new
///   fernweh scan new --own-only --report scan.html
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct ScanArgs {
    /// The site's name in fernweh.toml, or a web address
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// Do not check links to other hosts
    #[arg(long)]
    pub own_only: bool,
    /// Also read pages that the site's robots.txt closes to robots
    #[arg(long)]
    pub whole: bool,
    /// Send at most two requests at once
    #[arg(long)]
    pub gently: bool,
    /// Also show where each address that was found is stored: record, or file and line
    #[arg(long)]
    pub trace: bool,
    /// Compare with an earlier scan (its --json): what is new, what is repaired
    #[arg(long, value_name = "SCAN.json", value_hint = ValueHint::FilePath)]
    pub since: Option<PathBuf>,
    /// End with 0 if nothing weighs more than this
    #[arg(long, value_name = "SEVERITY")]
    pub tolerate: Option<Tolerated>,
    /// Also write the report as a web page
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Also write the findings as a table, a line for each place
    #[arg(long, value_name = "FILE.csv", value_hint = ValueHint::FilePath)]
    pub csv: Option<PathBuf>,
    /// Read at most this many pages
    #[arg(long, value_name = "NUMBER", default_value_t = 20_000)]
    pub max_pages: usize,
    /// Follow at most this many links from the first page on
    #[arg(long, value_name = "NUMBER", default_value_t = 100)]
    pub max_depth: usize,
    /// Stop after this many minutes
    #[arg(long, value_name = "MINUTES", default_value_t = 240)]
    pub max_minutes: u64,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// What weighs so much, and less, leaves the exit code at 0.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Tolerated {
    /// Everything
    Broken,
    /// All but what is broken
    Insecure,
    /// Warnings and notes
    Warning,
    /// Notes: this is so in any case
    Note,
}

impl From<Tolerated> for Severity {
    fn from(tolerated: Tolerated) -> Self {
        match tolerated {
            Tolerated::Broken => Severity::Broken,
            Tolerated::Insecure => Severity::Insecure,
            Tolerated::Warning => Severity::Warning,
            Tolerated::Note => Severity::Note,
        }
    }
}

/// Runs the command.
pub fn run(context: &Context, args: &ScanArgs) -> Result<u8> {
    document::check(args.report.as_deref())?;
    table::check(args.csv.as_deref())?;
    let earlier = args.since.as_deref().map(saved).transpose()?;
    let config = context.config()?;
    let site = site_of(args, &config)?;
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "scan", &site.name);
    let mut report = options(args, &config, &site)?.run(&site, context.around(&records))?;
    log.end(&report.start, &scan_in_short(&report));
    Memory::of(&config, &records, &site.name).scanned(&report);
    let since = earlier.map(|earlier| Since::of(&report, earlier.findings));
    let traced = match args.trace && !report.findings.is_empty() {
        true => {
            let of_content = report.findings.iter().filter(|finding| finding.is_of_content());
            let addresses = of_content.flat_map(Finding::spellings);
            let (texts, halves) = (searchable(addresses), site.halves(None)?);
            let propose = Some(rules::known(&config, &site.name)?);
            let trace = Trace { texts, halves, propose };
            Some(trace.run(&site, context.around(&records))?)
        }
        false => None,
    };
    if let Some(path) = &args.report {
        write_scan(path, &report, traced.as_ref(), &traced_place)?;
    }
    if let Some(path) = &args.csv {
        table::write(path, &report)?;
    }
    let mut page = text::page(context, &site, &report, since.as_ref(), args.trace);
    if let Some(traced) = &traced {
        let mut found = Page::new(context.style);
        found.gap();
        found.row("traced", "where these addresses live:");
        traced_places(&mut found, context.style, traced);
        page.push('\n');
        page.push_str(&found.finish());
    }
    let code = match (report.interrupted, report.is_fine(args.tolerate.map(Severity::from))) {
        (true, _) => INCOMPLETE,
        (false, true) => DONE,
        (false, false) => FINDINGS,
    };
    let traceable = std::mem::take(&mut report.findings).into_iter().map(|finding| Traceable {
        trace: (site.can_be_traced() && finding.is_of_content())
            .then(|| trace_command(&site.name, &[finding.written()])),
        finding,
    });
    let findings = traceable.collect();
    for path in [args.report.as_deref(), args.csv.as_deref()] {
        page = document::named_in(page, path, context.style);
    }
    context.print(&Document { report: &report, findings, since, traced }, &page);
    Ok(code)
}

/// The report as JSON: each finding with the command that traces it.
#[derive(Serialize, JsonSchema)]
pub struct Document<'a> {
    #[serde(flatten)]
    report: &'a ScanReport,
    findings: Vec<Traceable>,
    #[serde(skip_serializing_if = "Option::is_none")]
    since: Option<Since>,
    #[serde(skip_serializing_if = "Option::is_none")]
    traced: Option<TraceReport>,
}

#[derive(Serialize, JsonSchema)]
struct Traceable {
    #[serde(flatten)]
    finding: Finding,
    #[serde(skip_serializing_if = "Option::is_none")]
    trace: Option<String>,
}

/// The site of a name, or one that is no more than an address.
fn site_of(args: &ScanArgs, config: &Config) -> Result<Site> {
    let mut places = args.places.clone();
    let mut name = args.site.as_deref();
    if let Some(address) = name.filter(|name| name.contains("://")) {
        places.url = Some(address.to_owned());
        name = None;
    }
    // Only tracing needs the database.
    match args.trace {
        true => Site::resolve(config, name, &places),
        false => Site::resolve_for_pages(config, name, &places),
    }
}

fn options(args: &ScanArgs, config: &Config, site: &Site) -> Result<Scan> {
    let url = site.url.as_ref().map(ToString::to_string);
    Ok(Scan {
        old: rules::old_addresses(config, &site.name, url.as_deref())?,
        external: !args.own_only,
        whole: args.whole,
        gently: args.gently,
        pages: args.max_pages,
        depth: args.max_depth,
        time: Duration::from_secs(args.max_minutes.saturating_mul(60)),
        slow: SLOW,
    })
}
