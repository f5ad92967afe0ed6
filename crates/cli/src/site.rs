//! From a site's name to its places, and from its places to connectors. Only this file
//! names concrete connectors.

use crate::args::{Half, SiteArgs};
use crate::config::{Assist, Config, SiteSection, distance};
use crate::hosts::{self, FilesPlace, Hosts, Login, Protocol, RemotePlace, login_of, user_of};
use crate::secrets::{Secret, expanded, of_option_file, of_password_file};
use fernweh_connect::http::{HttpOptions, HttpSource};
use fernweh_connect::local::{LocalEditor, LocalSource, LocalTarget};
use fernweh_connect::mariadb::{MariadbEditor, MariadbSource, MariadbTarget};
use fernweh_connect::postgres::{PostgresEditor, PostgresSource, PostgresTarget};
use fernweh_connect::remote::{RemoteEditor, RemoteSource, RemoteTarget, Tree, is_folder};
use fernweh_connect::server::{Encryption, ServerAddress, Through};
use fernweh_connect::sqlite::{SqliteEditor, SqliteKeeper, SqliteSource, SqliteTarget};
use fernweh_connect::ssh::{SshAddress, Tunnel, TunnelEnd, Way};
use fernweh_core::address::WebAddress;
use fernweh_core::limits;
use fernweh_core::record::EntryKind;
use fernweh_core::settings::{self, Role, Setting};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::rewrite::Parts;
use fernweh_flow::unpack::Targets;
use fernweh_ports::{
    DatabaseEditor, DatabaseSource, DatabaseTarget, FileEditor, FileSource, FileTarget, Result,
    Trouble, files_of,
};
use std::cell::RefCell;
use std::io::Read;
use std::net::ToSocketAddrs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use url::Url;

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
    section: SiteSection,
    folder: PathBuf,
    hosts: Hosts,
    /// A database file of another host, as the site's settings name it.
    elsewhere: RefCell<Option<String>>,
    tunnel: RefCell<Option<Tunnel>>,
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
        let url = section.url.as_deref().map(WebAddress::parse).transpose();
        let url = url
            .map_err(|error| at(Trouble::usage("the site's url cannot be used").because(error)))?;
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
            section,
            hosts: Hosts::default(),
            elsewhere: RefCell::default(),
            tunnel: RefCell::default(),
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

    fn encryption(&self) -> Option<Encryption> {
        let authority = self.section.authority.as_ref();
        let authority = authority.map(|path| self.folder.join(expanded(path)));
        self.section.encrypted.then_some(Encryption { authority })
    }

    /// The database as it is reached from here: through another host if so configured.
    fn reached(&self, address: &ServerAddress) -> Result<ServerAddress> {
        let Some(through) = &self.section.through else { return Ok(address.clone()) };
        let mut tunnel = self.tunnel.borrow_mut();
        let tunnel = match &mut *tunnel {
            Some(open) => open,
            None => tunnel.insert(self.open_tunnel(through, address)?),
        };
        let (host, socket) = (through.clone(), tunnel.socket().to_owned());
        Ok(ServerAddress { through: Some(Through { host, socket }), ..address.clone() })
    }

    fn open_tunnel(&self, through: &str, address: &ServerAddress) -> Result<Tunnel> {
        let at = |trouble: Trouble| trouble.doing(format!("reaching {} from there", self.name));
        let url = login_of(through, "as in ssh://keeper@198.51.100.7")?;
        if url.scheme() != "ssh" {
            return Err(Trouble::usage("through is no address of SSH")
                .because(format!("it begins with {}:", url.scheme()))
                .hint("write it as in ssh://keeper@198.51.100.7"));
        }
        // Where the files come from the same host, one password serves both.
        let passwords = &self.section.password;
        let secret = passwords.through.as_ref().or(passwords.files.as_ref());
        let login = self.login("through", secret)?;
        let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
        let user = user_of(&url);
        let ssh =
            SshAddress::complete(host, url.port(), user.as_deref(), login.password, login.key)?;
        let session = self.hosts.session(&ssh)?;
        let end = match &address.socket {
            Some(socket) => TunnelEnd::Socket(socket.clone()),
            None => TunnelEnd::Tcp(address.host.clone(), address.port),
        };
        let copy = self.section.assist == Some(Assist::CopySelf);
        let copy = copy.then(std::env::current_exe).and_then(std::result::Result::ok);
        // PostgreSQL's driver finds a socket by this name in its folder.
        let name = format!(".s.PGSQL.{}", address.port);
        let way = Way { login: (ssh, hosts::person()), end, copy };
        let tunnel = Tunnel::open(session, way, &name).map_err(at)?;
        if let Some(place) = tunnel.copied_to() {
            eprintln!(
                "{through} forbids forwarding: Fernweh has copied itself to {place} there, and removes \
                 it at the end"
            );
        }
        Ok(tunnel)
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
        let host = url.host_str().unwrap_or("localhost").to_owned();
        let port = url.port().unwrap_or(usual_port(postgres));
        let user = decoded(url.username());
        let password = match self.password()? {
            Some(password) => Some(password),
            None => of_clients(postgres, (&host, port, &database, &user)),
        };
        let address = ServerAddress {
            host,
            port,
            socket,
            user,
            database,
            password,
            through: None,
            encryption: self.encryption(),
        };
        Ok(server_place(postgres, address))
    }

    /// Looks for the connection settings in the site's own files.
    fn learn_database(&self) -> Result<Option<(DatabasePlace, String)>> {
        match &self.files {
            None => return Ok(None),
            Some(FilesPlace::Local(root)) if !root.is_dir() => return Ok(None),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                if !is_folder(&*tree, &root)? {
                    return Ok(None);
                }
            }
            Some(FilesPlace::Local(_)) => {}
        }
        let Some((file, found)) = self.connection_settings()? else { return Ok(None) };
        let value = |role| {
            found.iter().find(|setting| setting.role == role).map(|setting| setting.value.clone())
        };
        let lines: Vec<String> = found.iter().map(|setting| setting.line.to_string()).collect();
        let from = format!("{file} lines {}", lines.join(", "));
        let place = match value(Role::File).filter(|path| !path.is_empty()) {
            Some(path) => match self.files.as_ref().and_then(FilesPlace::local) {
                Some(root) => DatabasePlace::Sqlite(root.join(path)),
                None => {
                    self.elsewhere.replace(Some(path));
                    return Ok(None);
                }
            },
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
                    through: None,
                    encryption: self.encryption(),
                };
                server_place(postgres, address)
            }
        };
        Ok(Some((place, from)))
    }

    /// The file with the most connection settings among the site's files, and what they are.
    fn connection_settings(&self) -> Result<Option<(String, Vec<Setting>)>> {
        let Some(mut source) = self.file_source()? else { return Ok(None) };
        let far = self.files.as_ref().is_some_and(|files| files.local().is_none());
        let mut small = Vec::new();
        source.walk(&|_| true, &mut |entry| {
            if let EntryKind::File(size) = entry.kind
                && size <= limits::SETTINGS_FILE
                && (!far || may_hold_settings(&entry.shown()))
            {
                small.push(entry);
            }
            Ok(())
        })?;
        source.expect(files_of(&small));
        let mut best: Option<(String, Vec<Setting>)> = None;
        for entry in small {
            let mut text = Vec::new();
            let read = source.open(&entry.path).map(|mut file| file.read_to_end(&mut text));
            // A file that may not be read is not where the settings are.
            let found = match read {
                Ok(Ok(_)) => settings::find(&text),
                Err(trouble) if trouble.lost => return Err(trouble),
                _ => None,
            };
            if let Some(found) = found
                && best.as_ref().is_none_or(|(_, best)| found.len() > best.len())
            {
                best = Some((entry.shown(), found));
            }
        }
        Ok(best)
    }

    /// The files on another host, and the folder there.
    fn file_tree(&self, place: &RemotePlace) -> Result<(Arc<dyn Tree>, Vec<u8>)> {
        self.hosts.tree(place, &|| self.login("files", self.section.password.files.as_ref()))
    }

    /// What a login needs beside its address.
    fn login(&self, which: &str, secret: Option<&Secret>) -> Result<Login> {
        let what = format!("password.{which} of site {}", self.name);
        let here = |path: &PathBuf| self.folder.join(expanded(path));
        Ok(Login {
            password: secret.map(|secret| secret.fetch(&what, &self.folder)).transpose()?,
            key: self.section.key.as_ref().map(here),
            authority: self.section.authority.as_ref().map(here),
        })
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
        let Some(DatabasePlace::Sqlite(path)) = &self.database else { return None };
        let root = self.files.as_ref()?.local()?;
        let path = absolute(path);
        path.strip_prefix(absolute(root)).ok().map(|inside| inside.to_string_lossy().into_owned())
    }

    /// The database, for reading.
    pub fn database_source(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteSource::open(path)?)),
            Some(DatabasePlace::Mariadb(address)) => {
                Some(Box::new(MariadbSource::open(&self.reached(address)?)?))
            }
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresSource::open(&self.reached(address)?)?))
            }
        })
    }

    /// The database, for changing cells.
    fn database_editor(&self) -> Result<Option<Box<dyn DatabaseEditor>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteEditor::open(path)?)),
            Some(DatabasePlace::Mariadb(address)) => {
                Some(Box::new(MariadbEditor::open(&self.reached(address)?)?))
            }
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresEditor::open(&self.reached(address)?)?))
            }
        })
    }

    /// The files, for reading.
    pub fn file_source(&self) -> Result<Option<Box<dyn FileSource>>> {
        Ok(match &self.files {
            None => None,
            Some(FilesPlace::Local(root)) => Some(Box::new(LocalSource::open(root)?)),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                Some(Box::new(RemoteSource::open(tree, &root)?))
            }
        })
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
        let mut local = None;
        let mut remote = None;
        match self.files.as_ref().filter(|_| halves.1) {
            None => {}
            Some(FilesPlace::Local(root)) => local = Some(LocalTarget::new(root, run)),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                remote = Some(RemoteTarget::new(tree, &root, run));
            }
        }
        let mut database: Option<Box<dyn DatabaseTarget>> = match &self.database {
            Some(place) if halves.0 => Some(match place {
                DatabasePlace::Mariadb(address) => {
                    Box::new(MariadbTarget::open(&self.reached(address)?, run)?)
                }
                DatabasePlace::Postgres(address) => {
                    Box::new(PostgresTarget::open(&self.reached(address)?, run)?)
                }
                DatabasePlace::Sqlite(path) => match (&local, self.inside_files()) {
                    (Some(files), Some(inside)) => {
                        Box::new(SqliteTarget::inside(path, &files.built().join(inside)))
                    }
                    (None, Some(_)) => {
                        let root = self.files.as_ref().and_then(FilesPlace::local);
                        Box::new(SqliteTarget::beside(path, root.unwrap_or(path), run))
                    }
                    _ => Box::new(SqliteTarget::beside(path, path, run)),
                },
            }),
            _ => None,
        };
        // Files alone are replaced: a database that lies in them stays.
        let mut keeper = match (&local, &self.database, self.inside_files()) {
            (Some(files), Some(DatabasePlace::Sqlite(path)), Some(inside)) if !halves.0 => {
                Some(SqliteKeeper::new(path, &files.built().join(inside)))
            }
            _ => None,
        };
        let mut files = match (&mut local, &mut remote) {
            (Some(target), _) => Some(target as &mut dyn FileTarget),
            (None, Some(target)) => Some(target as &mut dyn FileTarget),
            _ => None,
        };
        let mut keep = keeper.as_mut().map(|keeper| move || keeper.keep());
        let mut targets = Targets {
            keeper: keep.as_mut().map(|keep| keep as &mut dyn FnMut() -> Result<()>),
            database: database.as_mut().map(|target| &mut **target as &mut dyn DatabaseTarget),
            files: files.as_mut().map(|target| &mut **target as &mut dyn FileTarget),
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
        let mut editor: Option<Box<dyn FileEditor>> = match &self.files {
            None => None,
            Some(FilesPlace::Local(root)) => Some(Box::new(LocalEditor::new(root))),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                Some(Box::new(RemoteEditor::new(tree, &root)))
            }
        };
        let mut parts = Parts {
            database: database.as_mut().map(|editor| &mut **editor as &mut dyn DatabaseEditor),
            files: files.as_mut().map(|source| &mut **source as &mut dyn FileSource),
            editor: editor.as_mut().map(|editor| &mut **editor as &mut dyn FileEditor),
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

    /// Whether a login for HTTP is configured.
    pub fn has_login(&self) -> bool {
        self.section.login.is_some()
    }

    /// Whether its host is named beside its domain.
    pub fn has_address(&self) -> bool {
        self.section.address.is_some()
    }

    /// Runs a command on the site's host, in its folder; gives whether it ended well, and what
    /// it printed.
    pub fn run_there(&self, command: &str) -> Result<(bool, String)> {
        match &self.files {
            Some(FilesPlace::Remote(place)) if place.protocol == Protocol::Sftp => {
                let (_, root) = self.file_tree(place)?;
                let login = self.login("files", self.section.password.files.as_ref())?;
                let user = place.user.as_deref();
                let ssh =
                    SshAddress::complete(&place.host, place.port, user, login.password, login.key)?;
                let folder = String::from_utf8_lossy(&root).replace('\'', "'\\''");
                let ran = self.hosts.session(&ssh)?.run(&format!("cd '{folder}' && {command}"))?;
                Ok((ran.status == Some(0), ran.printed))
            }
            Some(FilesPlace::Remote(_)) => Err(Trouble::usage("FTP runs no commands")
                .hint("leave command out of [after], or reach the files by sftp:")),
            place => {
                let folder = place.as_ref().and_then(FilesPlace::local).unwrap_or(&self.folder);
                let ran = std::process::Command::new("sh")
                    .args(["-c", command])
                    .current_dir(folder)
                    .stdin(std::process::Stdio::null())
                    .output();
                let ran =
                    ran.map_err(|error| Trouble::file("cannot run a command", folder, &error))?;
                let printed = [ran.stdout, ran.stderr].concat();
                Ok((ran.status.success(), String::from_utf8_lossy(&printed).into_owned()))
            }
        }
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

    /// Which halves of the site a command works on.
    pub fn halves(&self, only: Option<Half>) -> Result<(bool, bool)> {
        let wanted = (only != Some(Half::Files), only != Some(Half::Database));
        if let Some(path) = &*self.elsewhere.borrow()
            && wanted.0
        {
            return Err(sqlite_elsewhere(path));
        }
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

/// Whether a file of another host is worth being fetched for a look at its settings.
fn may_hold_settings(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let known = ["php", "inc", "env", "ini", "conf", "cfg", "cnf", "local", "py", "rb", "yml"];
    let depth = path.matches('/').count();
    depth <= 3
        && (name.starts_with(".env")
            || name.rsplit_once('.').is_some_and(|(_, end)| known.contains(&end)))
}

fn sqlite_elsewhere(path: &str) -> Trouble {
    Trouble::usage("a SQLite database on another host cannot be reached")
        .at(path.to_owned())
        .because("it is a file there, and reading it while the site writes would tear it")
        .hint(
            "stop the site, then move its files with --only files: the database goes along as the \
             file that it is",
        )
}

/// The password that the database's own client would use.
fn of_clients(postgres: bool, connection: (&str, u16, &str, &str)) -> Option<String> {
    let home = PathBuf::from(std::env::var_os("HOME")?);
    match postgres {
        true => of_password_file(&home, connection),
        false => of_option_file(&home, connection.3),
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

fn percent_decoded(text: &str) -> String {
    let pairs = format!("x={}", text.replace('+', "%2B"));
    url::form_urlencoded::parse(pairs.as_bytes())
        .next()
        .map_or_else(String::new, |(_, v)| v.into_owned())
}
