//! Logging in: agent, keys, questions, password; whichever the host takes (RFC 4252, 4256).

use super::known::Checker;
use super::{Asks, SshAddress};
use fernweh_ports::{Result, Trouble};
use russh::client::{AuthResult, Handle, KeyboardInteractiveAuthResponse, Prompt};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{PrivateKey, PrivateKeyWithHashAlg, load_secret_key};
use russh::{MethodKind, MethodSet};
use std::path::Path;
use std::sync::Arc;

/// Hosts end the connection after a few keys that do not fit; the password shall have its turn.
const KEYS: usize = 4;

/// What was tried, for the message if nothing fits.
#[derive(Default)]
struct Tried {
    words: Vec<String>,
    offered: Option<MethodSet>,
}

impl Tried {
    fn takes(&self, method: MethodKind) -> bool {
        self.offered.as_ref().is_none_or(|offered| offered.contains(&method))
    }

    fn refused(&mut self, what: String, answer: AuthResult) -> bool {
        match answer {
            AuthResult::Success => true,
            AuthResult::Failure { remaining_methods, partial_success } => {
                self.offered = Some(remaining_methods);
                self.words.push(if partial_success {
                    format!("{what} (accepted, not enough)")
                } else {
                    what
                });
                false
            }
        }
    }
}

/// Logs in, or says what was tried and what the host would take.
pub(super) async fn login(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
) -> Result<()> {
    let mut tried = Tried::default();
    match attempts(handle, address, asks, &mut tried).await {
        Ok(true) => Ok(()),
        Ok(false) => Err(refused(address, &tried, None)),
        Err(Failed::Told(trouble)) => Err(trouble),
        Err(Failed::Lost(error)) => Err(refused(address, &tried, Some(&error))),
    }
}

enum Failed {
    Told(Trouble),
    Lost(russh::Error),
}

impl From<russh::Error> for Failed {
    fn from(error: russh::Error) -> Self {
        Self::Lost(error)
    }
}

async fn attempts(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    tried: &mut Tried,
) -> std::result::Result<bool, Failed> {
    let user = &address.user;
    // Also tells which ways there are.
    let none = handle.authenticate_none(user).await?;
    if tried.refused("no password".into(), none) {
        return Ok(true);
    }
    tried.words.clear();
    if tried.takes(MethodKind::PublicKey)
        && (with_keys(handle, address, asks, tried).await?
            || with_agent(handle, user, tried).await?)
    {
        return Ok(true);
    }
    let mut password = address.password.clone();
    if password.is_none()
        && (tried.takes(MethodKind::Password) || tried.takes(MethodKind::KeyboardInteractive))
    {
        password = asks.secret(&format!("password of {}", address.shown()));
    }
    if tried.takes(MethodKind::Password)
        && let Some(password) = &password
    {
        let answer = handle.authenticate_password(user, password).await?;
        if tried.refused("the password".into(), answer) {
            return Ok(true);
        }
    }
    if tried.takes(MethodKind::KeyboardInteractive) {
        return questions(handle, address, asks, password.as_deref(), tried).await;
    }
    Ok(false)
}

