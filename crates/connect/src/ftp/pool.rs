//! Connections to an FTP host, opened as they are needed and used again.

use super::FtpAddress;
use fernweh_ports::{Result, Trouble};
use rustls::ClientConfig;
use rustls::client::Resumption;
use rustls::version::{TLS12, TLS13};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use suppaftp::tokio::{AsyncRustlsConnector, AsyncRustlsFtpStream};
use suppaftp::types::FileType;
use suppaftp::{Encoding, FtpError, Mode, Status};
use tokio::net::TcpStream;
use tokio::sync::{Semaphore, SemaphorePermit};

/// How many connections are kept; hosts that allow fewer say so and get fewer.
pub(super) const CONNECTIONS: usize = 6;
const PATIENCE: Duration = Duration::from_secs(20);
/// A host that says nothing for so long may wait for encryption.
const SILENT: Duration = Duration::from_secs(4);
/// The port on which connections are encrypted from the first byte (IANA: ftps).
const FROM_THE_FIRST_BYTE: u16 = 990;

/// Names as the bytes that they are: each byte is the character of its number.
#[derive(Debug)]
struct Bytewise;

impl Encoding for Bytewise {
    fn decode(&self, bytes: &[u8]) -> String {
        as_text(bytes)
    }

    fn encode(&self, text: &str) -> std::io::Result<Vec<u8>> {
        Ok(as_bytes(text))
    }
}

/// Bytes as characters of the same numbers.
pub(super) fn as_text(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| char::from(*byte)).collect()
}

/// Characters below 256 as bytes of the same numbers.
pub(super) fn as_bytes(text: &str) -> Vec<u8> {
    text.chars().map(|one| u8::try_from(u32::from(one)).unwrap_or(b'?')).collect()
}

/// The connections.
pub(super) struct Pool {
    address: FtpAddress,
    /// How to encrypt, in the order of trying.
    tls: Vec<ClientConfig>,
    idle: Mutex<Vec<AsyncRustlsFtpStream>>,
    permits: Semaphore,
    open: AtomicUsize,
}

/// A connection in use; it is given back if it is still good.
pub(super) struct Connection<'a> {
    pub ftp: AsyncRustlsFtpStream,
    pool: &'a Pool,
    _permit: SemaphorePermit<'a>,
}

