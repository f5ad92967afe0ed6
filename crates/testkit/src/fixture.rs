//! The sample site on an old and a new host, with either engine.

use crate::{Habits, MysqlMask, Version, Workspace};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::host::{Authority, HostOptions, StandIn};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_demo::site::{ARTICLES, Build, DATABASE_FILE, build};
use fernweh_demo::{NEW_URL, OLD_URL};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock};

/// Which database both hosts use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Engine {
    /// A file inside the site's folder.
    Sqlite,
    /// A file beside the site's folder.
    SqliteOutside,
    /// A real MariaDB server.
    Mariadb,
    /// A real MariaDB server behind a mask of MySQL.
    Mysql(Version),
    /// A real PostgreSQL server.
    Postgres,
}

impl Engine {
    /// Its server, if it has one.
    pub fn server(self) -> Option<Server> {
        match self {
            Engine::Sqlite | Engine::SqliteOutside => None,
            Engine::Mariadb | Engine::Mysql(_) => Some(Server::Mariadb),
            Engine::Postgres => Some(Server::Postgres),
        }
    }
}

/// One server of a kind for all tests of a process; each fixture has databases of its own in it.
pub fn shared_server(kind: Server) -> &'static Mutex<PrivateServer> {
    static MARIADB: OnceLock<Mutex<PrivateServer>> = OnceLock::new();
    static POSTGRES: OnceLock<Mutex<PrivateServer>> = OnceLock::new();
    let (server, word) = match kind {
        Server::Mariadb => (&MARIADB, "m"),
        Server::Postgres => (&POSTGRES, "p"),
    };
    server.get_or_init(|| {
        let folder =
            std::env::temp_dir().join(format!("fernweh-test-{}-{word}", std::process::id()));
        let server = PrivateServer::start(kind, &folder)
            .expect("the server starts; scripts/test installs it");
        // Statics are not dropped: a watcher ends the server when the tests are gone.
        watch_over(&folder);
        Mutex::new(server)
    })
}

/// A new database and its user on the shared server of a kind.
pub fn new_database(kind: Server, name: &str) -> Place {
    static NUMBER: AtomicU32 = AtomicU32::new(0);
    let number = NUMBER.fetch_add(1, Ordering::Relaxed);
    let server = shared_server(kind).lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    let (name, password) = (format!("{name}_{number}"), format!("{name}-secret-{number}"));
    server.make_database(&name, &format!("u_{name}"), &password).expect("a database")
}

fn watch_over(folder: &std::path::Path) {
    let script = "while kill -0 \"$1\" 2>/dev/null; do sleep 1; done; \
                  kill -9 \"$(cat \"$2/pid\")\" 2>/dev/null; sleep 1; rm -rf \"$2\"";
    // The watcher outlives this process, so nobody can wait for it.
    #[allow(clippy::zombie_processes)]
    std::process::Command::new("setsid")
        .args(["sh", "-c", script, "progress"])
        .arg(std::process::id().to_string())
        .arg(folder)
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .expect("a watcher can be started");
}

/// The sample site built at its old place, and a configuration for both.
pub struct Fixture {
    /// Where the program runs.
    pub workspace: Workspace,
    /// The database of the old site.
    pub old: Place,
    /// The database of the new site.
    pub new: Place,
    engine: Engine,
    addresses: (String, String),
    mask: Option<MysqlMask>,
}

impl Fixture {
    /// Builds the fixture.
    pub fn build(program: &str, engine: Engine) -> Self {
        Self::of_size(program, engine, ARTICLES)
    }

    /// Builds the fixture with so many articles.
    pub fn of_size(program: &str, engine: Engine, articles: u64) -> Self {
        let workspace = Workspace::new(program);
        let place = |host: &str| match engine {
            Engine::Sqlite => {
                Place::Sqlite(workspace.path(&format!("{host}/htdocs/{DATABASE_FILE}")))
            }
            Engine::SqliteOutside => {
                Place::Sqlite(workspace.path(&format!("{host}/private/glimmer.db")))
            }
            Engine::Mariadb | Engine::Mysql(_) => new_database(Server::Mariadb, host),
            Engine::Postgres => new_database(Server::Postgres, host),
        };
        let (old, new) = (place("old"), place("new"));
        let root = workspace.path("old/htdocs");
        build(&Build { root: &root, database: &old, articles }).expect("the site is built");
        if let (Engine::SqliteOutside, Place::Sqlite(path)) = (engine, &old) {
            let settings = root.join("config/site.php");
            let text = std::fs::read_to_string(&settings).expect("settings");
            let text = text.replace(DATABASE_FILE, &path.display().to_string());
            std::fs::write(settings, text).expect("settings");
        }
        let nowhere = || "127.0.0.1:9".to_owned();
        let mask = match (engine, &new) {
            (Engine::Mysql(version), Place::Mariadb { port, .. }) => {
                Some(MysqlMask::before(*port, version, Habits::default()))
            }
            _ => None,
        };
        let addresses = (nowhere(), nowhere());
        let fixture = Self { workspace, old, new, engine, addresses, mask };
        fixture.configure("");
        fixture
    }

