//! Certificates of a demonstration authority, made anew at every start.

use crate::database::Failure;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use std::sync::Arc;

/// A certificate authority that nobody trusts unless told to.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    /// Its certificate (PEM), to be trusted by a scan.
    pub certificate: String,
}

impl Authority {
    /// Makes an authority.
    pub fn new() -> Result<Self, Failure> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(Vec::new())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, "Glimmer Point demonstration authority");
        let certificate = params.self_signed(&key)?.pem();
        Ok(Self { issuer: Issuer::new(params, key), certificate })
    }

    /// A certificate for `host` and its key, both in PEM.
    pub fn issue(&self, host: &str) -> Result<(String, String), Failure> {
        let key = KeyPair::generate()?;
        let certificate =
            CertificateParams::new(vec![host.to_owned()])?.signed_by(&key, &self.issuer)?;
        Ok((certificate.pem(), key.serialize_pem()))
    }

    /// What a server needs to answer as these hosts.
    pub fn serve(&self, hosts: &[&str]) -> Result<Arc<ServerConfig>, Failure> {
        let key = KeyPair::generate()?;
        let names = hosts.iter().map(|host| (*host).to_owned()).collect::<Vec<_>>();
        let params = CertificateParams::new(names)?;
        let certificate = params.signed_by(&key, &self.issuer)?;
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(vec![certificate.der().clone()], key)?;
        Ok(Arc::new(config))
    }
}
