//! SSH logins: the host, its key, the user, and what runs over the connection.
//!
//! Names, ports, users, keys and jump hosts are those of `~/.ssh/config`, so that a host is
//! reached here as it is with `ssh` on a terminal. Host keys are checked against
//! `known_hosts` (RFC 4251, 4.1); a key that changed is refused.

mod digests;
mod known;
mod known_hosts;
mod login;
mod prompt;
mod settings;

pub use settings::SshAddress;

use crate::runtime::runtime;
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble};
use known::{Checker, Verdict};
use prompt::Prompt;
use russh::client::{self, Handle};
use russh::keys::Algorithm;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};

/// Asks the person at the terminal, if there is one.
pub trait Asks: Send + Sync {
    /// A secret that is not shown while it is typed; none without a terminal.
    fn secret(&self, prompt: &str) -> Option<String>;
    /// Whether something may be done; none without a terminal.
    fn agrees(&self, question: &str) -> Option<bool>;
}

/// How long a host may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);

/// A login on a host.
pub struct Session {
    pub(crate) handle: Handle<Checker>,
    shown: String,
    /// The hosts on the way, which must stay connected.
    _before: Option<Arc<Session>>,
}

impl Session {
    /// Logs in, by way of the jump hosts of the configuration.
    pub fn open(address: &SshAddress, asks: &Arc<dyn Asks>) -> Result<Arc<Self>> {
        let login = Self::login(address.clone(), asks.clone());
        runtime().block_on(crate::stop::unless_wanted(login))
    }

    pub(crate) async fn login(address: SshAddress, asks: Arc<dyn Asks>) -> Result<Arc<Self>> {
        let mut before: Option<Arc<Session>> = None;
        for jump in address.jumps()? {
            before = Some(Self::hop(&jump, &asks, before).await?);
        }
        Self::hop(&address, &asks, before).await
    }

    async fn hop(
        address: &SshAddress,
        asks: &Arc<dyn Asks>,
        before: Option<Arc<Session>>,
    ) -> Result<Arc<Self>> {
        let shown = address.shown();
        let verdict = Verdict::default();
        let checker = Checker::new(address, asks.clone(), verdict.clone());
        let config = Arc::new(configuration(&checker));
        let connecting = async {
            match (&before, &address.command) {
                (None, Some(command)) => {
                    client::connect_stream(config, by_command(command)?, checker).await
                }
                (None, None) => {
                    let place = (address.host_name.as_str(), address.port);
                    client::connect_stream(config, Prompt::connect(place).await?, checker).await
                }
                (Some(session), _) => {
                    let port = address.port.into();
                    let way = session
                        .handle
                        .channel_open_direct_tcpip(&address.host_name, port, "127.0.0.1", 0)
                        .await?;
                    client::connect_stream(config, way.into_stream(), checker).await
                }
            }
        };
        // The question about a new key may take its time; the network may not.
        let connected = match tokio::time::timeout(PATIENCE * 30, connecting).await {
            Ok(connected) => connected,
            Err(_) => Err(russh::Error::ConnectionTimeout),
        };
        let mut handle = connected
            .map_err(|error| verdict.take().unwrap_or_else(|| unreachable(address, &error)))?;
        login::login(&mut handle, address, asks).await?;
        Ok(Arc::new(Self { handle, shown, _before: before }))
    }

    /// The host for people.
    pub fn shown(&self) -> &str {
        &self.shown
    }

    /// A channel on which `sftp` is spoken.
    pub(crate) async fn sftp(&self) -> Result<russh::Channel<client::Msg>> {
        let refused = |error: russh::Error| {
            self.broken("cannot begin to transfer files over SSH", &error)
                .hint("ask the host whether SFTP is part of this login; FTP may be")
        };
        let channel = self.handle.channel_open_session().await.map_err(refused)?;
        channel.request_subsystem(true, "sftp").await.map_err(refused)?;
        let mut channel = channel;
        loop {
            match channel.wait().await {
                Some(russh::ChannelMsg::Success) => return Ok(channel),
                Some(russh::ChannelMsg::Failure) => {
                    return Err(refused(russh::Error::RequestDenied));
                }
                Some(russh::ChannelMsg::WindowAdjusted { .. }) => {}
                _ => return Err(refused(russh::Error::Disconnect)),
            }
        }
    }

    /// Runs a command on the host; gives how it ended and what it printed.
    pub fn run(&self, command: &str) -> Result<Ran> {
        runtime().block_on(self.ran(command))
    }

    /// What a command prints that asks for something small; `None` where no shell answers in time:
    /// some hosts start a server of file transfers whatever is asked.
    pub fn ask(&self, command: &str) -> Option<String> {
        const END: &str = "end of the answer";
        let command = format!("{command}; echo; echo '{END}'");
        runtime().block_on(async {
            let asked = tokio::time::timeout(crate::server::FIRST_ANSWER, self.ran(&command));
            let printed = asked.await.ok()?.ok()?.printed;
            Some(printed.trim_end().strip_suffix(END)?.to_owned())
        })
    }

    pub(crate) async fn ran(&self, command: &str) -> Result<Ran> {
        self.ran_up_to(command, PRINTED).await
    }

