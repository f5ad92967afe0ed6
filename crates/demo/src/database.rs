//! The database of the sample site, whichever engine it is, for the builder and the
//! stand-in host: plain SQL in, plain text out.

use fernweh_core::sql::Dialect;
use futures_util::{StreamExt, pin_mut};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, OptsBuilder};
use std::path::PathBuf;
use tokio::runtime::{Builder, Runtime};
use tokio_postgres::{Client, NoTls, SimpleQueryMessage};

/// Anything that went wrong, in words.
pub type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Where the database is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A SQLite file.
    Sqlite(PathBuf),
    /// A MariaDB server on this machine.
    Mariadb {
        /// The port on 127.0.0.1.
        port: u16,
        /// The user.
        user: String,
        /// The password.
        password: String,
        /// The database.
        name: String,
    },
    /// A PostgreSQL server on this machine.
    Postgres {
        /// The port on 127.0.0.1.
        port: u16,
        /// The user.
        user: String,
        /// The password.
        password: String,
        /// The database.
        name: String,
    },
}

impl Place {
    /// Whose SQL is spoken there.
    pub fn dialect(&self) -> Dialect {
        match self {
            Place::Sqlite(_) => Dialect::Sqlite,
            Place::Mariadb { .. } => Dialect::Mariadb,
            Place::Postgres { .. } => Dialect::Postgres,
        }
    }
}

/// An open database.
pub enum Database {
    /// SQLite.
    Sqlite(rusqlite::Connection),
    /// MariaDB, with the runtime that drives the connection.
    Mariadb(Box<(Runtime, Conn)>),
    /// PostgreSQL, with the runtime that drives the connection.
    Postgres(Box<(Runtime, Client)>),
}

impl Database {
    /// Opens it; a SQLite file is made if it is not there.
    pub fn open(place: &Place) -> Result<Self, Failure> {
        match place {
            Place::Sqlite(path) => {
                if let Some(folder) = path.parent() {
                    std::fs::create_dir_all(folder)?;
                }
                let db = rusqlite::Connection::open(path)?;
                db.busy_timeout(std::time::Duration::from_secs(5))?;
                Ok(Self::Sqlite(db))
            }
            Place::Mariadb { port, user, password, name } => {
                let runtime = Builder::new_current_thread().enable_all().build()?;
                let options = OptsBuilder::default()
                    .ip_or_hostname("127.0.0.1")
                    .tcp_port(*port)
                    .prefer_socket(false)
                    .user(Some(user))
                    .pass(Some(password))
                    .db_name(Some(name).filter(|name| !name.is_empty()));
                let conn = runtime.block_on(Conn::new(options))?;
                let mut database = Self::Mariadb(Box::new((runtime, conn)));
                database.run(b"SET NAMES utf8mb4")?;
                Ok(database)
            }
            Place::Postgres { port, user, password, name } => {
                let runtime = Builder::new_current_thread().enable_all().build()?;
                let mut config = tokio_postgres::Config::new();
                config.host("127.0.0.1").port(*port).user(user).password(password).dbname(name);
                let (client, connection) = runtime.block_on(config.connect(NoTls))?;
                runtime.spawn(connection);
                Ok(Self::Postgres(Box::new((runtime, client))))
            }
        }
    }

    /// Runs one statement (MariaDB) or several (the others).
    pub fn run(&mut self, sql: &[u8]) -> Result<(), Failure> {
        match self {
            Self::Sqlite(db) => db.execute_batch(std::str::from_utf8(sql)?)?,
            Self::Mariadb(link) => {
                let (runtime, conn) = &mut **link;
                runtime.block_on(conn.query_drop(sql.to_vec()))?;
            }
            Self::Postgres(link) => {
                let (runtime, client) = &mut **link;
                let sql = std::str::from_utf8(sql)?;
                runtime.block_on(client.batch_execute(sql)).map_err(told)?;
            }
        }
        Ok(())
    }

    /// Reads every row of a table, keeps none, and gives their number.
    pub fn count_by_reading(&mut self, table: &str) -> Result<u64, Failure> {
        match self {
            Self::Sqlite(db) => {
                let mut query = db.prepare(&format!("SELECT * FROM \"{table}\""))?;
                let width = query.column_count();
                let mut rows = query.query([])?;
                let mut count = 0;
                while let Some(row) = rows.next()? {
                    for n in 0..width {
                        std::hint::black_box(row.get_ref(n)?);
                    }
                    count += 1;
                }
                Ok(count)
            }
            Self::Mariadb(link) => {
                let (runtime, conn) = &mut **link;
                runtime.block_on(async {
                    let mut rows = conn.query_iter(format!("SELECT * FROM `{table}`")).await?;
                    let mut count = 0;
                    while let Some(row) = rows.next().await? {
                        std::hint::black_box(row);
                        count += 1;
                    }
                    Ok(count)
                })
            }
            Self::Postgres(link) => {
                let (runtime, client) = &mut **link;
                runtime.block_on(async {
                    let copy = format!("COPY \"{table}\" TO STDOUT");
                    let rows = client.copy_out(copy.as_str()).await?;
                    pin_mut!(rows);
                    let mut count = 0;
                    while let Some(row) = rows.next().await {
                        std::hint::black_box(row?);
                        count += 1;
                    }
                    Ok(count)
                })
            }
        }
    }

    /// The rows of a query as text.
    pub fn ask(&mut self, sql: &str) -> Result<Vec<Vec<Option<String>>>, Failure> {
        match self {
            Self::Sqlite(db) => {
                let mut query = db.prepare(sql)?;
                let width = query.column_count();
                let rows = query.query_map([], |row| {
                    (0..width)
                        .map(|n| {
                            use rusqlite::types::ValueRef::*;
                            Ok(match row.get_ref(n)? {
                                Null => None,
                                Integer(number) => Some(number.to_string()),
                                Real(number) => Some(number.to_string()),
                                Text(bytes) | Blob(bytes) => {
                                    Some(String::from_utf8_lossy(bytes).into_owned())
                                }
                            })
                        })
                        .collect()
                })?;
                Ok(rows.collect::<Result<_, _>>()?)
            }
            Self::Mariadb(link) => {
                let (runtime, conn) = &mut **link;
                let rows: Vec<mysql_async::Row> =
                    runtime.block_on(conn.query(sql.as_bytes().to_vec()))?;
                let text = |value| match value {
                    mysql_async::Value::NULL => None,
                    mysql_async::Value::Bytes(b) => Some(String::from_utf8_lossy(&b).into_owned()),
                    other => Some(other.as_sql(true)),
                };
                Ok(rows.into_iter().map(|r| r.unwrap().into_iter().map(text).collect()).collect())
            }
            Self::Postgres(link) => {
                let (runtime, client) = &mut **link;
                let answer = runtime.block_on(client.simple_query(sql)).map_err(told)?;
                let rows = answer.into_iter().filter_map(|message| match message {
                    SimpleQueryMessage::Row(row) => {
                        Some((0..row.len()).map(|n| row.get(n).map(str::to_owned)).collect())
                    }
                    _ => None,
                });
                Ok(rows.collect())
            }
        }
    }
}

/// The server's words; the driver keeps them behind its own.
fn told(error: tokio_postgres::Error) -> Failure {
    match error.as_db_error() {
        Some(server) => server.to_string().into(),
        None => error.into(),
    }
}
