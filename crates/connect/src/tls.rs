//! Encrypted connections: whose certificates are trusted.
//!
//! Many rented hosts show a certificate that they have made themselves, which no authority of this
//! machine vouches for. Such a one can be named by its SHA-256 (`trust`), or by the authority that
//! has signed it (`authority`): both count for one site only, beside what this machine trusts.

use fernweh_core::digest::sha256;
use fernweh_ports::{Result, Trouble};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, OtherError, RootCertStore,
    SignatureScheme,
};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Who is trusted for the servers of a site, beside the authorities of this machine.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trust {
    /// A certificate authority (PEM file).
    pub authority: Option<PathBuf>,
    /// Certificates of servers, by their SHA-256.
    pub pins: Vec<Pin>,
}

/// A certificate by its SHA-256, as 64 hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pin(String);

impl Pin {
    /// Reads `sha256:` and 64 hexadecimal digits, with colons between them or without.
    pub fn parse(text: &str) -> Option<Self> {
        let digits: String = text
            .trim()
            .strip_prefix("sha256:")?
            .chars()
            .filter(|ch| *ch != ':')
            .map(|ch| ch.to_ascii_lowercase())
            .collect();
        let whole = digits.len() == 64 && digits.bytes().all(|byte| byte.is_ascii_hexdigit());
        whole.then_some(Self(digits))
    }
}

impl Trust {
    /// Whether only this machine's authorities count.
    pub(crate) fn is_usual(&self) -> bool {
        self.authority.is_none() && self.pins.is_empty()
    }
}

/// What a trouble with a certificate should add.
pub(crate) const HINT: &str = "if it is the host's own, ask its provider for the SHA-256 and set \
     trust = \"sha256:…\" for this site; or name who has signed it: authority = \"authority.pem\"";

/// How a server's certificate is checked. Connections that share one of these share their
/// sessions.
pub(crate) fn client(trust: &Trust) -> Result<ClientConfig> {
    client_of(trust, rustls::DEFAULT_VERSIONS)
}

/// The same, for these versions of TLS only.
pub(crate) fn client_of(
    trust: &Trust,
    versions: &[&'static rustls::SupportedProtocolVersion],
) -> Result<ClientConfig> {
    judged_by(verifier(trust)?, versions)
}

/// The same with somebody who judges.
pub(crate) fn judged_by(
    verifier: Arc<dyn ServerCertVerifier>,
    versions: &[&'static rustls::SupportedProtocolVersion],
) -> Result<ClientConfig> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(versions)
        .map_err(|error| unprepared(&error))?;
    Ok(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}

fn unprepared(error: &dyn std::fmt::Display) -> Trouble {
    Trouble::outside("cannot prepare an encrypted connection").because(error)
}

/// Who judges the certificates of a site's servers.
pub(crate) fn verifier(trust: &Trust) -> Result<Arc<dyn ServerCertVerifier>> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let own = match &trust.authority {
        Some(path) => Some(authority(path, provider.clone())?),
        None => None,
    };
    // A machine without authorities of its own can still know those that are named.
    let usual = match rustls_platform_verifier::Verifier::new(provider.clone()) {
        Ok(verifier) => Some(verifier),
        Err(_) if !trust.is_usual() => None,
        Err(_) => {
            let because = "this machine has no list of certificate authorities";
            return Err(unprepared(&because).hint(
                "install one (package ca-certificates), or set trust or authority for the site",
            ));
        }
    };
    Ok(Arc::new(Verifier { pins: trust.pins.clone(), own, usual, provider }))
}

/// Whether all that is said against a certificate is that nobody known has signed it.
pub(crate) fn is_unknown_signer(error: &Error) -> bool {
    match error {
        Error::InvalidCertificate(CertificateError::Other(other)) => {
            other.0.to_string().starts_with(UNKNOWN_SIGNER)
        }
        other => is_unknown(Some(other)),
    }
}

const UNKNOWN_SIGNER: &str = "no authority that this machine trusts has signed the certificate";

/// Who is vouched for by the authorities in a PEM file.
fn authority(path: &Path, provider: Arc<CryptoProvider>) -> Result<Arc<WebPkiServerVerifier>> {
    let unusable = |error: &dyn std::fmt::Display| {
        Trouble::usage("cannot read the certificate authority")
            .at(path.display().to_string())
            .because(error)
            .hint("it must be a file in PEM format, with -----BEGIN CERTIFICATE-----")
    };
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_file_iter(path).map_err(|error| unusable(&error))? {
        let certificate = certificate.map_err(|error| unusable(&error))?;
        roots.add(certificate).map_err(|error| unusable(&error))?;
    }
    if roots.is_empty() {
        return Err(unusable(&"there is no certificate in it"));
    }
    WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider)
        .build()
        .map_err(|error| unusable(&error))
}

/// A certificate that is named counts; else one that a named authority vouches for; else one that
/// this machine trusts.
#[derive(Debug)]
struct Verifier {
    pins: Vec<Pin>,
    own: Option<Arc<WebPkiServerVerifier>>,
    usual: Option<rustls_platform_verifier::Verifier>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        others: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> std::result::Result<ServerCertVerified, Error> {
        let print = sha256(own);
        if self.pins.iter().any(|pin| pin.0 == print) {
            return Ok(ServerCertVerified::assertion());
        }
        let mut refused = None;
        if let Some(verifier) = &self.own {
            match verifier.verify_server_cert(own, others, name, ocsp, now) {
                Ok(verified) => return Ok(verified),
                Err(error) => refused = Some(error),
            }
        }
        if let Some(verifier) = &self.usual {
            match verifier.verify_server_cert(own, others, name, ocsp, now) {
                Ok(verified) => return Ok(verified),
                // Whom a named authority knows, but not for this, says more.
                Err(error) if is_unknown(refused.as_ref()) => refused = Some(error),
                Err(_) => {}
            }
        }
        let words = in_words(refused.as_ref(), name);
        let told = format!("{words}; this certificate is sha256:{print}");
        let told: Box<dyn std::error::Error + Send + Sync> = told.into();
        Err(Error::InvalidCertificate(CertificateError::Other(OtherError(Arc::from(told)))))
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

fn is_unknown(error: Option<&Error>) -> bool {
    matches!(error, None | Some(Error::InvalidCertificate(CertificateError::UnknownIssuer)))
}

fn in_words(error: Option<&Error>, name: &ServerName<'_>) -> String {
    let why = match error {
        Some(Error::InvalidCertificate(why)) if !is_unknown(error) => why,
        _ => return UNKNOWN_SIGNER.into(),
    };
    match why {
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            format!("the certificate is not for {}", name.to_str())
        }
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            "the certificate has expired".into()
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "the certificate is not valid yet; compare the clocks".into()
        }
        // One that a server has made itself and uses as an authority, too.
        CertificateError::Other(other) if other.to_string().contains("CaUsedAsEndEntity") => {
            "the certificate is self-signed".into()
        }
        other => format!("the certificate is not accepted ({other})"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_named_by_its_digest() {
        let digits = "AB".repeat(32);
        let pairs = vec!["ab"; 32].join(":");
        assert_eq!(Pin::parse(&format!("sha256:{digits}")), Pin::parse(&format!("sha256:{pairs}")));
        assert!(Pin::parse(&format!("sha256:{digits}")).is_some());
        for wrong in [
            "",
            "sha256:",
            "sha256:abcd",
            &digits,
            &format!("sha1:{digits}"),
            &format!("sha256:{}", "xy".repeat(32)),
        ] {
            assert_eq!(Pin::parse(wrong), None, "{wrong}");
        }
    }
}
