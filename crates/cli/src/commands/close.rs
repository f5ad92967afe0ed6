//! `fernweh close`

use crate::complete::site_names;
use crate::context::Context;
use crate::exit::done;
use crate::options::{SiteArgs, time};
use crate::prompt::person;
use crate::render::{Page, closed_text};
use crate::site::Site;
use clap::Args;
use fernweh_flow::run::Close;
use fernweh_ports::{Result, SiteAccess, Trouble};
use std::time::Duration;

/// Lets an old site lead to the new one, or show a notice for a while.
///
/// Every address answers with a permanent redirect to the same one of the new
/// site, by .htaccess or, where the web server reads none, by index.php. Files and
/// database stay: fernweh undo OLD opens the site again. Examples:
///   fernweh close old --to new
///   fernweh close old --page --for 30m
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct CloseArgs {
    /// The old site
    #[arg(add = site_names())]
    pub site: String,
    /// The site to which it leads
    #[arg(long, value_name = "NEW", add = site_names(), required_unless_present = "page")]
    pub to: Option<String>,
    /// Show a notice in place of the site (status 503), which ends by itself
    #[arg(long, conflicts_with = "to")]
    pub page: bool,
    /// How long the notice is shown, as 30m, 2h or 1d
    #[arg(long, value_name = "TIME", default_value = "1h", value_parser = time, requires = "page")]
    pub r#for: Duration,
}

/// Runs the command.
pub fn run(context: &Context, args: &CloseArgs) -> Result<u8> {
    let config = context.config()?;
    let none = SiteArgs::default();
    let site = Site::resolve_for_pages(&config, Some(&args.site), &none)?;
    let to = args.to.as_deref();
    let to = to.map(|name| Site::resolve_for_pages(&config, Some(name), &none)).transpose()?;
    let close = match &to {
        Some(to) => Close::LeadsTo(to.needed_url()?),
        None => Close::Notice(args.r#for),
    };
    agree(context, &site, &close)?;
    let records = context.records(&config);
    let report = close.run(&site, context.around(&records))?;
    context.print_done(&report, &closed_text(context.style, &report, &close));
    Ok(done(!report.works()))
}

/// Asks whether the site is to be closed.
fn agree(context: &Context, site: &Site, close: &Close<'_>) -> Result<()> {
    let url = site.url.as_ref().map(ToString::to_string).unwrap_or_default();
    let mut page = Page::new(context.style);
    match close {
        Close::LeadsTo(to) => {
            page.row("closes", &format!("every address of {url} will lead to {to}"))
        }
        Close::Notice(time) => {
            let minutes = time.as_secs() / 60;
            page.row("closes", &format!("{url} will show a notice for {minutes} min at most"));
        }
    }
    page.more(&format!("files and database stay; fernweh undo {} opens the site again", site.name));
    let plan = page.finish();
    if context.yes() {
        context.tell(&plan);
        return Ok(());
    }
    context.say(&plan);
    match person().agrees("\ngo on?") {
        Some(true) => Ok(()),
        Some(false) => Err(Trouble::interrupted("not closed").because("you did not agree")),
        None => Err(Trouble::usage("closing a site needs confirmation")
            .because("without a terminal nobody can be asked")
            .hint("add --yes if this is what you want")),
    }
}
