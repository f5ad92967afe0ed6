//! `fernweh redirects`

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::exit::{DONE, done};
use crate::options::SiteArgs;
use crate::plain_file::plain_text;
use crate::render::placed_text;
use crate::rules;
use crate::site::Site;
use clap::{Args, ValueEnum, ValueHint};
use fernweh_core::address::WebAddress;
use fernweh_core::redirects::{Redirects, Server};
use fernweh_flow::run::{PlaceRedirects, redirects_of};
use fernweh_ports::{Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Prints the permanent redirects to a site, or places them before its other rules.
///
/// To https, to the one right host, from the old site, and for pages that have
/// moved: each in one step, with path and query. Examples:
///   fernweh redirects new --from old
///   fernweh redirects new --from old --server nginx
///   fernweh redirects new --from old --place
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct RedirectsArgs {
    /// The site to which they lead
    #[arg(add = site_names())]
    pub site: String,
    /// The site whose addresses lead there, too
    #[arg(long, value_name = "OLD", add = site_names())]
    pub from: Option<String>,
    /// The web server
    #[arg(long, value_name = "SERVER", default_value = "apache")]
    pub server: Words,
    /// Pages that have moved: a file with old,new on each line, paths or addresses
    #[arg(long, value_name = "FILE.csv", value_hint = ValueHint::FilePath)]
    pub pages: Option<PathBuf>,
    /// Put them into the site's .htaccess; what it held is kept for undo
    #[arg(long, conflicts_with = "remove")]
    pub place: bool,
    /// Take them out of the site's .htaccess again
    #[arg(long)]
    pub remove: bool,
}

/// In whose words the rules are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Words {
    /// Apache httpd: .htaccess
    Apache,
    /// nginx: inside of the server block for all names of the site
    Nginx,
    /// Caddy: inside of the site block for all names of the site
    Caddy,
    /// PHP: at the beginning of the program that answers first
    Php,
}

impl From<Words> for Server {
    fn from(words: Words) -> Self {
        match words {
            Words::Apache => Server::Apache,
            Words::Nginx => Server::Nginx,
            Words::Caddy => Server::Caddy,
            Words::Php => Server::Php,
        }
    }
}

/// The rules, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Printed {
    /// The site.
    site: String,
    /// The web server.
    server: String,
    /// The lines.
    lines: Vec<String>,
}

/// Runs the command.
pub fn run(context: &Context, args: &RedirectsArgs) -> Result<u8> {
    let config = context.config()?;
    let none = SiteArgs::default();
    let site = Site::resolve_for_pages(&config, Some(&args.site), &none)?;
    let from = args.from.as_deref();
    let from = from.map(|name| Site::resolve_for_pages(&config, Some(name), &none)).transpose()?;
    let redirects = redirects(args, &config, &site, from.as_ref())?;
    if args.place || args.remove {
        if args.server != Words::Apache {
            return Err(Trouble::usage("only rules for Apache can be placed")
                .because("other web servers read none from the site's folder")
                .hint(format!(
                    "{}; then paste them",
                    context.typed.without(&["--place", "--remove"])
                )));
        }
        let placing = PlaceRedirects { redirects: &redirects, remove: args.remove };
        let records = context.records(&config);
        let report = placing.run(&site, context.around(&records))?;
        let text = placed_text(context.style, &report, "redirects", &context.typed);
        context.print_done(&report, &text);
        return Ok(done(!report.works()));
    }
    let server = args.server;
    let name = server.to_possible_value().map(|value| value.get_name().to_owned());
    let lines = printed(server, &redirects);
    let text = lines.join("\n") + "\n";
    context.print(&Printed { site: site.name, server: name.unwrap_or_default(), lines }, &text);
    Ok(DONE)
}

/// The lines with a word of where they go.
fn printed(server: Words, redirects: &Redirects) -> Vec<String> {
    let (mark, place) = match server {
        Words::Apache => ("#", "the first lines of .htaccess, or inside of <Directory>"),
        Words::Nginx => ("#", "inside of the server block that answers for all names of the site"),
        Words::Caddy => ("#", "inside of the site block that answers for all names of the site"),
        Words::Php => ("//", "at the beginning of index.php, or in auto_prepend_file"),
    };
    let to = &redirects.to;
    let mut lines = vec![format!("{mark} redirects to {to}: {place}")];
    if server == Words::Php {
        lines.insert(0, "<?php".into());
    }
    lines.extend(redirects.lines(server.into()));
    lines
}

/// What leads where.
fn redirects(
    args: &RedirectsArgs,
    config: &Config,
    site: &Site,
    from: Option<&Site>,
) -> Result<Redirects> {
    let mut redirects = redirects_of(site, from.and_then(|from| from.url.as_ref()))?;
    let unusable = |error: &dyn std::fmt::Display| {
        Trouble::usage("a redirect cannot be written").because(error)
    };
    if let Some(path) = &args.pages {
        for (line, [old, new]) in pages(path)? {
            redirects.add_page(&old, &new).map_err(|error| {
                unusable(&error)
                    .at(format!("{}, line {line}", path.display()))
                    .hint("write old,new: paths that begin with /, or addresses of the two sites")
            })?;
        }
    }
    for rule in rules::configured(config, &site.name)? {
        let both = [&rule.from, &rule.to].map(|place| WebAddress::parse(&place.to_string()));
        if let [Ok(from), Ok(to)] = both {
            redirects
                .add_rule(&from, &to)
                .map_err(|error| unusable(&error).at(format!("[[rule]] of {}", config.shown())))?;
        }
    }
    Ok(redirects)
}

/// Pairs of a list, with their lines.
fn pages(path: &Path) -> Result<Vec<(u64, [String; 2])>> {
    let what = "cannot read the list of pages";
    let text = plain_text(what, path)?;
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .trim(csv::Trim::All)
        .comment(Some(b'#'))
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let mut pairs = Vec::new();
    for row in reader.records() {
        let wrong = |because: String| {
            Trouble::usage(what)
                .at(path.display().to_string())
                .because(because)
                .hint("write old,new on each line, as in /archive.html,/nights/")
        };
        let row = row.map_err(|error| wrong(error.to_string()))?;
        let line = row.position().map_or(0, csv::Position::line);
        let fields: Vec<&str> = row.iter().collect();
        let [old, new] = fields[..] else {
            return Err(wrong(format!("line {line} has {} fields in place of two", fields.len())));
        };
        // A line of titles is none of a page.
        if pairs.is_empty() && !old.contains('/') && !new.contains('/') {
            continue;
        }
        pairs.push((line, [old.to_owned(), new.to_owned()]));
    }
    Ok(pairs)
}
