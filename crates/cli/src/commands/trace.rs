//! `fernweh trace`

use super::rules;
use crate::args::{Half, SiteArgs};
use crate::config::Config;
use crate::context::Context;
use crate::render::{Page, Paint, Style, count, counted, cut_middle, in_context, word};
use crate::site::Site;
use crate::{DONE, FINDINGS};
use clap::Args;
use fernweh_core::address::WebAddress;
use fernweh_core::trace::{Form, Needles};
use fernweh_flow::trace::{Holder, TraceOptions, TraceReport, Traced, TracedPlace, trace};
use fernweh_ports::{FileSource, Result, Trouble, Watch};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::io::Read;
use std::path::{Path, PathBuf};

/// Places shown of one text unless more detail is wanted.
const PLACES: usize = 5;

/// Where an address lives: table, column and record, or file and line
///
/// Searches the database and the files once for any number of texts, however they are
/// encoded there. Examples:
///   fernweh trace new http://cdn.example/hall.jpg
///   fernweh scan new --json > scan.json; fernweh trace new --findings scan.json
#[derive(Debug, Args)]
#[command(
    verbatim_doc_comment,
    override_usage = "fernweh trace [OPTIONS] SITE TEXT...\n       fernweh trace [OPTIONS] SITE --findings FILE"
)]
pub struct TraceArgs {
    /// The site's name in fernweh.toml, then the addresses or other texts
    #[arg(value_name = "SITE TEXT", required_unless_present = "findings")]
    pub words: Vec<String>,
    /// Search for the addresses of a saved scan (scan --json); - is standard input
    #[arg(long, value_name = "FILE")]
    pub findings: Option<PathBuf>,
    /// Show the rules that would change what was found
    #[arg(long)]
    pub propose: bool,
    /// Search only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Runs the command.
pub fn run(context: &Context, args: &TraceArgs) -> Result<u8> {
    let config = context.config()?;
    let described = |places: &SiteArgs| {
        places.url.is_some() || places.files.is_some() || places.database.is_some()
    };
    let (name, texts) = match args.words.split_first() {
        Some((name, texts)) if !described(&args.places) => (Some(name.as_str()), texts),
        _ => (None, &args.words[..]),
    };
    let site = Site::resolve(&config, name, &args.places)?;
    let mut texts = texts.to_vec();
    if let Some(path) = &args.findings {
        texts.extend(addresses_of(path)?);
    }
    if texts.is_empty() {
        return Err(Trouble::usage("there is nothing to search for").hint(format!(
            "name the addresses: fernweh trace {} http://…, or a saved scan with --findings",
            site.name
        )));
    }
    if let Some(warning) = fernweh_flow::runs::warning(&context.records(&config), &site.name)? {
        context.watch.note(&format!("{warning}\n"));
    }
    let report = traced(context, &config, &site, &texts, args.only, args.propose)?;
    context.print(&report, &text(context.style, &site, &report, args.propose));
    Ok(if report.is_empty() { FINDINGS } else { DONE })
}

/// Traces texts through a site.
pub fn traced(
    context: &Context,
    config: &Config,
    site: &Site,
    texts: &[String],
    only: Option<Half>,
    propose: bool,
) -> Result<TraceReport> {
    let doing = |trouble: Trouble| trouble.doing(format!("tracing through site {}", site.name));
    let needles = Needles::new(texts).map_err(|error| {
        Trouble::usage("a text cannot be searched for").because(error).hint("name more of it")
    })?;
    let halves = site.halves(only)?;
    let mut database = site.database_source().map_err(doing)?.filter(|_| halves.0);
    let mut files = site.file_source().map_err(doing)?.filter(|_| halves.1);
    let holds = |table: &str| site.holds_table(table);
    let inside = site.inside_files();
    let skip = |path: &[u8]| fernweh_flow::pack::is_database(path, inside.as_deref());
    let options = TraceOptions { needles: &needles, tables: &holds, skip: &skip };
    let source =
        database.as_mut().map(|source| &mut **source as &mut dyn fernweh_ports::DatabaseSource);
    let files = files.as_mut().map(|source| &mut **source as &mut dyn FileSource);
    let mut report = trace(&options, source, files, &context.watch).map_err(doing)?;
    if propose {
        let others = config.content.site.iter().filter(|(name, _)| **name != site.name);
        let others = others.filter_map(|(_, section)| section.url.as_deref());
        let others: Vec<WebAddress> =
            others.filter_map(|url| WebAddress::parse(url).ok()).collect();
        report.propose(site.url.as_ref(), &others);
        // A rule that the configuration has already needs no proposing.
        let known = rules::configured(config, &site.name)?;
        report.proposed.retain(|one| !known.iter().any(|rule| rule.from.to_string() == one.from));
    }
    Ok(report)
}

/// What matters here of a saved scan.
#[derive(Deserialize)]
struct SavedScan {
    findings: Vec<SavedFinding>,
}

#[derive(Deserialize)]
struct SavedFinding {
    address: String,
}

/// The addresses of a saved scan, once each.
fn addresses_of(path: &Path) -> Result<Vec<String>> {
    let mut text = String::new();
    let read = match path.as_os_str() == "-" {
        true => std::io::stdin().read_to_string(&mut text),
        false => std::fs::File::open(path).and_then(|mut file| file.read_to_string(&mut text)),
    };
    read.map_err(|error| {
        let mut trouble = Trouble::file("cannot read the saved scan", path, &error);
        trouble.kind = fernweh_ports::Kind::Usage;
        trouble
    })?;
    let scan: SavedScan = serde_json::from_str(&text).map_err(|error| {
        Trouble::usage("this is no saved scan")
            .at(path.display().to_string())
            .because(error)
            .hint("make one with: fernweh scan SITE --json > scan.json")
    })?;
    Ok(distinct(scan.findings.into_iter().map(|finding| finding.address)))
}

/// Addresses without repetitions and without those that name nothing to search for.
pub fn distinct(addresses: impl Iterator<Item = String>) -> Vec<String> {
    let unique: BTreeSet<String> = addresses.collect();
    unique.into_iter().filter(|text| Needles::new(std::slice::from_ref(text)).is_ok()).collect()
}

/// The command that traces these addresses.
pub fn command(site: &str, addresses: &[&str]) -> String {
    let words: Vec<String> = addresses.iter().map(|address| word(address)).collect();
    format!("fernweh trace {site} {}", words.join(" "))
}

fn text(style: Style, site: &Site, report: &TraceReport, propose: bool) -> String {
    let mut page = Page::new(style);
    let found = report.texts.iter().filter(|traced| traced.found > 0).count() as u64;
    let places: u64 = report.texts.iter().map(|traced| traced.found).sum();
    let verdict = match (found, report.texts.len() as u64) {
        (0, _) => style.paint(Paint::Doubt, "nothing was found"),
        (1, 1) => format!("found in {}", counted(places, "place", "places")),
        (found, all) => {
            let places = counted(places, "place", "places");
            format!("{found} of {} found, in {places}", counted(all, "text", "texts"))
        }
    };
    page.row("traced", &format!("site {}: {verdict}", site.name));
    let records = counted(report.records, "record", "records");
    page.row("read", &format!("{records}, {}", counted(report.files, "file", "files")));
    places_of(&mut page, style, report);
    page.gap();
    proposed(&mut page, site, report, propose);
    page.finish()
}

/// Each text and its places.
pub fn places_of(page: &mut Page, style: Style, report: &TraceReport) {
    for traced in &report.texts {
        page.gap();
        page.exact(&format!("{}  {}", cut_middle(&traced.text, style.width - 28), number(traced)));
        let limit = if style.verbose { usize::MAX } else { PLACES };
        for place in traced.places.iter().take(limit) {
            page.exact(&format!("  {}", style.paint(Paint::Quiet, &shown(place))));
            let room = style.width.saturating_sub(15);
            let (lead, trail) = (&place.lead, &place.trail);
            page.exact(&format!("    {}", in_context(style, lead, &place.excerpt, trail, room)));
        }
        let more = traced.found.saturating_sub(limit.min(traced.places.len()) as u64);
        if more > 0 && !style.verbose {
            page.exact(&format!("  and {} more; -v shows them", count(more)));
        } else if more > 0 {
            page.exact(&format!("  and {} more", count(more)));
        }
        if traced.found == 0 {
            page.arrow(2, "made by the site's code, or it comes from another server");
        }
    }
}

fn number(traced: &Traced) -> String {
    match traced.found {
        0 => "not found".into(),
        found => counted(found, "place", "places"),
    }
}

/// A place in words.
pub fn shown(place: &TracedPlace) -> String {
    let holder = match &place.holder {
        Holder::Cell { table, record, column } => {
            format!("{table}, {record}, column {column}, position {}", count(place.position + 1))
        }
        Holder::Definition { object } => format!("the definition of {object}"),
        Holder::File { file, line } => format!("{file}, line {}", count(*line)),
    };
    let form = match place.form {
        Form::Same => "",
        Form::OtherScheme => ", with another scheme",
        Form::PathAlone => ", its path alone",
    };
    let spelled = if place.spelled == "plain" { "" } else { place.spelled };
    let spelled = if spelled.is_empty() { String::new() } else { format!(", spelled {spelled}") };
    format!("{holder}{form}{spelled}")
}

fn proposed(page: &mut Page, site: &Site, report: &TraceReport, asked: bool) {
    if report.is_empty() {
        page.row("next", "search for less of the address, a file name for example");
        return;
    }
    let Some(first) = report.proposed.first() else {
        page.row(
            "next",
            match asked {
                true => "no rule changes this: correct it where it stands",
                false => "correct what is wrong there, or let rules do it: --propose shows them",
            },
        );
        return;
    };
    page.row("rules", "for fernweh.toml, to change what was found:");
    for rule in &report.proposed {
        page.exact("[[rule]]");
        page.exact(&format!("from = {:?}", rule.from));
        page.exact(&format!("to = {:?}", rule.to));
        page.exact(&format!("into = [{:?}]", site.name));
        if let Some(note) = &rule.note {
            page.arrow(0, note);
        }
    }
    page.gap();
    let (from, to) = (word(&first.from), word(&first.to));
    page.row("next", &format!("fernweh rewrite {} --from {from} --to {to}", site.name));
}
