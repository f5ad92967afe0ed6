//! Where a host is and how one logs in there: the address in `fernweh.toml`, completed by
//! `~/.ssh/config`.

use fernweh_ports::{Result, Trouble};
use ssh2_config::{HostParams, ParseRule, SshConfig};
use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};

/// A login on a host.
#[derive(Clone, Debug)]
pub struct SshAddress {
    /// The name as it was typed.
    pub alias: String,
    /// The name or address to connect to.
    pub host_name: String,
    /// The port.
    pub port: u16,
    /// The user.
    pub user: String,
    /// The password, of the login or of the key.
    pub password: Option<String>,
    /// Files of private keys, in the order in which they are offered.
    pub keys: Vec<PathBuf>,
    /// Of the agent's keys only those are offered that are among these (`IdentitiesOnly`).
    pub identities_only: bool,
    /// A command that stands in for the connection (`ProxyCommand`).
    pub command: Option<String>,
    jumps: Vec<String>,
    known_hosts: Vec<PathBuf>,
}

impl SshAddress {
    /// Completes what was typed by what `~/.ssh/config` says about the host.
    pub fn complete(
        host: &str,
        port: Option<u16>,
        user: Option<&str>,
        password: Option<String>,
        key: Option<PathBuf>,
    ) -> Result<Self> {
        let home = std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
        let found = configured(&home, host)?;
        let own = std::env::var("USER").or_else(|_| std::env::var("LOGNAME"));
        let user = user.map(str::to_owned).or(found.user.clone()).or(own.ok());
        let user = user.filter(|user| !user.is_empty()).ok_or_else(|| {
            Trouble::usage(format!("no user is given for {host}"))
                .hint(format!("add the user to the address: sftp://USER@{host}/…"))
        })?;
        let host_name = found.host_name.clone().unwrap_or_else(|| host.to_owned());
        let host_name = host_name.replace("%h", host);
        let port = port.or(found.port).unwrap_or(22);
        let tokens = [
            ("%%", "%".to_owned()),
            ("%h", host_name.clone()),
            ("%n", host.to_owned()),
            ("%p", port.to_string()),
            ("%r", user.clone()),
            ("%d", home.display().to_string()),
            ("%u", std::env::var("USER").unwrap_or_default()),
        ];
        let said = |name: &str| {
            let mut fields = found.unsupported_fields.iter().chain(&found.ignored_fields);
            fields.find(|(field, _)| field.eq_ignore_ascii_case(name)).map(|(_, words)| words)
        };
        let lists = said("userknownhostsfile").map(|files| {
            files.iter().map(|file| at_home(&home, Path::new(&filled(file, &tokens)))).collect()
        });
        let command = said("proxycommand").map(|words| filled(&words.join(" "), &tokens));
        let command = command.filter(|command| !command.eq_ignore_ascii_case("none"));
        let identities_only = said("identitiesonly")
            .and_then(|words| words.first())
            .is_some_and(|word| word == "yes");
        let usual = ["id_ed25519", "id_ecdsa", "id_rsa"].map(|name| home.join(".ssh").join(name));
        let configured = found.identity_file.clone().filter(|files| !files.is_empty());
        let keys = match (key, configured) {
            (Some(key), _) => vec![key],
            (None, Some(files)) => files
                .iter()
                .map(|file| at_home(&home, Path::new(&filled(&file.to_string_lossy(), &tokens))))
                .collect(),
            (None, None) => usual.into_iter().filter(|file| file.exists()).collect(),
        };
        let none = |jump: &String| !jump.is_empty() && !jump.eq_ignore_ascii_case("none");
        let jumps: Vec<String> =
            found.proxy_jump.clone().unwrap_or_default().into_iter().filter(none).collect();
        Ok(Self {
            alias: host.to_owned(),
            host_name,
            port,
            user,
            password,
            keys,
            identities_only,
            // Where both are there, the jump hosts count.
            command: command.filter(|_| jumps.is_empty()),
            jumps,
            known_hosts: lists.unwrap_or_else(|| {
                vec![home.join(".ssh/known_hosts"), PathBuf::from("/etc/ssh/ssh_known_hosts")]
            }),
        })
    }

    /// The host for people.
    pub fn shown(&self) -> String {
        let port = if self.port == 22 { String::new() } else { format!(":{}", self.port) };
        format!("ssh://{}@{}{port}", self.user, self.alias)
    }

    /// The hosts on the way, the first one first.
    pub(super) fn jumps(&self) -> Result<Vec<SshAddress>> {
        self.jumps.iter().map(|text| self.jump(text)).collect()
    }

    /// A jump host, as `[user@]host[:port]`.
    fn jump(&self, text: &str) -> Result<SshAddress> {
        let text = text.trim().trim_start_matches("ssh://");
        let (user, rest) = match text.rsplit_once('@') {
            Some((user, rest)) => (Some(user), rest),
            None => (None, text),
        };
        let (host, port) = match rest.rsplit_once(':') {
            Some((host, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => {
                (host, port.parse().ok())
            }
            _ => (rest, None),
        };
        let mut address = Self::complete(host, port, user, None, None)?;
        // A jump host that is reached through jump hosts of its own is named in the list.
        address.jumps.clear();
        Ok(address)
    }

    /// The files in which known hosts are kept; new ones go into the first.
    pub(super) fn known_hosts(&self) -> &[PathBuf] {
        &self.known_hosts
    }
}

/// A text of the configuration with what its tokens stand for (ssh_config(5), "TOKENS"); others
/// stay as they are.
fn filled(text: &str, tokens: &[(&str, String)]) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = rest.find('%') {
        out.push_str(&rest[..at]);
        let found = tokens.iter().find(|(token, _)| rest[at..].starts_with(token));
        let (value, length) =
            found.map_or(("%", 1), |(token, value)| (value.as_str(), token.len()));
        out.push_str(value);
        rest = &rest[at + length..];
    }
    out + rest
}

fn at_home(home: &Path, file: &Path) -> PathBuf {
    match file.strip_prefix("~") {
        Ok(rest) => home.join(rest),
        Err(_) => file.to_owned(),
    }
}

fn configured(home: &Path, host: &str) -> Result<HostParams> {
    let path = home.join(".ssh/config");
    let empty = || SshConfig::default().query(host);
    let Ok(file) = File::open(&path) else { return Ok(empty()) };
    let rules = ParseRule::ALLOW_UNKNOWN_FIELDS | ParseRule::ALLOW_UNSUPPORTED_FIELDS;
    let config = SshConfig::default().home_dir(home).parse(&mut BufReader::new(file), rules);
    let config = config.map_err(|error| {
        Trouble::usage("cannot read the configuration of SSH")
            .at(path.display().to_string())
            .because(error)
            .hint(format!("see whether `ssh -G {host}` reads it"))
    })?;
    Ok(config.query(host))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_are_filled_in_once() {
        let tokens = [("%%", "%".to_owned()), ("%h", "a%p".to_owned()), ("%p", "22".to_owned())];
        assert_eq!(filled("nc %h %p 100%% %x %", &tokens), "nc a%p 22 100% %x %");
    }
}
