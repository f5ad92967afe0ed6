//! What operations get of a site: its parts, opened when they are asked for.

use super::{DatabasePlace, Site, absolute, server_setting};
use crate::hosts::{FilesPlace, Protocol};
use fernweh_connect::certificate::CertificateProbe;
use fernweh_connect::http::{HostPlace, HttpOptions, HttpSource, PATIENCE, socket_address};
use fernweh_connect::local::{LocalEditor, LocalSource, LocalTarget};
use fernweh_connect::mariadb::{MariadbEditor, MariadbSource, MariadbTarget};
use fernweh_connect::postgres::{PostgresEditor, PostgresSource, PostgresTarget};
use fernweh_connect::remote::{RemoteEditor, RemoteSource, RemoteTarget};
use fernweh_connect::sqlite::{
    RemoteSqlite, RemoteSqliteEditor, RemoteSqlitePlace, RemoteSqliteTarget, SqliteEditor,
    SqliteKeeper, SqliteSource, SqliteTarget,
};
use fernweh_connect::ssh::shell_word;
use fernweh_core::address::{Scheme, WebAddress};
use fernweh_core::archive::DatabaseLogin;
use fernweh_core::settings::{Role, Setting};
use fernweh_ports::{
    CertificateSource, CommandOutput, DatabaseEditor, DatabaseSource, DatabaseTarget, Editors,
    FileEditor, FileSource, FileTarget, Halves, HostAddress, Keeper, NewFile, PageSource, Result,
    SiteAccess, Targets, Trouble,
};
use std::collections::HashMap;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::PoisonError;
use std::time::Duration;
use url::Url;

/// Carries a database file of another host over into the new files.
struct RemoteKeeper {
    database: RemoteSqlite,
    inside: String,
}

impl Keeper for RemoteKeeper {
    fn keep(&mut self) -> Result<Option<NewFile>> {
        self.database.kept(&self.inside)
    }
}

/// The targets of the files: one of this machine says where it builds.
enum Files {
    Local(Box<LocalTarget>),
    Remote(Box<RemoteTarget>),
}

