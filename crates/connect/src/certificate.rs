//! The certificate that a server shows for a name, fetched before the name leads there: nothing is
//! asked of the server, and nobody's key is touched.

use crate::tls::{Trust, judged_by};
use fernweh_ports::{CertificateSource, Result, ShownCertificate, plain};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, Error, SignatureScheme,
};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long a server may take to show its certificate.
pub const PATIENCE: Duration = Duration::from_secs(8);

/// Fetches certificates.
pub struct CertificateProbe {
    config: ClientConfig,
    usual: Arc<dyn ServerCertVerifier>,
}

impl CertificateProbe {
    /// Prepares; nothing is fetched yet.
    pub fn new(trust: &Trust) -> Result<Self> {
        let usual = crate::tls::verifier(trust)?;
        Ok(Self { config: judged_by(usual.clone(), rustls::DEFAULT_VERSIONS)?, usual })
    }
}

/// Notes what is shown and what would be said of it, and goes on with any.
#[derive(Debug)]
struct Witness {
    usual: Arc<dyn ServerCertVerifier>,
    seen: Mutex<ShownCertificate>,
}

impl Witness {
    /// Goes on with a signature that does not count, too: nothing is said to the server, and what
    /// is wrong with its certificate is wanted.
    fn in_any_case(
        &self,
        verified: std::result::Result<HandshakeSignatureValid, Error>,
    ) -> HandshakeSignatureValid {
        verified.unwrap_or_else(|error| {
            let mut seen = self.seen.lock().expect("nobody panics");
            seen.refused.get_or_insert_with(|| error.to_string());
            HandshakeSignatureValid::assertion()
        })
    }
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        others: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> std::result::Result<ServerCertVerified, Error> {
        let verified = self.usual.verify_server_cert(own, others, name, ocsp, now);
        let mut seen = self.seen.lock().expect("nobody panics");
        seen.chain = [own].into_iter().chain(others).map(|one| one.to_vec()).collect();
        seen.stapled = !ocsp.is_empty();
        if let Err(error) = verified {
            seen.unknown_signer = crate::tls::is_unknown_signer(&error);
            seen.refused = Some(match &error {
                Error::InvalidCertificate(CertificateError::Other(other)) => other.0.to_string(),
                other => other.to_string(),
            });
        }
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        let verified = self.usual.verify_tls12_signature(message, certificate, signed);
        Ok(self.in_any_case(verified))
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        let verified = self.usual.verify_tls13_signature(message, certificate, signed);
        Ok(self.in_any_case(verified))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.usual.supported_verify_schemes()
    }
}

impl CertificateSource for CertificateProbe {
    fn certificate(
        &self,
        at: SocketAddr,
        name: &str,
    ) -> std::result::Result<ShownCertificate, String> {
        let witness =
            Arc::new(Witness { usual: self.usual.clone(), seen: Mutex::new(Default::default()) });
        let mut config = self.config.clone();
        config.dangerous().set_certificate_verifier(witness.clone());
        // A session that is gone on with shows no certificate.
        config.resumption = rustls::client::Resumption::disabled();
        let server = ServerName::try_from(name.to_owned()).map_err(|error| error.to_string())?;
        let mut session = ClientConnection::new(Arc::new(config), server)
            .map_err(|error| plain(&error.to_string()))?;
        let ends = Instant::now() + PATIENCE;
        let mut stream = open(at, ends)?;
        while session.is_handshaking() {
            let left = left(ends)?;
            let limited = stream.set_read_timeout(Some(left));
            limited.and_then(|()| session.complete_io(&mut stream)).map_err(|e| refused(&e))?;
        }
        let mut seen = witness.seen.lock().expect("nobody panics").clone();
        let old = [("TLS 1.0", 1), ("TLS 1.1", 2)];
        let offered = old.into_iter().filter(|(_, minor)| agrees(at, name, *minor, ends));
        seen.old_versions = offered.map(|(version, _)| version).collect();
        Ok(seen)
    }
}

