//! Logins as MySQL wants them: `caching_sha2_password` from 8.0 on ("Caching SHA-2 Pluggable
//! Authentication"), `mysql_native_password` before.
//!
//! What counts is the connection as the server sees it, and that is plain TCP: a login that the
//! server has not seen sends its password encrypted with the server's key. OpenSSL decrypts it.

use super::wire::{Wire, until_nul};
use super::{Shared, Version};
use mysql_common::scramble::{scramble_native, scramble_sha256};
use std::io::{self, Write};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

const CONNECT_WITH_DB: u32 = 1 << 3;
const COMPRESS: u32 = 1 << 5;
const SSL: u32 = 1 << 11;
const PLUGIN_AUTH: u32 = 1 << 19;
const CONNECT_ATTRS: u32 = 1 << 20;
const LENENC_AUTH: u32 = 1 << 21;
/// The rows of an answer end without a packet of their own before them.
pub(super) const DEPRECATE_EOF: u32 = 1 << 24;
const ABOVE: u32 = !((1 << 25) - 1);

/// Greets as MySQL does, and logs in to MariaDB with what the client shows; gives what both ends
/// have agreed on, or nothing where the login fails.
pub(super) fn log_in(
    client: &mut Wire,
    server: &mut Wire,
    shared: &Shared,
) -> io::Result<Option<u32>> {
    let greeting = server.read()?;
    let mut rest = &greeting[1..];
    until_nul(&mut rest);
    let mut nonce = rest[4..12].to_vec();
    let lower = u32::from(u16::from_le_bytes([rest[13], rest[14]]));
    let upper = u32::from(u16::from_le_bytes([rest[18], rest[19]]));
    nonce.extend_from_slice(&rest[31..43]);
    // MySQL has the lowest bit, by which MariaDB tells itself.
    let capabilities = ((upper << 16 | lower) | 1) & !(COMPRESS | SSL | ABOVE);
    let plugin = match shared.version {
        Version::V57 => "mysql_native_password",
        _ => "caching_sha2_password",
    };
    let mut own = vec![10];
    own.extend_from_slice(shared.version.text().as_bytes());
    own.push(0);
    own.extend_from_slice(&rest[..4]);
    own.extend_from_slice(&nonce[..8]);
    own.push(0);
    own.extend_from_slice(&capabilities.to_le_bytes()[..2]);
    own.extend_from_slice(&[255, 2, 0]);
    own.extend_from_slice(&capabilities.to_le_bytes()[2..]);
    own.push(21);
    own.extend_from_slice(&[0; 10]);
    own.extend_from_slice(&nonce[8..]);
    own.push(0);
    own.extend_from_slice(plugin.as_bytes());
    own.push(0);
    client.command(&own)?;

    let answer = client.read()?;
    let Some(asked) = Asked::parse(&answer) else { return Ok(None) };
    if shared.habits.wants_encryption {
        client.refuse(
            3159,
            "HY000",
            "Connections using insecure transport are prohibited while --require_secure_transport=ON.",
        )?;
        return Ok(None);
    }
    let user = String::from_utf8_lossy(&asked.user).into_owned();
    let (proof, password) = match shared.version {
        // The greeting's random bytes are the server's own.
        Version::V57 => (asked.proof.clone(), None),
        _ => {
            let password = password_of(client, &asked, &user, &nonce, shared)?;
            let proof = scramble_native(&nonce, password.as_bytes());
            (proof.map(|proof| proof.to_vec()).unwrap_or_default(), Some(password))
        }
    };
    server.write(&asked.with_proof(&proof))?;
    let outcome = server.read()?;
    if let (Some(password), Some(0)) = (password, outcome.first()) {
        shared.known.lock().expect("a map").insert(user, password);
    }
    client.write(&outcome)?;
    Ok((outcome.first() == Some(&0)).then_some(asked.capabilities & capabilities))
}

/// What a client asks for.
struct Asked {
    capabilities: u32,
    head: Vec<u8>,
    user: Vec<u8>,
    proof: Vec<u8>,
    database: Vec<u8>,
}