impl Connection<'_> {
    /// Gives the connection back.
    pub fn back(self) {
        if let Ok(mut idle) = self.pool.idle.lock() {
            idle.push(self.ftp);
        }
    }

    /// The connection is not usable any more.
    pub fn broken(self) {
        self.pool.open.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Pool {
    pub fn new(address: FtpAddress) -> Result<Self> {
        // Many hosts want to see the session of a control connection again on those of its
        // data. TLS 1.3 gives few tickets, and each is good for once.
        let tls = match address.encrypted {
            true => [&TLS12, &TLS13]
                .into_iter()
                .map(|version| crate::tls::client_of(&address.trust, &[version]))
                .collect::<Result<Vec<_>>>()?,
            false => Vec::new(),
        };
        let (idle, permits) = (Mutex::default(), Semaphore::new(CONNECTIONS));
        Ok(Self { address, tls, idle, permits, open: AtomicUsize::new(0) })
    }

    pub fn shown(&self) -> String {
        self.address.shown()
    }

    /// A connection that nobody uses, or a new one.
    pub async fn connection(&self) -> Result<Connection<'_>> {
        loop {
            let permit = self.permits.acquire().await.map_err(|error| self.trouble(&error))?;
            let idle = self.idle.lock().ok().and_then(|mut idle| idle.pop());
            if let Some(ftp) = idle {
                return Ok(Connection { ftp, pool: self, _permit: permit });
            }
            match self.connect().await {
                Ok(ftp) => {
                    self.open.fetch_add(1, Ordering::Relaxed);
                    return Ok(Connection { ftp, pool: self, _permit: permit });
                }
                // The host allows no more than there are.
                Err(_) if self.open.load(Ordering::Relaxed) > 0 => permit.forget(),
                Err(trouble) => return Err(trouble),
            }
        }
    }

    async fn connect(&self) -> Result<AsyncRustlsFtpStream> {
        match tokio::time::timeout(PATIENCE, self.log_in()).await {
            Ok(outcome) => outcome,
            Err(_) => Err(self
                .trouble(&"it does not answer")
                .hint("check host and port; a firewall may be in between")
                .lost(true)),
        }
    }

    async fn log_in(&self) -> Result<AsyncRustlsFtpStream> {
        let FtpAddress { host, user, password, .. } = &self.address;
        let failed = |error: FtpError| self.trouble(&readable(&error)).lost(is_lost(&error));
        let mut ftp = match self.address.encrypted {
            true => self.secured().await?,
            false => self.greeted().await?,
        };
        ftp.set_encoding(Bytewise).await;
        ftp.login(user, password).await.map_err(|error| match &error {
            FtpError::UnexpectedResponse(_) if !is_lost(&error) => {
                Trouble::outside(format!("cannot log in at {host} over FTP"))
                    .at(self.address.shown())
                    .because(format!("the host refuses user {user}: {}", readable(&error)))
                    .hint("set password.files of the site, or check user and password")
            }
            _ => failed(error),
        })?;
        ftp.set_mode(Mode::Passive);
        // A host behind a router names an address that nobody reaches.
        ftp.set_passive_nat_workaround(true);
        ftp.transfer_type(FileType::Binary).await.map_err(failed)?;
        // Names are UTF-8 where the host can do that; others leave bytes alone.
        let utf8 = [Status::CommandOk, Status::CommandNotImplemented];
        let _ = ftp.custom_command("OPTS UTF8 ON", &utf8).await;
        Ok(ftp)
    }

    /// An encrypted connection: as the host offers it once it has greeted (RFC 4217), or from the
    /// first byte, as on port 990 and where nobody greets.
    async fn secured(&self) -> Result<AsyncRustlsFtpStream> {
        if self.address.port == FROM_THE_FIRST_BYTE {
            return self.secured_at_once().await;
        }
        let mut greeting = std::pin::pin!(self.greeted());
        let greeted = match tokio::time::timeout(SILENT, &mut greeting).await {
            Ok(greeted) => greeted?,
            // It may be slow, and nothing else.
            Err(_) => tokio::select! {
                greeted = &mut greeting => greeted?,
                at_once = self.secured_at_once() => match at_once {
                    Ok(ftp) => return Ok(ftp),
                    Err(_) => greeting.await?,
                },
            },
        };
        self.secured_after(greeted).await
    }

    fn connector(&self, config: &ClientConfig) -> AsyncRustlsConnector {
        let mut config = config.clone();
        // Sessions of one's own: a host knows those of its other connections apart.
        config.resumption = Resumption::in_memory_sessions(16);
        AsyncRustlsConnector::from(tokio_rustls::TlsConnector::from(Arc::new(config)))
    }

    async fn secured_after(&self, mut ftp: AsyncRustlsFtpStream) -> Result<AsyncRustlsFtpStream> {
        for (tries, config) in self.tls.iter().enumerate() {
            match ftp.into_secure(self.connector(config), &self.address.host).await {
                Ok(secured) => return Ok(secured),
                Err(FtpError::SecureError(_)) if tries + 1 < self.tls.len() => {
                    ftp = self.greeted().await?;
                }
                Err(error) => return Err(self.not_secured(&error)),
            }
        }
        Ok(ftp)
    }

    async fn secured_at_once(&self) -> Result<AsyncRustlsFtpStream> {
        let FtpAddress { host, port, .. } = &self.address;
        let mut refused = None;
        for config in &self.tls {
            let place = (host.as_str(), *port);
            let connector = self.connector(config);
            match AsyncRustlsFtpStream::connect_secure_implicit(place, connector, host).await {
                Ok(mut ftp) => {
                    // The data is encrypted, too (RFC 4217, 9).
                    for command in ["PBSZ 0", "PROT P"] {
                        let said = ftp.custom_command(command, &[Status::CommandOk]).await;
                        said.map_err(|error| self.not_secured(&error))?;
                    }
                    return Ok(ftp);
                }
                Err(error) => refused = Some(error),
            }
        }
        Err(match refused {
            Some(error) => self.not_secured(&error),
            None => self.trouble(&"no common version of TLS"),
        })
    }

    fn not_secured(&self, error: &FtpError) -> Trouble {
        self.trouble(&readable(error)).lost(is_lost(error)).hint(crate::tls::HINT)
    }

    /// A connection on which the host has said that it is ready.
    async fn greeted(&self) -> Result<AsyncRustlsFtpStream> {
        let FtpAddress { host, port, .. } = &self.address;
        let stream = TcpStream::connect((host.as_str(), *port)).await.map_err(|error| {
            let hint = match error.kind() {
                std::io::ErrorKind::ConnectionRefused => "check the port: nothing answers on it",
                _ => "check the spelling of the host's name",
            };
            let host = &self.address.host;
            match fernweh_ports::without_address(host, &error.to_string()) {
                Some(unknown) => self.trouble(&unknown).hint(hint),
                None => self.trouble(&error).hint(hint),
            }
        })?;
        let _ = stream.set_nodelay(true);
        let greeted = AsyncRustlsFtpStream::connect_with_stream(stream).await;
        greeted.map_err(|error| self.trouble(&readable(&error)).lost(is_lost(&error)))
    }

    fn trouble(&self, because: &dyn std::fmt::Display) -> Trouble {
        Trouble::outside(format!("cannot reach {} over FTP", self.address.host))
            .at(self.address.shown())
            .because(because)
    }
}

/// What the host said, or what happened, without the library's words.
pub(super) fn readable(error: &FtpError) -> String {
    match error {
        FtpError::UnexpectedResponse(response) => {
            let text = String::from_utf8_lossy(&response.body);
            text.trim().replace("\r\n", " ")
        }
        FtpError::ConnectionError(error) => error.to_string(),
        other => other.to_string(),
    }
}

/// Whether the connection itself is of no use any more.
pub(super) fn is_lost(error: &FtpError) -> bool {
    match error {
        FtpError::UnexpectedResponse(response) => {
            matches!(response.status, Status::NotAvailable)
        }
        FtpError::ConnectionError(error) => error.kind() != std::io::ErrorKind::InvalidInput,
        _ => true,
    }
}
