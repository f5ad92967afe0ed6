//! A database port of a host, as a socket in a private folder of this machine.
//!
//! Each connection has an SSH login of its own for as long as it lasts: within one login, a
//! connection whose answers nobody takes at the moment would keep all others from getting
//! theirs.

mod copied;

use crate::runtime::runtime;
use crate::ssh::{Asks, Session, SshAddress};
use copied::Copied;
use fernweh_ports::{Result, Trouble};
use russh::ChannelStream;
use russh::client::Msg;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tokio::io::copy_bidirectional;
use tokio::net::UnixListener;
use tokio::task::JoinHandle;

/// What is reached from the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TunnelEnd {
    /// A port.
    Tcp(String, u16),
    /// A socket of the host's file system.
    Socket(String),
}

/// How it is reached.
pub struct Way {
    /// How to log in again, if the connection was lost.
    pub login: (SshAddress, Arc<dyn Asks>),
    /// What is reached.
    pub end: TunnelEnd,
    /// This program, if it may be copied to a host that forbids forwarding.
    pub copy: Option<PathBuf>,
}

/// Forwards connections for as long as it lives.
pub struct Tunnel {
    socket: PathBuf,
    listening: JoinHandle<()>,
    copied: Option<Arc<Copied>>,
    session: Arc<Session>,
    /// Nobody else may enter it.
    _folder: tempfile::TempDir,
}

impl Tunnel {
    /// Opens a socket of this name; each connection to it goes through the host.
    pub fn open(session: Arc<Session>, way: Way, name: &str) -> Result<Self> {
        let trouble = |error: &dyn std::fmt::Display| {
            Trouble::outside("cannot make room for a forwarded connection").because(error)
        };
        let folder = tempfile::Builder::new().prefix("fernweh-").tempdir();
        let folder = folder.map_err(|error| trouble(&error))?;
        let socket = folder.path().join(name);
        let copied = match (probe(&session, &way.end), &way.copy) {
            (Ok(()), _) => None,
            (Err(Refused::Forbidden(_)), Some(own)) => {
                Some(Arc::new(runtime().block_on(Copied::make(&session, own))?))
            }
            (Err(Refused::Forbidden(trouble) | Refused::Other(trouble)), _) => return Err(trouble),
        };
        let listener = {
            let _inside = runtime().enter();
            UnixListener::bind(&socket).map_err(|error| trouble(&error))?
        };
        let logins = Logins { idle: Arc::new(Mutex::new(vec![session.clone()])), way };
        let listening = runtime().spawn(serve(listener, logins, copied.clone()));
        Ok(Self { socket, listening, copied, session, _folder: folder })
    }

    /// The socket.
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    /// Where this program was copied to, if it had to be.
    pub fn copied_to(&self) -> Option<&str> {
        self.copied.as_ref().map(|copied| copied.folder.as_str())
    }
}

impl Drop for Tunnel {
    fn drop(&mut self) {
        self.listening.abort();
        if let Some(copied) = &self.copied {
            runtime().block_on(copied.remove(&self.session));
        }
    }
}

/// The logins of a tunnel.
struct Logins {
    /// Those that serve no connection at the moment.
    idle: Arc<Mutex<Vec<Arc<Session>>>>,
    way: Way,
}

impl Logins {
    /// One that nobody else uses.
    async fn take(&self) -> Result<Arc<Session>> {
        while let Some(session) = self.idle.lock().ok().and_then(|mut idle| idle.pop()) {
            if !session.handle.is_closed() {
                return Ok(session);
            }
        }
        let (address, asks) = self.way.login.clone();
        Session::login(address, asks).await
    }
}