async fn with_keys(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    tried: &mut Tried,
) -> std::result::Result<bool, Failed> {
    for file in address.keys.iter().take(KEYS) {
        let Some(key) = opened(file, address, asks)? else { continue };
        let hash = handle.best_supported_rsa_hash().await?.flatten();
        let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
        let answer = handle.authenticate_publickey(&address.user, key).await?;
        if tried.refused(format!("key {}", file.display()), answer) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The key in a file; `None` if it is not there, though it may be.
fn opened(
    file: &Path,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
) -> std::result::Result<Option<PrivateKey>, Failed> {
    let trouble = |because: String| {
        Failed::Told(
            Trouble::outside("cannot use a private key")
                .at(file.display().to_string())
                .because(because)
                .hint("check the file named as key, or as IdentityFile in ~/.ssh/config"),
        )
    };
    match load_secret_key(file, None) {
        Ok(key) => Ok(Some(key)),
        Err(russh::keys::Error::IO(error)) if error.kind() == std::io::ErrorKind::NotFound => {
            match address.keys.len() {
                1 => Err(trouble("there is no such file".into())),
                _ => Ok(None),
            }
        }
        Err(russh::keys::Error::KeyIsEncrypted) => {
            let prompt = format!("passphrase of key {}", file.display());
            let word = address
                .password
                .clone()
                .or_else(|| tokio::task::block_in_place(|| asks.secret(&prompt)));
            let Some(word) = word else {
                return Err(trouble(
                    "it is encrypted, and no password is configured for it".into(),
                ));
            };
            match load_secret_key(file, Some(&word)) {
                Ok(key) => Ok(Some(key)),
                Err(_) => Err(trouble("it is encrypted, and the password does not open it".into())),
            }
        }
        Err(error) => Err(trouble(error.to_string())),
    }
}

async fn with_agent(
    handle: &mut Handle<Checker>,
    user: &str,
    tried: &mut Tried,
) -> std::result::Result<bool, Failed> {
    let Ok(mut agent) = AgentClient::connect_env().await else { return Ok(false) };
    let Ok(identities) = agent.request_identities().await else { return Ok(false) };
    for identity in identities.into_iter().take(KEYS) {
        let AgentIdentity::PublicKey { key, comment } = identity else { continue };
        let hash = handle.best_supported_rsa_hash().await?.flatten();
        let hash = hash.filter(|_| key.algorithm().is_rsa());
        match handle.authenticate_publickey_with(user, key, hash, &mut agent).await {
            Ok(answer) => {
                if tried.refused(format!("the agent's key {comment}"), answer) {
                    return Ok(true);
                }
            }
            Err(_) => tried.words.push(format!("the agent's key {comment} (it does not sign)")),
        }
    }
    Ok(false)
}

async fn questions(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    password: Option<&str>,
    tried: &mut Tried,
) -> std::result::Result<bool, Failed> {
    let mut answer =
        handle.authenticate_keyboard_interactive_start(&address.user, None::<String>).await?;
    // A host asks once or twice; one that goes on asking is left.
    for asked in 0..8 {
        match answer {
            KeyboardInteractiveAuthResponse::Success => return Ok(true),
            KeyboardInteractiveAuthResponse::Failure { remaining_methods, partial_success } => {
                let failure = AuthResult::Failure { remaining_methods, partial_success };
                tried.refused("answers to its questions".into(), failure);
                if asked == 0 {
                    // It has not asked anything.
                    tried.words.pop();
                }
                return Ok(false);
            }
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                let answers: Option<Vec<String>> = prompts
                    .iter()
                    .map(|prompt| answered(prompt, address, asks, password))
                    .collect();
                let Some(answers) = answers else {
                    tried.words.push("its questions (nobody is there to answer)".into());
                    return Ok(false);
                };
                answer = handle.authenticate_keyboard_interactive_respond(answers).await?;
            }
        }
    }
    Ok(false)
}

/// A question that asks for something hidden is taken for the password, if that is known.
fn answered(
    prompt: &Prompt,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    password: Option<&str>,
) -> Option<String> {
    let about_password = prompt.prompt.to_lowercase().contains("password");
    match password {
        Some(password) if about_password && !prompt.echo => Some(password.to_owned()),
        _ => {
            let question = format!("{} asks: {}", address.shown(), prompt.prompt.trim());
            tokio::task::block_in_place(|| asks.secret(&question))
        }
    }
}

fn refused(address: &SshAddress, tried: &Tried, lost: Option<&russh::Error>) -> Trouble {
    let tries = match tried.words.is_empty() {
        true => "nothing could be tried: no key, no agent, no password".to_owned(),
        false => format!("tried: {}", tried.words.join(", ")),
    };
    let offered: Vec<&str> =
        tried.offered.iter().flat_map(|set| set.iter()).map(<&'static str>::from).collect();
    let takes = match (lost, offered.is_empty()) {
        (Some(error), _) => format!("; then the connection ended ({error})"),
        (None, true) => String::new(),
        (None, false) => format!("; the host takes: {}", offered.join(", ")),
    };
    Trouble::outside(format!("cannot log in at {} over SSH", address.host_name))
        .at(address.shown())
        .because(format!("the host refuses user {}; {tries}{takes}", address.user))
        .hint("set password.files (or password.through) or key of the site, or see what ssh does")
}
