//! The certificate that a server shows before anything is asked of it.

use std::net::SocketAddr;

/// What a server showed.
#[derive(Clone, Debug, Default)]
pub struct ShownCertificate {
    /// Its certificate and those that vouch for it (DER), in the order in which they came.
    pub chain: Vec<Vec<u8>>,
    /// Why a browser would not accept it, if it would not.
    pub refused: Option<String>,
    /// Whether the signature of an authority that this machine trusts is missing, and nothing
    /// else is said against it.
    pub unknown_signer: bool,
    /// Whether the server sent word of its authority that the certificate still holds.
    pub stapled: bool,
    /// Versions of the protocol that it agreed to and that browsers no longer use.
    pub old_versions: Vec<&'static str>,
}

/// Who fetches certificates.
pub trait CertificateSource: Sync {
    /// The certificate that a server shows for a name.
    ///
    /// # Errors
    ///
    /// What came in place of one, in words.
    fn certificate(&self, at: SocketAddr, name: &str) -> Result<ShownCertificate, String>;
}
