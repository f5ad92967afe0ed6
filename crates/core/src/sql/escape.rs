//! Texts in which some bytes become a backslash and a letter.

/// For each byte the letter that stands for it behind a backslash, or 0.
pub(super) type Letters = [u8; 256];

/// A table of letters.
pub(super) const fn letters(pairs: &[(u8, u8)]) -> Letters {
    let mut table = [0; 256];
    let mut place = 0;
    while place < pairs.len() {
        table[pairs[place].0 as usize] = pairs[place].1;
        place += 1;
    }
    table
}

/// Bytes of a value that are written at once where it is written in pieces; tests cross the
/// borders with small values.
pub(super) const PIECE: usize = if cfg!(test) { 8 } else { 1 << 20 };

/// Bytes that are looked at together; the compiler makes a few instructions of it.
const TOGETHER: usize = 32;

/// Whether a byte may have a letter in any table: a control, a quote or a backslash.
const fn is_special(byte: u8) -> bool {
    byte < 0x20 || byte == b'\'' || byte == b'\\'
}

/// Writes a text with its special bytes escaped.
pub(super) fn write_escaped(text: &[u8], letters: &Letters, out: &mut Vec<u8>) {
    // A very large text must not make the buffer double.
    out.reserve(text.len() + text.len() / 16);
    let (mut at, mut written) = (0, 0);
    while at < text.len() {
        if let Some(chunk) = text[at..].first_chunk::<TOGETHER>()
            && !chunk.iter().fold(false, |found, byte| found | is_special(*byte))
        {
            at += TOGETHER;
            continue;
        }
        let end = (at + TOGETHER).min(text.len());
        for place in at..end {
            let letter = letters[usize::from(text[place])];
            if letter != 0 {
                out.extend_from_slice(&text[written..place]);
                out.extend_from_slice(&[b'\\', letter]);
                written = place + 1;
            }
        }
        at = end;
    }
    out.extend_from_slice(&text[written..]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const TABLE: Letters = letters(&[(b'\'', b'\''), (b'\\', b'\\'), (0, b'0'), (b'\n', b'n')]);

    proptest! {
        #[test]
        fn special_bytes_are_escaped_wherever_they_stand(text: Vec<u8>, before in 0_usize..70) {
            let text = [vec![b'x'; before], text].concat();
            let mut found = Vec::new();
            write_escaped(&text, &TABLE, &mut found);
            let one = |byte: &u8| match TABLE[usize::from(*byte)] {
                0 => vec![*byte],
                letter => vec![b'\\', letter],
            };
            prop_assert_eq!(found, text.iter().flat_map(one).collect::<Vec<u8>>());
        }
    }

    #[test]
    fn every_letter_is_for_a_byte_that_is_looked_at() {
        for byte in 0..=255_u8 {
            assert!(TABLE[usize::from(byte)] == 0 || is_special(byte), "{byte}");
        }
    }
}
