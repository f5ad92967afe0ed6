//! From a site's name to its places, and from its places to connectors. Only this file
//! names concrete connectors.

use crate::args::{Half, SiteArgs};
use crate::config::{Config, SiteSection, distance};
use crate::secrets::expanded;
use fernweh_connect::http::{HttpOptions, HttpSource};
use fernweh_connect::local::{LocalEditor, LocalSource, LocalTarget};
use fernweh_connect::mariadb::{MariadbEditor, MariadbSource, MariadbTarget};
use fernweh_connect::postgres::{PostgresEditor, PostgresSource, PostgresTarget};
use fernweh_connect::server::ServerAddress;
use fernweh_connect::sqlite::{SqliteEditor, SqliteKeeper, SqliteSource, SqliteTarget};
use fernweh_core::address::WebAddress;
use fernweh_core::settings::{self, Role, Setting};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::rewrite::Parts;
use fernweh_flow::unpack::Targets;
use fernweh_ports::{
    DatabaseEditor, DatabaseSource, DatabaseTarget, FileEditor, FileSource, Result, Trouble,
};
use std::path::{Path, PathBuf};
use url::Url;

/// A site with all its places known.
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its web address.
    pub url: Option<WebAddress>,
    /// Its folder.
    pub files: Option<PathBuf>,
    /// Its database.
    pub database: Option<DatabasePlace>,
    /// Which tables are its own; none means all.
    pub tables: Patterns,
    /// The file and lines from which the database was learned, if it was not configured.
    pub learned_from: Option<String>,
    section: SiteSection,
    folder: PathBuf,
}

/// Where a database is.
#[derive(Clone, Debug)]
pub enum DatabasePlace {
    /// A SQLite file.
    Sqlite(PathBuf),
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
            Self::Mariadb(address) => address.shown("mariadb"),
            Self::Postgres(address) => address.shown("postgres"),
        }
    }

    /// The name of the database, or the path of its file.
    pub fn name(&self) -> String {
        match self {
            Self::Sqlite(path) => path.display().to_string(),
            Self::Mariadb(address) => address.database.clone(),
            Self::Postgres(address) => address.database.clone(),
        }
    }
}

impl Site {
    /// The site of a name, or one described by options alone.
    pub fn resolve(config: &Config, name: Option<&str>, args: &SiteArgs) -> Result<Self> {
        let has_options = args.url.is_some() || args.files.is_some() || args.database.is_some();
        let mut section = match name {
            Some(name) => section_of(config, name, has_options)?,
            None if has_options => SiteSection::default(),
            None => {
                return Err(Trouble::usage("which site?")
                    .because("no site is named")
                    .hint(known_sites(config)));
            }
        };
        section.url = args.url.clone().or(section.url);
        section.files = args.files.clone().or(section.files);
        section.database = args.database.clone().or(section.database);
        let name = name.unwrap_or("site").to_owned();
        Self::of_section(config, name, section)
    }

    fn of_section(config: &Config, name: String, section: SiteSection) -> Result<Self> {
        let at = |trouble: Trouble| trouble.at(format!("[site.{name}] of {}", config.shown()));
        let later = [
            ("through", section.through.is_some() || section.password.through.is_some()),
            ("password.files", section.password.files.is_some()),
        ];
        if let Some((key, _)) = later.iter().find(|(_, used)| *used) {
            return Err(at(not_yet(key)));
        }
        let url = section.url.as_deref().map(WebAddress::parse).transpose();
        let url = url
            .map_err(|error| at(Trouble::usage("the site's url cannot be used").because(error)))?;
        let files = section.files.as_deref().map(|text| files_place(config, text));
        let files = files.transpose().map_err(at)?;
        let mut site = Self {
            tables: Patterns::of_tables(&section.tables).map_err(at)?,
            folder: config.folder.clone(),
            name: name.clone(),
            url,
            files,
            database: None,
            learned_from: None,
            section,
        };
        if let Some(text) = site.section.database.clone() {
            site.database = Some(site.database_place(&text).map_err(at)?);
        } else if let Some((place, from)) = site.learn_database()? {
            site.database = Some(place);
            site.learned_from = Some(from);
        }
        if site.database.is_none() && site.files.is_none() && site.url.is_none() {
            return Err(at(Trouble::usage(format!("site {name} has neither files nor database"))
                .hint("set files, database or both")));
        }
        Ok(site)
    }

