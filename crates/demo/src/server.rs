//! A private MariaDB server in a folder of its own, on a free port of this machine.

use crate::database::{Database, Failure, Place};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running server; it is ended when this is dropped.
pub struct PrivateServer {
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

/// Whether a server can be started here; otherwise what to install.
pub fn available() -> Result<(), String> {
    match program(&["mariadbd"]).and(program(&["mariadb-install-db"])) {
        Some(_) => Ok(()),
        None => {
            Err("mariadbd is not installed here; on Debian: apt-get install mariadb-server".into())
        }
    }
}

impl PrivateServer {
    /// Makes a server in `folder` and starts it.
    pub fn start(folder: &Path) -> Result<Self, Failure> {
        available()?;
        std::fs::create_dir_all(folder)?;
        let folder = folder.canonicalize()?;
        let data = folder.join("data");
        if !data.exists() {
            let install = program(&["mariadb-install-db"]).ok_or("no mariadb-install-db")?;
            let made = Command::new(install)
                .args([
                    "--no-defaults",
                    "--auth-root-authentication-method=normal",
                    "--skip-test-db",
                ])
                .arg(format!("--datadir={}", data.display()))
                .args(owner())
                .output()?;
            if !made.status.success() {
                return Err(String::from_utf8_lossy(&made.stderr).into_owned().into());
            }
        }
        let port = free_port()?;
        let child = spawn(&folder, port)?;
        let mut server = Self { child, folder, port };
        server.wait()?;
        Ok(server)
    }

    /// Kills the server as a power cut would, and starts it again.
    pub fn crash_and_restart(&mut self) -> Result<(), Failure> {
        self.child.kill()?;
        self.child.wait()?;
        self.child = spawn(&self.folder, self.port)?;
        self.wait()
    }

    fn wait(&mut self) -> Result<(), Failure> {
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            // A fresh server lets the administrator in without a password, once.
            let fresh = self.admin("").and_then(|mut db| {
                db.run(format!("SET PASSWORD = PASSWORD('{ADMIN_PASSWORD}')").as_bytes())
            });
            match fresh.or_else(|_| self.admin(ADMIN_PASSWORD).map(drop)) {
                Ok(()) => return Ok(()),
                Err(error) if Instant::now() > until || self.child.try_wait()?.is_some() => {
                    let log = std::fs::read_to_string(self.folder.join("log")).unwrap_or_default();
                    return Err(format!("the private server does not start: {error}\n{log}").into());
                }
                Err(_) => std::thread::sleep(Duration::from_millis(100)),
            }
        }
    }

    fn admin(&self, password: &str) -> Result<Database, Failure> {
        Database::open(&Place::Mariadb {
            port: self.port,
            user: "root".into(),
            password: password.into(),
            name: String::new(),
        })
    }

    /// The administrator's connection.
    pub fn administrator(&self) -> Result<Database, Failure> {
        self.admin(ADMIN_PASSWORD)
    }

    /// Makes a database and a user who may only use it, as on a shared host.
    pub fn make_database(&self, name: &str, user: &str, password: &str) -> Result<Place, Failure> {
        let mut admin = self.administrator()?;
        for sql in [
            format!("CREATE DATABASE IF NOT EXISTS `{name}` CHARACTER SET utf8mb4"),
            format!("CREATE OR REPLACE USER '{user}'@'%' IDENTIFIED BY '{password}'"),
            format!("GRANT ALL PRIVILEGES ON `{name}`.* TO '{user}'@'%'"),
        ] {
            admin.run(sql.as_bytes())?;
        }
        Ok(Place::Mariadb {
            port: self.port,
            user: user.into(),
            password: password.into(),
            name: name.into(),
        })
    }
}

/// A server that is started by root must be told to stay root.
fn owner() -> Option<&'static str> {
    let is_root = std::env::var_os("USER").is_some_and(|user| user == "root")
        || std::env::var_os("HOME").is_some_and(|home| home == "/root");
    is_root.then_some("--user=root")
}

fn spawn(folder: &Path, port: u16) -> Result<Child, Failure> {
    let server = program(&["mariadbd"]).ok_or("no mariadbd")?;
    let log = std::fs::File::create(folder.join("log"))?;
    let child = Command::new(server)
        .arg("--no-defaults")
        .arg(format!("--datadir={}", folder.join("data").display()))
        .arg(format!("--socket={}", folder.join("s").display()))
        .arg(format!("--pid-file={}", folder.join("pid").display()))
        .arg(format!("--port={port}"))
        .args(["--bind-address=127.0.0.1", "--skip-name-resolve", "--innodb-buffer-pool-size=64M"])
        .args(["--innodb-flush-log-at-trx-commit=2", "--performance-schema=OFF"])
        .args(owner())
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()?;
    Ok(child)
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