impl Asked {
    fn parse(packet: &[u8]) -> Option<Self> {
        let head = packet.get(..32)?;
        let capabilities = u32::from_le_bytes(head[..4].try_into().ok()?);
        let mut rest = &packet[32..];
        let user = until_nul(&mut rest).to_vec();
        let length = usize::from(*rest.first()?);
        let proof = rest.get(1..1 + length)?.to_vec();
        rest = &rest[1 + length..];
        let database = match capabilities & CONNECT_WITH_DB {
            0 => Vec::new(),
            _ => until_nul(&mut rest).to_vec(),
        };
        Some(Self { capabilities, head: head.to_vec(), user, proof, database })
    }

    /// The same for MariaDB.
    fn with_proof(&self, proof: &[u8]) -> Vec<u8> {
        let capabilities =
            (self.capabilities | PLUGIN_AUTH | LENENC_AUTH | 1) & !(CONNECT_ATTRS | ABOVE);
        let mut packet = capabilities.to_le_bytes().to_vec();
        packet.extend_from_slice(&self.head[4..]);
        // No word to MariaDB of what only it knows.
        packet[28..32].fill(0);
        packet.extend_from_slice(&self.user);
        packet.push(0);
        packet.push(proof.len() as u8);
        packet.extend_from_slice(proof);
        if self.capabilities & CONNECT_WITH_DB != 0 {
            packet.extend_from_slice(&self.database);
            packet.push(0);
        }
        packet.extend_from_slice(b"mysql_native_password\0");
        packet
    }
}

/// The password that a client proves: quickly where the server has seen it, else in full.
fn password_of(
    client: &mut Wire,
    asked: &Asked,
    user: &str,
    nonce: &[u8],
    shared: &Shared,
) -> io::Result<String> {
    let known = shared.known.lock().expect("a map").get(user).cloned();
    if let Some(password) = known
        && scramble_sha256(nonce, password.as_bytes())
            .is_some_and(|proof| proof[..] == asked.proof[..])
    {
        client.write(&[1, 3])?;
        return Ok(password);
    }
    *shared.full.lock().expect("a count") += 1;
    client.write(&[1, 4])?;
    let request = client.read()?;
    if request != [2] {
        // Whoever sends the password as it is over a line that others can read has lost it.
        return Err(io::Error::other("the password came in clear over plain TCP"));
    }
    let (public, private) = keys();
    client.write(&[&[1], public.as_slice()].concat())?;
    let mut clear = decrypt(private, &client.read()?)?;
    clear.iter_mut().zip(nonce.iter().cycle()).for_each(|(byte, mask)| *byte ^= mask);
    clear.pop();
    Ok(String::from_utf8_lossy(&clear).into_owned())
}

/// The server's keys: the public one as text, the private one in a file.
fn keys() -> &'static (Vec<u8>, tempfile::NamedTempFile) {
    static KEYS: OnceLock<(Vec<u8>, tempfile::NamedTempFile)> = OnceLock::new();
    KEYS.get_or_init(|| {
        let file = tempfile::NamedTempFile::new().expect("a file for the key");
        let made =
            Command::new("openssl").args(["genrsa", "-out"]).arg(file.path()).arg("2048").output();
        assert!(made.expect("openssl runs; scripts/test installs it").status.success());
        let public =
            Command::new("openssl").args(["rsa", "-pubout", "-in"]).arg(file.path()).output();
        (public.expect("openssl runs").stdout, file)
    })
}

fn decrypt(key: &tempfile::NamedTempFile, secret: &[u8]) -> io::Result<Vec<u8>> {
    let mut child = Command::new("openssl")
        .args(["pkeyutl", "-decrypt", "-pkeyopt", "rsa_padding_mode:oaep", "-inkey"])
        .arg(key.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()?;
    child.stdin.take().expect("its input").write_all(secret)?;
    Ok(child.wait_with_output()?.stdout)
}
