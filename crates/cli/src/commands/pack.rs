//! `fernweh pack`

use crate::complete::site_names;
use crate::config::Config;
use crate::context::Context;
use crate::exit::done;
use crate::options::{Half, SiteArgs};
use crate::render::{Page, counted, duration, left_out, moment, size, tree, word};
use crate::run_log::RunLog;
use crate::site::Site;
use clap::{Args, ValueHint};
use fernweh_flow::archive::{Level, is_unfinished, remove_unfinished, unfinished_archive};
use fernweh_flow::pack::PackReport;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::Pack;
use fernweh_ports::{Progress, Result, Trouble};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Packs a site's database and files into one archive.
///
/// The database is read at one moment; the site is not changed. Typed again after a
/// break, it goes on where it stopped. Examples:
///   fernweh pack old
///   fernweh pack old --leave-out 'cache/**' --without-rows 'gp_log'
///   fernweh pack old --sql glimmer.sql
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct PackArgs {
    /// The site's name in fernweh.toml
    #[arg(add = site_names())]
    pub site: Option<String>,
    /// The archive (default: NAME-YYYY-MM-DD-HHMM.fernweh.tar)
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub output: Option<PathBuf>,
    /// Write the database alone, as one plain SQL script in place of an archive
    #[arg(
        long,
        value_name = "FILE",
        value_hint = ValueHint::FilePath,
        conflicts_with_all = ["output", "only", "leave_out"]
    )]
    pub sql: Option<PathBuf>,
    /// Pack only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Leave files and folders out, as cache/** or *.log; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub leave_out: Vec<String>,
    /// Pack only the structure of tables, as gp_log or gp_cache_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub without_rows: Vec<String>,
    /// Pack only these tables, as gp_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub tables: Vec<String>,
    /// Follow links that point out of the site, and pack what they lead to
    #[arg(long)]
    pub outside_links: bool,
    /// How hard to compress: 0 (not at all, fast) to 19 (small, slow)
    #[arg(
        long,
        value_name = "LEVEL",
        default_value_t = 3,
        value_parser = clap::value_parser!(u8).range(0..=19)
    )]
    pub level: u8,
    /// Begin anew, even if an unfinished archive of this site could be resumed
    #[arg(long, conflicts_with = "sql")]
    pub fresh: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// How old an unfinished archive may be that a command goes on with which does not name it: one
/// of last week is not what is meant today.
const RECENT: Duration = Duration::from_secs(24 * 60 * 60);

/// Runs the command.
pub fn run(context: &Context, args: &PackArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let options = options(context, args, &config, &site)?;
    let records = context.records(&config);
    let log = RunLog::begin(&config, &records, "pack", &site.name);
    let report = options.run(&site, context.around(&records))?;
    let seconds = began.elapsed().as_secs_f64();
    context.print_done(&report, &text(context, &site, &report, args.sql.is_some(), seconds));
    log.end(&report.archive, if report.is_whole() { "done" } else { "done, with notes" });
    Ok(done(!report.is_whole()))
}

fn options(context: &Context, args: &PackArgs, config: &Config, site: &Site) -> Result<Pack> {
    let only = if args.sql.is_some() { Some(Half::Database) } else { args.only };
    let halves = site.halves_to_pack(only)?;
    let (archive, go_on) = match (&args.sql, &args.output) {
        // The script is taken out of an archive, which is not kept.
        (Some(script), _) => (beside(script)?, false),
        (None, Some(output)) => (output.clone(), !args.fresh && is_unfinished(output)),
        (None, None) => chosen(args, &site.name),
    };
    if go_on {
        context.progress.note(&format!(
            "resuming the unfinished archive {}; --fresh would begin anew\n",
            archive.display()
        ));
    }
    let both = |configured: &[String], typed: &[String]| [configured, typed].concat();
    let section = config.packing(&site.name);
    Ok(Pack {
        again: args.sql.is_none().then(|| again(context, args, &archive)),
        archive,
        script: args.sql.clone(),
        halves,
        leave_out: Patterns::of_paths(&both(&section.leave_out, &args.leave_out))?,
        without_rows: Patterns::of_tables(&both(&section.without_rows, &args.without_rows))?,
        tables: Patterns::of_tables(&args.tables)?,
        outside_links: args.outside_links,
        level: Level::new(args.level),
        go_on,
    })
}

