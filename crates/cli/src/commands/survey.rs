//! `fernweh survey`

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::exit::{DONE, REFUSED};
use crate::options::SiteArgs;
use crate::render::{
    Page, aligned, amount, count, counted, cut_middle, lines, preflight, size, wrapped,
};
use crate::site::Site;
use clap::Args;
use fernweh_core::finding::{Check, Verdict};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::preflight::Tests;
use fernweh_flow::run::Survey;
use fernweh_flow::survey::{FilesReport, SurveyReport};
use fernweh_ports::{Result, SiteAccess, natural};
use schemars::JsonSchema;
use serde::Serialize;

/// Shows what a site consists of and whether all can be reached.
///
/// Reads the site and changes nothing. Examples:
///   fernweh survey old
///   fernweh survey old --for new
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct SurveyArgs {
    /// The site's name in fernweh.toml
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// Test whether this other site can take what the first one has
    #[arg(long = "for", value_name = "OTHER", add = site_names())]
    pub other: Option<String>,
    /// Repeat only this test, one of those for the other site
    #[arg(long, value_name = "NAME", requires = "other")]
    pub check: Option<String>,
    /// Print the site's whole section for fernweh.toml instead of the report
    #[arg(long)]
    pub print_config: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// A section of the configuration as a document.
#[derive(Serialize, JsonSchema)]
pub struct Printed {
    /// The site's name.
    site: String,
    /// Its section, as TOML.
    config: String,
}

/// Runs the command.
pub fn run(context: &Context, args: &SurveyArgs) -> Result<u8> {
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let records = context.records(&config);
    context.around(&records).warn_of_earlier(&site)?;
    if let Some(other) = &args.other {
        return for_other(context, &config, &site, other, args.check.as_deref());
    }
    if args.print_config {
        let config = site.written(&[], false);
        context.print(&Printed { site: site.name.clone(), config: config.clone() }, &config);
        return Ok(DONE);
    }
    let leave_out = Patterns::of_paths(&config.packing(&site.name).leave_out)?;
    let mut report = Survey { leave_out }.run(&site, context.around(&records))?;
    report.database_place = site.database_shown();
    if let Some(program) = &site.program {
        let what = format!(
            "the site has programs (for example {program}), but its files name no database in a \
             known form"
        );
        let hint = format!("set database in [site.{}], or \"none\" if it has none", site.name);
        report.checks.insert(0, Check::warned(what, hint));
    }
    context.print(&report, &text(context, &report, &site));
    let failed = report.checks.iter().any(|check| check.verdict == Verdict::Failed);
    Ok(if failed { REFUSED } else { DONE })
}

/// Whether another site can take what the first one has.
fn for_other(
    context: &Context,
    config: &Config,
    site: &Site,
    other: &str,
    only: Option<&str>,
) -> Result<u8> {
    let other = Site::resolve(config, Some(other), &SiteArgs::default())?;
    let tests = Tests {
        entry_by_entry: false,
        own_runs: fernweh_flow::runs::unfinished(&context.records(config), &other.name)?,
        from: site,
        to: &other,
        halves: site.halves_to_pack(None)?,
        leave_out: &Patterns::of_paths(&config.packing(&site.name).leave_out)?,
        only,
    };
    let found = tests.run(&context.progress)?;
    let mut page = Page::new(context.style);
    page.row("tested", &format!("whether site {} can move to site {}", site.name, other.name));
    if only.is_none() {
        page.row("amount", &amount(&found));
    }
    page.gap();
    preflight(&mut page, &found, (&site.name, &other.name));
    page.list("to do", found.to_do.clone());
    page.gap();
    let next = match found.has_failed() {
        true => {
            format!("fix what failed, then: fernweh survey {} --for {}", site.name, other.name)
        }
        false => format!("fernweh move {} {} --rehearse", site.name, other.name),
    };
    page.row("next", &next);
    context.print(&found, &page.finish());
    Ok(if found.has_failed() { REFUSED } else { DONE })
}

fn text(context: &Context, report: &SurveyReport, site: &Site) -> String {
    let mut page = Page::new(context.style);
    let url = report.url.as_deref().unwrap_or("no web address is configured");
    page.row("site", &format!("{}, {url}", report.site));
    if site.is_hidden() {
        page.row("hidden", "search engines are kept out of it (hidden = true)");
    }
    page.gap();
    database(&mut page, context, report);
    if let Some(files) = &report.files {
        files_rows(&mut page, files);
    }
    if report.kept_states > 0 {
        let states = counted(report.kept_states, "state", "states");
        let room = match report.kept_bytes {
            0 => String::new(),
            bytes => format!(", {}", size(bytes)),
        };
        page.row("kept", &format!("{states} of earlier runs{room}; fernweh runs lists them"));
    }
    if let Some(settings) = &report.settings {
        let hidden = if settings.password { " (password not shown)" } else { "" };
        page.row("settings", &format!("{} {}{hidden}", settings.file, lines(&settings.lines)));
        if site.learned_from.is_some() {
            page.more("the database address was read from this file");
        }
        if !settings.others.is_empty() {
            page.more(&format!("also in {}", settings.others.join(", ")));
        }
    }
    page.gap();
    addresses(&mut page, context, report);
    page.gap();
    page.checks(&report.checks);
    page.gap();
    let failed = report.checks.iter().any(|check| check.verdict == Verdict::Failed);
    match failed {
        true => page.row("next", &format!("fix what failed, then: fernweh survey {}", report.site)),
        false => page.row("next", &format!("fernweh pack {}", report.site)),
    }
    page.finish()
}

fn database(page: &mut Page, context: &Context, report: &SurveyReport) {
    let Some(database) = &report.database else {
        page.row("database", "none");
        return;
    };
    let place = report.database_place.clone().unwrap_or_default();
    page.row("database", &format!("{} in {place}", database.version));
    page.more(&format!("character set {}, collation {}", database.charset, database.collation));
    let records = database.tables.iter().map(|table| table.rows).sum();
    let bytes = database.tables.iter().map(|table| table.bytes).sum();
    let mut line = format!(
        "{}, {}, {}",
        counted(database.tables.len() as u64, "table", "tables"),
        counted(records, "record", "records"),
        size(bytes)
    );
    if let (1, Some((prefix, number))) = (report.prefixes.len(), report.prefixes.iter().next()) {
        let all = *number as usize == database.tables.len();
        line.push_str(&format!(
            ", {} named {prefix}…",
            if all { "all".into() } else { count(*number) }
        ));
    }
    page.more(&line);
    let mut tables: Vec<_> = database.tables.iter().collect();
    match context.style.verbose {
        true => tables.sort_by(|one, other| natural(&one.name, &other.name)),
        false => {
            tables.sort_by_key(|table| std::cmp::Reverse(table.bytes));
            tables.truncate(6);
        }
    }
    let rows: Vec<Vec<String>> = tables
        .iter()
        .map(|t| {
            vec![cut_middle(&t.name, 40), counted(t.rows, "record ", "records"), size(t.bytes)]
        })
        .collect();
    for line in aligned(&rows, &[1, 2]) {
        page.exact(&format!("  {line}"));
    }
    if database.tables.len() > tables.len() {
        page.exact(&format!(
            "  and {} smaller; -v shows them",
            database.tables.len() - tables.len()
        ));
    }
}

fn files_rows(page: &mut Page, files: &FilesReport) {
    page.row(
        "files",
        &format!(
            "{}, {} in {}",
            counted(files.files, "file", "files"),
            size(files.bytes),
            files.place
        ),
    );
    let mut kinds: Vec<_> = files.kinds.iter().collect();
    kinds
        .sort_by_key(|(name, (number, _))| (name.as_str() == "others", std::cmp::Reverse(*number)));
    let words: Vec<String> =
        kinds.iter().map(|(name, (number, _))| format!("{} {name}", count(*number))).collect();
    page.more(&words.join(", "));
    page.more(&format!(
        "{}, {}",
        counted(files.folders, "folder", "folders"),
        counted(files.links, "link", "links")
    ));
}

fn addresses(page: &mut Page, context: &Context, report: &SurveyReport) {
    if report.addresses.is_empty() {
        page.row("addresses", "none");
        return;
    }
    let limit = if context.style.verbose { usize::MAX } else { 12 };
    let mut rows = vec![vec!["addresses".into(), "cells".into(), "files".into(), String::new()]];
    for found in report.addresses.iter().take(limit) {
        let note = if found.own { "" } else { "another site" };
        let address = cut_middle(&found.address, context.style.width.saturating_sub(52).max(30));
        rows.push(vec![address, count(found.cells), count(found.files), note.into()]);
    }
    for (n, line) in aligned(&rows, &[1, 2]).iter().enumerate() {
        page.exact(line);
        // The first line is the head.
        let found = n.checked_sub(1).and_then(|n| report.addresses.get(n));
        if let Some(found) = found.filter(|_| context.style.verbose) {
            let list = |counts: Vec<(String, u64)>| {
                let words =
                    counts.iter().map(|(name, number)| format!("{name} {}", count(*number)));
                words.collect::<Vec<_>>().join(", ")
            };
            let named = found.spellings.iter().map(|(name, n)| ((*name).to_owned(), *n)).collect();
            let places = found.places.iter().map(|(name, n)| (name.clone(), *n)).collect();
            for text in [format!("spelled {}", list(named)), format!("in {}", list(places))] {
                for line in wrapped(&text, context.style.width.saturating_sub(14)) {
                    page.exact(&format!("  {line}"));
                }
            }
        }
    }
    if report.addresses.len() > limit {
        page.more(&format!("and {} more; -v shows them", report.addresses.len() - limit));
    }
}
