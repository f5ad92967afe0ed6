//! What stands between the driver and the server: encryption of our own, and a gate that lets one
//! statement pass at a time.

use super::gate::{Front, Gate, Server};
use super::secure::Secure;
use crate::server::ServerAddress;
use fernweh_ports::{Result, Trouble};

/// A way to the server, for one connection.
pub(super) struct Way {
    gate: Option<Gate>,
    secure: Option<Secure>,
}

impl Way {
    /// Opens it; with `one`, the server takes one statement at a time.
    ///
    /// Passwords are shown by the line as the *server* sees it: over a socket and over TLS as they
    /// are, over plain TCP encrypted with its key. So the driver meets a socket only where the
    /// server does, or where what follows is encrypted here.
    pub fn open(address: &ServerAddress, one: bool) -> Result<Self> {
        let secure = match &address.encryption {
            // A socket of the server itself needs none.
            Some(how) if address.socket.is_none() => Some(Secure::open(address, how)?),
            _ => None,
        };
        let leads_to_tcp = secure.is_none() && address.socket.is_none();
        let server = match (&secure, address.near_socket()) {
            (Some(secure), _) => Server::Socket(secure.path.clone()),
            (None, Some(socket)) => Server::Socket(socket.into()),
            (None, None) => Server::Tcp(address.host.clone(), address.port),
        };
        let front = if leads_to_tcp { Front::Tcp } else { Front::Socket };
        let hides_tcp = leads_to_tcp && matches!(server, Server::Socket(_));
        let gate = match one || hides_tcp {
            true => Some(Gate::open(server, front, one).map_err(|error| {
                Trouble::outside("cannot start the database connection").because(error)
            })?),
            false => None,
        };
        Ok(Self { gate, secure })
    }

    /// Where the driver begins: host, port and socket.
    pub fn near(&self, address: &ServerAddress) -> (String, u16, Option<String>) {
        let socket = match (&self.gate, &self.secure) {
            (Some(Gate::Tcp(port)), _) => return ("127.0.0.1".to_owned(), *port, None),
            (Some(Gate::Socket(path, _)), _) => Some(path.display().to_string()),
            (None, Some(secure)) => Some(secure.path.display().to_string()),
            (None, None) => address.near_socket(),
        };
        (address.host.clone(), address.port, socket)
    }
}
