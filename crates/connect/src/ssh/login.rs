//! Logging in: agent, keys, questions, password; whichever the host takes (RFC 4252, 4256).

use super::known::Checker;
use super::{Asks, SshAddress};
use fernweh_ports::{Result, Trouble};
use russh::client::{AuthResult, Handle, KeyboardInteractiveAuthResponse, Prompt};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::ssh_key::PublicKey;
use russh::keys::{PrivateKey, PrivateKeyWithHashAlg, load_secret_key};
use russh::{MethodKind, MethodSet};
use std::path::{Path, PathBuf};
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
        Err(error) => Err(refused(address, &tried, Some(&error))),
    }
}

async fn attempts(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    tried: &mut Tried,
) -> std::result::Result<bool, russh::Error> {
    let user = &address.user;
    // Also tells which ways there are.
    let none = handle.authenticate_none(user).await?;
    if tried.refused("no password".into(), none) {
        return Ok(true);
    }
    tried.words.clear();
    let (open, closed) = keys_of(address, tried);
    if tried.takes(MethodKind::PublicKey) {
        // What asks nobody comes first.
        for (file, key) in open {
            if with_key(handle, user, &file, key, tried).await? {
                return Ok(true);
            }
        }
        if with_agent(handle, address, tried).await? {
            return Ok(true);
        }
        for file in &closed {
            let Some(key) = opened(file, address, asks, tried) else { continue };
            if with_key(handle, user, file, key, tried).await? {
                return Ok(true);
            }
        }
    }
    // What opens a key is not shown to the host.
    let opens = |word: &String| closed.iter().any(|file| load_secret_key(file, Some(word)).is_ok());
    let mut password = address.password.clone().filter(|word| !opens(word));
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

/// The keys that are to be offered: those that can be used at once, and files of those that need
/// a passphrase. One that cannot be used stands in nobody's way.
fn keys_of(address: &SshAddress, tried: &mut Tried) -> (Vec<(PathBuf, PrivateKey)>, Vec<PathBuf>) {
    let (mut open, mut closed) = (Vec::new(), Vec::new());
    for file in address.keys.iter().take(KEYS) {
        match load_secret_key(file, None) {
            Ok(key) => open.push((file.clone(), key)),
            Err(russh::keys::Error::KeyIsEncrypted) => closed.push(file.clone()),
            Err(russh::keys::Error::IO(error)) if error.kind() == std::io::ErrorKind::NotFound => {
                if address.keys.len() == 1 {
                    tried.words.push(format!("key {} (there is no such file)", file.display()));
                }
            }
            Err(error) => tried.words.push(format!("key {} ({error})", file.display())),
        }
    }
    (open, closed)
}

async fn with_key(
    handle: &mut Handle<Checker>,
    user: &str,
    file: &Path,
    key: PrivateKey,
    tried: &mut Tried,
) -> std::result::Result<bool, russh::Error> {
    let hash = handle.best_supported_rsa_hash().await?.flatten();
    let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
    let answer = handle.authenticate_publickey(user, key).await?;
    Ok(tried.refused(format!("key {}", file.display()), answer))
}

/// A key that is encrypted, and what has opened it: the password of the configuration, or what is
/// typed.
fn opened(
    file: &Path,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    tried: &mut Tried,
) -> Option<PrivateKey> {
    let open = |word: &String| load_secret_key(file, Some(word)).ok();
    if let Some(key) = address.password.as_ref().and_then(open) {
        return Some(key);
    }
    let prompt = format!("passphrase of key {}", file.display());
    let typed = tokio::task::block_in_place(|| asks.secret(&prompt));
    match typed.as_ref().map(open) {
        Some(Some(key)) => Some(key),
        Some(None) => {
            tried.words.push(format!("key {} (the passphrase does not open it)", file.display()));
            None
        }
        None => {
            let known = if address.password.is_some() { "another" } else { "no" };
            tried.words.push(format!(
                "key {} (it is encrypted, and {known} password is configured for it)",
                file.display()
            ));
            None
        }
    }
}

async fn with_agent(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    tried: &mut Tried,
) -> std::result::Result<bool, russh::Error> {
    let user = &address.user;
    let Ok(mut agent) = AgentClient::connect_env().await else { return Ok(false) };
    let Ok(identities) = agent.request_identities().await else { return Ok(false) };
    let mut offered = 0;
    for identity in identities {
        let AgentIdentity::PublicKey { key, comment } = identity else { continue };
        if address.identities_only && !is_named(&key, address) {
            continue;
        }
        offered += 1;
        if offered > KEYS {
            break;
        }
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

/// Whether a key of the agent is one of those that are named (`IdentitiesOnly`), which their public
/// halves tell.
fn is_named(key: &PublicKey, address: &SshAddress) -> bool {
    let public = |file: &PathBuf| {
        let mut name = file.clone().into_os_string();
        name.push(".pub");
        let text = std::fs::read_to_string(name).or_else(|_| std::fs::read_to_string(file)).ok()?;
        PublicKey::from_openssh(text.trim()).ok()
    };
    address.keys.iter().filter_map(public).any(|named| named.key_data() == key.key_data())
}

async fn questions(
    handle: &mut Handle<Checker>,
    address: &SshAddress,
    asks: &Arc<dyn Asks>,
    password: Option<&str>,
    tried: &mut Tried,
) -> std::result::Result<bool, russh::Error> {
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
                    tried.words.push("its questions (nobody can be asked)".into());
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
        .hint(
            "set password.files (or password.through) or key of the site; compare with what \
               ssh does",
        )
}
