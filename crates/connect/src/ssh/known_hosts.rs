//! Lists of known hosts, as OpenSSH reads them (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"): patterns,
//! hashed names, keys that are revoked.

use ring::hmac;
use russh::keys::ssh_key::PublicKey;

/// A line that speaks of a host.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Line {
    /// Its number, from 1.
    pub number: usize,
    /// Whether its key must not be accepted any more.
    pub revoked: bool,
    pub key: PublicKey,
}

/// How a list names a host at a port.
pub(super) fn name_of(host: &str, port: u16) -> String {
    if port == 22 { host.to_owned() } else { format!("[{host}]:{port}") }
}

/// The lines of a list that speak of one of these names. Keys of authorities are for certificates,
/// which are not accepted; what cannot be read speaks of nobody.
pub(super) fn lines_of(list: &str, names: &[String]) -> Vec<Line> {
    let read = |(number, line): (usize, &str)| {
        let mut words = line.split_whitespace();
        let first = words.next().filter(|word| !word.starts_with('#'))?;
        let (revoked, patterns) = match first {
            "@revoked" => (true, words.next()?),
            marker if marker.starts_with('@') => return None,
            patterns => (false, patterns),
        };
        let key = format!("{} {}", words.next()?, words.next()?);
        names.iter().any(|name| speaks_of(patterns, name)).then_some(())?;
        Some(Line { number: number + 1, revoked, key: PublicKey::from_openssh(&key).ok()? })
    };
    list.lines().enumerate().filter_map(read).collect()
}

/// Whether a list of patterns holds a name: one that is excluded is not, whatever else fits.
fn speaks_of(patterns: &str, name: &str) -> bool {
    // Names are hashed in small letters, too.
    let name = name.to_lowercase();
    if let Some(hashed) = patterns.strip_prefix("|1|") {
        return is_hash_of(hashed, &name);
    }
    let mut held = false;
    for pattern in patterns.split(',') {
        match pattern.strip_prefix('!') {
            Some(excluded) if fits(excluded.to_lowercase().as_bytes(), name.as_bytes()) => {
                return false;
            }
            Some(_) => {}
            None => held |= fits(pattern.to_lowercase().as_bytes(), name.as_bytes()),
        }
    }
    held
}

/// `salt|hash`, both in base 64: the hash is the HMAC of the name with SHA-1.
fn is_hash_of(hashed: &str, name: &str) -> bool {
    use base64::Engine;
    let decoded = |text| base64::engine::general_purpose::STANDARD.decode(text).ok();
    let parts =
        hashed.split_once('|').and_then(|(salt, hash)| Some((decoded(salt)?, decoded(hash)?)));
    let Some((salt, hash)) = parts else { return false };
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &salt);
    hmac::verify(&key, name.as_bytes(), &hash).is_ok()
}

/// `*` is any number of characters, `?` is one.
fn fits(pattern: &[u8], name: &[u8]) -> bool {
    // Where the last `*` stood, and how much it takes: tried again with one more.
    let (mut at, mut from, mut star) = (0, 0, None);
    while from < name.len() {
        match pattern.get(at) {
            Some(b'*') => {
                star = Some((at, from));
                at += 1;
            }
            Some(byte) if *byte == b'?' || *byte == name[from] => {
                at += 1;
                from += 1;
            }
            _ => {
                let Some((place, taken)) = star else { return false };
                star = Some((place, taken + 1));
                (at, from) = (place + 1, taken + 1);
            }
        }
    }
    pattern[at..].iter().all(|byte| *byte == b'*')
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: &str =
        "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f";

    fn found(line: &str, host: &str, port: u16) -> Vec<bool> {
        let list = format!("# a comment\n\n{line} {KEY} keeper\nnonsense\n");
        lines_of(&list, &[name_of(host, port)]).iter().map(|line| line.revoked).collect()
    }

    #[test]
    fn patterns_hold_what_openssh_holds() {
        for (patterns, host, port, held) in [
            ("web7.hoster.example", "web7.hoster.example", 22, true),
            ("web7.hoster.example", "WEB7.hoster.example", 22, true),
            ("*.hoster.example", "web7.hoster.example", 22, true),
            ("web?.hoster.example", "web7.hoster.example", 22, true),
            ("web?.hoster.example", "web17.hoster.example", 22, false),
            ("*.hoster.example,!web7.hoster.example", "web7.hoster.example", 22, false),
            ("a.example,198.51.100.7", "198.51.100.7", 22, true),
            ("web7.hoster.example", "web7.hoster.example", 2222, false),
            ("[web7.hoster.example]:2222", "web7.hoster.example", 2222, true),
            ("[*.hoster.example]:2222", "web7.hoster.example", 2222, true),
            ("*", "anything.example", 22, true),
            ("**a**", "aaab", 22, true),
            ("*b*c", "abac", 22, true),
            ("*b*c", "abacd", 22, false),
        ] {
            let told = if held { vec![false] } else { vec![] };
            assert_eq!(found(patterns, host, port), told, "{patterns} {host}:{port}");
        }
        assert_eq!(found("@revoked *", "web7.hoster.example", 22), [true]);
        assert_eq!(found("@cert-authority *", "web7.hoster.example", 22), [false; 0]);
        assert_eq!(found("|1|bm8=|bm8=", "web7.hoster.example", 22), [false; 0]);
    }

    #[test]
    fn a_hashed_name_is_found_however_it_is_typed() {
        // Made by `ssh-keygen -H` of `[web7.hoster.example]:2222`.
        let hashed = "|1|xHyfDi8d6fR/2ce+BQcsuvq46Rk=|DVZIaQjXtsj++NoAygzGcD9XxYs=";
        assert_eq!(found(hashed, "web7.hoster.example", 2222), [false]);
        assert_eq!(found(hashed, "WEB7.Hoster.example", 2222), [false]);
        assert_eq!(found(hashed, "web8.hoster.example", 2222), [false; 0]);
        assert_eq!(found(hashed, "web7.hoster.example", 22), [false; 0]);
    }

    #[test]
    fn a_pattern_of_many_stars_ends() {
        let pattern = "*a".repeat(200) + "c";
        assert!(!fits(pattern.as_bytes(), "a".repeat(5_000).as_bytes()));
    }
}
