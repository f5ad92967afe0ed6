//! MariaDB and MySQL, over TCP or a local socket.
//!
//! The driver is asynchronous; each connection here has a small runtime of its own and
//! is used from one thread, so that the operations stay plain.

mod adopt;
mod afterwards;
mod build;
mod columns;
mod describe;
mod editor;
mod foresee;
mod gate;
mod incompatibilities;
mod intake;
mod keys;
mod load;
mod objects;
mod rights;
mod rows;
mod secure;
mod source;
mod switch;
mod target;
mod way;

pub use build::MariadbTarget;
pub use editor::MariadbEditor;
pub use source::MariadbSource;

use crate::server::{Rows, ServerAddress, Session, Unreachable, logged_in};
use fernweh_core::record::Value;
use fernweh_core::sql::{Dialect, Modes, Server, Statement, quote_name};
use fernweh_ports::{Result, Trouble};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, DriverError, Error, OptsBuilder, Row};
use std::collections::BTreeSet;
use tokio::runtime::{Builder, Runtime};
use way::Way;

/// One connection and the runtime that drives it.
pub(crate) struct Link {
    pub(crate) runtime: Runtime,
    pub(crate) conn: Conn,
    pub(crate) shown: String,
    /// What the server is, and so what it knows.
    pub(crate) server: Server,
    /// Modes of statements that it does not know, and that were asked for.
    pub(crate) unknown_modes: BTreeSet<String>,
    /// What stands between the driver and the server.
    _way: Way,
}

/// The modes in which values are taken as they are, or not at all.
macro_rules! modes {
    () => {
        "STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION"
    };
}
const MODE: &str = modes!();

/// Session settings that make values arrive and depart unchanged. Unique keys are checked:
/// without that (and foreign keys) InnoDB fills an empty table in a mode in which a statement
/// that fails takes the rows of the earlier ones with it.
const SESSION: &str = concat!(
    "SET SESSION time_zone = '+00:00', wait_timeout = 86400, \
     net_write_timeout = 3600, net_read_timeout = 3600, sql_mode = '",
    modes!(),
    "', foreign_key_checks = 0, unique_checks = 1, sql_quote_show_create = 1"
);

/// Further settings, as far as a server has them and lets a login change them: no statement of ours
/// ends after some seconds, what is known of tables is not a day old, and tables are made as they
/// were.
fn settings(server: &Server) -> Vec<&'static str> {
    let all = [
        // Otherwise a time without a default gets one, and changes with its record.
        (true, "explicit_defaults_for_timestamp = 1"),
        (server.is_mariadb(), "max_statement_time = 0"),
        (server.is_mysql_from((5, 7, 8)), "max_execution_time = 0"),
        (server.is_mysql_from((8, 0, 3)), "information_schema_stats_expiry = 0"),
        (server.is_mysql_from((8, 0, 13)), "sql_require_primary_key = 0"),
        (server.is_mysql_from((8, 0, 30)), "sql_generate_invisible_primary_key = 0"),
        (server.is_mysql_from((8, 4, 0)), "restrict_fk_on_non_standard_key = 0"),
    ];
    all.into_iter().filter(|(has, _)| *has).map(|(_, setting)| setting).collect()
}

impl Link {
    /// A connection for statements of our own.
    pub(crate) fn open(address: &ServerAddress) -> Result<Self> {
        Self::by(address, Way::open(address, false)?)
    }

    /// A connection for statements from outside: the server takes exactly one at a time.
    pub(crate) fn open_for_one(address: &ServerAddress) -> Result<Self> {
        let mut link = Self::by(address, Way::open(address, true)?)?;
        // Something in between may know better than the server what it takes.
        match link.try_run("DO 1; DO 1") {
            Err(Error::Server(_)) => Ok(link),
            _ => Err(Trouble::outside("the database accepts several statements at once")
                .at(link.shown)
                .because(
                    "an archive could hide one behind another, and it was told not to \
                          accept that",
                )
                .hint("connect to the server itself, not to something in between")),
        }
    }

    fn by(address: &ServerAddress, way: Way) -> Result<Self> {
        let failed = |error: &Error| login_trouble(address, error);
        let runtime = Builder::new_current_thread().enable_all().build().map_err(|error| {
            Trouble::outside("cannot start the database connection").because(error)
        })?;
        let (host, port, socket) = way.near(address);
        let options = OptsBuilder::default()
            .ip_or_hostname(host)
            .tcp_port(port)
            .socket(socket)
            .prefer_socket(false)
            .user(Some(address.user.clone()))
            .pass(address.password.clone())
            .db_name(Some(address.database.clone()))
            .max_allowed_packet(Some(1 << 30))
            .stmt_cache_size(Some(32));
        let conn = logged_in(&runtime, address, Conn::new(options), failed)?;
        let (shown, unknown_modes) = (address.shown(), BTreeSet::new());
        let server = Server::named("", "");
        let mut link = Self { runtime, conn, shown, server, unknown_modes, _way: way };
        link.run("SET NAMES utf8mb4")?;
        let said = link.ask("SELECT version(), @@version_comment")?;
        let mut said = said.into_iter().flatten().map(Option::unwrap_or_default);
        let mut next = || said.next().unwrap_or_default();
        link.server = Server::named(&next(), &next());
        link.run(SESSION)?;
        for setting in settings(&link.server) {
            // Some need rights that a site's login has not.
            let _ = link.try_run(format!("SET SESSION {setting}"));
        }
        Ok(link)
    }