impl Site {
    fn file_target(&self, run: &str) -> Result<Option<Files>> {
        Ok(match &self.files {
            None => None,
            Some(FilesPlace::Local(root)) => {
                let target = LocalTarget::new(root, run).around(self.inside_files());
                Some(Files::Local(Box::new(target)))
            }
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                Some(Files::Remote(Box::new(RemoteTarget::new(tree, &root, run))))
            }
        })
    }

    fn database_target(
        &self,
        place: &DatabasePlace,
        run: &str,
        files: Option<&Files>,
    ) -> Result<Box<dyn DatabaseTarget>> {
        Ok(match place {
            DatabasePlace::Mariadb(address) => {
                Box::new(MariadbTarget::open(&self.address_from_here(address)?, run)?)
            }
            DatabasePlace::Postgres(address) => {
                Box::new(PostgresTarget::open(&self.address_from_here(address)?, run)?)
            }
            DatabasePlace::SqliteThere(path) => {
                let place = match self.inside_files() {
                    Some(inside) if files.is_some() => RemoteSqlitePlace::WithFiles(inside),
                    _ => RemoteSqlitePlace::Beside,
                };
                Box::new(RemoteSqliteTarget::new(self.remote_sqlite(path)?, place, run))
            }
            DatabasePlace::Sqlite(path) => match (files, self.inside_files()) {
                // Where there is none yet, it comes with the files.
                (Some(Files::Local(files)), Some(inside)) if !path.is_file() => {
                    Box::new(SqliteTarget::inside(path, &files.built().join(inside)))
                }
                (_, Some(_)) => {
                    let root = self.files.as_ref().and_then(FilesPlace::local);
                    Box::new(SqliteTarget::beside(path, root.unwrap_or(path), run))
                }
                _ => Box::new(SqliteTarget::beside(path, path, run)),
            },
        })
    }

    /// What keeps a database whose files are replaced: alone, or with its content.
    fn keeper(&self, files: Option<&Files>, alone: bool) -> Result<Option<Box<dyn Keeper>>> {
        Ok(match (files, &self.database, self.inside_files()) {
            (Some(Files::Local(_)), Some(DatabasePlace::Sqlite(path)), Some(_)) => {
                Some(Box::new(SqliteKeeper::new(path)))
            }
            (Some(Files::Remote(_)), Some(DatabasePlace::SqliteThere(path)), Some(inside))
                if alone =>
            {
                Some(Box::new(RemoteKeeper { database: self.remote_sqlite(path)?, inside }))
            }
            _ => None,
        })
    }

    fn database_editor(&self) -> Result<Option<Box<dyn DatabaseEditor>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteEditor::open(path)?)),
            Some(DatabasePlace::SqliteThere(path)) => {
                Some(Box::new(RemoteSqliteEditor::open(self.remote_sqlite(path)?)?))
            }
            Some(DatabasePlace::Mariadb(address)) => {
                Some(Box::new(MariadbEditor::open(&self.address_from_here(address)?)?))
            }
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresEditor::open(&self.address_from_here(address)?)?))
            }
        })
    }

    /// What to try where a folder is missing whose name looks like that of a host.
    fn perhaps_a_host(&self, mut trouble: Trouble) -> Trouble {
        let typed = self.section.files.as_deref().unwrap_or_default();
        let is_host = typed.contains('.') && !typed.contains('/') && !typed.starts_with('.');
        if is_host && !Path::new(typed).exists() {
            let hint = format!("if it is a host, write files = \"sftp://USER@{typed}/FOLDER\"");
            trouble.hint = Some(hint);
        }
        trouble
    }

    /// Name and password in front of the site's pages.
    fn page_login(&self) -> Result<Option<(String, String)>> {
        let Some(user) = &self.section.login else { return Ok(None) };
        let Some(password) = self.secret("login", self.section.password.login.as_ref())? else {
            return Err(Trouble::usage(format!(
                "site {} has a login without a password",
                self.name
            ))
            .because(format!("login is {user}, but password.login is not set"))
            .hint("set password.login = { env = \"NAME\" }"));
        };
        Ok(Some((user.clone(), password)))
    }

    fn http_options(&self, patience: Duration) -> Result<HttpOptions> {
        let host = self.url.as_ref().map(|url| url.host.clone()).unwrap_or_default();
        let origin = self.url.as_ref().and_then(|url| Url::parse(&url.to_string()).ok());
        Ok(HttpOptions {
            host,
            origin: origin.map(|url| url.origin()),
            address: self.section.connect_to.clone(),
            login: self.page_login()?,
            trust: self.trust()?,
            patience,
        })
    }
}

impl SiteAccess for Site {
    fn name(&self) -> &str {
        &self.name
    }

    fn url(&self) -> Option<&WebAddress> {
        self.url.as_ref()
    }

    fn has(&self) -> Halves {
        Halves { database: self.database.is_some(), files: self.files.is_some() }
    }

    fn holds_table(&self, table: &str) -> bool {
        self.tables.is_empty() || self.tables.hold(table.as_bytes())
    }

    fn bounds_tables(&self) -> bool {
        !self.tables.is_empty()
    }

    fn database_socket(&self) -> Option<String> {
        match &self.database {
            Some(DatabasePlace::Mariadb(address) | DatabasePlace::Postgres(address)) => {
                address.socket.clone()
            }
            _ => None,
        }
    }

    fn database_login(&self) -> Option<DatabaseLogin> {
        match &self.database {
            Some(DatabasePlace::Mariadb(address) | DatabasePlace::Postgres(address)) => {
                Some(DatabaseLogin { user: address.user.clone(), host: address.host.clone() })
            }
            _ => None,
        }
    }

    fn database_name(&self) -> String {
        self.database.as_ref().map(DatabasePlace::name).unwrap_or_default()
    }

