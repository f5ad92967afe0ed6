//! What a certificate says (X.509, RFC 5280), and for which hosts it counts (RFC 9525).

use thiserror::Error;
use x509_parser::certificate::X509Certificate;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::FromDer;
use x509_parser::public_key::PublicKey;

/// What is read of a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    /// The hosts it is for, in lower case, some with a `*`; addresses are written out.
    pub names: Vec<String>,
    /// Whom it is about.
    pub subject: String,
    /// Who has signed it.
    pub issuer: String,
    /// It counts from this moment on, in seconds since 1970.
    pub from: i64,
    /// It counts to this moment, in seconds since 1970.
    pub until: i64,
    /// The kind of key and its size, as `RSA 2048`.
    pub key: String,
    /// How it is signed, as `SHA-256 with RSA`.
    pub signature: String,
    /// What is too weak for browsers, if something is.
    pub weak: Option<String>,
    /// Whether it counts only with word of its authority (RFC 7633).
    pub must_staple: bool,
    /// Whether it may sign others.
    pub is_authority: bool,
}

/// Why a certificate cannot be read.
#[derive(Debug, Error, PartialEq, Eq)]
#[error("the certificate cannot be read ({0})")]
pub struct Unreadable(String);

/// Object identifiers of the extension in which a certificate names features of TLS (RFC 7633).
const TLS_FEATURE: &str = "1.3.6.1.5.5.7.1.24";
/// The number of the extension `status_request` in it (RFC 6066).
const STATUS_REQUEST: u8 = 5;

impl Certificate {
    /// Reads one in DER.
    ///
    /// # Errors
    ///
    /// Where it is none.
    pub fn parse(der: &[u8]) -> Result<Self, Unreadable> {
        let (_, read) =
            X509Certificate::from_der(der).map_err(|error| Unreadable(error.to_string()))?;
        let (key, weak_key) = key(&read);
        let (signature, weak_signature) = signature(&read);
        let must_staple = read.iter_extensions().any(|extension| {
            // A sequence of integers.
            extension.oid.to_id_string() == TLS_FEATURE
                && extension.value.windows(3).any(|part| part == [2, 1, STATUS_REQUEST])
        });
        Ok(Self {
            names: names(&read),
            subject: read.subject().to_string(),
            issuer: read.issuer().to_string(),
            from: read.validity().not_before.timestamp(),
            until: read.validity().not_after.timestamp(),
            weak: weak_key.or(weak_signature),
            key,
            signature,
            must_staple,
            is_authority: read.is_ca(),
        })
    }

    /// Whether it counts for a host: a name in ASCII, or an address.
    pub fn covers(&self, host: &str) -> bool {
        self.names.iter().any(|name| matches(name, host))
    }

    /// Whether it has signed itself.
    pub fn is_own(&self) -> bool {
        self.subject == self.issuer
    }
}

fn names(read: &X509Certificate<'_>) -> Vec<String> {
    let mut names = Vec::new();
    for extension in read.iter_extensions() {
        let ParsedExtension::SubjectAlternativeName(found) = extension.parsed_extension() else {
            continue;
        };
        names.extend(found.general_names.iter().filter_map(|name| match name {
            GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
            GeneralName::IPAddress(bytes) => address(bytes),
            _ => None,
        }));
    }
    names
}

fn address(bytes: &[u8]) -> Option<String> {
    use core::net::IpAddr;
    match bytes.len() {
        4 => <[u8; 4]>::try_from(bytes).ok().map(|four| IpAddr::from(four).to_string()),
        16 => <[u8; 16]>::try_from(bytes).ok().map(|all| IpAddr::from(all).to_string()),
        _ => None,
    }
}

