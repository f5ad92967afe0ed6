//! Mail over SMTP (RFC 5321), encrypted (RFC 3207, RFC 8314).

use fernweh_ports::{Result, Trouble};
use lettre::message::Mailbox;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::transport::smtp::response::Code;
use lettre::{Message, SmtpTransport, Transport};
use std::path::PathBuf;
use std::time::Duration;

/// A mail server.
#[derive(Clone, Debug)]
pub struct MailServer {
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// Encrypted from the first byte on; otherwise encryption is begun by a command.
    pub encrypted_at_once: bool,
    /// User and password, if it asks for them.
    pub login: Option<(String, String)>,
    /// A certificate authority (PEM file) that is trusted.
    pub authority: Option<PathBuf>,
}

/// What an answer of a mail server means (RFC 5321, 4.2.3; RFC 4954, 6).
fn meaning(code: Code) -> &'static str {
    match u16::from(code) {
        421 | 450..=452 => "it cannot take mail now",
        454 => "it cannot check the password now",
        530 | 538 => "it wants a login, or an encrypted connection",
        534 | 535 => "it refuses user or password",
        550 | 551 | 553 => "it refuses an address",
        552 => "the message is too large for it",
        554 => "it refuses the message",
        _ => "and does not take the message",
    }
}

impl MailServer {
    /// The server for people.
    pub fn shown(&self) -> String {
        let scheme = if self.encrypted_at_once { "smtps" } else { "smtp" };
        format!("{scheme}://{}:{}", self.host, self.port)
    }

    /// Sends a message to each of `to`.
    pub fn send(&self, from: &str, to: &[String], subject: &str, text: &str) -> Result<()> {
        let address = |text: &str| -> Result<Mailbox> {
            text.parse().map_err(|error| {
                Trouble::usage(format!("`{text}` is not a mail address")).because(error)
            })
        };
        let mut message = Message::builder().from(address(from)?).subject(subject);
        for one in to {
            message = message.to(address(one)?);
        }
        let failed = |error: &dyn std::fmt::Display| {
            Trouble::outside("cannot send mail")
                .at(self.shown())
                .because(
                    fernweh_ports::without_address(&self.host, &error.to_string())
                        .unwrap_or_else(|| error.to_string()),
                )
                .hint("check server, password and to of [tell], then: fernweh tell --test")
        };
        let message = message.body(text.to_owned()).map_err(|error| failed(&error))?;
        let tls = self.tls(&failed)?;
        let mut transport = SmtpTransport::builder_dangerous(&self.host)
            .port(self.port)
            .tls(tls)
            .timeout(Some(Duration::from_secs(20)));
        if let Some((user, password)) = &self.login {
            transport = transport.credentials(Credentials::new(user.clone(), password.clone()));
        }
        // What the server says could hold what it was told: its number is enough.
        transport.build().send(&message).map(drop).map_err(|error| match error.status() {
            Some(code) => failed(&format!("the mail server answers {code}, {}", meaning(code))),
            None => failed(&error),
        })
    }

    fn tls(&self, failed: &dyn Fn(&dyn std::fmt::Display) -> Trouble) -> Result<Tls> {
        let mut parameters = TlsParameters::builder(self.host.clone());
        if let Some(path) = &self.authority {
            let pem = std::fs::read(path).map_err(|error| {
                Trouble::file("cannot read the certificate authority", path, &error)
            })?;
            let certificate = Certificate::from_pem(&pem).map_err(|error| failed(&error))?;
            parameters = parameters.add_root_certificate(certificate);
        }
        let parameters = parameters.build_rustls().map_err(|error| failed(&error))?;
        // What does not leave this machine needs no encryption.
        let near = ["localhost", "127.0.0.1", "::1"].contains(&self.host.as_str());
        Ok(match (self.encrypted_at_once, near) {
            (true, _) => Tls::Wrapper(parameters),
            (false, true) => Tls::Opportunistic(parameters),
            (false, false) => Tls::Required(parameters),
        })
    }
}