    fn database_identity(&self) -> Option<String> {
        let place = self.database.as_ref()?;
        Some(match place {
            DatabasePlace::Sqlite(path) => {
                let real = path.canonicalize().unwrap_or_else(|_| path.clone());
                format!("file {}", real.display())
            }
            DatabasePlace::SqliteThere(path) => {
                let host = self.files.as_ref().map(FilesPlace::shown).unwrap_or_default();
                format!("file {path} of {host}")
            }
            DatabasePlace::Mariadb(_) | DatabasePlace::Postgres(_) => {
                let (through, host, port) = self.database_server(place)?;
                format!("{} of {host}:{port} through {through:?}", place.name())
            }
        })
    }

    fn inside_files(&self) -> Option<String> {
        let path = match &self.database {
            Some(DatabasePlace::Sqlite(path)) => path,
            Some(DatabasePlace::SqliteThere(path)) => return self.inside_there(path),
            _ => return None,
        };
        let root = self.files.as_ref()?.local()?;
        let path = absolute(path);
        path.strip_prefix(absolute(root)).ok().map(|inside| inside.to_string_lossy().into_owned())
    }

    fn folder_on_host(&self) -> Option<String> {
        self.files.as_ref().and_then(FilesPlace::on_its_host)
    }

    fn names_host(&self) -> bool {
        self.section.connect_to.is_some()
    }

    fn host_address(&self) -> Result<Option<HostAddress>> {
        let Some(text) = &self.section.connect_to else {
            let Some(FilesPlace::Remote(place)) = &self.files else { return Ok(None) };
            // A host that is not known under its name can still be asked for under another.
            let found = socket_address(&place.host).ok();
            return Ok(found.map(|found| HostAddress::usual(found.ip())));
        };
        let named = socket_address(text)?;
        let mut at = HostAddress::usual(named.ip());
        let is_plain = self.url.as_ref().is_some_and(|url| url.scheme == Scheme::Http);
        if named.port() != 0 {
            *(if is_plain { &mut at.http } else { &mut at.https }) = named;
        }
        if let Some(text) = &self.section.connect_to_http {
            at.http = socket_address(text)?;
        }
        Ok(Some(at))
    }

    fn is_hidden(&self) -> bool {
        self.section.hidden
    }

    fn has_login(&self) -> bool {
        self.section.login.is_some()
    }

