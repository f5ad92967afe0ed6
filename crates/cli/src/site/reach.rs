//! From the places of a site to open connections.

use super::{DatabasePlace, Site};
use crate::config::Assist;
use crate::hosts::{self, FilesPlace, Login, Protocol, RemotePlace, login_of, user_of};
use crate::secrets::{Secret, expanded};
use fernweh_connect::http::{HttpOptions, HttpSource};
use fernweh_connect::local::{LocalEditor, LocalSource, LocalTarget};
use fernweh_connect::mariadb::{MariadbEditor, MariadbSource, MariadbTarget};
use fernweh_connect::postgres::{PostgresEditor, PostgresSource, PostgresTarget};
use fernweh_connect::remote::{RemoteEditor, RemoteSource, RemoteTarget, Tree};
use fernweh_connect::server::{ServerAddress, Through};
use fernweh_connect::sqlite::{
    FarDatabase, FarEditor, FarPlace, FarTarget, SqliteEditor, SqliteKeeper, SqliteSource,
    SqliteTarget,
};
use fernweh_connect::ssh::{SshAddress, Tunnel, TunnelEnd, Way};
use fernweh_flow::rewrite::Parts;
use fernweh_flow::unpack::Targets;
use fernweh_ports::{
    DatabaseEditor, DatabaseSource, DatabaseTarget, FileEditor, FileSource, FileTarget, Result,
    Trouble,
};
use std::path::PathBuf;
use std::sync::Arc;
use url::Url;

impl Site {
    /// The database as it is reached from here: through another host if so configured.
    pub(super) fn reached(&self, address: &ServerAddress) -> Result<ServerAddress> {
        let Some(through) = &self.section.through else { return Ok(address.clone()) };
        let mut tunnel = self.tunnel.borrow_mut();
        let tunnel = match &mut *tunnel {
            Some(open) => open,
            None => tunnel.insert(self.open_tunnel(through, address)?),
        };
        let (host, socket) = (through.clone(), tunnel.socket().to_owned());
        Ok(ServerAddress { through: Some(Through { host, socket }), ..address.clone() })
    }

    pub(super) fn open_tunnel(&self, through: &str, address: &ServerAddress) -> Result<Tunnel> {
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
        let way = Way { login: (ssh, hosts::person_again()), end, copy };
        let tunnel = Tunnel::open(session, way, &name).map_err(at)?;
        if let Some(place) = tunnel.copied_to() {
            eprintln!(
                "{through} forbids forwarding: Fernweh has copied itself to {place} there, and removes \
                 it at the end"
            );
        }
        Ok(tunnel)
    }

    /// A database file of the host where the site's files are.
    fn far(&self, path: &str) -> Result<FarDatabase> {
        let Some(FilesPlace::Remote(place)) = &self.files else {
            return Err(Trouble::usage("the site's files are on no other host"));
        };
        let (tree, root) = self.file_tree(place)?;
        let shell = match place.protocol {
            Protocol::Sftp => Some(self.hosts.session(&self.ssh_of(place)?)?),
            Protocol::Ftp | Protocol::Ftps => None,
        };
        let path = match path.starts_with('/') {
            true => path.as_bytes().to_vec(),
            false => [&root, &b"/"[..], path.trim_start_matches("./").as_bytes()].concat(),
        };
        let here = self.folder.join(".fernweh/fetched").join(&self.name);
        Ok(FarDatabase { tree, path, shell, here })
    }

    /// The login that serves files over SFTP.
    fn ssh_of(&self, place: &RemotePlace) -> Result<SshAddress> {
        let login = self.login("files", self.section.password.files.as_ref())?;
        let user = place.user.as_deref();
        SshAddress::complete(&place.host, place.port, user, login.password, login.key)
    }

    /// The files on another host, and the folder there.
    pub(super) fn file_tree(&self, place: &RemotePlace) -> Result<(Arc<dyn Tree>, Vec<u8>)> {
        self.hosts.tree(place, &|| self.login("files", self.section.password.files.as_ref()))
    }

    /// What a login needs beside its address.
    pub(super) fn login(&self, which: &str, secret: Option<&Secret>) -> Result<Login> {
        let what = format!("password.{which} of site {}", self.name);
        let here = |path: &PathBuf| self.folder.join(expanded(path));
        Ok(Login {
            password: secret.map(|secret| secret.fetch(&what, &self.folder)).transpose()?,
            key: self.section.key.as_ref().map(here),
            authority: self.section.authority.as_ref().map(here),
        })
    }

    /// The database, for reading.
    pub fn database_source(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteSource::open(path)?)),
            Some(DatabasePlace::SqliteThere(path)) => {
                let copy = self.far(path)?.present()?;
                let source = SqliteSource::open(&copy.path())?;
                self.copy.replace(Some(copy));
                Some(Box::new(source))
            }
            Some(DatabasePlace::Mariadb(address)) => {
                Some(Box::new(MariadbSource::open(&self.reached(address)?)?))
            }
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresSource::open(&self.reached(address)?)?))
            }
        })
    }

    /// The database, for changing cells.
    pub(super) fn database_editor(&self) -> Result<Option<Box<dyn DatabaseEditor>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteEditor::open(path)?)),
            Some(DatabasePlace::SqliteThere(path)) => {
                Some(Box::new(FarEditor::open(self.far(path)?)?))
            }
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
                DatabasePlace::SqliteThere(path) => {
                    let place = match self.inside_files() {
                        Some(inside) if halves.1 => FarPlace::WithFiles(inside),
                        _ => FarPlace::Beside,
                    };
                    Box::new(FarTarget::new(self.far(path)?, place, run))
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
        let far = match (&remote, &self.database, self.inside_files()) {
            (Some(_), Some(DatabasePlace::SqliteThere(path)), Some(inside)) if !halves.0 => {
                Some((self.far(path)?, inside))
            }
            _ => None,
        };
        let mut files = match (&mut local, &mut remote) {
            (Some(target), _) => Some(target as &mut dyn FileTarget),
            (None, Some(target)) => Some(target as &mut dyn FileTarget),
            _ => None,
        };
        let mut keep = move || match (&mut keeper, &far) {
            (Some(keeper), _) => keeper.keep().map(|()| None),
            (None, Some((far, inside))) => far.kept(inside),
            (None, None) => Ok(None),
        };
        let mut targets = Targets {
            keeper: Some(&mut keep),
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
        let origin = self.url.as_ref().and_then(|url| Url::parse(&url.to_string()).ok());
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
            origin: origin.map(|url| url.origin()),
            address: self.section.address.clone(),
            login,
            authority: self.section.authority.as_ref().map(|path| self.folder.join(expanded(path))),
        })
    }

    /// Runs a command on the site's host, in its folder; gives whether it ended well, and what
    /// it printed.
    pub fn run_there(&self, command: &str) -> Result<(bool, String)> {
        match &self.files {
            Some(FilesPlace::Remote(place)) if place.protocol == Protocol::Sftp => {
                let (_, root) = self.file_tree(place)?;
                let ssh = self.ssh_of(place)?;
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
}
