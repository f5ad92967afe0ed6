//! `files/index.zst`: where each file of the archive begins, one line each:
//! piece, offset in the piece's tar stream, and the path (percent-encoded where a
//! byte is not printable ASCII, or is `%`).

/// Where one entry begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Located {
    /// The number of the piece in which its header begins.
    pub piece: u32,
    /// The offset of its header in the uncompressed piece, in bytes.
    pub offset: u64,
    /// Its path below the site's folder.
    pub path: Vec<u8>,
}

/// Adds one line.
pub fn write_index_line(entry: &Located, out: &mut Vec<u8>) {
    out.extend_from_slice(format!("{} {} ", entry.piece, entry.offset).as_bytes());
    for &byte in &entry.path {
        if byte.is_ascii_graphic() && byte != b'%' {
            out.push(byte);
        } else {
            out.extend_from_slice(format!("%{byte:02X}").as_bytes());
        }
    }
    out.push(b'\n');
}

/// Reads a line, without its line break; `None` if it is malformed.
pub fn read_index_line(line: &[u8]) -> Option<Located> {
    let text = std::str::from_utf8(line).ok()?;
    let (piece, rest) = text.split_once(' ')?;
    let (offset, encoded) = rest.split_once(' ')?;
    let mut path = Vec::new();
    let mut rest = encoded.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        rest = after;
        if first == b'%' {
            path.push(u8::from_str_radix(std::str::from_utf8(after.get(..2)?).ok()?, 16).ok()?);
            rest = &after[2..];
        } else {
            path.push(first);
        }
    }
    Some(Located { piece: piece.parse().ok()?, offset: offset.parse().ok()?, path })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_path_comes_back(path in prop::collection::vec(any::<u8>(), 1..40), piece: u32, offset: u64) {
            let entry = Located { piece, offset, path };
            let mut text = Vec::new();
            write_index_line(&entry, &mut text);
            write_index_line(&entry, &mut text);
            let lines: Vec<Located> =
                text.split(|byte| *byte == b'\n').filter_map(read_index_line).collect();
            prop_assert_eq!(lines, vec![entry.clone(), entry]);
        }
    }
}
