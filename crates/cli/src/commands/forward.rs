//! `fernweh forward`: what the program does on a host to which it has copied itself.

use crate::exit::DONE;
use clap::Args;
use fernweh_ports::{Result, Trouble};
use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::os::unix::net::UnixStream;

/// Forward the standard streams to a port or a socket of this machine
#[derive(Debug, Args)]
pub struct ForwardArgs {
    /// HOST:PORT, or the path of a socket
    pub to: String,
}

/// Runs the command.
pub fn run(args: &ForwardArgs) -> Result<u8> {
    let cannot = |error: std::io::Error| {
        Trouble::outside("cannot forward").at(args.to.clone()).because(error)
    };
    if args.to.starts_with('/') {
        let stream = UnixStream::connect(&args.to).map_err(cannot)?;
        let other = stream.try_clone().map_err(cannot)?;
        forward(stream, other, |stream| stream.shutdown(Shutdown::Write))
    } else {
        let stream = TcpStream::connect(&args.to).map_err(cannot)?;
        stream.set_nodelay(true).map_err(cannot)?;
        let other = stream.try_clone().map_err(cannot)?;
        forward(stream, other, |stream| stream.shutdown(Shutdown::Write))
    }
    .map_err(cannot)?;
    Ok(DONE)
}

/// Copies both ways until the other side ends.
fn forward<S: Read + Write + Send + 'static>(
    mut from: S,
    mut to: S,
    end: impl Fn(&S) -> std::io::Result<()> + Send + 'static,
) -> std::io::Result<()> {
    std::thread::spawn(move || {
        let _ = pass(&mut std::io::stdin().lock(), &mut to);
        let _ = end(&to);
    });
    pass(&mut from, &mut std::io::stdout().lock())
}

/// Passes portions on as they come, without waiting for more.
fn pass(from: &mut impl Read, to: &mut impl Write) -> std::io::Result<()> {
    let mut portion = vec![0; 64 << 10];
    loop {
        match from.read(&mut portion)? {
            0 => return Ok(()),
            length => {
                to.write_all(&portion[..length])?;
                to.flush()?;
            }
        }
    }
}