/// The archive where none was named: the unfinished one of this site in this folder, if it is
/// recent, or a new one.
fn chosen(args: &PackArgs, site: &str) -> (PathBuf, bool) {
    match unfinished_archive(Path::new("."), site) {
        Some(found) if args.fresh => {
            remove_unfinished(&found.archive);
            (archive_name(site), false)
        }
        Some(found) if found.written.elapsed().is_ok_and(|age| age < RECENT) => {
            (found.archive, true)
        }
        _ => (archive_name(site), false),
    }
}

/// The command that goes on with this archive.
fn again(context: &Context, args: &PackArgs, archive: &Path) -> String {
    let typed = context.typed.without(&["--fresh"]);
    if args.output.is_some() {
        typed
    } else {
        format!("{typed} -o {}", word(&archive.display().to_string()))
    }
}

/// Where the archive lies out of which a script is taken; refuses an existing script.
fn beside(script: &Path) -> Result<PathBuf> {
    if script.exists() {
        return Err(Trouble::already_there("cannot write the script", script));
    }
    let name = script.file_name().unwrap_or_default().to_string_lossy();
    Ok(script.with_file_name(format!(".{name}.{}.archive", std::process::id())))
}

fn archive_name(site: &str) -> PathBuf {
    let now = jiff::Zoned::now().strftime("%Y-%m-%d-%H%M").to_string();
    let name = |number: u32| match number {
        1 => PathBuf::from(format!("{site}-{now}.fernweh.tar")),
        _ => PathBuf::from(format!("{site}-{now}-{number}.fernweh.tar")),
    };
    // What is unfinished under a name is somebody else's, or of another day.
    let is_free = |path: &PathBuf| !path.exists() && !is_unfinished(path);
    (1..).map(name).find(is_free).unwrap_or_else(|| name(1))
}

fn text(
    context: &Context,
    site: &Site,
    report: &PackReport,
    is_script: bool,
    seconds: f64,
) -> String {
    let mut page = Page::new(context.style);
    page.row("packed", &format!("site {} in {}", site.name, duration(seconds)));
    if let Some(snapshot) = &report.snapshot {
        page.row(
            "database",
            &format!(
                "{}, {}, {}",
                counted(report.tables, "table", "tables"),
                counted(report.records, "record", "records"),
                match report.breaks.is_empty() {
                    true => format!("all of one moment: {}", moment(snapshot)),
                    false => "read in several steps".into(),
                }
            ),
        );
        for began in &report.breaks {
            page.more(&format!(
                "not of one moment: what was read after a break is of {}",
                moment(began)
            ));
        }
        if !report.outside_snapshot.is_empty() {
            page.more(&format!(
                "except for tables whose storage engine has no snapshot: {}",
                report.outside_snapshot.join(", ")
            ));
        }
    }
    if report.files + report.folders > 0 {
        page.row("files", &tree(report.files, report.file_bytes, report.folders, report.links));
    }
    if !report.without_rows.is_empty() {
        page.row("no rows of", &report.without_rows.join(", "));
    }
    let mut lines = Vec::new();
    if !report.left_out_as_asked.is_empty() {
        let asked = &report.left_out_as_asked;
        let mut names = asked.iter().take(6).cloned().collect::<Vec<_>>().join(", ");
        if asked.len() > 6 {
            names.push_str(&format!(" and {} more", asked.len() - 6));
        }
        lines.push(format!("{names}: as requested"));
    }
    lines.extend(left_out(&report.left_out));
    lines.extend(
        report
            .not_carried
            .iter()
            .map(|object| format!("{object}: not supported; create it by hand")),
    );
    lines.extend(report.not_named.iter().cloned());
    page.list("left out", lines);
    if !report.matched_nothing.is_empty() {
        let patterns = report.matched_nothing.join(", ");
        page.row("note", &format!("nothing matches {patterns}: a typing error?"));
    }
    for path in &report.changed {
        page.row(
            "changed",
            &format!(
                "{path} was changed while it was packed and may be half old, half new; pack again \
                 when the site is quiet"
            ),
        );
    }
    if !report.settings.is_empty() {
        page.row(
            "secrets",
            &format!("{} in this archive holds connection settings", report.settings.join(", ")),
        );
        page.more(
            "whoever has the archive can log in to the site's database; only you can read \
                   it",
        );
    }
    if is_script {
        page.row("script", &format!("{}, {}", report.archive, size(report.size)));
        page.more("plain SQL for the server's own client; whoever has it has the data");
        return page.finish();
    }
    page.row("archive", &format!("{}, {}", report.archive, size(report.size)));
    page.gap();
    page.row("next", &format!("fernweh show {} --verify", word(&report.archive)));
    page.finish()
}
