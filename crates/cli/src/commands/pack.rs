//! `fernweh pack`

use crate::config::Config;
use crate::context::Context;
use crate::exit::DONE;
use crate::options::{Half, SiteArgs};
use crate::render::{Page, counted, duration, left_out, moment, size, tree};
use crate::site::Site;
use clap::Args;
use fernweh_flow::archive::{Level, unfinished_archive};
use fernweh_flow::pack::PackReport;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::Pack;
use fernweh_ports::{Result, Trouble};
use std::path::{Path, PathBuf};
use std::time::Instant;

/// Pack a site into one archive
///
/// The whole database at one moment and the whole file tree, in one plain tar.
/// The site is only read. Example:
///   fernweh pack old --leave-out 'cache/**' --without-rows 'sessions'
///   fernweh pack old --sql glimmer.sql
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct PackArgs {
    /// The site's name in fernweh.toml
    pub site: Option<String>,
    /// The archive (default: NAME-YYYY-MM-DD-HHMM.fernweh.tar)
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Write the database alone, as one plain SQL script in place of an archive
    #[arg(long, value_name = "FILE", conflicts_with_all = ["output", "only", "leave_out"])]
    pub sql: Option<PathBuf>,
    /// Pack only one half of the site
    #[arg(long, value_name = "HALF")]
    pub only: Option<Half>,
    /// Leave files and folders out, as cache/** or *.log; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub leave_out: Vec<String>,
    /// Pack only the structure of tables, as sessions or cache_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub without_rows: Vec<String>,
    /// Pack only these tables, as gp_*; may be repeated
    #[arg(long, value_name = "PATTERN")]
    pub tables: Vec<String>,
    /// Take links along that point out of the site
    #[arg(long)]
    pub outside_links: bool,
    /// How hard to compress: 0 (next to nothing, fast) to 19 (small, slow)
    #[arg(
        long,
        value_name = "LEVEL",
        default_value_t = 3,
        value_parser = clap::value_parser!(u8).range(0..=19)
    )]
    pub level: u8,
    /// Go on with packing that was broken off, behind the tables that are complete
    #[arg(long = "continue", conflicts_with = "sql")]
    pub go_on: bool,
    /// Where the site is, without a configuration
    #[command(flatten)]
    pub places: SiteArgs,
}

/// Runs the command.
pub fn run(context: &Context, args: &PackArgs) -> Result<u8> {
    let began = Instant::now();
    let config = context.config()?;
    let site = Site::resolve(&config, args.site.as_deref(), &args.places)?;
    let options = options(args, &config, &site)?;
    let report = options.run(&site, context.around(&context.records(&config)))?;
    let seconds = began.elapsed().as_secs_f64();
    context.print(&report, &text(context, &site, &report, args.sql.is_some(), seconds));
    Ok(DONE)
}

fn options(args: &PackArgs, config: &Config, site: &Site) -> Result<Pack> {
    let only = if args.sql.is_some() { Some(Half::Database) } else { args.only };
    let halves = site.halves_to_pack(only)?;
    let archive = match (&args.sql, &args.output) {
        // The script is taken out of an archive, which is not kept.
        (Some(script), _) => beside(script)?,
        (None, Some(output)) => output.clone(),
        (None, None) if args.go_on => broken_off(&site.name)?,
        (None, None) => archive_name(&site.name),
    };
    let both = |configured: &[String], typed: &[String]| [configured, typed].concat();
    let section = &config.content.pack;
    Ok(Pack {
        again: args.sql.is_none().then(|| again(&site.name, &archive, args)),
        archive,
        script: args.sql.clone(),
        halves,
        leave_out: Patterns::of_paths(&both(&section.leave_out, &args.leave_out))?,
        without_rows: Patterns::of_tables(&both(&section.without_rows, &args.without_rows))?,
        tables: Patterns::of_tables(&args.tables)?,
        outside_links: args.outside_links,
        level: Level::new(args.level),
        go_on: args.go_on,
    })
}

/// The command for this archive, to be typed again.
fn again(site: &str, archive: &Path, args: &PackArgs) -> String {
    let mut line = format!("fernweh pack {site} -o {}", archive.display());
    let lists = [
        ("--leave-out", &args.leave_out),
        ("--without-rows", &args.without_rows),
        ("--tables", &args.tables),
    ];
    for (option, values) in lists {
        values.iter().for_each(|value| line.push_str(&format!(" {option} '{value}'")));
    }
    match args.only {
        Some(Half::Database) => line.push_str(" --only database"),
        Some(Half::Files) => line.push_str(" --only files"),
        None => {}
    }
    if args.outside_links {
        line.push_str(" --outside-links");
    }
    if args.level != 3 {
        line.push_str(&format!(" --level {}", args.level));
    }
    line.push_str(" --continue");
    line
}

/// The newest unfinished archive of a site in this folder.
fn broken_off(site: &str) -> Result<PathBuf> {
    unfinished_archive(Path::new("."), site).ok_or_else(|| {
        Trouble::usage("there is nothing to continue")
            .because(format!("no unfinished archive of site {site} is in this folder"))
            .hint("name the archive with -o, or pack without --continue")
    })
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
    (1..).map(name).find(|path| !path.exists()).unwrap_or_else(|| name(1))
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
                    false => "read in several sittings".into(),
                }
            ),
        );
        for began in &report.breaks {
            page.more(&format!(
                "not one moment any more: what was read after a break is of {}",
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
        lines.push(format!("{names}: as asked for"));
    }
    lines.extend(left_out(&report.left_out));
    lines.extend(
        report
            .not_carried
            .iter()
            .map(|object| format!("{object}: this version does not carry it; create it by hand")),
    );
    lines.extend(report.not_named.iter().cloned());
    page.list("left out", lines);
    if !report.matched_nothing.is_empty() {
        let patterns = report.matched_nothing.join(", ");
        page.row("note", &format!("nothing matches {patterns}: mistyped?"));
    }
    for path in &report.changed {
        page.row(
            "changed",
            &format!(
                "{path} was written to while it was packed and may be half old, half new; pack again \
                 when the site is quiet"
            ),
        );
    }
    if !report.settings.is_empty() {
        page.row(
            "secrets",
            &format!("{} in this archive holds connection settings", report.settings.join(", ")),
        );
        page.more("whoever has the archive has the site; it is readable by you alone");
    }
    if is_script {
        page.row("script", &format!("{}, {}", report.archive, size(report.size)));
        page.more("plain SQL for the server's own client; whoever has it has the data");
        return page.finish();
    }
    page.row("archive", &format!("{}, {}", report.archive, size(report.size)));
    page.gap();
    page.row("next", &format!("fernweh show {} --verify", report.archive));
    page.finish()
}
