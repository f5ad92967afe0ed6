//! An encrypted way to the server, whatever it leads through.
//!
//! The driver encrypts no local socket, knows the authorities that it brings, and no certificate
//! by its digest. So the encryption is made here: the driver speaks to a local socket, over which
//! it shows its password as over an encrypted line, and behind it this asks the server for TLS
//! (`SSLRequest`, MySQL client/server protocol, "Connection Phase"). Packets of the login are
//! counted one further on the server's side; after it all of it passes as it is.

use crate::runtime::runtime;
use crate::server::{Encryption, ServerAddress};
use crate::tls;
use fernweh_ports::{Result, Trouble};
use rustls::pki_types::ServerName;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpStream, UnixListener, UnixStream};
use tokio_rustls::TlsConnector;

/// Capabilities: encryption (`CLIENT_SSL`).
const SSL: u32 = 1 << 11;
/// A packet of a login is short.
const LONGEST: usize = 64 << 10;

/// Where the driver finds the way.
pub(super) struct Secure {
    pub path: PathBuf,
    _folder: tempfile::TempDir,
}

impl Secure {
    /// Opens a way for one connection.
    pub fn open(address: &ServerAddress, how: &Encryption) -> Result<Self> {
        let failed = |error: &dyn std::fmt::Display| {
            Trouble::outside("cannot start the database connection").because(error)
        };
        let connector = TlsConnector::from(Arc::new(tls::client(&how.trust)?));
        let name = ServerName::try_from(address.host.clone()).map_err(|error| failed(&error))?;
        let folder = tempfile::Builder::new().prefix("fernweh-").tempdir();
        let folder = folder.map_err(|error| failed(&error))?;
        let path = folder.path().join("s");
        let near = address.near_socket();
        let (host, port) = (address.host.clone(), address.port);
        let listener = {
            let _inside = runtime().enter();
            UnixListener::bind(&path).map_err(|error| failed(&error))?
        };
        runtime().spawn(async move {
            let Ok((mut driver, _)) = listener.accept().await else { return };
            drop(listener);
            let led = async {
                match near {
                    Some(socket) => {
                        let server = UnixStream::connect(socket).await?;
                        lead(&mut driver, server, connector, name).await
                    }
                    None => {
                        let server = TcpStream::connect((host.as_str(), port)).await?;
                        server.set_nodelay(true)?;
                        lead(&mut driver, server, connector, name).await
                    }
                }
            };
            if let Err(error) = led.await {
                // The driver takes it for an answer of the server.
                let mut packet = vec![0xff];
                packet.extend_from_slice(&2026_u16.to_le_bytes());
                packet.extend_from_slice(format!("#HY000{error}").as_bytes());
                let number = if error.kind() == io::ErrorKind::ConnectionRefused { 0 } else { 2 };
                let _ = write(&mut driver, number, &packet).await;
            }
        });
        Ok(Self { path, _folder: folder })
    }
}

/// Leads a driver through its login, and on.
async fn lead<S: AsyncRead + AsyncWrite + Unpin>(
    driver: &mut UnixStream,
    mut server: S,
    connector: TlsConnector,
    name: ServerName<'static>,
) -> io::Result<()> {
    let (_, mut greeting) = read(&mut server).await?;
    let offered = take_ssl(&mut greeting);
    write(driver, 0, &greeting).await?;
    if greeting.first() == Some(&0xff) {
        return Ok(());
    }
    let (_, mut answer) = read(driver).await?;
    if !offered || answer.len() < 32 {
        return Err(io::Error::other("SSL: the server offers no encryption"));
    }
    answer[1] |= (SSL >> 8) as u8;
    write(&mut server, 1, &answer[..32]).await?;
    let mut server = connector.connect(name, server).await?;
    write(&mut server, 2, &answer).await?;
    loop {
        let (number, packet) = read(&mut server).await?;
        write(driver, number.wrapping_sub(1), &packet).await?;
        match packet.as_slice() {
            [0 | 0xff, ..] | [] => break,
            // The password is known; the last word follows.
            [1, 3] => {}
            _ => {
                let (number, packet) = read(driver).await?;
                write(&mut server, number.wrapping_add(1), &packet).await?;
            }
        }
    }
    copy_bidirectional(driver, &mut server).await.map(drop)
}

async fn read(from: &mut (impl AsyncRead + Unpin)) -> io::Result<(u8, Vec<u8>)> {
    let mut head = [0; 4];
    from.read_exact(&mut head).await?;
    let length = u32::from_le_bytes([head[0], head[1], head[2], 0]) as usize;
    if length > LONGEST {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut packet = vec![0; length];
    from.read_exact(&mut packet).await?;
    Ok((head[3], packet))
}

async fn write(to: &mut (impl AsyncWrite + Unpin), number: u8, packet: &[u8]) -> io::Result<()> {
    let mut bytes = (packet.len() as u32).to_le_bytes()[..3].to_vec();
    bytes.push(number);
    bytes.extend_from_slice(packet);
    to.write_all(&bytes).await?;
    to.flush().await
}

/// Takes the offer of encryption out of a greeting; tells whether it was there.
fn take_ssl(greeting: &mut [u8]) -> bool {
    if greeting.first() != Some(&10) {
        return false;
    }
    let Some(end) = greeting.iter().position(|byte| *byte == 0) else { return false };
    // Behind the version: connection 4, scramble 8, filler 1, capabilities 2.
    let Some(byte) = greeting.get_mut(end + 1 + 4 + 8 + 1 + 1) else { return false };
    let bit = (SSL >> 8) as u8;
    let offered = *byte & bit != 0;
    *byte &= !bit;
    offered
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_offer_is_taken_out_of_a_greeting_once() {
        let mut greeting = b"\x0a8.0.39\0AAAABBBBBBBB\0\xff\xff\xff\x02\x00\xff\xdf\x15".to_vec();
        assert!(take_ssl(&mut greeting));
        assert!(!take_ssl(&mut greeting));
        assert!(!take_ssl(&mut b"\xff\x10\x04Too many connections".to_vec()));
    }
}
