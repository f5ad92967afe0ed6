//! One login to a database server. What an engine knows of its own protocol is the first half of
//! [`Session`]; what follows from it (how errors are told, how answers are read, who may build,
//! what is discarded) is written here once.

use super::ServerAddress;
use fernweh_ports::{Refreshing, Result, Trouble};
use std::fmt::Display;
use std::result::Result as Either;
use std::str::FromStr;

/// A table of texts, as a server answers.
pub(crate) type Rows = Vec<Vec<Option<String>>>;

/// One login to a database server.
pub(crate) trait Session {
    /// The driver's error.
    type Error;

    /// The server and database, for people.
    fn shown(&self) -> &str;

    /// The server's or the driver's own words, in one line.
    fn message(error: &Self::Error) -> String;

    /// Our words for an error, and what to try.
    fn plain_words(error: &Self::Error) -> (&'static str, &'static str);

    /// Whether the connection is gone: broken, closed, or ended by a server that goes down.
    fn is_lost(error: &Self::Error) -> bool;

    /// Whether only the value that was written is at fault.
    fn is_about_value(error: &Self::Error) -> bool;

    /// Runs a statement without result.
    fn try_run(&mut self, sql: impl AsRef<str>) -> Either<(), Self::Error>;

    /// All rows of a small result, as texts.
    fn try_ask(&mut self, sql: &str) -> Either<Rows, Self::Error>;

    /// Runs one statement of the user's and gives the number of rows that it changed.
    fn try_step(&mut self, sql: &str) -> Either<u64, Self::Error>;

    /// Changes rows within a transaction and gives their number. After an error that is about
    /// the value the transaction goes on as if the statement had not been sent.
    fn try_change(&mut self, sql: &[u8]) -> Either<u64, Self::Error>;

    /// Tells an error: `what` could not be done.
    fn trouble(&self, what: &str, error: &Self::Error) -> Trouble {
        let (because, hint) = Self::plain_words(error);
        Trouble::outside(what)
            .at(self.shown().to_owned())
            .because(format!("{because} ({})", Self::message(error)))
            .hint(hint)
            .lost(Self::is_lost(error))
    }

    /// Runs a statement of our own.
    fn run(&mut self, sql: impl AsRef<str>) -> Result<()> {
        self.try_run(sql).map_err(|error| self.trouble("the database rejected a statement", &error))
    }

    /// All rows of a small result, as texts.
    fn ask(&mut self, sql: &str) -> Result<Rows> {
        self.try_ask(sql).map_err(|error| self.trouble("the database rejected a query", &error))
    }

    /// The first value of a result.
    fn one(&mut self, sql: &str) -> Result<Option<String>> {
        Ok(self.ask(sql)?.into_iter().next().and_then(|row| row.into_iter().next()).flatten())
    }

    /// The number that a question has for an answer.
    fn number<N: FromStr>(&mut self, question: &str) -> Result<N> {
        let answer = self.one(question)?;
        self.parsed(question, answer.as_deref())
    }

    /// A number in the answer to `question`.
    fn parsed<N: FromStr>(&self, question: &str, answer: Option<&str>) -> Result<N> {
        parsed(question, self.shown(), answer)
    }

    /// Takes the lock of those who build in this database, or says that another has it.
    /// `question` asks the server for it, and `granted` is its answer then.
    fn lock(&mut self, question: &str, granted: &str) -> Result<()> {
        if self.one(question)?.as_deref() == Some(granted) {
            return Ok(());
        }
        Err(Trouble::outside("another run is working on this database")
            .at(self.shown().to_owned())
            .because("it holds the lock that Fernweh takes while it builds")
            .hint("wait until it has ended; fernweh runs lists what runs here"))
    }

    /// Runs a statement for every name that `list` asks for: what an unfinished run has built.
    fn discard(&mut self, list: &str, statement: impl Fn(&str) -> String) -> Result<()> {
        for name in self.ask(list)?.into_iter().filter_map(|row| row.into_iter().next()?) {
            self.run(statement(&name))?;
        }
        Ok(())
    }

    /// The answers to one question for each table, in their order; `question` counts its rows.
    fn count(
        &mut self,
        tables: &[String],
        mut question: impl FnMut(&mut Self, &str) -> Result<String>,
    ) -> Result<Vec<(String, u64)>> {
        let mut counted = |name: &String| {
            let question = question(self, name)?;
            Ok((name.clone(), self.number(&question)?))
        };
        tables.iter().map(&mut counted).collect()
    }

    /// Takes the steps of `[after]` in one transaction; all of them, or none. `begin` are the
    /// statements before them, `place` writes the name of a table.
    fn refresh(
        &mut self,
        begin: &[&str],
        steps: &[Refreshing],
        place: impl Fn(&str) -> String,
    ) -> Result<Vec<u64>> {
        for statement in begin {
            self.run(statement)?;
        }
        let mut counts = Vec::new();
        for step in steps {
            let sql = refreshing(step, &place);
            match self.try_step(&sql) {
                Ok(count) => counts.push(count),
                Err(error) => {
                    let mut trouble = self.trouble("", &error);
                    // Over a connection that is gone there is nothing to take back.
                    let _ = self.try_run("ROLLBACK");
                    trouble.place = None;
                    return Err(not_refreshed(trouble, &sql));
                }
            }
        }
        self.run("COMMIT")?;
        Ok(counts)
    }

