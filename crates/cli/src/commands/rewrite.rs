//! `fernweh rewrite`

use super::rewrite_file::{self, FileArgs};
use super::trial;
use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::document::{self, of_rewriting};
use crate::exit::done;
use crate::options::{Engine, Half, Layer, SiteArgs};
use crate::render::{Page, counted, hidden, refused, rewriting};
use crate::rules;
use crate::run_log::{Memory, RunLog};
use crate::site::Site;
use clap::{Args, ValueHint};
use fernweh_core::rewrite::Rewriter;
use fernweh_flow::rewrite::LiveReport;
use fernweh_flow::run::{Rewrite, pair, ready, warn_of_shadowed};
use fernweh_ports::{Result, Trouble};
use std::path::PathBuf;

/// Rewrites addresses in a live site, or in a file with -o.
///
/// In a site this is a preview unless you add --apply.
/// Rules come from --from and --to, from [[rule]] in fernweh.toml, or, if there are
/// none, from the addresses of the other sites there. Examples:
///   fernweh rewrite new
///   fernweh rewrite new --from http://cdn.example --to https://cdn.example --apply
///   fernweh rewrite old.sql.gz -o new.sql.gz --from old --to new
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct RewriteArgs {
    /// The site's name in fernweh.toml; with -o, an SQL script or another file of text, or -
    #[arg(value_name = "SITE or FILE", add = site_names())]
    pub site: Option<String>,
    /// What to rewrite, with --to: an address or a site's name; may be repeated
    #[arg(long, value_name = "ADDRESS or SITE", add = site_names())]
    pub from: Vec<String>,
    /// What it becomes, with --from: an address or a site's name; may be repeated
    #[arg(long, value_name = "ADDRESS or SITE", add = site_names())]
    pub to: Vec<String>,
    /// Change nothing and give the numbers; this is what happens without --apply
    #[arg(long, alias = "dry-run", short_alias = 'n', conflicts_with_all = ["apply", "output"])]
    pub preview: bool,
    /// Change the site; the old values are kept for undo
    #[arg(long)]
    pub apply: bool,
    /// Rewrite a file into this new one, which is compressed as its name says; - is standard
    /// output
    #[arg(
        short,
        long,
        value_name = "FILE",
        value_hint = ValueHint::FilePath,
        conflicts_with_all = ["apply", "only"]
    )]
    pub output: Option<PathBuf>,
    /// The SQL dialect of the script, if its beginning does not tell
    #[arg(long, value_name = "ENGINE", requires = "output")]
    pub engine: Option<Engine>,
    /// Show what the rules do to one value, and why something is left; - is standard input
    #[arg(long = "try", value_name = "TEXT", conflicts_with = "apply")]
    pub value: Option<String>,
    /// Correct the lengths of serialized values that are damaged, where only one reading is
    /// possible
    #[arg(long)]
    pub mend_lengths: bool,
    /// Open values of this kind as well
    #[arg(long, value_name = "LAYER")]
    pub inside: Option<Layer>,
    /// Rewrite only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Also write the report as a web page
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Runs the command.
pub fn run(context: &Context, args: &RewriteArgs) -> Result<u8> {
    if let Some(output) = &args.output {
        let rewriter = rewriter(args, &context.config()?, None)?;
        warn_of_shadowed(rewriter.rules(), &context.progress);
        let file = FileArgs { from: args.site.as_deref(), to: output, engine: args.engine };
        return rewrite_file::run(context, &file, &rewriter);
    }
    if let Some(value) = &args.value {
        let config = context.config()?;
        let site = match &args.site {
            Some(_) => Some(Site::resolve(&config, args.site.as_deref(), &args.places)?),
            None => None,
        };
        return trial::run(context, &rewriter(args, &config, site.as_ref())?, value);
    }
    document::check(args.report.as_deref())?;
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let doing = |trouble: Trouble| trouble.doing(format!("rewriting site {}", site.name));
    let rewrite = Rewrite {
        rewriter: rewriter(args, &config, Some(&site)).map_err(doing)?,
        halves: site.halves(args.only).map_err(doing)?,
        apply: args.apply,
    };
    let records = context.records(&config);
    // What changes the site has a journal.
    let log = (!args.apply).then(|| RunLog::begin(&config, &records, "rewrite", &site.name));
    let report = rewrite.run(&site, context.around(&records))?;
    if let Some(path) = &args.report {
        let title = format!("Rewriting site {}", site.name);
        let page = of_rewriting(title, report.applied, &report.rewriting, &report.refused);
        document::write(path, &page)?;
    }
    let page = text(context, &site, &report);
    let page = document::named_in(page, args.report.as_deref(), context.style);
    match log {
        None => context.print_done(&report, &page),
        Some(log) => {
            let addresses = counted(report.rewriting.replaced(), "address", "addresses");
            let words = format!("{addresses} would be rewritten");
            log.end("preview", &words);
            let fine = report.rewriting.replaced() == 0;
            // What other rules would change is no leftover of the move.
            if args.from.is_empty() && args.only.is_none() {
                Memory::of(&config, &records, &site.name).previewed(fine, words);
            }
            context.print(&report, &page);
        }
    }
    let is_open = report.hidden.as_ref().is_some_and(|hidden| !hidden.works);
    Ok(done(report.rewriting.left() > 0 || !report.refused.is_empty() || is_open))
}