    /// Writes the configuration, with more at its end.
    pub fn configure(&self, more: &str) {
        let site = |name: &str, url: &str, place: &Place, address: &str| {
            let database = match place {
                Place::Sqlite(_) if self.engine == Engine::Sqlite => {
                    format!("database = \"sqlite:{name}/htdocs/{DATABASE_FILE}\"")
                }
                Place::Sqlite(path) => format!("database = \"sqlite:{}\"", path.display()),
                Place::Mariadb { port, user, password, name: database }
                | Place::Postgres { port, user, password, name: database } => {
                    let (scheme, port) = match (place, &self.mask) {
                        (Place::Mariadb { .. }, Some(mask)) => ("mysql", mask.port),
                        (Place::Mariadb { .. }, None) => ("mariadb", *port),
                        _ => ("postgres", *port),
                    };
                    self.workspace.write(&format!("{name}-password"), password);
                    format!(
                        "database = \"{scheme}://{user}@127.0.0.1:{port}/{database}\"\n\
                         password.database = {{ file = \"{name}-password\" }}"
                    )
                }
            };
            format!(
                "[site.{name}]\nurl = \"{url}\"\nfiles = \"{name}/htdocs\"\n{database}\n\
                 connect-to = \"{address}\"\nauthority = \"authority.pem\"\n"
            )
        };
        let (old, new) = &self.addresses;
        let text = format!(
            "{}{}[pack]\nleave-out = [\"cache/**\"]\n{more}",
            site("old", OLD_URL, &self.old, old),
            site("new", NEW_URL, &self.new, new),
        );
        self.workspace.write("fernweh.toml", text);
        if !self.workspace.path("authority.pem").exists() {
            let authority = Authority::new().expect("an authority");
            self.workspace.write("authority.pem", authority.certificate);
        }
    }

    /// Starts both stand-in hosts and names their addresses in the configuration.
    pub fn serve(&mut self) -> (StandIn, StandIn) {
        self.serve_with_login(None)
    }

    /// The same, with HTTP basic authentication on the new host.
    pub fn serve_with_login(&mut self, login: Option<(&str, &str)>) -> (StandIn, StandIn) {
        let authority = Authority::new().expect("an authority");
        self.workspace.write("authority.pem", &authority.certificate);
        let start = |name: &str, host: &str, https: bool, login: Option<(&str, &str)>| {
            let options = HostOptions {
                root: self.workspace.path(&format!("{name}/htdocs")),
                host: host.into(),
                https,
                login: login.map(|(user, password)| (user.into(), password.into())),
                port: 0,
                ip: std::net::Ipv4Addr::LOCALHOST,
            };
            StandIn::start(options, &authority).expect("a stand-in host")
        };
        let old = start("old", "glimmerpoint.example", false, None);
        let new = start("new", "www.glimmer-point.example", true, login);
        self.addresses = (old.address.to_string(), new.address.to_string());
        self.configure("");
        (old, new)
    }

    /// Gives a site another place for its files, with more lines of its section.
    pub fn reach_files(&self, site: &str, place: &str, more: &str) {
        let text = self.workspace.read("fernweh.toml");
        let before = format!("files = \"{site}/htdocs\"\n");
        assert!(text.contains(&before), "the place was changed already");
        let after = format!("files = \"{place}\"\n{more}\n");
        self.workspace.write("fernweh.toml", text.replace(&before, &after));
    }

    /// The site's folder: `old` or `new`.
    pub fn root(&self, site: &str) -> PathBuf {
        self.workspace.path(&format!("{site}/htdocs"))
    }

    /// The database of a site, opened without Fernweh's connectors.
    pub fn database(&self, site: &str) -> Database {
        let place = if site == "old" { &self.old } else { &self.new };
        Database::open(place).expect("the database opens")
    }

    /// Packs the old site; gives the archive's name.
    pub fn pack(&self) -> &'static str {
        self.workspace.done("pack old -o site.fernweh.tar");
        "site.fernweh.tar"
    }
}
