//! `fernweh init`

use crate::config::{Config, FILE};
use crate::context::Context;
use crate::exit::DONE;
use crate::options::SiteArgs;
use crate::prompt::{Answer, asked};
use crate::render::Page;
use crate::site::{Site, quoted};
use clap::{Args, ValueHint};
use fernweh_core::address::{Reach, WebAddress, reach_of};
use fernweh_ports::{Progress, Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;
use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// Writes a first fernweh.toml by asking about both sites.
///
/// It looks into the site's files for its settings. Without a terminal, and with
/// --from-site, it writes what can be found out; the rest stands there as comments.
/// Examples:
///   fernweh init
///   fernweh init --from-site old-host/htdocs -c try.toml
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct InitArgs {
    /// Where the files of the old site are: a folder, or sftp://USER@HOST/FOLDER, ftps:// or
    /// ftp://
    #[arg(long, value_name = "PLACE", value_hint = ValueHint::DirPath)]
    pub from_site: Option<String>,
    /// The web address of the old site
    #[arg(long, value_name = "ADDRESS")]
    pub from_url: Option<String>,
    /// Where the files of the new site are, or will be
    #[arg(long, value_name = "PLACE", value_hint = ValueHint::DirPath)]
    pub to_site: Option<String>,
    /// The web address of the new site
    #[arg(long, value_name = "ADDRESS")]
    pub to_url: Option<String>,
}

/// What was written, as a document.
#[derive(Serialize, JsonSchema)]
pub struct Written {
    /// The file.
    config: String,
    /// The sites in it.
    sites: Vec<String>,
    /// What was found, and what was not.
    notes: Vec<String>,
}

/// Runs the command.
pub fn run(context: &Context, args: &InitArgs) -> Result<u8> {
    let path = context.named_config().map_or_else(|| PathBuf::from(FILE), Path::to_owned);
    if path.exists() {
        return Err(Trouble::already_there("cannot write the configuration", &path)
            .hint("edit it, or write another one: fernweh init -c FILE"));
    }
    let mut notes = Vec::new();
    let old = old_site(context, args, &path, &mut notes)?;
    let new = new_site(args, &path, &old)?;
    write_new(&path, &text(&old, &new))?;
    // What was written can be read.
    let config = Config::load(Some(&path))?;
    let sites: Vec<String> = config.content.site.keys().cloned().collect();
    let mut page = Page::new(context.style);
    page.row("written", &format!("{}; only you can read it", path.display()));
    page.list("found", notes.clone());
    if !new.is_known() {
        page.row("to do", "describe the new site: remove the # and fill in its lines");
    }
    page.gap();
    page.row("next", "fernweh sites");
    let config = path.display().to_string();
    context.print(&Written { config, sites, notes }, &page.finish());
    Ok(DONE)
}

/// The old site, as far as it is known.
struct Old {
    site: Site,
    learned: bool,
}

/// The new site, as far as it is known.
#[derive(Default)]
struct New {
    url: Option<String>,
    files: Option<String>,
    database: Option<String>,
}

impl New {
    fn is_known(&self) -> bool {
        self.files.is_some() || self.database.is_some()
    }
}

fn old_site(
    context: &Context,
    args: &InitArgs,
    path: &Path,
    notes: &mut Vec<String>,
) -> Result<Old> {
    let here = if Path::new("htdocs").is_dir() { "htdocs" } else { "." };
    let files = match &args.from_site {
        Some(place) => place.clone(),
        None => {
            let question = "Where are the files of the old site? A folder, or \
                            sftp://USER@HOST/FOLDER, ftps:// or ftp://";
            asked(question, Some(here)).typed().ok_or_else(|| {
                Trouble::usage("where is the old site?")
                    .because("without a terminal nobody can be asked")
                    .hint("fernweh init --from-site PLACE --from-url ADDRESS")
            })?
        }
    };
    let files = as_meant(&files, path);
    let config = Config {
        folder: path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty())
            .map_or_else(|| PathBuf::from("."), Path::to_owned),
        ..Config::default()
    };
    let mut places =
        SiteArgs { files: Some(files.clone()), url: args.from_url.clone(), database: None };
    let bare = Site::resolve_for_pages(&config, Some("old"), &places)?;
    if let Some(folder) = bare.files.as_ref().and_then(|files| files.local())
        && !folder.is_dir()
    {
        return Err(Trouble::usage("the old site is not there")
            .at(folder.display().to_string())
            .because("there is no such folder")
            .hint("check the path; a folder of another host begins with sftp://"));
    }
    context.progress.note(&format!("looking for settings in {files} …"));
    let (mut site, learned) = match Site::resolve(&config, Some("old"), &places) {
        Ok(site) => {
            let learned = site.learned_from.clone();
            notes.push(match &learned {
                Some(from) => format!("the database, in {from}"),
                None => "no database settings; add database = \"…\", or \"none\"".into(),
            });
            (site, learned.is_some())
        }
        Err(trouble) => {
            notes.push(format!("could not look into {files}: {trouble}"));
            (bare, false)
        }
    };
    if places.url.is_none() {
        let question = "What is its web address?";
        places.url = asked(question, site.guessed_url().as_deref()).typed();
        if let Some(url) = &places.url {
            site.set_url(&with_scheme(url))?;
        }
    }
    Ok(Old { site, learned })
}

