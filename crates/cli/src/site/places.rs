//! Where the parts of a site are: from what stands in the configuration, or in the site's own
//! settings.

use super::{DatabasePlace, Site, below};
use crate::hosts::{FilesPlace, Protocol, decoded};
use crate::secrets::{Secret, expanded, of_option_file, of_password_file};
use fernweh_connect::remote::is_folder;
use fernweh_connect::server::{Encryption, ServerAddress};
use fernweh_connect::tls::{Pin, Trust};
use fernweh_core::address::masked;
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::EntryKind;
use fernweh_core::settings::{self, Role, Setting};
use fernweh_flow::survey::lines_of;
use fernweh_ports::{Held, Result, SiteAccess, Trouble, in_turn, read_whole};
use std::path::PathBuf;
use std::sync::PoisonError;
use url::Url;

impl Site {
    /// A secret of the site; it is fetched when it is first needed, and once.
    pub(super) fn secret(&self, which: &str, from: Option<&Secret>) -> Result<Option<String>> {
        let Some(from) = from else { return Ok(None) };
        let mut known = self.secrets.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(secret) = known.get(which) {
            return Ok(Some(secret.clone()));
        }
        let what = format!("password.{which} of site {}", self.name);
        let secret = from.fetch(&what, &self.folder)?;
        known.insert(which.to_owned(), secret.clone());
        Ok(Some(secret))
    }

    /// The password of a database: as configured, or as the site's own settings or the
    /// database's own client have it.
    pub(super) fn database_password(&self, address: &ServerAddress) -> Result<Option<String>> {
        let configured = self.secret("database", self.section.password.database.as_ref())?;
        Ok(configured.or_else(|| address.password.clone()))
    }

    /// Who is trusted for the servers of this site.
    pub(super) fn trust(&self) -> Result<Trust> {
        let authority = self.section.authority.as_ref();
        let authority = authority.map(|path| self.folder.join(expanded(path)));
        let read = |text: &String| {
            Pin::parse(text).ok_or_else(|| {
                Trouble::usage(format!("`{text}` is not the fingerprint of a certificate")).hint(
                    "write trust = \"sha256:\" and 64 hexadecimal digits; colons may stand between",
                )
            })
        };
        let pins = self.section.trust.iter().map(read).collect::<Result<_>>()?;
        Ok(Trust { authority, pins })
    }

    pub(super) fn encryption(&self) -> Result<Option<Encryption>> {
        match self.section.encrypted {
            true => Ok(Some(Encryption { trust: self.trust()? })),
            false => Ok(None),
        }
    }

