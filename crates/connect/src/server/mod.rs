//! What the database servers have in common: where they are (here), one login and what is said
//! of its errors (`session`), the names of what lies aside (`aside`), and how the rows of a
//! stream are changed in batches (`batches`), and which records a server would change (`fitting`).

mod aside;
mod batches;
mod first_answer;
mod fitting;
mod session;

pub(crate) use aside::{NOTES, aside, is_aside, short_run};
pub(crate) use batches::{Batches, apply};
pub(crate) use first_answer::{FIRST_ANSWER, logged_in};
pub(crate) use fitting::{Fits, write_fitting};
pub(crate) use session::{Rows, Session, Unreachable, not_refreshed, refreshing};

use crate::tls::Trust;
use std::net::IpAddr;
use std::path::PathBuf;

/// How to reach a database on a server.
#[derive(Clone, Debug)]
pub struct ServerAddress {
    /// The scheme of its address, as it was typed.
    pub scheme: String,
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
    /// Who is trusted, beside the authorities of this machine.
    pub trust: Trust,
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
    /// Whether the server runs on this machine.
    pub(crate) fn is_on_this_machine(&self) -> bool {
        let here = |host: &str| {
            host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
        };
        self.through.is_none() && (self.socket.is_some() || here(&self.host))
    }

    /// The socket of this machine that leads to the server, if one does.
    pub(crate) fn near_socket(&self) -> Option<String> {
        let through = self.through.as_ref().map(|through| through.socket.display().to_string());
        through.or_else(|| self.socket.clone())
    }

    /// The address for people, without the password.
    pub fn shown(&self) -> String {
        let place = match &self.socket {
            Some(socket) => socket.clone(),
            None => format!("{}:{}", self.host, self.port),
        };
        let way = match &self.through {
            Some(through) => format!(" through {}", through.host),
            None => String::new(),
        };
        format!("{}://{}@{place}/{}{way}", self.scheme, self.user, self.database)
    }
}
