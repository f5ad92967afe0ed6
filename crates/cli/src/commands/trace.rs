//! `fernweh trace`

use crate::complete::site_names;
use crate::context::Context;
use crate::exit::done;
use crate::options::{Half, SiteArgs};
use crate::render::{Page, Paint, Style, counted, counts, traced_places, word};
use crate::rules;
use crate::saved_scan::saved;
use crate::site::Site;
use clap::{Args, ValueHint};
use fernweh_core::finding::Finding;
use fernweh_flow::run::Trace;
use fernweh_flow::trace::{TraceReport, searchable};
use fernweh_ports::{Result, Trouble};
use std::path::{Path, PathBuf};

/// Shows where an address is stored: record, or file and line.
///
/// Searches the database and the files once for any number of texts, however they
/// are encoded there. Examples:
///   fernweh trace new http://cdn.example/moon.png
///   fernweh scan new --own-only --json > scan.json; fernweh trace new --findings scan.json
#[derive(Debug, Args)]
#[command(
    verbatim_doc_comment,
    override_usage = "fernweh trace [OPTIONS] SITE TEXT...\n       fernweh trace [OPTIONS] SITE \
                     --findings FILE"
)]
pub struct TraceArgs {
    /// The site's name in fernweh.toml, then the addresses or other texts
    #[arg(value_name = "SITE TEXT", required_unless_present = "findings", add = site_names())]
    pub words: Vec<String>,
    /// Search for the addresses of a saved scan (scan --json); - is standard input
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
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
    let trace = Trace {
        texts,
        halves: site.halves(args.only)?,
        propose: args.propose.then(|| rules::known(&config, &site.name)).transpose()?,
    };
    let report = trace.run(&site, context.around(&context.records(&config)))?;
    context.print(&report, &text(context.style, &site, &report, args.propose));
    Ok(done(report.is_empty()))
}

/// The addresses of a saved scan as they are written, once each.
fn addresses_of(path: &Path) -> Result<Vec<String>> {
    let found = saved(path)?.findings;
    Ok(searchable(
        found.iter().filter(|finding| finding.is_of_content()).flat_map(Finding::spellings),
    ))
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
    let read = [(report.records, "record", "records"), (report.files, "file", "files")];
    page.row("read", &counts(&read).join(", "));
    traced_places(&mut page, style, report);
    page.gap();
    proposed(&mut page, site, report, propose);
    page.finish()
}

fn proposed(page: &mut Page, site: &Site, report: &TraceReport, asked: bool) {
    if report.is_empty() {
        page.row("next", "search for a shorter part of the address, for example a file name");
        return;
    }
    let Some(first) = report.proposed.first() else {
        page.row(
            "next",
            match asked {
                true => "no rule changes this: correct it by hand",
                false => "correct it by hand, or let rules do it: --propose shows them",
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