fn left(ends: Instant) -> std::result::Result<Duration, String> {
    let left = ends.saturating_duration_since(Instant::now());
    match left.is_zero() || crate::stop::asked() {
        true => Err(NO_ANSWER.into()),
        false => Ok(left),
    }
}

const NO_ANSWER: &str = "it accepts connections, but does not answer in time";

fn open(at: SocketAddr, ends: Instant) -> std::result::Result<TcpStream, String> {
    let stream = TcpStream::connect_timeout(&at, left(ends)?);
    stream.map_err(|error| match error.kind() {
        std::io::ErrorKind::TimedOut => "no answer in time".to_owned(),
        _ => plain(&error.to_string()),
    })
}

fn refused(error: &std::io::Error) -> String {
    use std::io::ErrorKind::{TimedOut, WouldBlock};
    if matches!(error.kind(), TimedOut | WouldBlock) {
        return NO_ANSWER.into();
    }
    let said = plain(&error.to_string());
    match said {
        said if said.contains("ProtocolVersion") => {
            "it offers only versions of TLS that browsers no longer use".into()
        }
        said if said.contains("corrupt message") || said.contains("InvalidContentType") => {
            "it does not speak TLS on this port".into()
        }
        said if said.contains("UnrecognisedName") || said.contains("UnrecognizedName") => {
            "it does not know this name".into()
        }
        said => said,
    }
}

/// Whether a server agrees to an old version of TLS, 1.0 or 1.1: a greeting that offers nothing
/// newer is answered by one (RFC 2246, 7.4.1.3), and not by an alert. No library of today sends it.
fn agrees(at: SocketAddr, name: &str, minor: u8, ends: Instant) -> bool {
    let Ok(mut stream) = open(at, ends) else { return false };
    let greeting = greeting(name, minor);
    let mut answer = [0; 11];
    let limit = left(ends).unwrap_or(Duration::from_millis(1));
    let read = stream
        .set_read_timeout(Some(limit))
        .and_then(|()| stream.write_all(&greeting))
        .and_then(|()| stream.read_exact(&mut answer));
    // A record of the handshake (22) that holds a greeting of the server (2) in this version.
    read.is_ok() && answer[0] == 22 && answer[5] == 2 && answer[9..11] == [3, minor]
}

/// A greeting of TLS 1.0, which is version 3.1 on the wire, or of TLS 1.1, which is 3.2.
fn greeting(name: &str, minor: u8) -> Vec<u8> {
    let short = |length: usize| u16::try_from(length).unwrap_or(u16::MAX).to_be_bytes();
    let version = [3, minor];
    // Ciphers that servers of that time had: ECDHE and plain RSA with AES and CBC, and 3DES.
    let ciphers: [[u8; 2]; 7] =
        [[0xC0, 0x0A], [0xC0, 0x09], [0xC0, 0x14], [0xC0, 0x13], [0, 0x35], [0, 0x2F], [0, 0x0A]];
    let mut host = vec![0];
    host.extend(short(name.len()));
    host.extend(name.as_bytes());
    let extension =
        |kind: [u8; 2], content: &[u8]| [&kind[..], &short(content.len())[..], content].concat();
    let listed = |content: &[u8]| [&short(content.len())[..], content].concat();
    let extensions = [
        extension([0, 0], &listed(&host)),
        // The curves secp256r1, secp384r1, secp521r1, and points that are written out.
        extension([0, 10], &listed(&[0, 23, 0, 24, 0, 25])),
        extension([0, 11], &[1, 0]),
    ]
    .concat();
    let body = [
        &version[..],
        &[0x5A; 32],
        // No session that goes on.
        &[0],
        &listed(&ciphers.concat()),
        // No compression.
        &[1, 0],
        &listed(&extensions),
    ]
    .concat();
    let message = [&[1, 0][..], &short(body.len())[..], &body].concat();
    [&[22, 3, 1][..], &short(message.len())[..], &message].concat()
}
