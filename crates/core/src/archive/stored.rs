//! A frame of Zstandard that holds its bytes as they are (RFC 8878): every program that reads
//! Zstandard reads it, and making it costs no more than copying.

/// The magic number of a frame (3.1.1).
const MAGIC: u32 = 0xFD2F_B528;
/// No content size, no checksum, no dictionary (3.1.1.1.1).
const DESCRIPTOR: u8 = 0;
/// A window of 128 KiB, 2 to the power of 10 + 7 (3.1.1.1.2): no block may be larger (3.1.1.2.4).
const WINDOW: u8 = 7 << 3;
/// Bytes of a block.
const BLOCK: usize = 128 << 10;

/// A frame that holds these bytes.
pub fn stored(bytes: &[u8]) -> Vec<u8> {
    let blocks = bytes.len().div_ceil(BLOCK).max(1);
    let mut frame = Vec::with_capacity(6 + blocks * 3 + bytes.len());
    frame.extend_from_slice(&MAGIC.to_le_bytes());
    frame.extend_from_slice(&[DESCRIPTOR, WINDOW]);
    for number in 0..blocks {
        let block = &bytes[number * BLOCK..bytes.len().min((number + 1) * BLOCK)];
        // The last one is marked by the lowest bit; raw blocks are of type 0 (3.1.1.2).
        let header = (block.len() as u32) << 3 | u32::from(number + 1 == blocks);
        frame.extend_from_slice(&header.to_le_bytes()[..3]);
        frame.extend_from_slice(block);
    }
    frame
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_stored_reads_as_it_was() {
        for length in [0, 1, BLOCK - 1, BLOCK, BLOCK + 1, 2 * BLOCK, 5 * BLOCK + 77] {
            let bytes: Vec<u8> = (0..length).map(|n| (n * 31 % 251) as u8).collect();
            let frame = stored(&bytes);
            assert_eq!(zstd::decode_all(&frame[..]).unwrap(), bytes, "{length}");
            assert!(frame.len() <= length + 9 + length / BLOCK * 3);
            // Frames follow each other as members of an archive do.
            let twice = [frame.clone(), stored(b"more")].concat();
            assert_eq!(zstd::decode_all(&twice[..]).unwrap(), [&bytes[..], b"more"].concat());
        }
    }
}