    /// Runs a command, and keeps so many bytes of what it prints.
    async fn ran_up_to(&self, command: &str, most: usize) -> Result<Ran> {
        let failed = |error: russh::Error| {
            self.broken("cannot run a command on the host", &error)
                .hint("ask the host whether this login has a shell")
        };
        let mut channel = self.handle.channel_open_session().await.map_err(failed)?;
        channel.exec(true, command).await.map_err(failed)?;
        // Nobody types anything for it.
        channel.eof().await.map_err(failed)?;
        let mut ran = Ran::default();
        while let Some(message) = channel.wait().await {
            match message {
                russh::ChannelMsg::Data { data } => ran.take(&data, most),
                russh::ChannelMsg::ExtendedData { data, .. } => ran.take(&data, most),
                russh::ChannelMsg::ExitStatus { exit_status } => ran.status = Some(exit_status),
                russh::ChannelMsg::Failure => return Err(failed(russh::Error::RequestDenied)),
                _ => {}
            }
        }
        Ok(ran)
    }

    fn broken(&self, what: &str, error: &russh::Error) -> Trouble {
        Trouble::outside(what).at(self.shown.clone()).because(error).lost(self.handle.is_closed())
    }
}

/// Bytes of what a command prints that are kept, unless more is asked for.
const PRINTED: usize = 8 << 10;

/// How a command on the host ended.
#[derive(Clone, Debug, Default)]
pub struct Ran {
    /// Its exit status, if it said one.
    pub status: Option<u32>,
    /// The beginning of what it printed.
    pub printed: String,
}

impl Ran {
    fn take(&mut self, data: &[u8], most: usize) {
        if self.printed.len() < most {
            self.printed.push_str(&String::from_utf8_lossy(data));
        }
    }
}

fn configuration(checker: &Checker) -> client::Config {
    let mut config = client::Config {
        window_size: limits::SSH_WINDOW,
        maximum_packet_size: 64 << 10,
        channel_buffer_size: 128,
        keepalive_interval: Some(Duration::from_secs(15)),
        keepalive_max: 4,
        ..client::Config::default()
    };
    // Much cheaper than the other ciphers on processors without special instructions.
    let gcm = [russh::cipher::AES_128_GCM, russh::cipher::AES_256_GCM];
    let others = config.preferred.cipher.iter().filter(|name| !gcm.contains(name)).copied();
    config.preferred.cipher = gcm.into_iter().chain(others).collect::<Vec<_>>().into();
    // A host that is known by one kind of key shall show that one.
    let known = checker.known_kinds();
    let order = &config.preferred.key;
    let (first, rest): (Vec<_>, Vec<_>) = order
        .iter()
        .cloned()
        .partition(|kind| known.iter().any(|known| known == kind || is_rsa(known) && is_rsa(kind)));
    config.preferred.key = first.into_iter().chain(rest).collect::<Vec<_>>().into();
    config
}

fn is_rsa(kind: &Algorithm) -> bool {
    matches!(kind, Algorithm::Rsa { .. })
}

fn unreachable(address: &SshAddress, error: &russh::Error) -> Trouble {
    use std::io::ErrorKind;
    let trouble = Trouble::outside(format!("cannot reach {} over SSH", address.host_name))
        .at(address.shown())
        .because(error)
        .lost(true);
    match error {
        russh::Error::IO(io) if io.kind() == ErrorKind::ConnectionRefused => {
            let mut refused = trouble
                .because(format!("nothing answers on port {} ({error})", address.port))
                .hint("check host and port; many hosts have SSH on another port than 22");
            refused.lost = false;
            refused
        }
        russh::Error::IO(io) if io.to_string().contains("lookup") => {
            let mut unknown = trouble
                .because(format!("no address is known for {}", address.host_name))
                .hint("check the spelling of the host's name");
            unknown.lost = false;
            unknown
        }
        russh::Error::ConnectionTimeout => {
            trouble.hint("a firewall may be in between; check host and port")
        }
        russh::Error::NoCommonAlgo { .. } => {
            let mut old = trouble.hint("the host speaks ciphers or keys that are too old");
            old.lost = false;
            old
        }
        _ => trouble.hint("check host and port; is SSH what answers there?"),
    }
}

/// A text as one word for the shell of a host.
pub fn shell_word(text: &[u8]) -> Result<String> {
    let text = String::from_utf8_lossy(text);
    match shlex::try_quote(&text) {
        Ok(word) => Ok(word.into_owned()),
        Err(error) => Err(Trouble::usage("a path cannot be named to a shell").because(error)),
    }
}

/// What a command reads and writes, in place of a connection (`ProxyCommand`). It ends with it.
fn by_command(
    command: &str,
) -> std::io::Result<impl AsyncRead + AsyncWrite + Unpin + Send + use<>> {
    use std::process::Stdio;
    let mut child = tokio::process::Command::new("sh")
        .args(["-c", &format!("exec {command}")])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()?;
    let no_pipe = || std::io::Error::other("the command has no input or no output");
    let (from, to) =
        (child.stdout.take().ok_or_else(no_pipe)?, child.stdin.take().ok_or_else(no_pipe)?);
    // Whoever has ended is asked for its outcome, or it stays in the list of processes.
    runtime().spawn(async move { child.wait().await });
    Ok(tokio::io::join(from, to))
}
