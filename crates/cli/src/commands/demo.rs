//! `fernweh demo`: the whole journey on the sample site, each step as it would be typed.

use crate::context::Context;
use crate::exit::{DONE, FINDINGS};
use crate::options::SiteArgs;
use crate::render::{Page, Paint};
use crate::rules;
use crate::site::Site;
use clap::{Args, ValueEnum, ValueHint};
use fernweh_demo::database::{Failure, Place};
use fernweh_demo::faults::PageFault;
use fernweh_demo::host::{Authority, HostOptions, StandIn};
use fernweh_demo::names::{Names, SERVER};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_demo::site::{ARTICLES, Build, DATABASE_FILE, build};
use fernweh_demo::{NEW_URL, OLD_URL};
use fernweh_flow::run::{Rewrite, Scan, ready};
use fernweh_ports::{Halves, Progress, Result, Trouble, named};
use std::ffi::OsString;
use std::fs;
use std::net::Ipv4Addr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Builds a sample site on two stand-in hosts and moves it.
///
/// Nothing outside the folder is touched. Examples:
///   fernweh demo
///   fernweh demo --keep-serving
#[derive(Debug, Args)]
#[command(verbatim_doc_comment)]
pub struct DemoArgs {
    /// The folder in which everything happens
    #[arg(default_value = "fernweh-demo", value_hint = ValueHint::DirPath)]
    pub folder: PathBuf,
    /// The database of both hosts; a server is started privately if it is installed
    #[arg(long, default_value = "sqlite")]
    pub engine: Engine,
    /// Keep both hosts running until Ctrl-C, to look at them in a browser
    #[arg(long)]
    pub keep_serving: bool,
    /// Build the old site with this many articles, for measurements
    #[arg(long, value_name = "NUMBER")]
    pub large: Option<u64>,
    /// Build the old site and stop; without stand-in hosts
    #[arg(long)]
    pub build_only: bool,
}

/// Which database the sample site uses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Engine {
    /// The embedded one.
    Sqlite,
    /// A private MariaDB server.
    Mariadb,
    /// A private PostgreSQL server.
    Postgres,
}

impl Engine {
    fn server(self) -> Option<Server> {
        match self {
            Engine::Sqlite => None,
            Engine::Mariadb => Some(Server::Mariadb),
            Engine::Postgres => Some(Server::Postgres),
        }
    }
}

const OLD_ROOT: &str = "old-host/htdocs";
const NEW_ROOT: &str = "new-host/htdocs";
const OLD_DOMAIN: &str = "glimmerpoint.example";
const NEW_DOMAIN: &str = "glimmer-point.example";
/// The hosts have addresses of their own, as in the world.
const OLD_IP: Ipv4Addr = Ipv4Addr::new(127, 0, 0, 2);
const NEW_IP: Ipv4Addr = Ipv4Addr::LOCALHOST;
const READY: &str = "ready new --from old";
/// The title of the step before which the domain is switched.
const SWITCHED: &str = "The owner changes the records of the domain, and the old host sends visitors \
                        on. Has the switch arrived?";
const ARCHIVE: &str = "glimmer.fernweh.tar";
/// By this file a folder of an earlier demonstration is known.
const MARKER: &str = "made-by-fernweh-demo";

fn failed(error: Failure) -> Trouble {
    Trouble::outside("the demonstration cannot be built").because(error)
}

/// Runs a command line as it would be typed; gives the exit code.
pub type Program<'a> = &'a dyn Fn(Vec<OsString>) -> u8;

