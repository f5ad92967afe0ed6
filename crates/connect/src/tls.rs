//! Encrypted connections: whose certificates are trusted.

use fernweh_ports::{Result, Trouble};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use rustls_platform_verifier::BuilderVerifierExt;
use std::path::Path;
use std::sync::Arc;

/// How a server's certificate is checked: against the authorities in a PEM file, or against
/// those that this machine trusts. Connections that share one of these share their
/// sessions.
pub(crate) fn client(authority: Option<&Path>) -> Result<ClientConfig> {
    client_of(authority, rustls::DEFAULT_VERSIONS)
}

/// The same, for these versions of TLS only.
pub(crate) fn client_of(
    authority: Option<&Path>,
    versions: &[&'static rustls::SupportedProtocolVersion],
) -> Result<ClientConfig> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let failed = |error: &dyn std::fmt::Display| {
        Trouble::outside("cannot prepare an encrypted connection").because(error)
    };
    let builder = ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(versions)
        .map_err(|error| failed(&error))?;
    let Some(path) = authority else {
        let builder = builder.with_platform_verifier().map_err(|error| {
            failed(&error).hint("name the authority's certificate: authority = \"authority.pem\"")
        })?;
        return Ok(builder.with_no_client_auth());
    };
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
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}
