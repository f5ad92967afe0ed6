//! Where passwords come from: the environment, a file, a command. They are never shown.

use crate::messages::say;
use crate::plain_file::plain_text;
use fernweh_ports::{Result, Trouble, shown};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Mutex, PoisonError};

/// Where one password comes from.
#[derive(Clone, Debug, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Secret {
    /// The name of an environment variable.
    Env(String),
    /// A file that holds the password alone.
    File(PathBuf),
    /// A command that prints the password.
    Command(String),
    /// Whoever is at the terminal.
    Ask(bool),
}

impl Secret {
    /// Fetches the password; `what` says whose it is. Files are looked for from `folder`.
    pub fn fetch(&self, what: &str, folder: &Path) -> Result<String> {
        let trouble = || Trouble::usage(format!("cannot read {what}"));
        let text = match self {
            Secret::Env(name) => std::env::var(name).map_err(|_| {
                trouble()
                    .because(format!("the environment variable {name} is not set"))
                    .hint(format!("set it before you start: export {name}=…"))
            })?,
            Secret::File(path) => {
                let path = folder.join(expanded(path));
                let text = plain_text(&format!("cannot read {what}"), &path)?;
                warn_if_open(&path);
                text
            }
            Secret::Ask(false) => {
                return Err(trouble().because("ask = false says nothing").hint("write ask = true"));
            }
            Secret::Ask(true) => crate::prompt::person().secret(what).ok_or_else(|| {
                trouble()
                    .because("it is asked for at the terminal, and there is none")
                    .hint("give it by env, file or command instead")
            })?,
            Secret::Command(command) => {
                let output = Command::new("sh")
                    .args(["-c", command])
                    .stdin(Stdio::inherit())
                    .stderr(Stdio::inherit())
                    .output()
                    .map_err(|error| trouble().because(error))?;
                if !output.status.success() {
                    return Err(trouble()
                        .because(format!("its command ended with {}", output.status))
                        .hint("type the command alone and see what it says"));
                }
                String::from_utf8_lossy(&output.stdout).into_owned()
            }
        };
        Ok(text.trim_end_matches(['\r', '\n']).to_owned())
    }
}

/// Says once that others can read a file of passwords.
fn warn_if_open(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    static WARNED: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
    let open = std::fs::metadata(path).is_ok_and(|found| found.permissions().mode() & 0o077 != 0);
    let mut warned = WARNED.lock().unwrap_or_else(PoisonError::into_inner);
    if open && warned.insert(path.to_owned()) {
        let word = crate::render::word(&path.display().to_string());
        let path = path.display().to_string();
        say(&format!(
            "warning: others can read the password in {}\n  try      chmod 600 {}\n",
            shown(&path),
            shown(&word)
        ));
    }
}

/// The password that the option file of MariaDB's and MySQL's own client holds for this user,
/// `~/.my.cnf`, section `client`.
pub fn of_option_file(home: &Path, user: &str) -> Option<String> {
    let text = std::fs::read_to_string(home.join(".my.cnf")).ok()?;
    let (mut in_client, mut named, mut password) = (false, None, None);
    for line in text.lines().map(str::trim) {
        if let Some(section) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            in_client = section.trim() == "client";
            continue;
        }
        let Some((key, value)) = line.split_once('=').filter(|_| in_client) else { continue };
        let value = value.trim().trim_matches(['"', '\'']).to_owned();
        match key.trim() {
            "user" => named = Some(value),
            "password" => password = Some(value),
            _ => {}
        }
    }
    password.filter(|_| named.is_none_or(|named| named == user))
}

/// The password that PostgreSQL's own password file holds for a connection, `~/.pgpass`: the
/// first line that fits, as `host:port:database:user:password`.
pub fn of_password_file(
    home: &Path,
    (host, port, database, user): (&str, u16, &str, &str),
) -> Option<String> {
    let text = std::fs::read_to_string(home.join(".pgpass")).ok()?;
    let port = port.to_string();
    text.lines().filter(|line| !line.starts_with('#')).find_map(|line| {
        let fields = fields(line);
        let [a, b, c, d, password] = &fields[..] else { return None };
        let fits = |field: &String, value: &str| field == "*" || field == value;
        let all = fits(a, host) && fits(b, &port) && fits(c, database) && fits(d, user);
        all.then(|| password.clone())
    })
}

/// Fields between colons; a backslash takes the next character as it is.
fn fields(line: &str) -> Vec<String> {
    let mut fields = vec![String::new()];
    let mut characters = line.chars();
    while let Some(one) = characters.next() {
        match one {
            '\\' => {
                if let (Some(next), Some(last)) = (characters.next(), fields.last_mut()) {
                    last.push(next);
                }
            }
            ':' if fields.len() < 5 => fields.push(String::new()),
            other => {
                if let Some(last) = fields.last_mut() {
                    last.push(other);
                }
            }
        }
    }
    fields
}

/// A path that may begin with `~/`.
pub fn expanded(path: &Path) -> PathBuf {
    match (path.strip_prefix("~"), std::env::var_os("HOME")) {
        (Ok(rest), Some(home)) => PathBuf::from(home).join(rest),
        _ => path.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_files_of_the_databases_own_clients_count() {
        let home = tempfile::tempdir().unwrap();
        std::fs::write(
            home.path().join(".my.cnf"),
            "[server]\npassword=no\n[client]\nuser = keeper\npassword = \"night sky\"\n",
        )
        .unwrap();
        assert_eq!(of_option_file(home.path(), "keeper").as_deref(), Some("night sky"));
        assert_eq!(of_option_file(home.path(), "other"), None);
        std::fs::write(
            home.path().join(".pgpass"),
            "# dome\nother:*:*:keeper:no\nlocalhost:5432:*:keeper:a\\:b:c\n",
        )
        .unwrap();
        let of = |host, port| of_password_file(home.path(), (host, port, "glimmer", "keeper"));
        assert_eq!(of("localhost", 5432).as_deref(), Some("a:b:c"));
        assert_eq!(of("localhost", 5433), None);
    }
}