fn new_site(args: &InitArgs, path: &Path, old: &Old) -> Result<New> {
    let mut new = New {
        url: args.to_url.as_deref().map(with_scheme),
        files: args.to_site.clone(),
        database: None,
    };
    if new.files.is_none() && args.from_site.is_none() {
        let question = "Where will the files of the new site be? (empty: decide later)";
        new.files = asked(question, None).typed();
    }
    if new.files.is_some() && new.url.is_none() {
        let secure =
            old.site.url.as_ref().map(|url| url.to_string().replacen("http://", "https://", 1));
        new.url = asked("What will its web address be?", secure.as_deref())
            .typed()
            .map(|url| with_scheme(&url));
    }
    if new.files.is_some() && old.site.database.is_some() {
        let question = "What will its database be? As mariadb://USER@HOST/NAME, postgres://… or \
                        sqlite:PATH (empty: read it from the settings file there)";
        new.database = match asked(question, None) {
            Answer::Typed(text) => Some(text),
            Answer::Empty | Answer::Nobody => None,
        };
    }
    new.files = new.files.map(|place| as_meant(&place, path));
    if let Some(url) = &new.url {
        WebAddress::parse(url)
            .map_err(|error| Trouble::usage("the new address is not usable").because(error))?;
    }
    Ok(new)
}

/// A place as it is typed here, for a configuration that may lie elsewhere and means paths from
/// there.
fn as_meant(place: &str, config: &Path) -> String {
    let is_here = config.parent().is_none_or(|folder| folder.as_os_str().is_empty());
    if is_here || place.contains(':') || place.starts_with(['/', '~']) {
        return place.to_owned();
    }
    let full = std::path::absolute(place).map(|path| path.display().to_string());
    full.unwrap_or_else(|_| place.to_owned())
}

/// An address as people type it, made whole.
fn with_scheme(text: &str) -> String {
    if text.contains("://") { text.to_owned() } else { format!("https://{text}") }
}

const HEAD: &str = "\
# The sites that Fernweh works on. Paths are meant from the folder of this file.
# Passwords never stand here, only where they come from:
#   { env = \"NAME\" }      an environment variable
#   { file = \"PATH\" }     a file that holds it alone (chmod 600)
#   { command = \"…\" }     what a command prints
#   { ask = true }        asked for at the terminal
# All keys: docs/reference.md. What is reached: fernweh sites

";

fn text(old: &Old, new: &New) -> String {
    let mut text = String::from(HEAD);
    // What stands in the site's own settings is read there, password included.
    let read_there = if old.learned { &["database", "password.database"][..] } else { &[] };
    text.push_str(&old.site.written(read_there, true));
    if old.learned {
        text.push_str("# database: read from the site's own settings, with its password\n");
    }
    text.push('\n');
    let known = new.is_known();
    let mark = if known { "" } else { "# " };
    let line = |key: &str, value: Option<&str>, example: &str, about: &str| {
        let mark = if value.is_some() { mark } else { "# " };
        format!("{mark}{key:<8} = {}   # {about}\n", quoted(value.unwrap_or(example)))
    };
    text.push_str(&format!("{mark}[site.new]\n"));
    text.push_str(&line(
        "url",
        new.url.as_deref(),
        "https://www.glimmer-point.example",
        "the address that visitors will type",
    ));
    text.push_str(&line(
        "files",
        new.files.as_deref(),
        "sftp://keeper@203.0.113.9/home/keeper/htdocs",
        "where its files are",
    ));
    text.push_str(&line(
        "database",
        new.database.as_deref(),
        "mariadb://keeper@localhost/glimmer",
        "where its database is",
    ));
    if new.database.as_deref().is_none_or(|place| !place.starts_with("sqlite:")) {
        let mark = if new.database.is_some() { "" } else { "# " };
        text.push_str(&format!("{mark}password.database = {{ env = \"NEW_DB_PASSWORD\" }}\n"));
    }
    let public = new.url.as_deref().and_then(|url| WebAddress::parse(url).ok());
    if public.is_some_and(|url| reach_of(&url.host) == Reach::Public) {
        text.push_str(
            "# connect-to = \"203.0.113.9\"   # the new host, until the domain points there\n",
        );
    }
    text.push_str(
        "\n# [pack]\n# leave-out    = [\"cache/**\", \"*.log\"]   # files that are not packed\n\
         # without-rows = [\"sessions\"]            # tables that are packed empty\n",
    );
    text
}

/// Writes the file, for its owner alone; one that is there is not replaced.
fn write_new(path: &Path, text: &str) -> Result<()> {
    let what = "cannot write the configuration";
    let mut options = OpenOptions::new();
    let file = options.write(true).create_new(true).mode(0o600).open(path);
    let written = file.and_then(|mut file| file.write_all(text.as_bytes()));
    written.map_err(|error| Trouble::file(what, path, &error))
}
