//! Private database servers in folders of their own, on free ports of this machine.

mod mariadb;
mod postgres;

use crate::database::{Database, Failure, Place};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::Child;
use std::time::{Duration, Instant};

/// Which server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Server {
    /// MariaDB.
    Mariadb,
    /// PostgreSQL.
    Postgres,
}

/// A running server; it is ended when this is dropped.
pub struct PrivateServer {
    kind: Server,
    child: Child,
    folder: PathBuf,
    /// Its port on 127.0.0.1.
    pub port: u16,
}

/// The password of the administrator of a private server.
const ADMIN_PASSWORD: &str = "private-to-this-folder";

/// A port that is free at this moment.
pub fn free_port() -> std::io::Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

fn program(names: &[&str]) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/usr/sbin".into(), "/usr/bin".into()]);
    folders.flat_map(|folder| names.iter().map(move |name| folder.join(name))).find(|p| p.is_file())
}

impl Server {
    /// The name for people.
    pub fn name(self) -> &'static str {
        match self {
            Server::Mariadb => "MariaDB",
            Server::Postgres => "PostgreSQL",
        }
    }

    /// Whether it can be started here; otherwise what to install.
    pub fn available(self) -> Result<(), String> {
        let (found, package) = match self {
            Server::Mariadb => {
                (program(&["mariadbd"]).and(program(&["mariadb-install-db"])), "mariadb-server")
            }
            Server::Postgres => (postgres::find("initdb"), "postgresql"),
        };
        match found {
            Some(_) => Ok(()),
            None => Err(format!(
                "{} is not installed here; on Debian: apt-get install {package}",
                self.name()
            )),
        }
    }

    fn spawn(self, folder: &Path, port: u16) -> Result<Child, Failure> {
        match self {
            Server::Mariadb => mariadb::spawn(folder, port),
            Server::Postgres => postgres::spawn(folder, port),
        }
    }

    /// The place of a database on such a server.
    fn place(self, port: u16, user: &str, password: &str, name: &str) -> Place {
        let (user, password, name) = (user.into(), password.into(), name.into());
        match self {
            Server::Mariadb => Place::Mariadb { port, user, password, name },
            Server::Postgres => Place::Postgres { port, user, password, name },
        }
    }
}

/// How often a server is started that ends at once: another may have taken its port.
const STARTS: u32 = 5;

impl PrivateServer {
    /// Makes a server in `folder` and starts it.
    pub fn start(kind: Server, folder: &Path) -> Result<Self, Failure> {
        kind.available()?;
        std::fs::create_dir_all(folder)?;
        let folder = folder.canonicalize()?;
        if !folder.join("data").exists() {
            match kind {
                Server::Mariadb => mariadb::install(&folder)?,
                Server::Postgres => postgres::install(&folder)?,
            }
        }
        let port = free_port()?;
        let child = kind.spawn(&folder, port)?;
        let mut server = Self { kind, child, folder, port };
        server.wait()?;
        Ok(server)
    }

    /// Kills the server as a power cut would, and starts it again.
    pub fn crash_and_restart(&mut self) -> Result<(), Failure> {
        self.child.kill()?;
        self.child.wait()?;
        if self.kind == Server::Postgres {
            // Its helpers notice a moment later; only then it starts again.
            let _ = std::fs::remove_file(self.folder.join("data/postmaster.pid"));
        }
        self.child = self.kind.spawn(&self.folder, self.port)?;
        self.wait()
    }

    fn wait(&mut self) -> Result<(), Failure> {
        let until = Instant::now() + Duration::from_secs(60);
        let mut starts = 1;
        loop {
            match self.first_login() {
                Ok(()) => return Ok(()),
                Err(error) if Instant::now() > until || starts > STARTS => {
                    let log = std::fs::read_to_string(self.folder.join("log")).unwrap_or_default();
                    return Err(format!("the private server does not start: {error}\n{log}").into());
                }
                Err(_) => {
                    if self.child.try_wait()?.is_some() {
                        starts += 1;
                        self.child = self.kind.spawn(&self.folder, self.port)?;
                    }
                    std::thread::sleep(Duration::from_millis(100));
                }
            }
        }
    }

    fn first_login(&self) -> Result<(), Failure> {
        if self.kind == Server::Mariadb {
            // A fresh server lets the administrator in without a password, once.
            if let Ok(mut fresh) = self.admin("") {
                let set = format!("SET PASSWORD = PASSWORD('{ADMIN_PASSWORD}')");
                return fresh.run(set.as_bytes());
            }
        }
        self.admin(ADMIN_PASSWORD).map(drop)
    }

    fn admin(&self, password: &str) -> Result<Database, Failure> {
        let name = if self.kind == Server::Postgres { "postgres" } else { "" };
        Database::open(&self.kind.place(self.port, "root", password, name))
    }

    /// The administrator's connection.
    pub fn administrator(&self) -> Result<Database, Failure> {
        self.admin(ADMIN_PASSWORD)
    }

    /// The administrator's place in a database.
    pub fn administrator_of(&self, name: &str) -> Place {
        self.kind.place(self.port, "root", ADMIN_PASSWORD, name)
    }

    /// Makes a database and a user who may only use it, as on a shared host.
    pub fn make_database(&self, name: &str, user: &str, password: &str) -> Result<Place, Failure> {
        let mut admin = self.administrator()?;
        let statements = match self.kind {
            Server::Mariadb => vec![
                format!("CREATE DATABASE IF NOT EXISTS `{name}` CHARACTER SET utf8mb4"),
                format!("CREATE OR REPLACE USER '{user}'@'%' IDENTIFIED BY '{password}'"),
                format!("GRANT ALL PRIVILEGES ON `{name}`.* TO '{user}'@'%'"),
            ],
            Server::Postgres => vec![
                format!("CREATE ROLE \"{user}\" LOGIN PASSWORD '{password}'"),
                format!("CREATE DATABASE \"{name}\" OWNER \"{user}\""),
            ],
        };
        for sql in statements {
            admin.run(sql.as_bytes())?;
        }
        Ok(self.kind.place(self.port, user, password, name))
    }
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