async fn serve(listener: UnixListener, logins: Logins, copied: Option<Arc<Copied>>) {
    while let Ok((mut near, _)) = listener.accept().await {
        // Without one, the driver says that it was not reached, and tries again.
        let Ok(session) = logins.take().await else { continue };
        let (end, copied, idle) = (logins.way.end.clone(), copied.clone(), logins.idle.clone());
        tokio::spawn(async move {
            // A refusal ends the connection; the driver says so.
            let far = match &copied {
                None => forwarded(&session, &end).await,
                Some(copied) => forwarded_by_copy(&session, &copied.command(&end)).await,
            };
            if let Ok(mut far) = far {
                let _ = copy_bidirectional(&mut near, &mut far).await;
            }
            if let Ok(mut idle) = idle.lock() {
                idle.push(session);
            }
        });
    }
}

/// Why the host does not forward.
enum Refused {
    Forbidden(Trouble),
    Other(Trouble),
}

/// Whether the host forwards at all, so that a refusal is told as what it is.
fn probe(session: &Arc<Session>, end: &TunnelEnd) -> std::result::Result<(), Refused> {
    use russh::ChannelOpenFailure::{AdministrativelyProhibited, ConnectFailed};
    // A channel may only be closed where the runtime is.
    let error = match runtime().block_on(async { forwarded(session, end).await.map(drop) }) {
        Ok(()) => return Ok(()),
        Err(error) => error,
    };
    let place = match end {
        TunnelEnd::Tcp(host, port) => format!("port {port} of {host}"),
        TunnelEnd::Socket(path) => format!("the socket {path}"),
    };
    let trouble = Trouble::outside(format!("cannot reach {place} through SSH"))
        .at(session.shown().to_owned())
        .lost(session.handle.is_closed());
    Err(match error {
        russh::Error::ChannelOpenFailure(AdministrativelyProhibited) => {
            Refused::Forbidden(trouble.because("the host forbids forwarding").hint(FORBIDDEN))
        }
        // OpenSSH refuses sockets with the words for a place at which nobody answers.
        russh::Error::ChannelOpenFailure(ConnectFailed) if is_socket_there(session, end) => {
            let because = "the host forbids forwarding to sockets, or nothing answers at this one";
            Refused::Forbidden(trouble.because(because).hint(FORBIDDEN))
        }
        russh::Error::ChannelOpenFailure(ConnectFailed) => Refused::Other(
            trouble
                .because("nothing answers there, seen from the host")
                .hint("check host and port of the database; they are meant from the SSH host"),
        ),
        other => Refused::Other(
            trouble.because(other).hint("see whether the database runs on that host"),
        ),
    })
}

/// What can be done where a host forwards nothing.
const FORBIDDEN: &str = "ask the host whether the database can be reached from outside, or let \
                 Fernweh copy itself there during the run: assist = \"copy-self\"";

/// Whether a shell of the host sees the socket.
fn is_socket_there(session: &Session, end: &TunnelEnd) -> bool {
    let TunnelEnd::Socket(path) = end else { return false };
    let Ok(path) = shlex::try_quote(path) else { return false };
    let printed = session.ask(&format!("test -S {path} && echo it is there"));
    printed.is_some_and(|printed| printed.contains("it is there"))
}

async fn forwarded(
    session: &Session,
    end: &TunnelEnd,
) -> std::result::Result<ChannelStream<Msg>, russh::Error> {
    let channel = match end {
        TunnelEnd::Tcp(host, port) => {
            let port = (*port).into();
            session.handle.channel_open_direct_tcpip(host.clone(), port, "127.0.0.1", 0).await?
        }
        TunnelEnd::Socket(path) => {
            session.handle.channel_open_direct_streamlocal(path.clone()).await?
        }
    };
    Ok(channel.into_stream())
}

/// A connection that the copy of this program there hands on.
async fn forwarded_by_copy(
    session: &Session,
    command: &str,
) -> std::result::Result<ChannelStream<Msg>, russh::Error> {
    let channel = session.handle.channel_open_session().await?;
    channel.exec(false, command).await?;
    Ok(channel.into_stream())
}
