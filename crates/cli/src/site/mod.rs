//! From a site's name to its places, and from its places to connectors. Only this folder and
//! `hosts.rs` name concrete connectors.

mod access;
mod connect;
mod places;
mod written;

use places::Learned;
pub use written::quoted;

use crate::config::{Config, SiteSection};
use crate::hints;
use crate::hosts::{FilesPlace, Hosts};
use crate::options::{Half, SiteArgs};
use crate::secrets::expanded;
use fernweh_connect::server::ServerAddress;
use fernweh_connect::sqlite::Snapshot;
use fernweh_connect::tunnel::Tunnel;
use fernweh_core::address::{Reach, WebAddress, reach_of};
use fernweh_core::settings::{Role, Setting};
use fernweh_flow::patterns::Patterns;
use fernweh_ports::{Halves, Result, SiteAccess, Trouble};
use std::collections::BTreeMap;
use std::net::ToSocketAddrs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use strsim::levenshtein;

/// A site with all its places known.
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its web address.
    pub url: Option<WebAddress>,
    /// Its folder.
    pub files: Option<FilesPlace>,
    /// Its database.
    pub database: Option<DatabasePlace>,
    /// Which tables are its own; none means all.
    pub tables: Patterns,
    /// The file and lines from which the database was learned, if it was not configured.
    pub learned_from: Option<String>,
    /// A program among its files, where no database is configured and no file names one.
    pub program: Option<String>,
    section: SiteSection,
    folder: PathBuf,
    hosts: Hosts,
    /// The copy that was made of a database file of another host.
    copy: Mutex<Option<Snapshot>>,
    tunnel: Mutex<Option<Tunnel>>,
    /// Secrets that were fetched, by what they are for.
    secrets: Mutex<BTreeMap<String, String>>,
}

/// Where a database is.
#[derive(Clone, Debug)]
pub enum DatabasePlace {
    /// A SQLite file of this machine.
    Sqlite(PathBuf),
    /// A SQLite file of the host where the site's files are, as it is written: from the site's
    /// folder on, or from the root.
    SqliteThere(String),
    /// A MariaDB or MySQL server.
    Mariadb(ServerAddress),
    /// A PostgreSQL server.
    Postgres(ServerAddress),
}

impl DatabasePlace {
    /// The place for people.
    pub fn shown(&self) -> String {
        match self {
            Self::Sqlite(path) => format!("sqlite:{}", path.display()),
            Self::SqliteThere(path) => format!("sqlite:{path}"),
            Self::Mariadb(address) | Self::Postgres(address) => address.shown(),
        }
    }

    /// The name of the database, or the path of its file.
    pub fn name(&self) -> String {
        match self {
            Self::Sqlite(path) => path.display().to_string(),
            Self::SqliteThere(path) => path.clone(),
            Self::Mariadb(address) => address.database.clone(),
            Self::Postgres(address) => address.database.clone(),
        }
    }
}

/// What `database` says of a site that has none.
const NO_DATABASE: &str = "none";

impl Site {
    /// The site of a name, or one described by options alone.
    pub fn resolve(config: &Config, name: Option<&str>, args: &SiteArgs) -> Result<Self> {
        let mut site = Self::resolve_for_pages(config, name, args)?;
        if site.database.is_none() && site.section.database.as_deref() != Some(NO_DATABASE) {
            match site.learn_database()? {
                Learned::Database { place, from, through } => {
                    site.database = Some(*place);
                    site.learned_from = Some(from);
                    site.section.through = through.or(site.section.through.take());
                }
                Learned::Nothing { program } => site.program = program,
            }
        }
        Ok(site)
    }

    /// The same for its pages alone: a database that is not configured is not looked for in
    /// the site's files, which may be far away.
    pub fn resolve_for_pages(config: &Config, name: Option<&str>, args: &SiteArgs) -> Result<Self> {
        let has_options = args.url.is_some() || args.files.is_some() || args.database.is_some();
        let mut section = match name {
            Some(name) => section_of(config, name, has_options)?,
            None if has_options => SiteSection::default(),
            None => {
                return Err(Trouble::usage("no site is named").hint(match config.path {
                    Some(_) => config.known_sites(),
                    None => "type --files, --url and --database, or write a configuration with \
                             fernweh init"
                        .into(),
                }));
            }
        };
        section.url = args.url.clone().or(section.url);
        section.files = args.files.clone().or(section.files);
        section.database = args.database.clone().or(section.database);
        if name.is_none() {
            hints::places(args.typed());
        }
        let name = name.unwrap_or(hints::UNNAMED).to_owned();
        Self::of_section(config, name, section)
    }

