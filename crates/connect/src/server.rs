//! What the database servers have in common: where they are, how what lies aside is named,
//! and how the rows of a stream are changed in portions.

use fernweh_core::digest::sha256;
use fernweh_core::limits;
use fernweh_core::record::{Row, Value};
use fernweh_ports::{Applied, Change, Inlet, Record, Refreshing, Result, Trouble, pipe};
use std::path::PathBuf;
use std::str::FromStr;

/// The number that a server has answered with. What is none is an error: taken for nothing it
/// would pass for an empty table.
pub(crate) fn number<N: FromStr>(question: &str, place: &str, answer: Option<&str>) -> Result<N> {
    let told = answer.unwrap_or("nothing");
    told.trim().parse().map_err(|_| {
        Trouble::outside("the database server gives an answer that is no number")
            .at(place)
            .because(format!("asked `{question}` it says `{told}`"))
            .hint("see what the server logs; a program between here and there may change answers")
    })
}

/// How to reach a database on a server.
#[derive(Clone, Debug)]
pub struct ServerAddress {
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The socket on this machine (PostgreSQL: its folder), instead of a host.
    pub socket: Option<String>,
    /// The user.
    pub user: String,
    /// The database.
    pub database: String,
    /// The password, if one is needed.
    pub password: Option<String>,
    /// The way, if it leads through another host.
    pub through: Option<Through>,
    /// Whether the connection must be encrypted, and who vouches for the server.
    pub encryption: Option<Encryption>,
}

/// An encrypted connection, whose certificate is checked.
#[derive(Clone, Debug)]
pub struct Encryption {
    /// A certificate authority (PEM file) that is trusted; otherwise those of this machine.
    pub authority: Option<PathBuf>,
}

/// A way to a server through another host.
#[derive(Clone, Debug)]
pub struct Through {
    /// The host, for people.
    pub host: String,
    /// The socket of this machine behind which the server answers.
    pub socket: PathBuf,
}

impl ServerAddress {
    /// The socket of this machine that leads to the server, if one does.
    pub(crate) fn near_socket(&self) -> Option<String> {
        let through = self.through.as_ref().map(|through| through.socket.display().to_string());
        through.or_else(|| self.socket.clone())
    }

    /// The address for people, without the password.
    pub fn shown(&self, scheme: &str) -> String {
        let place = match &self.socket {
            Some(socket) => socket.clone(),
            None => format!("{}:{}", self.host, self.port),
        };
        let way = match &self.through {
            Some(through) => format!(" through {}", through.host),
            None => String::new(),
        };
        format!("{scheme}://{}@{place}/{}{way}", self.user, self.database)
    }
}

/// The part of a run's name that stands in names aside.
pub(crate) fn short_run(run: &str) -> String {
    sha256(run.as_bytes())[..8].to_owned()
}

/// The name aside for the new (`n`) or old (`o`) state of a table or a schema.
pub(crate) fn aside(run: &str, kind: char, name: &str) -> String {
    format!("_fw{run}_{kind}_{}", &sha256(name.as_bytes())[..16])
}

/// Whether something is one of those that Fernweh builds or keeps aside.
pub(crate) fn is_aside(name: &str) -> bool {
    name.strip_prefix("_fw").is_some_and(|rest| {
        let parts: Vec<&str> = rest.split('_').collect();
        let hex = |part: &str, length| {
            part.len() == length && part.bytes().all(|byte| byte.is_ascii_hexdigit())
        };
        matches!(parts[..], [run, "n" | "o", table] if hex(run, 8) && hex(table, 16))
    })
}

/// A step after a move, in SQL; `place` gives the name of a table as it is written.
pub(crate) fn refreshing(step: &Refreshing, place: impl Fn(&str) -> String) -> String {
    match step {
        Refreshing::Statement(sql) => sql.clone(),
        Refreshing::Empty { table, condition } => match condition {
            Some(condition) => format!("DELETE FROM {} WHERE {condition}", place(table)),
            None => format!("DELETE FROM {}", place(table)),
        },
    }
}

/// Says which step could not be taken.
pub(crate) fn not_refreshed(trouble: Trouble, sql: &str) -> Trouble {
    let mut trouble = trouble;
    trouble.what = "a step of [after] cannot be taken in the database".into();
    trouble.at(sql.to_owned()).hint("correct it in fernweh.toml")
}

