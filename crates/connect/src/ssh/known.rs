//! Whether a host is the one that it was before.

use super::{Asks, SshAddress};
use fernweh_ports::Trouble;
use russh::client::Handler;
use russh::keys::PublicKeyOrCertificate;
use russh::keys::known_hosts::{known_host_keys_path, learn_known_hosts_path};
use russh::keys::ssh_key::{Algorithm, HashAlg, PublicKey};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

/// Why a host was refused, told by the checker to the one who connects.
#[derive(Clone, Default)]
pub(super) struct Verdict(Arc<Mutex<Option<Trouble>>>);

impl Verdict {
    pub(super) fn take(&self) -> Option<Trouble> {
        self.0.lock().ok()?.take()
    }

    fn refuse(&self, trouble: Trouble) -> bool {
        if let Ok(mut told) = self.0.lock() {
            *told = Some(trouble);
        }
        false
    }
}

/// Compares the key of a host with those that are known.
pub(crate) struct Checker {
    host: String,
    port: u16,
    shown: String,
    files: [PathBuf; 2],
    /// File, line and key.
    known: Vec<(PathBuf, usize, PublicKey)>,
    asks: Arc<dyn Asks>,
    verdict: Verdict,
}

impl Checker {
    pub(super) fn new(address: &SshAddress, asks: Arc<dyn Asks>, verdict: Verdict) -> Self {
        let files = address.known_hosts();
        // The name that was typed and the one that is connected to count alike.
        let names = [address.host_name.as_str(), address.alias.as_str()];
        let mut known = Vec::new();
        for file in &files {
            for name in names.iter().take(1 + usize::from(names[0] != names[1])) {
                let found = known_host_keys_path(name, address.port, file).unwrap_or_default();
                known.extend(found.into_iter().map(|(line, key)| (file.clone(), line, key)));
            }
        }
        let (host, port) = (address.host_name.clone(), address.port);
        Self { host, port, shown: address.shown(), files, known, asks, verdict }
    }

    /// The kinds of key by which the host is known.
    pub(super) fn known_kinds(&self) -> Vec<Algorithm> {
        self.known.iter().map(|(_, _, key)| key.algorithm()).collect()
    }

    fn judge(&self, key: &PublicKey) -> bool {
        if self.known.iter().any(|(_, _, known)| known.key_data() == key.key_data()) {
            return true;
        }
        let print = key.fingerprint(HashAlg::Sha256);
        if let Some((file, line, _)) = self.known.first() {
            return self.verdict.refuse(
                Trouble::outside(format!("the key of host {} has changed", self.host))
                    .at(self.shown.clone())
                    .because(format!(
                        "it shows {print}, which is not the key in {}, line {line}; either the \
                         host was set up anew, or somebody is in between",
                        file.display()
                    ))
                    .hint(
                        "ask the host for its key's fingerprint; if it is the one above, remove \
                         that line and try again",
                    ),
            );
        }
        let question = format!(
            "the host {} is not known yet; its key is {} {print}. Is that right?",
            self.host,
            key.algorithm()
        );
        match self.asks.agrees(&question) {
            Some(true) => {
                if let Err(error) =
                    learn_known_hosts_path(&self.host, self.port, key, &self.files[0])
                {
                    return self.verdict.refuse(
                        Trouble::outside("cannot write the list of known hosts")
                            .at(self.files[0].display().to_string())
                            .because(error),
                    );
                }
                true
            }
            answer => {
                let port =
                    if self.port == 22 { String::new() } else { format!("-p {} ", self.port) };
                self.verdict.refuse(
                    Trouble::outside(format!("the host {} is not known", self.host))
                        .at(self.shown.clone())
                        .because(match answer {
                            Some(_) => format!("its key {print} was not accepted"),
                            None => format!(
                                "its key {print} is in no list of known hosts, and nobody can be \
                                 asked without a terminal"
                            ),
                        })
                        .hint(format!(
                            "compare the fingerprint with the one that the host tells you, then \
                             log in once: ssh {port}{}",
                            self.shown.trim_start_matches("ssh://").split(':').next().unwrap_or("")
                        )),
                )
            }
        }
    }
}

impl Handler for Checker {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        match shown {
            PublicKeyOrCertificate::PublicKey { key, .. } => {
                // A question blocks this thread for as long as a person thinks.
                Ok(tokio::task::block_in_place(|| self.judge(key)))
            }
            PublicKeyOrCertificate::Certificate(_) => Ok(false),
        }
    }
}