/// Runs the command.
pub fn run(context: &Context, args: &DemoArgs, program: Program<'_>) -> Result<u8> {
    let began = Instant::now();
    if context.json() {
        return Err(Trouble::usage("the demonstration prints no JSON")
            .because("it shows what every command prints for people")
            .hint("run it, then type a command of it with --json in its folder"));
    }
    if let Some(server) = args.engine.server() {
        server.available().map_err(|hint| {
            Trouble::outside(format!("the demonstration needs a {} server", server.name()))
                .because(hint)
        })?;
    }
    let folder = prepare(&args.folder)?;
    std::env::set_current_dir(&folder)
        .map_err(|error| Trouble::file("cannot enter the folder", &folder, &error))?;
    let stage = Stage::build(args, &folder)?;
    if args.build_only {
        write(
            "fernweh.toml",
            &format!("{}\n{PACK}", section(&stage.old, "old", OLD_URL, OLD_ROOT)),
        )?;
        println!("built the old site in {}", folder.join(OLD_ROOT).display());
        match args.engine.server() {
            None => println!("fernweh.toml describes it; next: fernweh survey old"),
            Some(_) => println!("fernweh.toml describes it; its private database server has ended"),
        }
        return Ok(DONE);
    }
    let authority = Authority::new().map_err(failed)?;
    let old = stand_in(OLD_ROOT, "glimmerpoint.example", OLD_IP, &authority)?;
    let new = stand_in(NEW_ROOT, "www.glimmer-point.example", NEW_IP, &authority)?;
    let domains = [(OLD_DOMAIN, OLD_IP), (NEW_DOMAIN, OLD_IP)];
    let names = Names::start(&domains).map_err(failed)?;
    write("demo-authority.pem", &authority.certificate)?;
    write("fernweh.toml", &configuration(&stage, &old, &new, &names))?;
    println!("The Glimmer Point Observatory moves from {OLD_URL}\nto {NEW_URL}.");
    println!(
        "Both hosts are stand-ins on this machine. Everything happens in\n{}",
        folder.display()
    );
    let width = context.style.width;
    for (title, line, expected) in [
        ("What does the old site consist of?", "survey old".to_owned(), DONE),
        ("Pack it into one archive.", format!("pack old -o {ARCHIVE}"), DONE),
        ("Is the archive whole?", format!("show {ARCHIVE} --verify"), DONE),
        (
            "Unpack it at the new place, with the new address.",
            format!("unpack {ARCHIVE} new"),
            FINDINGS,
        ),
        ("Is there anything left to rewrite?", "rewrite new".to_owned(), FINDINGS),
        ("Scan the old site …", "scan old --own-only".to_owned(), FINDINGS),
        ("… and the new one.", "scan new --own-only".to_owned(), FINDINGS),
        ("Can the new domain be switched?", READY.to_owned(), DONE),
        (SWITCHED, READY.to_owned(), DONE),
    ] {
        if title == SWITCHED {
            names.switch(NEW_DOMAIN, NEW_IP).map_err(failed)?;
            old.lead_to(Some(NEW_URL));
        }
        println!("\n{}\n{title}\n\n$ fernweh {line}\n", "─".repeat(width.min(80)));
        let words = ["fernweh"].into_iter().chain(line.split(' '));
        let code = program(words.map(OsString::from).collect());
        context.progress.go_on()?;
        if code != expected {
            return Err(Trouble::damaged("a step of the demonstration ended unexpectedly")
                .because(format!("fernweh {line} ended with exit code {code}"))
                .hint(format!("look into {}", folder.display())));
        }
    }
    // Whoever looks around afterwards finds the day before the switch.
    old.lead_to(None);
    names.switch(NEW_DOMAIN, OLD_IP).map_err(failed)?;
    let proven = prove(context)?;
    println!("\n{}", "─".repeat(width.min(80)));
    print!("{}", ending(context, args, &folder, &proven, began.elapsed()));
    if args.keep_serving {
        keep_serving(context, &old, &new);
    }
    drop((old, new));
    if proven.iter().all(|(good, _)| *good) {
        return Ok(DONE);
    }
    Err(Trouble::damaged("the demonstration did not prove what it should")
        .hint(format!("look into {}", folder.display())))
}

/// What a demonstration makes in its folder, and may therefore remove.
const MADE: [&str; 10] = [
    MARKER,
    "old-host",
    "new-host",
    "fernweh.toml",
    "demo-authority.pem",
    "old-password",
    "new-password",
    ".fernweh",
    ".fernweh-htdocs",
    ARCHIVE,
];

