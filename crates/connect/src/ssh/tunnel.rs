//! A database port of a host, as a socket in a private folder of this machine.

use super::copied::Copied;
use super::{Asks, Session, SshAddress, runtime};
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
    session: Arc<Mutex<Arc<Session>>>,
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
        let session = Arc::new(Mutex::new(session));
        let listening = runtime().spawn(serve(listener, session.clone(), way, copied.clone()));
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
        if let (Some(copied), Ok(session)) = (&self.copied, self.session.lock()) {
            runtime().block_on(copied.remove(&session));
        }
    }
}

async fn serve(
    listener: UnixListener,
    session: Arc<Mutex<Arc<Session>>>,
    way: Way,
    copied: Option<Arc<Copied>>,
) {
    while let Ok((mut near, _)) = listener.accept().await {
        let Ok(mut now) = session.lock().map(|session| session.clone()) else { return };
        if now.handle.is_closed() {
            let (address, asks) = way.login.clone();
            // Without one, the driver says that it was not reached, and tries again.
            let Ok(again) = Session::login(address, asks).await else { continue };
            now = again.clone();
            if let Ok(mut session) = session.lock() {
                *session = again;
            }
        }
        let (end, copied) = (way.end.clone(), copied.clone());
        tokio::spawn(async move {
            // A refusal ends the connection; the driver says so.
            let far = match &copied {
                None => forwarded(&now, &end).await,
                Some(copied) => handed_on(&now, &copied.command(&end)).await,
            };
            if let Ok(mut far) = far {
                let _ = copy_bidirectional(&mut near, &mut far).await;
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
            Refused::Forbidden(trouble.because("the host forbids forwarding").hint(
                "ask the host whether the database can be reached from outside, or let Fernweh \
                 copy itself there for the time of the run: assist = \"copy-self\"",
            ))
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
async fn handed_on(
    session: &Session,
    command: &str,
) -> std::result::Result<ChannelStream<Msg>, russh::Error> {
    let channel = session.handle.channel_open_session().await?;
    channel.exec(false, command).await?;
    Ok(channel.into_stream())
}