    fn setting(&self, setting: &Setting, all: &[Setting]) -> Result<Option<String>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => match setting.role {
                Role::File => Some(match self.inside_files() {
                    Some(inside) if !setting.value.starts_with('/') => inside,
                    _ => absolute(path).display().to_string(),
                }),
                _ => None,
            },
            Some(DatabasePlace::SqliteThere(path)) => match setting.role {
                Role::File => Some(self.inside_files().unwrap_or_else(|| path.clone())),
                _ => None,
            },
            Some(DatabasePlace::Mariadb(address) | DatabasePlace::Postgres(address)) => {
                match setting.role {
                    Role::Password => self.database_password(address)?,
                    _ => server_setting(setting, all, address),
                }
            }
        })
    }

    fn database(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        Ok(match &self.database {
            None => None,
            Some(DatabasePlace::Sqlite(path)) => Some(Box::new(SqliteSource::open(path)?)),
            Some(DatabasePlace::SqliteThere(path)) => {
                let copy = self.remote_sqlite(path)?.present()?;
                let source = SqliteSource::open(&copy.path())?;
                *self.copy.lock().unwrap_or_else(PoisonError::into_inner) = Some(copy);
                Some(Box::new(source))
            }
            Some(DatabasePlace::Mariadb(address)) => {
                Some(Box::new(MariadbSource::open(&self.address_from_here(address)?)?))
            }
            Some(DatabasePlace::Postgres(address)) => {
                Some(Box::new(PostgresSource::open(&self.address_from_here(address)?)?))
            }
        })
    }

    fn files(&self) -> Result<Option<Box<dyn FileSource>>> {
        Ok(match &self.files {
            None => None,
            Some(FilesPlace::Local(root)) => {
                let open = LocalSource::open(root);
                Some(Box::new(open.map_err(|trouble| self.perhaps_a_host(trouble))?))
            }
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                Some(Box::new(RemoteSource::open(tree, &root)?))
            }
        })
    }

    fn targets(&self, run: &str, halves: Halves) -> Result<Targets> {
        let files = if halves.files { self.file_target(run)? } else { None };
        let place = self.database.as_ref().filter(|_| halves.database);
        let database = place.map(|place| self.database_target(place, run, files.as_ref()));
        let database = database.transpose()?;
        let keeper = self.keeper(files.as_ref(), !halves.database)?;
        let files = files.map(|files| match files {
            Files::Local(target) => target as Box<dyn FileTarget>,
            Files::Remote(target) => target,
        });
        Ok(Targets { database, files, own: None, keeper })
    }

    fn editors(&self, halves: Halves) -> Result<Editors> {
        let database = if halves.database { self.database_editor()? } else { None };
        let files = if halves.files { SiteAccess::files(self)? } else { None };
        let editor: Option<Box<dyn FileEditor>> = match &self.files {
            None => None,
            Some(FilesPlace::Local(root)) => Some(Box::new(LocalEditor::new(root))),
            Some(FilesPlace::Remote(place)) => {
                let (tree, root) = self.file_tree(place)?;
                Some(Box::new(RemoteEditor::new(tree, &root)))
            }
        };
        Ok(Editors { database, files, editor })
    }

    fn pages(&self) -> Result<Box<dyn PageSource>> {
        Ok(Box::new(HttpSource::new(&self.http_options(PATIENCE)?)?))
    }

    fn pages_at(
        &self,
        place: HostAddress,
        hosts: &[String],
        judged: bool,
    ) -> Result<Box<dyn PageSource>> {
        let HostAddress { http, https } = place;
        let place = HostPlace { hosts: hosts.to_vec(), http, https, judged };
        Ok(Box::new(HttpSource::at(&self.http_options(SOON)?, &place)?))
    }

    fn certificates(&self) -> Result<Box<dyn CertificateSource>> {
        Ok(Box::new(CertificateProbe::new(&self.trust()?)?))
    }

    fn ask_host(&self, command: &str) -> Option<String> {
        match &self.files {
            Some(FilesPlace::Remote(place)) if place.protocol == Protocol::Sftp => {
                let session = self.hosts.session(&self.ssh_of(place).ok()?).ok()?;
                session.ask(command)
            }
            Some(FilesPlace::Remote(_)) => None,
            _ => run_here(command, &self.folder).ok().map(|ran| ran.printed),
        }
    }

    fn digests(&self, paths: &[&[u8]]) -> Option<HashMap<Vec<u8>, String>> {
        let Some(FilesPlace::Remote(place)) = &self.files else { return None };
        if place.protocol != Protocol::Sftp {
            return None;
        }
        let (_, root) = self.file_tree(place).ok()?;
        self.hosts.session(&self.ssh_of(place).ok()?).ok()?.digests(&root, paths)
    }

    fn run_command(&self, command: &str) -> Result<CommandOutput> {
        match &self.files {
            Some(FilesPlace::Remote(place)) if place.protocol == Protocol::Sftp => {
                let (_, root) = self.file_tree(place)?;
                let ssh = self.ssh_of(place)?;
                let folder = shell_word(&root)?;
                let ran = self.hosts.session(&ssh)?.run(&format!("cd {folder} && {command}"))?;
                Ok(CommandOutput { succeeded: ran.status == Some(0), printed: ran.printed })
            }
            Some(FilesPlace::Remote(_)) => Err(Trouble::usage("FTP runs no commands")
                .hint("leave command out of [after], or reach the files by sftp:")),
            place => run_here(
                command,
                place.as_ref().and_then(FilesPlace::local).unwrap_or(&self.folder),
            ),
        }
    }
}

/// How long an answer may take where many are asked for at once, and none may hold up the rest.
const SOON: Duration = Duration::from_secs(10);

/// Runs a command on this machine.
fn run_here(command: &str, folder: &Path) -> Result<CommandOutput> {
    let ran = Command::new("sh")
        .args(["-c", command])
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .map_err(|error| Trouble::file("cannot run a command", folder, &error))?;
    let printed = String::from_utf8_lossy(&[ran.stdout, ran.stderr].concat()).into_owned();
    Ok(CommandOutput { succeeded: ran.status.success(), printed })
}
