//! SHA-256 (FIPS 180-4) as lower-case hexadecimal, the digest of the archive's seal.

use ring::digest::{Context, SHA256};

/// A digest that is fed piece by piece.
pub struct Sha256(Context);

impl Default for Sha256 {
    fn default() -> Self {
        Self(Context::new(&SHA256))
    }
}

impl Sha256 {
    /// Takes in more bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of everything so far, 64 hexadecimal digits.
    pub fn finish(self) -> String {
        hex(self.0.finish().as_ref())
    }
}

/// The first 16 bytes of the digest of one piece of memory.
pub fn half_sha256(bytes: &[u8]) -> [u8; 16] {
    let digest = ring::digest::digest(&SHA256, bytes);
    let mut half = [0; 16];
    half.copy_from_slice(&digest.as_ref()[..16]);
    half
}

/// The digest of one piece of memory.
pub fn sha256(bytes: &[u8]) -> String {
    let mut digest = Sha256::default();
    digest.update(bytes);
    digest.finish()
}

/// Bytes as lower-case hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    hex::encode(bytes)
}

/// Writes bytes as lower-case hexadecimal digits, without another copy of them.
pub fn write_hex(bytes: &[u8], out: &mut Vec<u8>) {
    let start = out.len();
    out.resize(start + bytes.len() * 2, 0);
    // The room is exactly what they need.
    let written = hex::encode_to_slice(bytes, &mut out[start..]);
    debug_assert!(written.is_ok());
}

/// The bytes that pairs of hexadecimal digits stand for, if that is all there is.
pub fn from_hex(digits: &[u8]) -> Option<Vec<u8>> {
    hex::decode(digits).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_digest_of_abc_is_the_one_of_the_standard() {
        assert_eq!(
            sha256(b"abc"),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
    }

    #[test]
    fn pieces_give_the_digest_of_the_whole() {
        let mut pieces = Sha256::default();
        for byte in b"Glimmer Point" {
            pieces.update(&[*byte]);
        }
        assert_eq!(pieces.finish(), sha256(b"Glimmer Point"));
    }
}