    /// A switch that waits behind others, who are named where `question` finds them.
    fn blocked(&mut self, question: &str, error: &Self::Error) -> Trouble {
        // Who may not see other connections still gets the server's words.
        let others = self.ask(question).unwrap_or_default();
        let others: Vec<String> = others.into_iter().flatten().flatten().collect();
        let message = Self::message(error);
        let because = match others.is_empty() {
            true => message,
            false => format!("{message}; connections on this database: {}", others.join("; ")),
        };
        Trouble::outside("the tables cannot be switched")
            .at(self.shown().to_owned())
            .because(because)
            .hint("end long-running queries of the site, then type the same command again")
    }
}

/// The number that a server has answered with. What is none is an error: taken for nothing it
/// would pass for an empty table.
fn parsed<N: FromStr>(question: &str, place: &str, answer: Option<&str>) -> Result<N> {
    let told = answer.unwrap_or("nothing");
    told.trim().parse().map_err(|_| {
        Trouble::outside("the database server gave an answer that is not a number")
            .at(place)
            .because(format!("asked `{question}` it says `{told}`"))
            .hint("check the server's log; a program in between may change answers")
    })
}

/// Why nobody could log in; the words are the same for every server.
pub(crate) enum Unreachable {
    /// The server refuses the password, or wants one.
    Password,
    /// The server does not let this user in from here.
    User,
    /// The user has no right to the database.
    Right,
    /// There is no such database.
    Database,
    /// The server has no connection left.
    Full,
    /// The certificate is not accepted.
    Certificate,
    /// The server offers no encryption.
    Encryption,
    /// The server lets nobody in without encryption.
    Demanded,
    /// The server cannot check this user's password: what it needs for that is not loaded.
    Plugin,
    /// Nothing answers as a server of this kind.
    Nobody(&'static str),
}

impl Unreachable {
    /// Tells it, with the server's own words behind ours.
    pub fn trouble(&self, address: &ServerAddress, message: impl Display) -> Trouble {
        let ServerAddress { user, database, .. } = address;
        let (what, because, hint) = match self {
            Self::Password if address.password.is_none() => (
                "cannot log in to the database",
                format!("the server requires a password for user {user}"),
                "set password.database of this site in fernweh.toml",
            ),
            Self::Password => (
                "cannot log in to the database",
                format!("the server refuses the password of user {user}"),
                "check password.database of this site in fernweh.toml",
            ),
            Self::User => (
                "cannot log in to the database",
                format!("the server does not let user {user} in from here"),
                "check the user's name, and from where the server takes connections",
            ),
            Self::Right => (
                "cannot open the database",
                format!("user {user} has no right to database {database}"),
                "grant the right in the control panel of the host",
            ),
            Self::Database => (
                "cannot open the database",
                format!("there is no database {database}"),
                "create it in the control panel of the host, or correct the name",
            ),
            Self::Full => (
                "cannot log in to the database",
                "the server has no connection left".to_owned(),
                "try again when the site is quiet",
            ),
            Self::Certificate => (
                "cannot reach the database server",
                "its certificate is not accepted".to_owned(),
                crate::tls::HINT,
            ),
            Self::Encryption => (
                "cannot reach the database server",
                "the server offers no encryption".to_owned(),
                "ask the host for it, or reach the database through SSH",
            ),
            Self::Demanded => (
                "cannot log in to the database",
                "the server requires an encrypted connection".to_owned(),
                "set encrypted = true for this site, or reach the database through SSH",
            ),
            Self::Plugin => (
                "cannot log in to the database",
                format!("the server cannot check the password of user {user}"),
                "ask the host: this way of logging in is switched off there; a new password, set \
                 in the control panel, often helps",
            ),
            Self::Nobody(kind) => (
                "cannot reach the database server",
                format!("nothing answers there as a {kind} server"),
                "check host and port, and whether the server runs",
            ),
        };
        if let Some(unknown) = fernweh_ports::without_address(&address.host, &message.to_string()) {
            return Trouble::outside(what)
                .at(address.shown())
                .because(unknown)
                .hint("check the spelling of the host's name, and your connection");
        }
        let because = format!("{because} ({message})");
        Trouble::outside(what).at(address.shown()).because(because).hint(hint)
    }
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
    trouble.what = "a step of [after] failed in the database".into();
    trouble.at(sql.to_owned()).hint("correct it in fernweh.toml")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_that_is_no_number_is_an_error_that_names_the_question() {
        assert_eq!(parsed::<u64>("SELECT 1", "db.example", Some("17")).unwrap(), 17);
        for wrong in [None, Some(""), Some("-1"), Some("many"), Some("17 rows")] {
            let trouble = parsed::<u64>("SELECT count(*) FROM a", "db.example", wrong).unwrap_err();
            let because = trouble.because.as_deref().unwrap();
            assert!(because.contains("SELECT count(*) FROM a"), "{because}");
        }
    }
}
