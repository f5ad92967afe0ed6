//! `fernweh scan`

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::document::{self, of_scan};
use crate::exit::done;
use crate::options::SiteArgs;
use crate::render::{
    Page, Paint, Style, counted, cut_middle, trace_command, traced_place, traced_places,
};
use crate::rules;
use crate::run_log::RunLog;
use crate::site::Site;
use clap::{Args, ValueHint};
use fernweh_core::finding::{Code, Finding, Severity};
use fernweh_flow::run::{Scan, Trace};
use fernweh_flow::scan::ScanReport;
use fernweh_flow::trace::{TraceReport, searchable};
use fernweh_ports::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;
use url::Url;

/// Places shown per finding unless more detail is wanted.
const PLACES: usize = 6;

/// Opens every page of a site and checks what it refers to.
///
/// Finds broken links and pictures, redirects that never end, http: parts on https
/// pages, and addresses of the old site. Sends no forms, and follows no link that
/// logs out or deletes. Examples:
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
    /// Also show where each address that was found is stored: record, or file and line
    #[arg(long)]
    pub trace: bool,
    /// Also write the report as a web page
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
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

/// Runs the command.
pub fn run(context: &Context, args: &ScanArgs) -> Result<u8> {
    document::check(args.report.as_deref())?;
    let config = context.config()?;
    let site = site_of(args, &config)?;
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "scan", &site.name);
    let mut report = options(args, &config, &site)?.run(&site, context.around(&records))?;
    let findings = report.findings.len() as u64;
    log.end(
        &report.start,
        &match findings {
            0 => "nothing wrong".to_owned(),
            some => counted(some, "finding", "findings"),
        },
    );
    let traced = match args.trace && !report.findings.is_empty() {
        true => {
            let addresses = report.findings.iter().map(|finding| finding.address.clone());
            let (texts, halves) = (searchable(addresses), site.halves(None)?);
            let trace = Trace { texts, halves, propose: None };
            Some(trace.run(&site, context.around(&records))?)
        }
        false => None,
    };
    if let Some(path) = &args.report {
        document::write(path, &of_scan(&report, traced.as_ref(), &traced_place))?;
    }
    let mut page = text(context, &site, &report, args.trace);
    if let Some(traced) = &traced {
        let mut found = Page::new(context.style);
        found.gap();
        found.row("traced", "where these addresses live:");
        traced_places(&mut found, context.style, traced);
        page.push('\n');
        page.push_str(&found.finish());
    }
    let traceable = std::mem::take(&mut report.findings).into_iter().map(|finding| Traceable {
        trace: site.can_be_traced().then(|| trace_command(&site.name, &[&finding.address])),
        finding,
    });
    let traceable = traceable.collect();
    let page = document::named_in(page, args.report.as_deref(), context.style);
    context.print(&Document { report: &report, findings: traceable, traced }, &page);
    Ok(done(findings > 0))
}

/// The report as JSON: each finding with the command that traces it.
#[derive(Serialize, JsonSchema)]
pub struct Document<'a> {
    #[serde(flatten)]
    report: &'a ScanReport,
    findings: Vec<Traceable>,
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
        pages: args.max_pages,
        depth: args.max_depth,
        time: Duration::from_secs(args.max_minutes.saturating_mul(60)),
    })
}

fn text(context: &Context, site: &Site, report: &ScanReport, traced: bool) -> String {
    let style = context.style;
    let mut page = Page::new(style);
    let of =
        |severity| report.findings.iter().filter(|f| f.code.severity() == severity).count() as u64;
    let (broken, warnings) = (of(Severity::Broken), of(Severity::Warning));
    let verdict = match (broken, warnings) {
        (0, 0) => style.paint(Paint::Good, "nothing wrong was found"),
        (0, _) => style.paint(
            Paint::Doubt,
            &format!("nothing broken, {}", counted(warnings, "warning", "warnings")),
        ),
        _ => style.paint(
            Paint::Bad,
            &format!(
                "{} broken, {}",
                counted(broken, "thing", "things"),
                counted(warnings, "warning", "warnings")
            ),
        ),
    };
    // Pages of the site are shown by their path; the first line says of which site.
    let origin = Url::parse(&report.start)
        .map_or_else(|_| String::new(), |url| url.origin().ascii_serialization());
    page.row("scanned", &format!("{}: {verdict}", report.start));
    page.row(
        "read",
        &format!(
            "{}, {} of pages",
            counted(report.pages, "page", "pages"),
            counted(report.resources, "part", "parts"),
        ),
    );
    if report.external > 0 {
        page.more(&format!("{} to other hosts checked", counted(report.external, "link", "links")));
    }
    if report.external_skipped > 0 {
        page.more(&format!(
            "{} to other hosts not checked",
            counted(report.external_skipped, "link", "links")
        ));
    }
    if !report.not_followed.is_empty() {
        page.row(
            "skipped",
            &format!(
                "{}: such links log out or delete",
                report.not_followed.join(", ").replace(&origin, "")
            ),
        );
    }
    if report.bounded {
        page.row(
            "bounded",
            "the scan stopped at a limit; raise it with --max-pages, --max-depth or --max-minutes",
        );
    }
    for code in Code::ALL {
        let found: Vec<&Finding> = report.findings.iter().filter(|f| f.code == code).collect();
        if !found.is_empty() {
            page.gap();
            findings(&mut page, style, code, &found, &origin);
        }
    }
    page.gap();
    if site.can_be_traced() && !traced && !report.findings.is_empty() {
        page.row(
            "where",
            &format!("fernweh scan {} --trace names the records and files", site.name),
        );
    }
    match report.counts.contains_key(Code::OldAddress.name()) {
        true => page.row("next", &format!("fernweh rewrite {}", site.name)),
        false if report.findings.is_empty() => page.row("next", "nothing is left to do here"),
        false => page.row("next", &format!("fix what is broken, then: {}", context.typed.again())),
    }
    page.finish()
}

fn findings(page: &mut Page, style: Style, code: Code, found: &[&Finding], origin: &str) {
    let paint = match code.severity() {
        Severity::Broken => Paint::Bad,
        Severity::Warning => Paint::Doubt,
    };
    // One fault on a hundred pages is one fault.
    let mut groups: BTreeMap<(&str, &str), Vec<&Finding>> = BTreeMap::new();
    for finding in found {
        groups.entry((&finding.address, &finding.detail)).or_default().push(finding);
    }
    page.exact(&format!("{}  {}: {}", style.paint(paint, code.name()), found.len(), code.words()));
    let room = style.width - 15;
    for ((address, detail), places) in &groups {
        page.exact(&format!("  {}", cut_middle(address, room)));
        if !detail.is_empty() {
            page.exact(&format!("    {}", detail.replace(origin, "")));
        }
        let limit = if style.verbose { usize::MAX } else { PLACES };
        for finding in places.iter().take(limit) {
            let place = match &finding.sheet {
                Some(sheet) => {
                    let sheet = format!("{sheet}, line {}, {}", finding.line, finding.element);
                    format!("{sheet}, used by {}", finding.page)
                }
                None => format!("{}, line {}, {}", finding.page, finding.line, finding.element),
            };
            let place = place.replace(origin, "");
            let place = cut_middle(&place, room - 2);
            page.exact(&format!("    {}", style.paint(Paint::Quiet, &place)));
        }
        if places.len() > limit {
            page.exact(&format!("    and on {} more pages; -v shows them", places.len() - limit));
        }
    }
    page.arrow(2, code.remedy());
}
