//! `fernweh survey`

use crate::config::Config;
use crate::context::Context;
use crate::exit::DONE;
use crate::hosts::FilesPlace;
use crate::options::SiteArgs;
use crate::render::{
    Page, aligned, amount, count, counted, cut_middle, lines, preflight, size, wrapped,
};
use crate::site;
use crate::site::Site;
use clap::Args;
use fernweh_core::finding::{Check, Verdict};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::preflight::Tests;
use fernweh_flow::run::Survey;
use fernweh_flow::survey::{FilesReport, SurveyReport};
use fernweh_ports::Result;

/// What a site consists of, and whether everything needed can be reached
///
/// Reads the site and changes nothing. Example:
///   fernweh survey old
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct SurveyArgs {
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
    /// Look as well whether this other site can take what the first one has
    #[arg(long = "for", value_name = "OTHER")]
    pub other: Option<String>,
    /// Repeat only this test of those for the other site
    #[arg(long, value_name = "TEST", requires = "other")]
    pub only: Option<String>,
    /// Print a [site.NAME] section for fernweh.toml instead of the report
    #[arg(long)]
    pub print_config: bool,
}

/// Runs the command.
pub fn run(context: &Context, args: &SurveyArgs) -> Result<u8> {
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let records = context.records(&config);
    context.around(&records).warn_of_earlier(&site)?;
    if let Some(other) = &args.other {
        return for_other(context, &config, &site, other, args.only.as_deref());
    }
    if args.print_config {
        print!("{}", section(&site));
        return Ok(DONE);
    }
    let leave_out = Patterns::of_paths(&config.content.pack.leave_out)?;
    let mut report = Survey { leave_out }.run(&site, context.around(&records))?;
    report.database_place = site.database_shown();
    if let Some(program) = &site.program {
        let what = format!(
            "the site has programs, as {program}, and no file names a database in a form that is read"
        );
        let hint = format!("set database in [site.{}], or \"none\" if it has none", site.name);
        report.checks.insert(0, Check::warned(what, hint));
    }
    context.print(&report, &text(context, &report, &site));
    let failed = report.checks.iter().any(|check| check.verdict == Verdict::Failed);
    Ok(if failed { 3 } else { DONE })
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
        leave_out: &Patterns::of_paths(&config.content.pack.leave_out)?,
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
            format!("mend what failed, then: fernweh survey {} --for {}", site.name, other.name)
        }
        false => format!("fernweh move {} {} --rehearse", site.name, other.name),
    };
    page.row("next", &next);
    context.print(&found, &page.finish());
    Ok(if found.has_failed() { 3 } else { DONE })
}

fn section(site: &Site) -> String {
    let mut text = format!("[site.{}]\n", site.name);
    let mut line = |key: &str, value: Option<String>| {
        if let Some(value) = value {
            text.push_str(&format!("{key:<8} = {value:?}\n"));
        }
    };
    line("url", site.url.as_ref().map(ToString::to_string));
    line("files", site.files.as_ref().map(FilesPlace::shown));
    line("database", site.database.as_ref().map(site::DatabasePlace::shown));
    let on_server = matches!(
        site.database,
        Some(site::DatabasePlace::Mariadb(_) | site::DatabasePlace::Postgres(_))
    );
    if on_server {
        let name = site.name.to_ascii_uppercase().replace('-', "_");
        text.push_str(&format!("password.database = {{ env = \"{name}_DB_PASSWORD\" }}\n"));
    }
    text
}

fn text(context: &Context, report: &SurveyReport, site: &Site) -> String {
    let mut page = Page::new(context.style);
    page.row(&report.site, report.url.as_deref().unwrap_or("without web address"));
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
            page.more("the database was found through this file");
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
    page.row("next", &format!("fernweh pack {}", report.site));
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
    if !context.style.verbose {
        tables.sort_by_key(|table| std::cmp::Reverse(table.bytes));
        tables.truncate(6);
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
