//! Where passwords come from: the environment, a file, a command. They are never shown.

use fernweh_ports::{Result, Trouble};
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Where one password comes from.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Secret {
    /// The name of an environment variable.
    Env(String),
    /// A file that holds the password alone.
    File(PathBuf),
    /// A command that prints the password.
    Command(String),
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
                std::fs::read_to_string(&path).map_err(|error| {
                    let mut told = Trouble::file(format!("cannot read {what}"), &path, &error);
                    told.kind = fernweh_ports::Kind::Usage;
                    told
                })?
            }
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

/// A path that may begin with `~/`.
pub fn expanded(path: &Path) -> PathBuf {
    match (path.strip_prefix("~"), std::env::var_os("HOME")) {
        (Ok(rest), Some(home)) => PathBuf::from(home).join(rest),
        _ => path.to_owned(),
    }
}