/// An empty folder; one of an earlier demonstration is emptied, unless something else is in it.
fn prepare(folder: &Path) -> Result<PathBuf> {
    let what = "cannot use this folder";
    let trouble = |error: std::io::Error| Trouble::file(what, folder, &error);
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let names: Vec<String> =
        entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    let is_marked = folder.join(MARKER).is_file();
    let foreign: Vec<String> =
        names.iter().filter(|name| !MADE.contains(&name.as_str())).cloned().collect();
    if !names.is_empty() && (!is_marked || !foreign.is_empty()) {
        let because = match is_marked {
            false => "something is in it, and it was not made by an earlier demonstration".into(),
            true => format!("it holds what no demonstration made: {}", named(&foreign, 5)),
        };
        return Err(Trouble::usage(what)
            .at(folder.display().to_string())
            .because(because)
            .hint("name an empty folder: fernweh demo FOLDER"));
    }
    for name in &names {
        let path = folder.join(name);
        let removed = match path.symlink_metadata().map_err(trouble)?.is_dir() {
            true => fs::remove_dir_all(&path),
            false => fs::remove_file(&path),
        };
        removed.map_err(trouble)?;
    }
    fs::create_dir_all(folder).map_err(trouble)?;
    fs::write(folder.join(MARKER), "This folder may be removed.\n").map_err(trouble)?;
    folder.canonicalize().map_err(trouble)
}

fn write(path: &str, text: &str) -> Result<()> {
    fs::write(path, text)
        .map_err(|error| Trouble::file("cannot write into the folder", Path::new(path), &error))
}

/// A file that others cannot read.
fn write_secret(path: &str, text: &str) -> Result<()> {
    write(path, text)?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o600))
        .map_err(|error| Trouble::file("cannot write into the folder", Path::new(path), &error))
}

/// The old site, and the databases of both.
struct Stage {
    old: Place,
    new: Place,
    _server: Option<(PrivateServer, Scratch)>,
}

/// A folder outside the demonstration; paths of sockets must be short.
struct Scratch(PathBuf);

impl Drop for Scratch {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}

impl Stage {
    fn build(args: &DemoArgs, folder: &Path) -> Result<Self> {
        let stage = match args.engine.server() {
            None => Self {
                old: Place::Sqlite(folder.join(OLD_ROOT).join(DATABASE_FILE)),
                new: Place::Sqlite(folder.join(NEW_ROOT).join(DATABASE_FILE)),
                _server: None,
            },
            Some(kind) => {
                let path =
                    std::env::temp_dir().join(format!("fernweh-demo-{}", std::process::id()));
                let scratch = Scratch(path);
                let server = PrivateServer::start(kind, &scratch.0).map_err(failed)?;
                let make = |name, user, password| {
                    server.make_database(name, user, password).map_err(failed)
                };
                let old = make("old_glimmer", "keeper", "lens-cap-1609")?;
                let new = make("new_glimmer", "glimmer", "dark-sky-2026")?;
                write_secret("old-password", "lens-cap-1609\n")?;
                write_secret("new-password", "dark-sky-2026\n")?;
                Self { old, new, _server: Some((server, scratch)) }
            }
        };
        let root = folder.join(OLD_ROOT);
        let articles = args.large.unwrap_or(ARTICLES).max(12);
        build(&Build { root: &root, database: &stage.old, articles }).map_err(failed)?;
        Ok(stage)
    }
}

fn stand_in(root: &str, host: &str, ip: Ipv4Addr, authority: &Authority) -> Result<StandIn> {
    let root = Path::new(root).to_owned();
    let root = std::path::absolute(&root).unwrap_or(root);
    let https = ip == NEW_IP;
    let options = HostOptions { root, host: host.into(), https, login: None, port: 0, ip };
    StandIn::start(options, authority).map_err(failed)
}

fn configuration(stage: &Stage, old: &StandIn, new: &StandIn, names: &Names) -> String {
    format!(
        "{}connect-to = \"{}\"\n\n{}connect-to = \"{}\"\nconnect-to-http = \"{}\"\n\
         authority  = \"demo-authority.pem\"\nfinal      = true\n\n{PACK}\n\
         [[rule]]\nfrom = \"/home/keeper/htdocs\"\nto   = \"/srv/www/glimmer\"\ninto = [\"new\"]\n\n\
         [ready]\nresolvers = [\"{}\"]\nservers   = {{ \"{SERVER}\" = \"{}\" }}\n",
        section(&stage.old, "old", OLD_URL, OLD_ROOT),
        old.address,
        section(&stage.new, "new", NEW_URL, NEW_ROOT),
        new.address,
        new.address,
        names.address,
        names.address,
    )
}