/// A switch that waits behind others; they are named.
pub(crate) fn behind_others(shown: &str, message: String, others: &[String]) -> Trouble {
    let because = match others.is_empty() {
        true => message,
        false => format!("{message}; at work on this database: {}", others.join("; ")),
    };
    Trouble::outside("the tables cannot be switched")
        .at(shown)
        .because(because)
        .hint("end long-running queries of the site, then type the same command again")
}

/// Rows that go from one thread to another together, at most.
const TOGETHER: usize = 500;

/// Hands rows over to another thread, several at once.
pub(crate) struct Portions<'a> {
    to: &'a Inlet<Vec<Row>>,
    rows: Vec<Row>,
    weight: usize,
}

impl<'a> Portions<'a> {
    /// Nothing collected yet.
    pub fn new(to: &'a Inlet<Vec<Row>>) -> Self {
        Self { to, rows: Vec::new(), weight: 0 }
    }

    /// Adds a row.
    pub fn add(&mut self, row: Row) -> Result<()> {
        self.weight += row.iter().map(Value::weight).sum::<usize>();
        self.rows.push(row);
        if self.rows.len() < TOGETHER && self.weight < limits::EDITED_ROWS {
            return Ok(());
        }
        self.close()
    }

    /// Hands over what waits; more rows may follow.
    pub fn close(&mut self) -> Result<()> {
        let rows = std::mem::take(&mut self.rows);
        // Whoever has stopped taking them tells why.
        match self.to.send(rows, std::mem::take(&mut self.weight)) {
            true => Ok(()),
            false => Err(Trouble::interrupted("the rows are not wanted any more")),
        }
    }
}

/// Collects the rows of a stream into batches, lets `visit` say what changes, and makes the
/// changes with `apply`.
pub(crate) struct Batches<'a> {
    /// The places of the key in a row.
    pub key: Vec<usize>,
    /// Says what changes.
    pub visit: &'a mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    /// Makes the changes.
    pub apply: &'a mut dyn FnMut(&[Change]) -> Result<Applied>,
    total: Applied,
}

impl<'a> Batches<'a> {
    /// Nothing collected yet.
    pub fn new(
        key: Vec<usize>,
        visit: &'a mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
        apply: &'a mut dyn FnMut(&[Change]) -> Result<Applied>,
    ) -> Self {
        Self { key, visit, apply, total: Applied::default() }
    }

    /// Takes the rows that `read` gives on a thread of its own, while the changes are made on
    /// this one: a connection cannot wait for an answer in the middle of another's. Gives what
    /// became of all changes.
    pub fn read<R>(mut self, read: R) -> Result<Applied>
    where
        R: FnOnce(&mut dyn FnMut(Row) -> Result<()>) -> Result<()> + Send,
    {
        let (to, mut from) = pipe::<Vec<Row>>();
        std::thread::scope(|scope| {
            let reading = scope.spawn(move || {
                let mut portions = Portions::new(&to);
                read(&mut |row| portions.add(row))?;
                portions.close()
            });
            let changed = from.try_for_each(|rows| self.change(rows));
            drop(from);
            let read = reading.join().unwrap_or_else(|_| {
                Err(Trouble::outside("reading the site's records ended unexpectedly"))
            });
            changed.and(read)
        })?;
        Ok(self.total)
    }

    fn change(&mut self, rows: Vec<Row>) -> Result<()> {
        let record = |row: Row| {
            let key = self.key.iter().map(|place| row[*place].clone()).collect();
            Record { key, row }
        };
        let batch: Vec<Record> = rows.into_iter().map(record).collect();
        let changes = (self.visit)(&batch)?;
        let applied = (self.apply)(&changes)?;
        self.total.changed += applied.changed;
        self.total.refused.extend(applied.refused);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_that_is_no_number_is_an_error_that_names_the_question() {
        assert_eq!(number::<u64>("SELECT 1", "db.example", Some("17")).unwrap(), 17);
        for wrong in [None, Some(""), Some("-1"), Some("many"), Some("17 rows")] {
            let trouble = number::<u64>("SELECT count(*) FROM a", "db.example", wrong).unwrap_err();
            let because = trouble.because.as_deref().unwrap();
            assert!(because.contains("SELECT count(*) FROM a"), "{because}");
        }
    }

    #[test]
    fn what_lies_aside_is_known_by_its_name() {
        assert!(is_aside(&aside(&short_run("run"), 'n', "gp_articles")));
        assert!(is_aside("_fw0a1b2c3d_o_0123456789abcdef"));
        assert!(!is_aside("_fw_notes") && !is_aside("gp_articles"));
        assert!(!is_aside("_fw0a1b2c3d_x_0123456789abcdef"));
    }
}
