//! `fernweh sites`

use crate::config::Config;
use crate::context::Context;
use crate::exit::{DONE, REFUSED};
use crate::hosts::FilesPlace;
use crate::options::SiteArgs;
use crate::render::Page;
use crate::site::Site;
use clap::Args;
use fernweh_core::finding::{Check, Verdict};
use fernweh_flow::preflight::{failed, page_of};
use fernweh_ports::{Result, SiteAccess, Trouble};
use schemars::JsonSchema;
use serde::Serialize;

/// Lists the configured sites and whether each can be reached.
///
/// Logs in to files and database of each site and asks for its first page; changes
/// nothing. Example:
///   fernweh sites
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct SitesArgs {
    /// Only list them, and reach for none
    #[arg(long)]
    pub list: bool,
}

/// The sites, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Sites {
    /// The configuration.
    config: String,
    /// The sites, by name.
    sites: Vec<Listed>,
}

/// One site.
#[derive(Serialize, JsonSchema)]
struct Listed {
    /// Its name.
    site: String,
    /// Its web address.
    url: Option<String>,
    /// Where its files are.
    files: Option<String>,
    /// Where its database is.
    database: Option<String>,
    /// What was tried.
    checks: Vec<Check>,
}

/// Runs the command.
pub fn run(context: &Context, args: &SitesArgs) -> Result<u8> {
    let config = context.config()?;
    if config.path.is_none() {
        return Err(Config::missing());
    }
    let names: Vec<&String> = config.content.site.keys().collect();
    // A host that does not answer keeps only its own line waiting.
    let sites: Vec<Listed> = std::thread::scope(|scope| {
        let looks: Vec<_> =
            names.iter().map(|name| scope.spawn(|| listed(&config, name, !args.list))).collect();
        looks.into_iter().filter_map(|look| look.join().ok()).collect()
    });
    let is_failed = |check: &Check| check.verdict == Verdict::Failed;
    let any_failed = sites.iter().flat_map(|site| &site.checks).any(is_failed);
    let text = text(context, &config, &sites);
    context.print(&Sites { config: config.shown(), sites }, &text);
    Ok(if any_failed { REFUSED } else { DONE })
}

fn listed(config: &Config, name: &str, reach: bool) -> Listed {
    let places = SiteArgs::default();
    let site = match reach {
        true => Site::resolve(config, Some(name), &places),
        false => Site::resolve_for_pages(config, Some(name), &places),
    };
    // Where one half cannot be reached, the other is still worth a look.
    let (site, trouble) = match site {
        Ok(site) => (Some(site), None),
        Err(trouble) => (Site::resolve_for_pages(config, Some(name), &places).ok(), Some(trouble)),
    };
    let mut checks: Vec<Check> = trouble.iter().map(failed).collect();
    if let (Some(site), true) = (&site, reach) {
        tried(site, trouble.is_none(), &mut checks);
    }
    Listed {
        site: name.to_owned(),
        url: site.as_ref().and_then(|site| site.url.as_ref().map(ToString::to_string)),
        files: site.as_ref().and_then(|site| site.files.as_ref().map(FilesPlace::shown)),
        database: site.as_ref().and_then(Site::database_shown),
        checks,
    }
}

/// Reaches for what a site has.
fn tried(site: &Site, is_resolved: bool, checks: &mut Vec<Check>) {
    let mut note = |what: &str, outcome: Result<bool>| match outcome {
        Ok(true) => checks.push(Check::passed(format!("the {what} can be reached"))),
        Ok(false) => {}
        Err(trouble) if is_not_there_yet(&trouble) => checks.push(Check::warned(
            format!("the {what} does not exist yet"),
            "unpack and move create it; if it should exist, check the path",
        )),
        Err(trouble) => checks.push(failed(&trouble)),
    };
    if is_resolved {
        note("folder of the files", SiteAccess::files(site).map(|files| files.is_some()));
    }
    note("database", SiteAccess::database(site).map(|found| found.is_some()));
    if site.url.is_some() {
        checks.push(page_of(site).unwrap_or_else(|trouble| failed(&trouble)));
    }
}

/// Whether a place is missing that a first unpacking would make.
fn is_not_there_yet(trouble: &Trouble) -> bool {
    let because = trouble.because.as_deref().unwrap_or_default();
    ["there is no such f", "unable to open database file"].iter().any(|sign| because.contains(sign))
}

fn text(context: &Context, config: &Config, sites: &[Listed]) -> String {
    let mut page = Page::new(context.style);
    page.row("config", &config.shown());
    if sites.is_empty() {
        page.row("sites", "none; write a section [site.NAME]");
    }
    for site in sites {
        page.gap();
        page.row("site", &site.site);
        page.list("address", site.url.clone());
        page.list("files", site.files.clone());
        page.list("database", site.database.clone());
        page.checks(&site.checks);
    }
    let is_well = |site: &&Listed| site.checks.iter().all(|check| check.verdict == Verdict::Passed);
    if let Some(site) = sites.iter().find(is_well) {
        page.gap();
        page.row("next", &format!("fernweh survey {}", site.site));
    }
    page.finish()
}