    fn of_section(config: &Config, name: String, section: SiteSection) -> Result<Self> {
        let at = |trouble: Trouble| trouble.at(format!("[site.{name}] of {}", config.shown()));
        let url = section.url.as_deref().map(WebAddress::parse).transpose();
        let url = url.map_err(|error| {
            let trouble = at(Trouble::usage("the site's url is not usable").because(error));
            match section.url.as_deref().filter(|text| !text.contains("://")) {
                Some(text) => trouble.hint(format!("write it as url = \"https://{text}\"")),
                None => trouble,
            }
        })?;
        let here = |text: &str| below(&config.folder, text);
        let files = section.files.as_deref().map(|text| FilesPlace::parse(text, &here));
        let files = files.transpose().map_err(at)?;
        let mut site = Self {
            tables: Patterns::of_tables(&section.tables).map_err(at)?,
            folder: config.folder.clone(),
            name: name.clone(),
            url,
            files,
            database: None,
            learned_from: None,
            program: None,
            section,
            hosts: Hosts::default(),
            copy: Mutex::default(),
            tunnel: Mutex::default(),
            secrets: Mutex::default(),
        };
        if let Some(text) = site.section.database.clone().filter(|text| text != NO_DATABASE) {
            site.database = Some(site.database_place(&text).map_err(at)?);
        }
        if site.database.is_none() && site.files.is_none() && site.url.is_none() {
            return Err(at(Trouble::usage(format!("site {name} has neither files nor database"))
                .hint("set files, database or both")));
        }
        Ok(site)
    }

    /// Whether this is where the public will find the site: said by `final`, or to be seen in its
    /// address. This machine and networks of one's own are never that, nor is what lies behind a
    /// password, unless `final` says so.
    pub fn is_final(&self) -> bool {
        let Some(url) = &self.url else { return false };
        match (self.section.r#final, reach_of(&url.host)) {
            (_, Reach::Private) => false,
            (Some(said), _) => said,
            (None, reach) => reach == Reach::Public && self.section.login.is_none(),
        }
    }

    /// Gives the site its web address.
    pub fn set_url(&mut self, url: &str) -> Result<()> {
        let parsed = WebAddress::parse(url)
            .map_err(|error| Trouble::usage("the site's url is not usable").because(error))?;
        (self.url, self.section.url) = (Some(parsed), Some(url.to_owned()));
        Ok(())
    }

    /// The web address that the site's settings file names, if it names one.
    pub fn guessed_url(&self) -> Option<String> {
        let file = self.learned_from.as_ref()?.split(" lines ").next()?;
        let root = self.files.as_ref()?.local()?;
        let text = std::fs::read_to_string(root.join(file)).ok()?;
        let at = ["https://", "http://"].iter().filter_map(|scheme| text.find(scheme)).min()?;
        let ends = |ch: char| ch.is_whitespace() || "\"'<>;,)".contains(ch);
        let url = text[at..].split(ends).next()?.trim_end_matches('/');
        WebAddress::parse(url).ok().map(|url| url.to_string())
    }

    /// Whether there is anything beside its pages.
    pub fn can_be_traced(&self) -> bool {
        self.database.is_some() || self.files.is_some()
    }

    /// The same for a file of another host.
    fn inside_there(&self, path: &str) -> Option<String> {
        let Some(FilesPlace::Remote(place)) = &self.files else { return None };
        if !path.starts_with('/') {
            return Some(path.trim_start_matches("./").to_owned());
        }
        let root = String::from_utf8_lossy(&place.path);
        let inside = path.strip_prefix(root.as_ref())?.trim_start_matches('/');
        path.ends_with(&format!("/{inside}")).then(|| inside.to_owned())
    }

    /// The database for people, and the host through which it is reached.
    pub fn database_shown(&self) -> Option<String> {
        let place = self.database.as_ref()?.shown();
        Some(match &self.section.through {
            Some(through) => format!("{place} through {through}"),
            None => place,
        })
    }