    /// A setting of the session without the modes that the server does not know; these are noted.
    pub(crate) fn known(&mut self, setting: &str) -> String {
        let set = Statement::parse(Dialect::Mariadb, Modes::default(), setting.as_bytes());
        let Ok(Statement::Mode { name, value, .. }) = set else { return setting.to_owned() };
        if !name.eq_ignore_ascii_case("sql_mode") {
            return setting.to_owned();
        }
        let (known, unknown) = self.server.known_modes(&value);
        self.unknown_modes.extend(unknown);
        format!("SET sql_mode = {}", text(&known))
    }

    /// Runs a statement that need not be text: rows are bytes in the character sets of their
    /// columns.
    pub(crate) fn try_bytes(&mut self, sql: Vec<u8>) -> std::result::Result<(), Error> {
        self.runtime.block_on(self.conn.query_drop(sql))
    }
}

impl Session for Link {
    type Error = Error;

    fn shown(&self) -> &str {
        &self.shown
    }

    fn message(error: &Error) -> String {
        match error {
            Error::Server(server) => format!("{}: {}", server.code, server.message),
            other => other.to_string().replace('\n', " "),
        }
    }

    fn plain_words(error: &Error) -> (&'static str, &'static str) {
        match code(error) {
            1044 | 1142 | 1143 | 1227 => {
                ("the user lacks the right to do this", "grant the right in the control panel")
            }
            1114 | 1021 => ("no room left for the database", "make room on the host"),
            1205 | 1213 => ("somebody else holds a lock", "try again when the site is quiet"),
            1153 => ("a record is larger than the server accepts", "raise max_allowed_packet"),
            1273 => ("the server has no such collation", "use a server of the same version"),
            1406 => ("a value is too long for its column", "correct the record at the source"),
            0 => ("the connection was lost", "try again; check that the server runs"),
            _ => ("the server reports an error", "check the server's message above"),
        }
    }

    fn is_lost(error: &Error) -> bool {
        match error {
            Error::Server(server) => [1053, 1927, 3169, 4031].contains(&server.code),
            Error::Driver(DriverError::ConnectionClosed) | Error::Io(_) => true,
            _ => false,
        }
    }

    /// Duplicate key, too long, wrong characters, check violated, no value, truncated, not
    /// JSON, no geometry.
    fn is_about_value(error: &Error) -> bool {
        [1062, 1406, 1366, 4025, 3819, 1264, 1292, 1048, 1265, 1364, 1367, 1416, 1526, 3140]
            .contains(&code(error))
    }

    fn try_run(&mut self, sql: impl AsRef<str>) -> std::result::Result<(), Error> {
        self.try_bytes(sql.as_ref().into())
    }

    fn try_ask(&mut self, sql: &str) -> std::result::Result<Rows, Error> {
        let rows: Vec<Row> = self.runtime.block_on(self.conn.query(sql.as_bytes().to_vec()))?;
        let text = |value| match value {
            mysql_async::Value::NULL => None,
            mysql_async::Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
            other => Some(other.as_sql(true)),
        };
        Ok(rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect())
    }

    fn try_step(&mut self, sql: &str) -> std::result::Result<u64, Error> {
        self.try_change(sql.as_bytes())
    }

    fn try_change(&mut self, sql: &[u8]) -> std::result::Result<u64, Error> {
        self.try_bytes(sql.to_vec())?;
        Ok(self.conn.affected_rows())
    }
}

/// The number of the server's error; 0 if it is one of the connection.
fn code(error: &Error) -> u16 {
    match error {
        Error::Server(server) => server.code,
        _ => 0,
    }
}

/// A string literal for a statement of our own.
pub(crate) fn text(value: &str) -> String {
    let mut out = Vec::new();
    fernweh_core::sql::write_row(Dialect::Mariadb, &[Value::Text(value.into())], &mut out);
    String::from_utf8_lossy(&out[1..out.len() - 1]).into_owned()
}

pub(crate) fn quoted(name: &str) -> String {
    quote_name(Dialect::Mariadb, name)
}

fn login_trouble(address: &ServerAddress, error: &Error) -> Trouble {
    let problem = match code(error) {
        1045 => Unreachable::Password,
        1044 => Unreachable::Right,
        1049 => Unreachable::Database,
        // Encryption is demanded, by the server or by what stands before it.
        3159 | 9002 => Unreachable::Demanded,
        1130 => Unreachable::User,
        1524 => Unreachable::Plugin,
        _ if error.to_string().contains("certificate") => Unreachable::Certificate,
        _ if error.to_string().contains("SSL") => Unreachable::Encryption,
        _ => Unreachable::Nobody("database"),
    };
    problem.trouble(address, Link::message(error))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_are_quoted() {
        assert_eq!(text("it's \\"), "'it\\'s \\\\'");
    }
}
