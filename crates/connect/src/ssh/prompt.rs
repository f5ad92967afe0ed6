//! A connection whose data is acknowledged at once.
//!
//! Hosts collect what is small until everything before it is acknowledged (RFC 896), which
//! OpenSSH leaves on for logins that only forward. An acknowledgement that takes its usual
//! 40 ms would then hold every answer of a database back as long.

use crate::server::FIRST_ANSWER;
use rustix::net::sockopt::set_tcp_quickack;
use std::io::{Error, ErrorKind, Result};
use std::pin::Pin;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, ToSocketAddrs};
use tokio::time::{Sleep, sleep};

/// The connection.
pub(super) struct Prompt {
    stream: TcpStream,
    /// Ends when the host should have said something; `None` once it has.
    silent: Option<Pin<Box<Sleep>>>,
}

impl Prompt {
    /// Connects.
    pub async fn connect(place: impl ToSocketAddrs) -> Result<Self> {
        let stream = TcpStream::connect(place).await?;
        stream.set_nodelay(true)?;
        // A host that accepts connections and says nothing is not waited for without an end.
        Ok(Self { stream, silent: Some(Box::pin(sleep(FIRST_ANSWER))) })
    }
}

impl AsyncRead for Prompt {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let read = Pin::new(&mut self.stream).poll_read(context, buffer);
        if read.is_ready() {
            self.silent = None;
            // The system forgets it again (tcp(7)); where it is not known, nothing is lost.
            let _ = set_tcp_quickack(&self.stream, true);
        } else if let Some(silent) = &mut self.silent
            && silent.as_mut().poll(context).is_ready()
        {
            let seconds = FIRST_ANSWER.as_secs();
            let words = format!("it accepts connections and says nothing for {seconds} s");
            return Poll::Ready(Err(Error::new(ErrorKind::TimedOut, words)));
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
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