/// Names that stand in a certificate match as RFC 9525, 6.3 says: label by label, caseless; `*`
/// alone stands for exactly one label, the first, and not for a label of its own in an IDN.
fn matches(name: &str, host: &str) -> bool {
    let host = host.trim_end_matches('.');
    match name.strip_prefix("*.") {
        None => name.eq_ignore_ascii_case(host),
        Some(rest) => host.split_once('.').is_some_and(|(first, others)| {
            !first.is_empty()
                && host.parse::<core::net::IpAddr>().is_err()
                && rest.contains('.')
                && rest.eq_ignore_ascii_case(others)
        }),
    }
}

fn key(read: &X509Certificate<'_>) -> (String, Option<String>) {
    match read.public_key().parsed() {
        Ok(PublicKey::RSA(key)) => {
            let bits = key.key_size();
            let weak = (bits < 2048).then(|| format!("its RSA key has only {bits} bits"));
            (format!("RSA {bits}"), weak)
        }
        Ok(PublicKey::EC(key)) => (format!("ECDSA {}", key.key_size()), None),
        Ok(PublicKey::DSA(_)) => ("DSA".into(), Some("its key is a DSA key".into())),
        _ => match read.public_key().algorithm.algorithm.to_id_string().as_str() {
            "1.3.101.112" => ("Ed25519".into(), None),
            other => (format!("key of kind {other}"), None),
        },
    }
}

/// Signatures by their object identifiers (RFC 3279, RFC 4055, RFC 5758, RFC 8410).
const SIGNATURES: [(&str, &str, bool); 11] = [
    ("1.2.840.113549.1.1.4", "MD5 with RSA", true),
    ("1.2.840.113549.1.1.5", "SHA-1 with RSA", true),
    ("1.2.840.10045.4.1", "SHA-1 with ECDSA", true),
    ("1.2.840.113549.1.1.11", "SHA-256 with RSA", false),
    ("1.2.840.113549.1.1.12", "SHA-384 with RSA", false),
    ("1.2.840.113549.1.1.13", "SHA-512 with RSA", false),
    ("1.2.840.113549.1.1.10", "RSA-PSS", false),
    ("1.2.840.10045.4.3.2", "SHA-256 with ECDSA", false),
    ("1.2.840.10045.4.3.3", "SHA-384 with ECDSA", false),
    ("1.2.840.10045.4.3.4", "SHA-512 with ECDSA", false),
    ("1.3.101.112", "Ed25519", false),
];

fn signature(read: &X509Certificate<'_>) -> (String, Option<String>) {
    let is = read.signature_algorithm.algorithm.to_id_string();
    match SIGNATURES.iter().find(|(id, ..)| *id == is) {
        Some((_, name, weak)) => {
            ((*name).into(), weak.then(|| format!("it is signed by {name}, which is broken")))
        }
        None => (format!("signature of kind {is}"), None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_matches_label_by_label() {
        for (name, host, expected) in [
            ("glimmer.example", "glimmer.example", true),
            ("glimmer.example", "GLIMMER.Example", true),
            ("glimmer.example", "glimmer.example.", true),
            ("glimmer.example", "www.glimmer.example", false),
            ("*.glimmer.example", "www.glimmer.example", true),
            ("*.glimmer.example", "glimmer.example", false),
            ("*.glimmer.example", "a.www.glimmer.example", false),
            ("*.glimmer.example", ".glimmer.example", false),
            // Only a whole label, and only the first.
            ("w*.glimmer.example", "www.glimmer.example", false),
            ("www.*.example", "www.glimmer.example", false),
            ("*", "glimmer", false),
            ("*.example", "glimmer.example", false),
            ("*.0.2.9", "192.0.2.9", false),
            ("192.0.2.9", "192.0.2.9", true),
        ] {
            assert_eq!(matches(name, host), expected, "{name} for {host}");
        }
    }

    #[test]
    fn what_is_no_certificate_is_refused() {
        assert!(Certificate::parse(b"").is_err());
        assert!(Certificate::parse(b"-----BEGIN CERTIFICATE-----").is_err());
    }
}
