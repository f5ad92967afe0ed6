//! A database port of a host, as a socket in a private folder of this machine.

use super::{Asks, Session, SshAddress, runtime};
use fernweh_ports::{Result, Trouble};
use std::path::PathBuf;
use std::sync::Arc;
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

/// Forwards connections for as long as it lives.
pub struct Tunnel {
    socket: PathBuf,
    listening: JoinHandle<()>,
    /// Nobody else may enter it.
    _folder: tempfile::TempDir,
}

impl Tunnel {
    /// Opens a socket of this name; each connection to it goes through the host to `end`. A
    /// session that was lost is begun anew with `login`.
    pub fn open(
        session: Arc<Session>,
        login: (SshAddress, Arc<dyn Asks>),
        end: TunnelEnd,
        name: &str,
    ) -> Result<Self> {
        let trouble = |error: &dyn std::fmt::Display| {
            Trouble::outside("cannot make room for a forwarded connection").because(error)
        };
        let folder = tempfile::Builder::new().prefix("fernweh-").tempdir();
        let folder = folder.map_err(|error| trouble(&error))?;
        let socket = folder.path().join(name);
        probe(&session, &end)?;
        let listener = {
            let _inside = runtime().enter();
            UnixListener::bind(&socket).map_err(|error| trouble(&error))?
        };
        let listening = runtime().spawn(async move {
            let mut session = session;
            while let Ok((mut near, _)) = listener.accept().await {
                if session.handle.is_closed() {
                    let (address, asks) = login.clone();
                    // Without one, the driver says that it was not reached, and tries again.
                    let Ok(again) = Session::login(address, asks).await else { continue };
                    session = again;
                }
                let (session, end) = (session.clone(), end.clone());
                tokio::spawn(async move {
                    // A refusal ends the connection; the driver says so.
                    if let Ok(far) = channel(&session, &end).await {
                        let mut far = far.into_stream();
                        let _ = copy_bidirectional(&mut near, &mut far).await;
                    }
                });
            }
        });
        Ok(Self { socket, listening, _folder: folder })
    }

    /// The socket.
    pub fn socket(&self) -> &std::path::Path {
        &self.socket
    }
}

impl Drop for Tunnel {
    fn drop(&mut self) {
        self.listening.abort();
    }
}

/// Whether the host forwards at all, so that a refusal is told as what it is.
fn probe(session: &Arc<Session>, end: &TunnelEnd) -> Result<()> {
    let opened = runtime().block_on(channel(session, end));
    let opened = opened.map_err(|error| {
        let place = match end {
            TunnelEnd::Tcp(host, port) => format!("port {port} of {host}"),
            TunnelEnd::Socket(path) => format!("the socket {path}"),
        };
        let trouble = Trouble::outside(format!("cannot reach {place} through SSH"))
            .at(session.shown().to_owned())
            .lost(session.handle.is_closed());
        match error {
            russh::Error::ChannelOpenFailure(
                russh::ChannelOpenFailure::AdministrativelyProhibited,
            ) => trouble.because("the host forbids forwarding").hint(
                "ask the host whether the database can be reached from outside, or allow \
                     Fernweh to run there: assist = \"copy-self\"",
            ),
            russh::Error::ChannelOpenFailure(russh::ChannelOpenFailure::ConnectFailed) => trouble
                .because("nothing answers there, seen from the host")
                .hint("check host and port of the database; they are meant from the SSH host"),
            other => trouble.because(other).hint("see whether the database runs on that host"),
        }
    })?;
    runtime().block_on(async {
        let _ = opened.close().await;
    });
    Ok(())
}

async fn channel(
    session: &Session,
    end: &TunnelEnd,
) -> std::result::Result<russh::Channel<russh::client::Msg>, russh::Error> {
    match end {
        TunnelEnd::Tcp(host, port) => {
            let port = (*port).into();
            session.handle.channel_open_direct_tcpip(host.clone(), port, "127.0.0.1", 0).await
        }
        TunnelEnd::Socket(path) => {
            session.handle.channel_open_direct_streamlocal(path.clone()).await
        }
    }
}
