//! File trees over FTP, plain (RFC 959) and with explicit TLS (RFC 4217).
//!
//! One connection does one thing at a time, so several are kept.

mod listing;
mod pool;
mod tree;

pub use tree::FtpTree;

use crate::tls::Trust;

/// A login on an FTP host.
#[derive(Clone, Debug)]
pub struct FtpAddress {
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The user.
    pub user: String,
    /// The password.
    pub password: String,
    /// With TLS, which is then required.
    pub encrypted: bool,
    /// Who is trusted, beside the authorities of this machine.
    pub trust: Trust,
}

impl FtpAddress {
    /// The host for people.
    pub fn shown(&self) -> String {
        let scheme = if self.encrypted { "ftps" } else { "ftp" };
        let port = if self.port == 21 { String::new() } else { format!(":{}", self.port) };
        format!("{scheme}://{}@{}{port}", self.user, self.host)
    }
}