    fn password(&self) -> Result<Option<String>> {
        let what = format!("password.database of site {}", self.name);
        let secret = self.section.password.database.as_ref();
        secret.map(|secret| secret.fetch(&what, &self.folder)).transpose()
    }

    fn database_place(&self, text: &str) -> Result<DatabasePlace> {
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            return Ok(DatabasePlace::Sqlite(below(&self.folder, path)));
        }
        let example = "as in mariadb://user@127.0.0.1:3306/name or sqlite:data/site.db";
        let url = Url::parse(text).map_err(|error| {
            Trouble::usage(format!("`{text}` is not the place of a database"))
                .because(error)
                .hint(example)
        })?;
        let postgres = match url.scheme() {
            "mariadb" | "mysql" => false,
            "postgres" | "postgresql" => true,
            other => {
                return Err(Trouble::usage(format!(
                    "`{other}:` is no database that Fernweh knows"
                ))
                .hint(example));
            }
        };
        if url.password().is_some() {
            return Err(Trouble::usage("a password stands in the address of the database")
                .hint("take it out and set password.database = { env = \"NAME\" }"));
        }
        let decoded = |text: &str| percent_decoded(text);
        let database = decoded(url.path().trim_start_matches('/'));
        if database.is_empty() || database.contains('/') {
            return Err(Trouble::usage(format!("`{text}` names no database")).hint(example));
        }
        let socket =
            url.query_pairs().find(|(key, _)| key == "socket").map(|(_, path)| path.into_owned());
        let address = ServerAddress {
            host: url.host_str().unwrap_or("localhost").to_owned(),
            port: url.port().unwrap_or(usual_port(postgres)),
            socket,
            user: decoded(url.username()),
            database,
            password: self.password()?,
        };
        Ok(server_place(postgres, address))
    }

    /// Looks for the connection settings in the site's own files.
    fn learn_database(&self) -> Result<Option<(DatabasePlace, String)>> {
        let Some(root) = self.files.as_ref().filter(|root| root.is_dir()) else { return Ok(None) };
        let mut best: Option<(String, Vec<Setting>)> = None;
        let mut source = LocalSource::open(root)?;
        source.walk(&|_| true, &mut |entry| {
            let fernweh_core::record::EntryKind::File(size) = entry.kind else { return Ok(()) };
            if size > fernweh_core::limits::SETTINGS_FILE {
                return Ok(());
            }
            use std::os::unix::ffi::OsStrExt;
            let path = root.join(std::ffi::OsStr::from_bytes(&entry.path));
            let found = std::fs::read(path).ok().and_then(|text| settings::find(&text));
            if let Some(found) = found
                && best.as_ref().is_none_or(|(_, best)| found.len() > best.len())
            {
                best = Some((entry.shown(), found));
            }
            Ok(())
        })?;
        let Some((file, found)) = best else { return Ok(None) };
        let value = |role| {
            found.iter().find(|setting| setting.role == role).map(|setting| setting.value.clone())
        };
        let lines: Vec<String> = found.iter().map(|setting| setting.line.to_string()).collect();
        let from = format!("{file} lines {}", lines.join(", "));
        let place = match value(Role::File).filter(|path| !path.is_empty()) {
            Some(path) => DatabasePlace::Sqlite(root.join(path)),
            None => {
                let host = value(Role::Host).unwrap_or_else(|| "localhost".into());
                let (host, port) = match host.split_once(':') {
                    Some((host, port)) => (host.to_owned(), port.parse().ok()),
                    None => (host, None),
                };
                let port = value(Role::Port).and_then(|port| port.parse().ok()).or(port);
                let engine = value(Role::Engine).unwrap_or_default().to_lowercase();
                let postgres = ["postgres", "pgsql"].iter().any(|name| engine.contains(name));
                let address = ServerAddress {
                    host,
                    port: port.unwrap_or(usual_port(postgres)),
                    socket: value(Role::Socket).filter(|socket| !socket.is_empty()),
                    user: value(Role::User).unwrap_or_default(),
                    database: value(Role::Name).unwrap_or_default(),
                    password: self.password()?.or_else(|| value(Role::Password)),
                };
                server_place(postgres, address)
            }
        };
        Ok(Some((place, from)))
    }

    /// Whether a table is the site's.
    pub fn holds_table(&self, table: &str) -> bool {
        self.tables.is_empty() || self.tables.hold(table.as_bytes())
    }

    /// Whether there is anything beside its pages.
    pub fn can_be_traced(&self) -> bool {
        self.database.is_some() || self.files.is_some()
    }

    /// Where the database file lies below the site's folder, if it does.
    pub fn inside_files(&self) -> Option<String> {
        let (Some(root), Some(DatabasePlace::Sqlite(path))) = (&self.files, &self.database) else {
            return None;
        };
        let path = absolute(path);
        path.strip_prefix(absolute(root)).ok().map(|inside| inside.to_string_lossy().into_owned())
    }

    /// The database, for reading.
    pub fn database_source(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteSource::open(path)?)),
            Some(DatabasePlace::Mariadb(address)) => Some(Box::new(MariadbSource::open(address)?)),
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresSource::open(address)?))
            }
        })
    }

    /// The database, for changing cells.
    fn database_editor(&self) -> Result<Option<Box<dyn DatabaseEditor>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteEditor::open(path)?)),
            Some(DatabasePlace::Mariadb(address)) => Some(Box::new(MariadbEditor::open(address)?)),
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresEditor::open(address)?))
            }
        })
    }

    /// The files, for reading.
    pub fn file_source(&self) -> Result<Option<LocalSource>> {
        self.files.as_deref().map(LocalSource::open).transpose()
    }

    /// Runs `work` with the targets of a run, and with the database as it is if that is
    /// needed.
    pub fn with_targets<T>(
        &self,
        run: &str,
        halves: (bool, bool),
        with_own: bool,
        work: &mut dyn FnMut(&mut Targets<'_>) -> Result<T>,
    ) -> Result<T> {
        let mut own = if with_own { self.database_source()? } else { None };
        let mut files =
            self.files.as_deref().filter(|_| halves.1).map(|root| LocalTarget::new(root, run));
        let mut database: Option<Box<dyn DatabaseTarget>> = match &self.database {
            Some(place) if halves.0 => Some(match place {
                DatabasePlace::Mariadb(address) => Box::new(MariadbTarget::open(address, run)?),
                DatabasePlace::Postgres(address) => Box::new(PostgresTarget::open(address, run)?),
                DatabasePlace::Sqlite(path) => match (&files, self.inside_files()) {
                    (Some(files), Some(inside)) => {
                        Box::new(SqliteTarget::inside(path, &files.built().join(inside)))
                    }
                    (None, Some(_)) => {
                        let root = self.files.as_deref().unwrap_or(path);
                        Box::new(SqliteTarget::beside(path, root, run))
                    }
                    _ => Box::new(SqliteTarget::beside(path, path, run)),
                },
            }),
            _ => None,
        };
        // Files alone are replaced: a database that lies in them stays.
        let mut keeper = match (&files, &self.database, self.inside_files()) {
            (Some(files), Some(DatabasePlace::Sqlite(path)), Some(inside)) if !halves.0 => {
                Some(SqliteKeeper::new(path, &files.built().join(inside)))
            }
            _ => None,
        };
        let mut keep = keeper.as_mut().map(|keeper| move || keeper.keep());
        let mut targets = Targets {
            keeper: keep.as_mut().map(|keep| keep as &mut dyn FnMut() -> Result<()>),
            database: database.as_mut().map(|target| &mut **target as &mut dyn DatabaseTarget),
            files: files.as_mut().map(|target| target as &mut dyn fernweh_ports::FileTarget),
            own: own.as_mut().map(|source| &mut **source as &mut dyn DatabaseSource),
        };
        work(&mut targets)
    }

    /// Runs `work` with the parts of the site that are changed in place.
    pub fn with_parts<T>(
        &self,
        halves: (bool, bool),
        work: &mut dyn FnMut(&mut Parts<'_>) -> Result<T>,
    ) -> Result<T> {
        let mut database = if halves.0 { self.database_editor()? } else { None };
        let mut files = if halves.1 { self.file_source()? } else { None };
        let mut editor = self.files.as_deref().map(LocalEditor::new);
        let mut parts = Parts {
            database: database.as_mut().map(|editor| &mut **editor as &mut dyn DatabaseEditor),
            files: files.as_mut().map(|source| source as &mut dyn FileSource),
            editor: editor.as_mut().map(|editor| editor as &mut dyn FileEditor),
        };
        work(&mut parts)
    }

    /// Where pages of the site are fetched.
    pub fn pages(&self) -> Result<HttpSource> {
        let host = self.url.as_ref().map(|url| url.host.clone()).unwrap_or_default();
        let what = format!("password.login of site {}", self.name);
        let login = match (&self.section.login, &self.section.password.login) {
            (Some(user), Some(secret)) => Some((user.clone(), secret.fetch(&what, &self.folder)?)),
            (Some(user), None) => {
                return Err(Trouble::usage(format!(
                    "site {} has a login without a password",
                    self.name
                ))
                .because(format!("login is {user}, but password.login is not set"))
                .hint("set password.login = { env = \"NAME\" }"));
            }
            _ => None,
        };
        HttpSource::new(&HttpOptions {
            host,
            address: self.section.address.clone(),
            login,
            authority: self.section.authority.as_ref().map(|path| self.folder.join(expanded(path))),
        })
    }

    /// The new value of a connection setting of this site, among all of its file.
    pub fn setting(&self, setting: &Setting, all: &[Setting]) -> Option<String> {
        match self.database.as_ref()? {
            DatabasePlace::Sqlite(path) => match setting.role {
                Role::File => Some(match self.inside_files() {
                    Some(inside) if !setting.value.starts_with('/') => inside,
                    _ => absolute(path).display().to_string(),
                }),
                _ => None,
            },
            DatabasePlace::Mariadb(address) | DatabasePlace::Postgres(address) => {
                server_setting(setting, all, address)
            }
        }
    }

    /// Which halves of the site a command works on.
    pub fn halves(&self, only: Option<Half>) -> Result<(bool, bool)> {
        let wanted = (only != Some(Half::Files), only != Some(Half::Database));
        let missing = |what: &str| {
            Err(Trouble::usage(format!("site {} has no {what}", self.name))
                .hint(format!("set {what} in [site.{}]", self.name)))
        };
        match only {
            Some(Half::Database) if self.database.is_none() => missing("database"),
            Some(Half::Files) if self.files.is_none() => missing("files"),
            _ => Ok((wanted.0 && self.database.is_some(), wanted.1 && self.files.is_some())),
        }
    }
}

fn usual_port(postgres: bool) -> u16 {
    if postgres { 5432 } else { 3306 }
}

fn server_place(postgres: bool, address: ServerAddress) -> DatabasePlace {
    match postgres {
        true => DatabasePlace::Postgres(address),
        false => DatabasePlace::Mariadb(address),
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
        Role::Password => place.password.clone(),
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
    let nearest = config.content.site.keys().min_by_key(|known| distance(name, known));
    let trouble = Trouble::usage(format!("there is no site `{name}`"));
    Err(match nearest {
        Some(known) if distance(name, known) <= 2 => {
            trouble.at(config.shown()).hint(format!("did you mean `{known}`?"))
        }
        _ => trouble.at(config.shown()).hint(known_sites(config)),
    })
}

fn known_sites(config: &Config) -> String {
    let names: Vec<&str> = config.content.site.keys().map(String::as_str).collect();
    match names.is_empty() {
        true => "write [site.NAME] with url, files and database into fernweh.toml, or use --files \
                 and --database"
            .into(),
        false => format!("sites in {}: {}", config.shown(), names.join(", ")),
    }
}

fn files_place(config: &Config, text: &str) -> Result<PathBuf> {
    match text.split_once("://").map(|(scheme, _)| scheme) {
        None => Ok(below(&config.folder, text)),
        Some("file") => Ok(PathBuf::from(text.trim_start_matches("file://"))),
        Some(scheme) => Err(not_yet(&format!("{scheme}:"))),
    }
}

/// A path of the configuration, meant from its folder.
fn below(folder: &Path, text: &str) -> PathBuf {
    let path = expanded(Path::new(text));
    if folder == Path::new(".") { path } else { folder.join(path) }
}

fn not_yet(what: &str) -> Trouble {
    Trouble::usage(format!("{what} is not available yet in this version"))
        .hint("this version knows local folders, sqlite:, mariadb: and postgres:")
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

fn percent_decoded(text: &str) -> String {
    let pairs = format!("x={}", text.replace('+', "%2B"));
    url::form_urlencoded::parse(pairs.as_bytes())
        .next()
        .map_or_else(String::new, |(_, v)| v.into_owned())
}