    /// The server of a database as it can be compared: where it is reached from, its address
    /// and port.
    pub fn database_server(&self, place: &DatabasePlace) -> Option<(Option<String>, String, u16)> {
        let (DatabasePlace::Mariadb(address) | DatabasePlace::Postgres(address)) = place else {
            return None;
        };
        let host = match (&address.socket, &self.section.through) {
            (Some(socket), _) => socket.clone(),
            // The names of one host are resolved there, which is not here.
            (None, Some(_)) if address.host == "localhost" => "127.0.0.1".into(),
            (None, Some(_)) => address.host.clone(),
            (None, None) => (address.host.as_str(), address.port)
                .to_socket_addrs()
                .ok()
                .and_then(|mut found| found.find(std::net::SocketAddr::is_ipv4))
                .map_or_else(|| address.host.clone(), |found| found.ip().to_string()),
        };
        Some((self.section.through.clone(), host, address.port))
    }

    /// Which halves of the site are packed. A site of programs hardly ever has no database: half a
    /// site is packed only if that is said.
    pub fn halves_to_pack(&self, only: Option<Half>) -> Result<Halves> {
        match (&self.program, only) {
            (Some(program), None) => {
                let name = &self.name;
                Err(Trouble::usage(format!("the database of site {name} is not known"))
                    .because(format!(
                        "the site has programs (for example {program}), but its files name no \
                         database in a known form (docs/settings.md)"
                    ))
                    .hint(format!(
                        "set database in [site.{name}] (\"none\" if it has none), or add --only \
                         files"
                    )))
            }
            _ => self.halves(only),
        }
    }

    /// Which halves of the site a command works on.
    pub fn halves(&self, only: Option<Half>) -> Result<Halves> {
        let wanted = Half::halves(only);
        let missing = |what: &str| {
            Err(Trouble::usage(format!("site {} has no {what}", self.name))
                .hint(format!("set {what} in [site.{}]", self.name)))
        };
        match only {
            Some(Half::Database) if self.database.is_none() => missing("database"),
            Some(Half::Files) if self.files.is_none() => missing("files"),
            _ => Ok(wanted.and(self.has())),
        }
    }
}

/// The new value of a setting that leads to a server.
fn server_setting(setting: &Setting, all: &[Setting], place: &ServerAddress) -> Option<String> {
    let port = place.port;
    match setting.role {
        Role::Host => {
            let own_port = all.iter().any(|other| other.role == Role::Port);
            let usual = port == 3306 || port == 5432;
            let with_port = setting.value.contains(':') || !usual;
            Some(match with_port && !own_port {
                true => format!("{}:{port}", place.host),
                false => place.host.clone(),
            })
        }
        Role::Port => Some(port.to_string()),
        Role::Name => Some(place.database.clone()),
        Role::User => Some(place.user.clone()),
        Role::Socket => place.socket.clone(),
        _ => None,
    }
}

fn section_of(config: &Config, name: &str, has_options: bool) -> Result<SiteSection> {
    if let Some(section) = config.content.site.get(name) {
        return Ok(section.clone());
    }
    if has_options {
        return Ok(SiteSection::default());
    }
    if config.path.is_none() {
        return Err(Config::missing().because(format!("it would describe site {name}")));
    }
    let nearest = config.content.site.keys().min_by_key(|known| levenshtein(name, known));
    let trouble = Trouble::usage(format!("there is no site `{name}`"));
    Err(match nearest {
        Some(known) if levenshtein(name, known) <= 2 => {
            trouble.at(config.shown()).hint(format!("did you mean `{known}`?"))
        }
        _ => trouble.at(config.shown()).hint(config.known_sites()),
    })
}

/// A path of the configuration, meant from its folder.
fn below(folder: &Path, text: &str) -> PathBuf {
    let path = expanded(Path::new(text));
    if folder == Path::new(".") { path } else { folder.join(path) }
}

fn absolute(path: &Path) -> PathBuf {
    let full = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    // Links on the way are followed as far as the path exists.
    let existing = full.ancestors().find_map(|p| Some((p, p.canonicalize().ok()?)));
    match existing {
        // Joining nothing would add a slash.
        Some((part, real)) if part == full => real,
        Some((part, real)) => real.join(full.strip_prefix(part).unwrap_or(Path::new(""))),
        None => full,
    }
}