/// What packing leaves out.
const PACK: &str = "[pack]\nleave-out = [\"cache/**\", \"*.log\"]\n";

/// The section of one site.
fn section(place: &Place, name: &str, url: &str, root: &str) -> String {
    let server = |scheme: &str, user: &str, port: u16, database: &str| {
        format!(
            "database   = \"{scheme}://{user}@127.0.0.1:{port}/{database}\"\n\
             password.database = {{ file = \"{name}-password\" }}\n"
        )
    };
    let database = match place {
        Place::Sqlite(_) => format!("database   = \"sqlite:{root}/{DATABASE_FILE}\"\n"),
        Place::Mariadb { port, user, name, .. } => server("mariadb", user, *port, name),
        Place::Postgres { port, user, name, .. } => server("postgres", user, *port, name),
    };
    format!("[site.{name}]\nurl        = \"{url}\"\nfiles      = \"{root}\"\n{database}")
}

/// What can be said for sure at the end, and whether it holds.
fn prove(context: &Context) -> Result<Vec<(bool, String)>> {
    let mut proven = Vec::new();
    let config = context.config()?;
    let records = context.records(&config);
    let around = context.around(&records);
    let site = |name: &str| Site::resolve(&config, Some(name), &SiteArgs::default());
    let new = site("new")?;
    let mut found = rules::configured(&config, "new")?;
    found.extend(rules::from_other_sites(&config, "new", NEW_URL)?);
    let rewrite = Rewrite { rewriter: ready(found)?, halves: Halves::BOTH, apply: false };
    let again = rewrite.run(&new, around)?;
    let left =
        again.rewriting.database_total().replacements + again.rewriting.files_total().replacements;
    proven.push((left == 0, "rewriting site new again would change nothing".to_owned()));
    for (name, url, secure) in [("old", OLD_URL, false), ("new", NEW_URL, true)] {
        let scan = Scan::own_pages(rules::old_addresses(&config, name, Some(url))?);
        let report = scan.run(&site(name)?, around)?;
        let expected = PageFault::expected(secure);
        let found =
            expected.iter().filter(|fault| report.findings.iter().any(|f| fault.is(f))).count();
        let other =
            report.findings.iter().filter(|f| !expected.iter().any(|fault| fault.is(f))).count();
        proven.push((
            found == expected.len() && other == 0,
            format!(
                "scanning {name} finds {found} of {} built-in faults and {}",
                expected.len(),
                if other == 0 { "nothing else".into() } else { format!("{other} others") }
            ),
        ));
    }
    Ok(proven)
}

fn ending(
    context: &Context,
    args: &DemoArgs,
    folder: &Path,
    proven: &[(bool, String)],
    took: Duration,
) -> String {
    let mut page = Page::new(context.style);
    page.gap();
    let mut label = "proven";
    for (good, what) in proven {
        let (paint, word) = if *good { (Paint::Good, "passed") } else { (Paint::Bad, "failed") };
        page.row(label, &format!("{}   {what}", context.style.paint(paint, word)));
        label = "";
    }
    page.row("took", &format!("{:.1} s", took.as_secs_f64()));
    page.row("files", &format!("{}", folder.display()));
    page.more("fernweh.toml describes both sites; old-host and new-host hold their files");
    if !args.keep_serving {
        page.row("stopped", "both hosts; their files stay, so all commands but scan work there");
        page.row("next", "fernweh demo --keep-serving keeps both hosts running to look at");
    }
    page.finish()
}

fn keep_serving(context: &Context, old: &StandIn, new: &StandIn) {
    println!(
        "\nBoth hosts are running until Ctrl-C. Their names lead here in a browser started with\n\n\
         chromium --host-resolver-rules=\"MAP glimmerpoint.example {}, MAP www.glimmer-point.example {}\" \\\n    \
         --ignore-certificate-errors --user-data-dir=/tmp/glimmer {OLD_URL} {NEW_URL}",
        old.address, new.address
    );
    while !context.progress.stopping() {
        std::thread::sleep(Duration::from_millis(200));
    }
}
