//! One statement at a time: a gate between the driver and the server.
//!
//! The driver always offers to send several statements at once, and the server then runs
//! whatever follows a semicolon. Statements of archives and scripts must never reach a server
//! that would: the gate passes everything on as it is, but the server's greeting, in which it
//! clears the bit for several statements. The driver offers only what the greeting holds, so
//! the server itself refuses a second statement (`CLIENT_MULTI_STATEMENTS`, MySQL client/server
//! protocol, "Capabilities Flags").

use std::io::{self, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::thread;
use std::time::Duration;

/// Where the server is.
pub(super) enum Server {
    Tcp(String, u16),
    Socket(PathBuf),
}

/// Where the driver finds the gate; a server behind a socket has one behind a socket, since
/// drivers and servers trust sockets with more.
pub(super) enum Gate {
    Tcp(u16),
    Socket(PathBuf, #[allow(dead_code, reason = "keeps the folder")] tempfile::TempDir),
}

/// Seconds in which the driver must come, and in which the server must greet.
const WAIT: Duration = Duration::from_secs(30);

/// A greeting is short; what is longer is none.
const GREETING: usize = 4096;

/// Which of them the driver meets.
pub(super) enum Front {
    Tcp,
    Socket,
}

impl Gate {
    /// Opens a gate for one connection; with `one`, one statement passes at a time.
    pub fn open(server: Server, front: Front, one: bool) -> io::Result<Self> {
        match front {
            Front::Tcp => {
                let listener = TcpListener::bind(("127.0.0.1", 0))?;
                let port = listener.local_addr()?.port();
                thread::spawn(move || {
                    if let Ok((driver, _)) = listener.accept() {
                        drop(listener);
                        let _ = driver.set_nodelay(true);
                        let _ = server.reach(driver, one);
                    }
                });
                Ok(Self::Tcp(port))
            }
            Front::Socket => {
                let folder = tempfile::Builder::new().prefix("fernweh-").tempdir()?;
                let path = folder.path().join("s");
                let listener = UnixListener::bind(&path)?;
                thread::spawn(move || {
                    if let Ok((driver, _)) = listener.accept() {
                        drop(listener);
                        let _ = server.reach(driver, one);
                    }
                });
                Ok(Self::Socket(path, folder))
            }
        }
    }
}

/// A connection, whatever it goes through.
trait Stream: Read + Write + Send + Sized + 'static {
    /// The same connection once more, for the other direction.
    fn twin(&self) -> io::Result<Self>;
    /// How long reading waits; `None`: for ever.
    fn wait(&self, limit: Option<Duration>) -> io::Result<()>;
    /// Ends both directions.
    fn end(&self);
}

macro_rules! stream {
    ($stream:ty) => {
        impl Stream for $stream {
            fn twin(&self) -> io::Result<Self> {
                self.try_clone()
            }
            fn wait(&self, limit: Option<Duration>) -> io::Result<()> {
                self.set_read_timeout(limit)
            }
            fn end(&self) {
                let _ = self.shutdown(Shutdown::Both);
            }
        }
    };
}

stream!(TcpStream);
stream!(UnixStream);

impl Server {
    /// Connects the driver with the server, until either ends.
    fn reach(self, driver: impl Stream, one: bool) -> io::Result<()> {
        match self {
            Self::Tcp(host, port) => {
                let server = TcpStream::connect((host.as_str(), port))?;
                server.set_nodelay(true)?;
                pass(server, driver, one)
            }
            Self::Socket(path) => pass(UnixStream::connect(path)?, driver, one),
        }
    }
}

/// Passes the greeting on, and then everything both ways until either side ends.
fn pass(mut server: impl Stream, mut driver: impl Stream, one: bool) -> io::Result<()> {
    let (mut to_server, mut from_driver) = (server.twin()?, driver.twin()?);
    server.wait(Some(WAIT))?;
    let mut greeting = greeting(&mut server)?;
    if one {
        clear_multiple(&mut greeting[4..]);
    }
    driver.write_all(&greeting)?;
    server.wait(None)?;
    let back = thread::spawn(move || {
        let _ = io::copy(&mut from_driver, &mut to_server);
        to_server.end();
        from_driver.end();
    });
    let _ = io::copy(&mut server, &mut driver);
    server.end();
    driver.end();
    let _ = back.join();
    Ok(())
}

/// The server's first packet.
fn greeting(server: &mut impl Read) -> io::Result<Vec<u8>> {
    let mut packet = vec![0; 4];
    server.read_exact(&mut packet)?;
    let length =
        usize::from(packet[0]) | usize::from(packet[1]) << 8 | usize::from(packet[2]) << 16;
    if length > GREETING {
        return Err(io::ErrorKind::InvalidData.into());
    }
    packet.resize(4 + length, 0);
    server.read_exact(&mut packet[4..])?;
    Ok(packet)
}

/// Clears the bit in a greeting of protocol 10; an error of the server stays as it is.
fn clear_multiple(greeting: &mut [u8]) {
    if greeting.first() != Some(&10) {
        return;
    }
    let Some(end) = greeting.iter().position(|byte| *byte == 0) else { return };
    // Behind the version: connection 4, scramble 8, filler 1, capabilities 2, character set 1,
    // status 2, capabilities 2. The bit is the lowest of the upper half.
    let place = end + 1 + 4 + 8 + 1 + 2 + 1 + 2;
    if let Some(byte) = greeting.get_mut(place) {
        *byte &= !1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_bit_for_several_statements_is_cleared() {
        let mut greeting =
            b"\x0a5.5.5-10.11.6\0AAAABBBBBBBB\0\xfe\xf7\x2d\x02\x00\xff\x81\x15".to_vec();
        let before = greeting.clone();
        clear_multiple(&mut greeting);
        let changed: Vec<usize> =
            (0..greeting.len()).filter(|n| greeting[*n] != before[*n]).collect();
        assert_eq!(changed.len(), 1);
        assert_eq!((before[changed[0]], greeting[changed[0]]), (0xff, 0xfe));
        let mut error = b"\xff\x10\x04Too many connections".to_vec();
        clear_multiple(&mut error);
        assert_eq!(error, b"\xff\x10\x04Too many connections");
    }
}
