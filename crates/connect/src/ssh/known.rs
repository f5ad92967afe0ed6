//! Whether a host is the one that it was before.

use super::known_hosts::{Line, lines_of, name_of};
use super::{Asks, SshAddress};
use fernweh_ports::Trouble;
use russh::client::Handler;
use russh::keys::PublicKeyOrCertificate;
use russh::keys::known_hosts::learn_known_hosts_path;
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
    alias: String,
    /// The list into which a new host goes.
    list: Option<PathBuf>,
    /// File and line.
    known: Vec<(PathBuf, Line)>,
    asks: Arc<dyn Asks>,
    verdict: Verdict,
}

impl Checker {
    pub(super) fn new(address: &SshAddress, asks: Arc<dyn Asks>, verdict: Verdict) -> Self {
        let files = address.known_hosts();
        // The name that was typed and the one that is connected to count alike.
        let names = [address.host_name.as_str(), address.alias.as_str()];
        let names = names.map(|name| name_of(name, address.port));
        let mut known = Vec::new();
        for file in files {
            let list = std::fs::read(file).unwrap_or_default();
            let found = lines_of(&String::from_utf8_lossy(&list), &names);
            known.extend(found.into_iter().map(|line| (file.clone(), line)));
        }
        let (host, port) = (address.host_name.clone(), address.port);
        let (alias, list) = (address.alias.clone(), files.first().cloned());
        Self { host, port, shown: address.shown(), alias, list, known, asks, verdict }
    }

    /// The kinds of key by which the host is known.
    pub(super) fn known_kinds(&self) -> Vec<Algorithm> {
        let known = self.known.iter().filter(|(_, line)| !line.revoked);
        known.map(|(_, line)| line.key.algorithm()).collect()
    }

    fn judge(&self, key: &PublicKey) -> bool {
        let same = |line: &Line| line.key.key_data() == key.key_data();
        let print = key.fingerprint(HashAlg::Sha256);
        if let Some((file, line)) = self.known.iter().find(|(_, line)| line.revoked && same(line)) {
            return self.verdict.refuse(
                Trouble::outside(format!("the key of host {} is revoked", self.host))
                    .at(self.shown.clone())
                    .because(format!("{print} is in {}, line {}", file.display(), line.number))
                    .hint("somebody else may have this key: ask the host's operator"),
            );
        }
        let mut known = self.known.iter().filter(|(_, line)| !line.revoked);
        if known.clone().any(|(_, line)| same(line)) {
            return true;
        }
        if let Some((file, line)) = known.next() {
            let line = line.number;
            return self.verdict.refuse(
                Trouble::outside(format!("the key of host {} has changed", self.host))
                    .at(self.shown.clone())
                    .because(format!(
                        "it shows {print}, not the key in {}, line {line}; either the host was \
                         set up again, or somebody intercepts the connection",
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
            self.alias,
            key.algorithm()
        );
        match self.asks.agrees(&question) {
            Some(true) => {
                // With no list there is nothing to remember it in.
                let Some(list) = &self.list else { return true };
                match learn_known_hosts_path(&self.host, self.port, key, list) {
                    Ok(()) => true,
                    Err(error) => self.verdict.refuse(
                        Trouble::outside("cannot write the list of known hosts")
                            .at(list.display().to_string())
                            .because(error),
                    ),
                }
            }
            answer => {
                let port =
                    if self.port == 22 { String::new() } else { format!("-p {} ", self.port) };
                self.verdict.refuse(
                    Trouble::outside(format!("the host {} is not known", self.alias))
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