    pub(super) fn database_place(&self, text: &str) -> Result<DatabasePlace> {
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            return Ok(match &self.files {
                Some(FilesPlace::Remote(_)) => DatabasePlace::SqliteThere(path.to_owned()),
                _ => DatabasePlace::Sqlite(below(&self.folder, path)),
            });
        }
        let example = "write it as in mariadb://user@127.0.0.1:3306/name or sqlite:data/site.db";
        let url = Url::parse(text).map_err(|_| {
            let what = format!("`{}` is not the address of a database", masked(text));
            Trouble::usage(what).hint(example)
        })?;
        let postgres = match url.scheme() {
            "mariadb" | "mysql" => false,
            "postgres" | "postgresql" => true,
            other => {
                return Err(Trouble::usage(format!(
                    "`{other}:` is not a database that Fernweh supports"
                ))
                .hint(example));
            }
        };
        if url.password().is_some() {
            return Err(Trouble::usage("a password stands in the address of the database")
                .hint("take it out and set password.database = { env = \"NAME\" }"));
        }
        let database = decoded(url.path().trim_start_matches('/'));
        if database.is_empty() || database.contains('/') {
            return Err(
                Trouble::usage(format!("`{}` names no database", masked(text))).hint(example)
            );
        }
        let socket =
            url.query_pairs().find(|(key, _)| key == "socket").map(|(_, path)| path.into_owned());
        let host = url.host_str().unwrap_or("localhost").to_owned();
        let port = url.port().unwrap_or(usual_port(postgres));
        let user = decoded(url.username());
        let password = match self.section.password.database {
            Some(_) => None,
            None => of_clients(postgres, (&host, port, &database, &user)),
        };
        let address = ServerAddress {
            scheme: url.scheme().to_owned(),
            host,
            port,
            socket,
            user,
            database,
            password,
            through: None,
            encryption: self.encryption()?,
        };
        Ok(server_place(postgres, address))
    }

    /// Looks for the connection settings in the site's own files.
    pub(super) fn learn_database(&self) -> Result<Learned> {
        let nothing = Learned::Nothing { program: None };
        match &self.files {
            None => return Ok(nothing),
            Some(FilesPlace::Local(root)) if !root.is_dir() => return Ok(nothing),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                if !is_folder(&*tree, &root)? {
                    return Ok(nothing);
                }
            }
            Some(FilesPlace::Local(_)) => {}
        }
        let (found, program) = self.connection_settings()?;
        let Some((file, found)) = found else { return Ok(Learned::Nothing { program }) };
        let value = |role| {
            found.iter().find(|setting| setting.role == role).map(|setting| setting.value.clone())
        };
        let lines: Vec<String> = lines_of(&found).iter().map(ToString::to_string).collect();
        let from = format!("{file} lines {}", lines.join(", "));
        let place = match value(Role::File).filter(|path| !path.is_empty()) {
            Some(path) => match self.files.as_ref().and_then(FilesPlace::local) {
                Some(root) => DatabasePlace::Sqlite(root.join(path)),
                None => DatabasePlace::SqliteThere(path),
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
                    scheme: if postgres { "postgres" } else { "mariadb" }.to_owned(),
                    host,
                    port: port.unwrap_or(usual_port(postgres)),
                    socket: value(Role::Socket).filter(|socket| !socket.is_empty()),
                    user: value(Role::User).unwrap_or_default(),
                    database: value(Role::Name).unwrap_or_default(),
                    password: value(Role::Password),
                    through: None,
                    encryption: self.encryption()?,
                };
                let through = self.through_for(&address, &from)?;
                let place = Box::new(server_place(postgres, address));
                return Ok(Learned::Database { place, from, through });
            }
        };
        Ok(Learned::Database { place: Box::new(place), from, through: None })
    }

    /// What the settings of another host call their own machine is that host, and never this one:
    /// through which host such a database is reached.
    fn through_for(&self, address: &ServerAddress, from: &str) -> Result<Option<String>> {
        let Some(FilesPlace::Remote(place)) = &self.files else { return Ok(None) };
        let own = matches!(address.host.as_str(), "localhost" | "127.0.0.1" | "::1" | "[::1]");
        if self.section.through.is_some() || !own && address.socket.is_none() {
            return Ok(None);
        }
        let (host, name) = (&place.host, &self.name);
        if place.protocol != Protocol::Sftp {
            return Err(Trouble::usage(format!(
                "the database of site {name} cannot be reached from here"
            ))
            .at(from.to_owned())
            .because(format!("the settings name {}, which means {host}", address.host))
            .hint(format!(
                "set database in [site.{name}] to an address that is reached from here, or set \
                     through = \"ssh://…\" if the host has SSH"
            )));
        }
        let user = place.user.as_ref().map(|user| format!("{user}@")).unwrap_or_default();
        let port = place.port.map(|port| format!(":{port}")).unwrap_or_default();
        Ok(Some(format!("ssh://{user}{host}{port}")))
    }

    /// The file with the most connection settings among the site's files, and what they are; and a
    /// program, if there is any.
    pub(super) fn connection_settings(&self) -> Result<(Option<Settings>, Option<String>)> {
        let Some(mut source) = SiteAccess::files(self)? else { return Ok((None, None)) };
        let mut program = None;
        let far = self.files.as_ref().is_some_and(|files| files.local().is_none());
        let mut small = EntryList::default();
        source.walk(&|_| true, &mut |entry| {
            if program.is_none() && is_program(&entry.shown()) {
                program = Some(entry.shown());
            }
            if let EntryKind::File(size) = entry.kind
                && size <= limits::SETTINGS_FILE
                && (!far || may_hold_settings(&entry.shown()))
            {
                small.push(entry);
            }
            Ok(())
        })?;
        let mut best: Option<(String, Vec<Setting>)> = None;
        in_turn(&mut *source, &small, |source, entry| {
            // A file that may not be read, or has gone, is not where the settings are.
            let found = match read_whole(source, &entry.path, limits::SETTINGS_FILE) {
                Ok(Held::Whole(file)) => settings::find(&file.bytes),
                Ok(_) => Vec::new(),
                Err(trouble) if trouble.lost => return Err(trouble),
                Err(_) => Vec::new(),
            };
            for connection in found {
                let found = connection.settings;
                if best.as_ref().is_none_or(|(_, best)| found.len() > best.len()) {
                    best = Some((entry.shown(), found));
                }
            }
            Ok(())
        })?;
        Ok((best, program))
    }
}

/// A file with the settings of a connection.
pub(super) type Settings = (String, Vec<Setting>);

/// What the files of a site say of its database.
pub(super) enum Learned {
    /// They name it.
    Database {
        place: Box<DatabasePlace>,
        /// The file and its lines.
        from: String,
        /// The host through which it is reached.
        through: Option<String>,
    },
    /// They name none.
    Nothing {
        /// A program among them.
        program: Option<String>,
    },
}

/// Whether a file is run by a web server.
fn is_program(path: &str) -> bool {
    let programs = ["php", "phtml", "py", "rb", "pl", "cgi", "jsp", "asp", "aspx"];
    path.rsplit_once('.').is_some_and(|(_, end)| programs.contains(&end))
}

/// Whether a file of another host is worth being fetched for a look at its settings.
fn may_hold_settings(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let known = [
        "php",
        "inc",
        "env",
        "ini",
        "conf",
        "cfg",
        "cnf",
        "config",
        "local",
        "properties",
        "py",
        "rb",
        "yml",
        "yaml",
        "json",
        "toml",
        "xml",
        "js",
        "cjs",
        "mjs",
        "ts",
    ];
    let depth = path.matches('/').count();
    depth <= 3
        && (name.starts_with(".env")
            || name.rsplit_once('.').is_some_and(|(_, end)| known.contains(&end)))
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