fn rewriter(args: &RewriteArgs, config: &Config, site: Option<&Site>) -> Result<Rewriter> {
    if args.from.len() != args.to.len() {
        let missing = if args.from.len() > args.to.len() { "--to" } else { "--from" };
        return Err(Trouble::usage("--from and --to do not pair up")
            .because(format!("a {missing} is missing"))
            .hint("give each --from a --to, in the same order"));
    }
    let name = site.map_or("", |site| site.name.as_str());
    let mut found = rules::configured(config, name)?;
    for (from, to) in args.from.iter().zip(&args.to) {
        let (from, to) = (rules::address_of(config, from)?, rules::address_of(config, to)?);
        match pair(&from, &to)? {
            Some(rule) => found.push(rule),
            None => {
                return Err(Trouble::usage(format!("{from} would be rewritten to itself"))
                    .hint("--from and --to must differ"));
            }
        }
    }
    let url = site.and_then(|site| site.url.as_ref());
    if let (true, Some(url)) = (args.from.is_empty(), url) {
        found.extend(rules::from_other_sites(config, name, &url.to_string())?);
    }
    if found.is_empty() && !args.mend_lengths {
        return Err(Trouble::usage("there is nothing to rewrite")
            .because("there is no rule, and no other site is configured")
            .hint("add --from OLD-ADDRESS --to NEW-ADDRESS"));
    }
    Ok(ready(found)?.mending(args.mend_lengths).opening_base64(args.inside.is_some()))
}

fn text(context: &Context, site: &Site, report: &LiveReport) -> String {
    let mut page = Page::new(context.style);
    match report.applied {
        true if report.run.is_none() => page.row("rewritten", "nothing was changed"),
        true => page.row("rewritten", &format!("site {}; every old value is kept", site.name)),
        false => page.row("preview", "nothing was changed; with --apply these changes are made"),
    }
    page.gap();
    rewriting(&mut page, context.style, &report.rewriting);
    if !report.refused.is_empty() {
        page.gap();
        page.row(
            "refused",
            &format!("{} not changed", counted(report.refused.len() as u64, "cell", "cells")),
        );
        page.list("", refused(&report.refused));
    }
    page.list("note", report.notes.clone());
    report.hidden.iter().for_each(|effect| hidden(&mut page, context.style, effect));
    page.gap();
    if report.applied && report.run.is_none() {
        // Nothing was changed, so there is nothing to take back.
    } else if report.applied {
        page.row("undo", &format!("fernweh undo {}", site.name));
        if site.url.is_some() {
            page.row("next", &format!("fernweh scan {}", site.name));
        }
    } else if report.rewriting.database_total().changed + report.rewriting.files_total().changed
        == 0
    {
        page.row("next", "nothing is left to rewrite by these rules");
    } else {
        page.row("next", &context.typed.for_real(&["--apply"]));
    }
    page.finish()
}
