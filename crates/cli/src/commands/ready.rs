//! `fernweh ready`

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::exit::{DONE, done};
use crate::options::{SiteArgs, time};
use crate::render::{Page, ready_in_short, ready_text, watched_text};
use crate::resolvers;
use crate::run_log::RunLog;
use crate::site::Site;
use crate::tell::notify;
use clap::{Args, ValueEnum};
use fernweh_flow::ready::{Patience, Question, Ready, Topic, is_step, set_step, step_names, watch};
use fernweh_ports::{NameSource, Progress, Result, SiteAccess, Trouble};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::{Duration, Instant};
use strsim::levenshtein;

/// Says whether a domain can be switched, and whether the switch has arrived.
///
/// Asks name servers, the certificate, redirects, what search engines see, mail,
/// and what the last scan has left, and lists the steps that only people can
/// take. Changes nothing. Examples:
///   fernweh ready new --from old
///   fernweh ready new --from old --watch --for 6h
///   fernweh ready new --done records
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct ReadyArgs {
    /// The site to which the domain is switched
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// The site whose place it takes
    #[arg(long, value_name = "OLD", add = site_names())]
    pub from: Option<String>,
    /// Only this check; can be given several times
    #[arg(long, value_name = "NAME")]
    pub check: Vec<Check>,
    /// Answer whether the domain can be switched, whatever its names say now
    #[arg(long, conflicts_with = "after")]
    pub before: bool,
    /// Answer whether the switch has arrived, whatever its names say now
    #[arg(long)]
    pub after: bool,
    /// Ask again and again until every server gives the new answer
    #[arg(long, conflicts_with_all = ["check", "before", "after"])]
    pub watch: bool,
    /// Watch for this long, as 90m, 6h or 2d
    #[arg(long, value_name = "TIME", default_value = "24h", value_parser = time, requires = "watch")]
    pub r#for: Duration,
    /// Call a step of the list done
    #[arg(long, value_name = "STEP", conflicts_with_all = ["watch", "check"])]
    pub done: Vec<String>,
    /// Call a step of the list open again
    #[arg(long, value_name = "STEP", conflicts_with_all = ["watch", "check"])]
    pub open: Vec<String>,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// A check by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Check {
    /// Where the names lead, and who says so
    Name,
    /// The certificate
    Certificate,
    /// Other spellings of the address, and the old one
    Redirects,
    /// What search engines are told
    Search,
    /// What the last scan and comparison have left
    Leftovers,
    /// What the web server hands out
    Security,
    /// Where mail goes
    Mail,
    /// The clock of the host
    Time,
}

impl From<Check> for Topic {
    fn from(check: Check) -> Self {
        match check {
            Check::Name => Topic::Name,
            Check::Certificate => Topic::Certificate,
            Check::Redirects => Topic::Redirects,
            Check::Search => Topic::Search,
            Check::Leftovers => Topic::Leftovers,
            Check::Security => Topic::Security,
            Check::Mail => Topic::Mail,
            Check::Time => Topic::Time,
        }
    }
}

/// Steps that were called done or open.
#[derive(Serialize, JsonSchema)]
pub struct StepsSet {
    /// The site.
    site: String,
    /// Steps that are done now.
    done: Vec<String>,
    /// Steps that are open now.
    open: Vec<String>,
}

/// Runs the command.
pub fn run(context: &Context, args: &ReadyArgs) -> Result<u8> {
    let config = context.config()?;
    let site = Site::resolve_for_pages(&config, args.site.as_deref(), &args.places)?;
    if !args.done.is_empty() || !args.open.is_empty() {
        return steps(context, args, &config, &site);
    }
    let none = SiteArgs::default();
    let from = args.from.as_deref();
    let from = from.map(|name| Site::resolve_for_pages(&config, Some(name), &none)).transpose()?;
    let from = from.as_ref().map(|from| from as &dyn SiteAccess);
    let names = resolvers::of(&config)?;
    let doing = |trouble: Trouble| trouble.doing(format!("looking whether {} is ready", site.name));
    if args.watch {
        return watched(context, args, &config, &site, from, &names).map_err(doing);
    }
    let question = match (args.before, args.after) {
        (true, _) => Some(Question::Before),
        (_, true) => Some(Question::After),
        _ => None,
    };
    let ready = Ready {
        topics: args.check.iter().map(|check| Topic::from(*check)).collect(),
        question,
        steps: config.content.ready.steps.clone(),
        hidden: site.is_hidden(),
        is_final: site.is_final(),
    };
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "ready", &site.name);
    let kept = config.path.is_some().then_some(&records);
    let report = ready.run(&site, from, &names, kept, &context.progress).map_err(doing)?;
    log.end(&report.url, &ready_in_short(&report));
    let text = ready_text(context.style, &report, &context.typed);
    context.print(&report, &text);
    Ok(done(!report.ready))
}

/// Calls steps done or open.
fn steps(context: &Context, args: &ReadyArgs, config: &Config, site: &Site) -> Result<u8> {
    let own = &config.content.ready.steps;
    for step in args.done.iter().chain(&args.open) {
        if !is_step(step, own) {
            let names = step_names(own);
            let near = names.iter().find(|name| levenshtein(name, step) <= 2);
            return Err(Trouble::usage(format!("there is no step `{step}`"))
                .because(format!("the steps are {}", names.join(", ")))
                .hint(match near {
                    Some(name) => format!("did you mean `{name}`?"),
                    None => format!("fernweh ready {} lists them", site.name),
                }));
        }
    }
    let records = context.records(config);
    args.done.iter().try_for_each(|step| set_step(&records, &site.name, step, true))?;
    args.open.iter().try_for_each(|step| set_step(&records, &site.name, step, false))?;
    let mut page = Page::new(context.style);
    page.list("done", args.done.clone());
    page.list("open", args.open.clone());
    page.row("next", &format!("fernweh ready {}", site.name));
    let (done, open) = (args.done.clone(), args.open.clone());
    context.print_done(&StepsSet { site: site.name.clone(), done, open }, &page.finish());
    Ok(DONE)
}

/// Waits as long as the user does.
struct Clock<'a> {
    began: Instant,
    progress: &'a dyn Progress,
}

/// How often the wish to stop is looked at.
const MOMENT: Duration = Duration::from_millis(200);

impl Patience for Clock<'_> {
    fn wait(&mut self, time: Duration) -> bool {
        let ends = Instant::now() + time;
        while Instant::now() < ends {
            if self.progress.stopping() {
                return false;
            }
            std::thread::sleep(MOMENT.min(ends.saturating_duration_since(Instant::now())));
        }
        true
    }

    fn waited(&self) -> Duration {
        self.began.elapsed()
    }
}

fn watched(
    context: &Context,
    args: &ReadyArgs,
    config: &Config,
    site: &Site,
    from: Option<&dyn SiteAccess>,
    names: &dyn NameSource,
) -> Result<u8> {
    let progress = &context.progress;
    let mut clock = Clock { began: Instant::now(), progress };
    let report = watch(site, from, names, args.r#for, &mut clock, progress)?;
    let text = watched_text(context.style, &report, args.from.as_deref(), &context.typed);
    let word = if report.arrived { "arrived" } else { "not arrived yet" };
    notify(progress, config, &format!("Fernweh: {word}: {}", site.name), &text);
    context.print(&report, &text);
    Ok(done(!report.arrived))
}
