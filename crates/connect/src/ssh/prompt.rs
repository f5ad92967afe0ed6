//! A connection whose data is acknowledged at once.
//!
//! Hosts collect what is small until everything before it is acknowledged (RFC 896), which
//! OpenSSH leaves on for logins that only forward. An acknowledgement that takes its usual
//! 40 ms would then hold every answer of a database back as long.

use rustix::net::sockopt::set_tcp_quickack;
use std::io::Result;
use std::pin::Pin;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, ToSocketAddrs};

/// The connection.
pub(super) struct Prompt(TcpStream);

impl Prompt {
    /// Connects.
    pub async fn connect(place: impl ToSocketAddrs) -> Result<Self> {
        let stream = TcpStream::connect(place).await?;
        stream.set_nodelay(true)?;
        Ok(Self(stream))
    }
}

impl AsyncRead for Prompt {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let read = Pin::new(&mut self.0).poll_read(context, buffer);
        if read.is_ready() {
            // The system forgets it again (tcp(7)); where it is not known, nothing is lost.
            let _ = set_tcp_quickack(&self.0, true);
        }
        read
    }
}

impl AsyncWrite for Prompt {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<Result<usize>> {
        Pin::new(&mut self.0).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.0).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(context)
    }
}
