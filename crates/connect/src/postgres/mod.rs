//! PostgreSQL, over TCP or a local socket.
//!
//! A site's objects are built in schemas of Fernweh's own and change places with those of
//! the site in one transaction: in PostgreSQL that holds for everything that can be
//! created. The driver is asynchronous; each connection has a small runtime of its own.

mod build;
mod catalog;
mod copy;
mod describe;
mod editor;
mod fragments;
mod incompatibilities;
mod large_objects;
mod make;
mod order;
mod overview;
mod readers;
mod rights;
mod source;
mod switch;
mod target;
mod write;

pub use build::PostgresTarget;
pub use editor::PostgresEditor;
pub use source::PostgresSource;

use crate::server::{Encryption, Rows, ServerAddress, Session, Unreachable, logged_in};
use fernweh_core::record::Value;
use fernweh_core::sql::{Dialect, POSTGRES_SETTINGS, quote_name, write_row};
use fernweh_ports::{Result, Trouble};
use std::result::Result as Either;
use tokio::net::UnixStream;
use tokio::runtime::{Builder, Runtime};
use tokio_postgres::config::SslMode;
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::{Client, Config, Error, NoTls, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

/// One connection and the runtime that drives it.
pub(crate) struct Link {
    pub(crate) runtime: Runtime,
    pub(crate) client: Client,
    pub(crate) shown: String,
    /// How the connection is encrypted: a request to cancel must be, too.
    encryption: Option<Encryption>,
}

/// The host, or the folder of the socket that leads there.
fn near_folder(address: &ServerAddress) -> String {
    let way = address.through.as_ref().and_then(|through| through.socket.parent());
    let way = way.map(|folder| folder.display().to_string());
    way.or_else(|| address.socket.clone()).unwrap_or_else(|| address.host.clone())
}

impl Link {
    /// For a destination: what policies hide from this login is counted as not there, where it
    /// would otherwise be an error after the switch (`FORCE ROW LEVEL SECURITY`).
    pub(crate) fn open_for_building(address: &ServerAddress) -> Result<Self> {
        let mut link = Self::open(address)?;
        link.run("SET row_security = on")?;
        Ok(link)
    }

    /// Logs in. A question whose rows a policy would hide is an error.
    pub(crate) fn open(address: &ServerAddress) -> Result<Self> {
        let runtime = Builder::new_current_thread().enable_all().build().map_err(|error| {
            Trouble::outside("cannot start the database connection").because(error)
        })?;
        let mut config = Config::new();
        config
            .host(near_folder(address))
            .port(address.port)
            .user(&address.user)
            .dbname(&address.database)
            .ssl_mode(match address.encryption {
                Some(_) => SslMode::Require,
                None => SslMode::Disable,
            })
            .application_name("fernweh");
        if let Some(password) = &address.password {
            config.password(password);
        }
        let failed = |error: &Error| login_trouble(address, error);
        let place = address;
        let client = match &address.encryption {
            None => {
                let (client, connection) =
                    logged_in(&runtime, place, config.connect(NoTls), failed)?;
                runtime.spawn(connection);
                client
            }
            Some(how) => {
                let mut tls = MakeRustlsConnect::new(crate::tls::client(&how.trust)?);
                match &address.through {
                    None => {
                        let (client, connection) =
                            logged_in(&runtime, place, config.connect(tls), failed)?;
                        runtime.spawn(connection);
                        client
                    }
                    // It leads over a socket of this machine, which the driver would not encrypt.
                    Some(through) => {
                        let nobody = |error: &dyn std::fmt::Display| {
                            Unreachable::Nobody("database").trouble(address, error)
                        };
                        let stream = runtime.block_on(UnixStream::connect(&through.socket));
                        let stream = stream.map_err(|error| nobody(&error))?;
                        let made: Either<_, _> =
                            MakeTlsConnect::<UnixStream>::make_tls_connect(&mut tls, &address.host);
                        let tls = made.map_err(|error| nobody(&error))?;
                        let (client, connection) =
                            logged_in(&runtime, place, config.connect_raw(stream, tls), failed)?;
                        runtime.spawn(connection);
                        client
                    }
                }
            }
        };
        let (shown, encryption) = (address.shown(), address.encryption.clone());
        let mut link = Self { runtime, client, shown, encryption };
        link.run(POSTGRES_SETTINGS)?;
        link.run("SET statement_timeout = 0; SET idle_in_transaction_session_timeout = 0")?;
        // Compiling a question about the catalog takes longer than answering it.
        link.run("SET jit = off")?;
        // A server that waits for a lock does not notice that a client is gone, and keeps the locks
        // of a program that was killed. Servers before 14 do not know this.
        let _ = link.try_run("SET client_connection_check_interval = '1s'");
        Ok(link)
    }

    /// Runs one statement that came from outside; the server takes no second one behind it. If
    /// the user wants to stop meanwhile, the server is told to end it.
    pub(crate) fn try_one(&mut self, sql: &str) -> Either<u64, Error> {
        let Self { runtime, client, encryption, .. } = self;
        let cancel = client.cancel_token();
        runtime.block_on(async {
            let running = client.execute(sql, &[]);
            tokio::pin!(running);
            tokio::select! {
                done = &mut running => return done,
                () = crate::stop::wanted() => {}
            }
            match encryption {
                None => drop(cancel.cancel_query(NoTls).await),
                Some(how) => {
                    if let Ok(tls) = crate::tls::client(&how.trust) {
                        drop(cancel.cancel_query(MakeRustlsConnect::new(tls)).await);
                    }
                }
            }
            running.await
        })
    }
}

impl Session for Link {
    type Error = Error;

    fn shown(&self) -> &str {
        &self.shown
    }

    fn message(error: &Error) -> String {
        let Some(server) = error.as_db_error() else {
            use std::error::Error as _;
            let cause = error.source().map(|cause| format!(": {cause}")).unwrap_or_default();
            return format!("{error}{cause}").replace('\n', " ");
        };
        let mut words = format!("{}: {}", server.code().code(), server.message());
        for more in [server.detail(), server.where_()].into_iter().flatten() {
            let short: String = more.chars().take(160).collect();
            words.push_str(&format!("; {}", short.replace('\n', " ")));
        }
        words
    }

    fn plain_words(error: &Error) -> (&'static str, &'static str) {
        match code(error) {
            "42501" if Link::message(error).contains("row-level security") => (
                "a policy of the table hides rows from this login",
                "log in as the owner of the table, or as a role with BYPASSRLS; FORCE ROW LEVEL \
                 SECURITY hides them from the owner, too",
            ),
            "42501" => (
                "the user lacks the right to do this",
                "grant the right in the control panel, or use the database's owner",
            ),
            "53100" => ("no room left for the database", "make room on the host"),
            "55P03" | "40P01" => ("somebody else holds a lock", "try again when the site is quiet"),
            "22001" => ("a value is too long for its column", "correct the record at the source"),
            "42704" | "0A000" | "58P01" => (
                "the server does not know something that the archive needs",
                "install it there (an extension, for example), or use a server like the old one",
            ),
            "" => ("the connection was lost", "try again; check that the server runs"),
            _ => ("the server reports an error", "check the server's message above"),
        }
    }

    fn is_lost(error: &Error) -> bool {
        use std::error::Error as _;
        match code(error) {
            "" => {
                let cause = error.source();
                error.is_closed() || cause.is_some_and(|cause| cause.is::<std::io::Error>())
            }
            code => code.starts_with("57P") || code.starts_with("08"),
        }
    }

    /// Data exceptions and violated constraints.
    fn is_about_value(error: &Error) -> bool {
        code(error).starts_with("22") || code(error).starts_with("23")
    }

    fn try_run(&mut self, sql: impl AsRef<str>) -> Either<(), Error> {
        self.runtime.block_on(self.client.batch_execute(sql.as_ref()))
    }

    fn try_ask(&mut self, sql: &str) -> Either<Rows, Error> {
        let answer = self.runtime.block_on(self.client.simple_query(sql))?;
        let rows = answer.into_iter().filter_map(|message| match message {
            SimpleQueryMessage::Row(row) => {
                Some((0..row.len()).map(|n| row.get(n).map(str::to_owned)).collect())
            }
            _ => None,
        });
        Ok(rows.collect())
    }

    fn try_step(&mut self, sql: &str) -> Either<u64, Error> {
        self.try_one(sql)
    }

    fn try_change(&mut self, sql: &[u8]) -> Either<u64, Error> {
        // A value that is refused must not take the others along.
        self.try_run("SAVEPOINT one_cell")?;
        let sql = String::from_utf8_lossy(sql);
        let changed = self.runtime.block_on(self.client.simple_query(&sql));
        if changed.as_ref().is_err_and(Self::is_about_value) {
            self.try_run("ROLLBACK TO SAVEPOINT one_cell")?;
        }
        let counts = changed?.into_iter().filter_map(|message| match message {
            SimpleQueryMessage::CommandComplete(count) => Some(count),
            _ => None,
        });
        self.try_run("RELEASE SAVEPOINT one_cell")?;
        Ok(counts.last().unwrap_or(0))
    }
}

/// The server's code for an error; empty if it is one of the connection.
fn code(error: &Error) -> &str {
    error.code().map_or("", |code| code.code())
}

/// A string literal for a statement of our own.
pub(crate) fn text(value: &str) -> String {
    literal(&Value::Text(value.into()))
}

/// Any value as a literal; the server reads it as the type that stands beside it.
pub(crate) fn literal(value: &Value) -> String {
    let mut out = Vec::new();
    write_row(Dialect::Postgres, std::slice::from_ref(value), &mut out);
    String::from_utf8_lossy(&out[1..out.len() - 1]).into_owned()
}

pub(crate) fn quoted(name: &str) -> String {
    quote_name(Dialect::Postgres, name)
}

fn login_trouble(address: &ServerAddress, error: &Error) -> Trouble {
    let problem = match code(error) {
        "28P01" => Unreachable::Password,
        "" if error.to_string().contains("password missing") => Unreachable::Password,
        "28000" => Unreachable::User,
        "3D000" => Unreachable::Database,
        "42501" => Unreachable::Right,
        "53300" => Unreachable::Full,
        _ => Unreachable::Nobody("PostgreSQL"),
    };
    problem.trouble(address, Link::message(error))
}
