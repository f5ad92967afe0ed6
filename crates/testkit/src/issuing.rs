//! Certificates of every kind, good and bad: an authority, one below it, one that nobody knows.

use rcgen::{
    BasicConstraints, CertificateParams, CustomExtension, DistinguishedName, DnType, IsCa, Issuer,
    KeyPair, KeyUsagePurpose,
};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, SystemTime};

/// Who signs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Signer {
    /// The authority between, whose certificate is sent along.
    #[default]
    Between,
    /// The same, whose certificate is not sent.
    BetweenNotSent,
    /// The same, and a certificate that has nothing to do with it is sent.
    BetweenWrongSent,
    /// An authority that nobody knows.
    Unknown,
    /// The certificate itself.
    Itself,
}

/// A certificate as a test wants it.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// The names it is for.
    pub names: Vec<String>,
    /// The days from now on which it begins and ends; a usual span without it.
    pub days: Option<(i64, i64)>,
    /// Who signs it.
    pub signer: Signer,
    /// Whether it asks for word of its authority (RFC 7633).
    pub must_staple: bool,
    /// A key of RSA with so many bits, and whether it is signed with SHA-1; made with OpenSSL.
    pub weak: Option<(u32, bool)>,
}

/// Issues certificates into a folder.
pub struct Issuing {
    folder: PathBuf,
    root: Issuer<'static, KeyPair>,
    between: (Issuer<'static, KeyPair>, String),
    unknown: (Issuer<'static, KeyPair>, String),
}

fn authority(name: &str) -> (CertificateParams, KeyPair) {
    let key = KeyPair::generate().expect("a key");
    let mut params = CertificateParams::new(Vec::new()).expect("parameters");
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign];
    let mut subject = DistinguishedName::new();
    subject.push(DnType::CommonName, name);
    params.distinguished_name = subject;
    (params, key)
}

impl Issuing {
    /// Makes the authorities; the one to be trusted lies in the folder as `authority.pem`.
    pub fn new(folder: &Path) -> Self {
        fs::create_dir_all(folder).expect("a folder");
        let folder = folder.canonicalize().expect("the folder is there");
        let (params, key) = authority("Glimmer Point root");
        let pem = params.self_signed(&key).expect("a certificate").pem();
        fs::write(folder.join("authority.pem"), pem).expect("a file");
        let root = Issuer::new(params, key);
        let (params, key) = authority("Glimmer Point between");
        let pem = params.signed_by(&key, &root).expect("a certificate").pem();
        let between = (Issuer::new(params, key), pem);
        let (params, key) = authority("Somebody");
        let pem = params.self_signed(&key).expect("a certificate").pem();
        let unknown = (Issuer::new(params, key), pem);
        Self { folder, root, between, unknown }
    }

    /// The authority that is to be trusted.
    pub fn authority(&self) -> PathBuf {
        self.folder.join("authority.pem")
    }

    /// Writes a certificate with its chain, and its key; gives both paths.
    pub fn issue(&self, name: &str, wanted: &Wanted) -> (PathBuf, PathBuf) {
        let [chain, key] = ["pem", "key"].map(|end| self.folder.join(format!("{name}.{end}")));
        if let Some((bits, sha1)) = wanted.weak {
            self.weak(&chain, &key, wanted, bits, sha1);
            return (chain, key);
        }
        let own = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(wanted.names.clone()).expect("names");
        let mut subject = DistinguishedName::new();
        subject.push(DnType::CommonName, wanted.names.first().map_or("", String::as_str));
        params.distinguished_name = subject;
        let (from, until) = wanted.days.unwrap_or((-1, 90));
        (params.not_before, params.not_after) = (day(from).into(), day(until).into());
        if wanted.must_staple {
            // TLS feature: a sequence with the number of `status_request`.
            let oid = [1, 3, 6, 1, 5, 5, 7, 1, 24];
            let content = vec![0x30, 3, 2, 1, 5];
            params.custom_extensions = vec![CustomExtension::from_oid_content(&oid, content)];
        }
        let signed = |issuer| params.signed_by(&own, issuer).expect("a certificate").pem();
        let text = match wanted.signer {
            Signer::Between => signed(&self.between.0) + &self.between.1,
            Signer::BetweenNotSent => signed(&self.between.0),
            Signer::BetweenWrongSent => signed(&self.between.0) + &self.unknown.1,
            Signer::Unknown => signed(&self.unknown.0) + &self.unknown.1,
            Signer::Itself => params.self_signed(&own).expect("a certificate").pem(),
        };
        fs::write(&chain, text).expect("a file");
        fs::write(&key, own.serialize_pem()).expect("a file");
        (chain, key)
    }

    /// Keys and signatures that no library of today makes.
    fn weak(&self, chain: &Path, key: &Path, wanted: &Wanted, bits: u32, sha1: bool) {
        let authority_key = self.folder.join("root.key");
        fs::write(&authority_key, self.root.key().serialize_pem()).expect("a file");
        let names: Vec<String> = wanted.names.iter().map(|name| format!("DNS:{name}")).collect();
        let extensions = self.folder.join("weak.ext");
        fs::write(&extensions, format!("subjectAltName={}\n", names.join(","))).expect("a file");
        let request = chain.with_extension("csr");
        let first = wanted.names.first().map_or("weak", String::as_str);
        let run = |command: &mut Command| {
            let ran = command.output().expect("openssl runs");
            assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
        };
        run(Command::new("openssl")
            .args(["req", "-new", "-nodes", "-newkey", &format!("rsa:{bits}"), "-subj"])
            .arg(format!("/CN={first}"))
            .arg("-keyout")
            .arg(key)
            .arg("-out")
            .arg(&request));
        run(Command::new("openssl")
            .args(["x509", "-req", "-days", "90", "-set_serial", "7"])
            .arg(if sha1 { "-sha1" } else { "-sha256" })
            .arg("-in")
            .arg(&request)
            .arg("-CA")
            .arg(self.authority())
            .arg("-CAkey")
            .arg(&authority_key)
            .arg("-extfile")
            .arg(&extensions)
            .arg("-out")
            .arg(chain));
    }
}

/// The moment so many days from now.
fn day(days: i64) -> SystemTime {
    let span = Duration::from_secs(days.unsigned_abs() * 86_400);
    if days < 0 { SystemTime::now() - span } else { SystemTime::now() + span }
}
