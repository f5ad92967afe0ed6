//! Reading a stream in portions that overlap, so that what lies across a border is seen
//! whole.

use fernweh_core::limits;
use std::io::Read;

/// Some bytes of a stream; the last ones come again at the beginning of the next portion.
pub(crate) struct Window<'a> {
    /// The bytes.
    pub bytes: &'a [u8],
    /// How many of them were not in the portion before.
    pub new: usize,
    /// Bytes of the stream before them.
    pub position: u64,
    /// The line in which they begin, counted from 1.
    pub line: u64,
    /// From here on they come again.
    again: usize,
    /// Up to here they came before, and were settled.
    before: usize,
}

impl Window<'_> {
    /// Whether what begins here is to be judged now: it is seen whole, and with what stands
    /// before it.
    pub fn is_settled(&self, at: usize) -> bool {
        (self.before..self.again).contains(&at)
    }
}

/// Reads a stream to its end. What begins `reach` bytes before the end of a portion is
/// settled in it; so much comes again, and as much before it.
pub(crate) fn each(
    content: &mut dyn Read,
    reach: usize,
    visit: &mut dyn FnMut(&Window<'_>),
) -> std::io::Result<()> {
    let mut bytes: Vec<u8> = Vec::new();
    let (mut position, mut line, mut before) = (0, 1, 0);
    loop {
        let kept = bytes.len();
        let read =
            content.take((limits::SEARCHED_PORTION + 2 * reach) as u64).read_to_end(&mut bytes)?;
        let ended = read == 0 || bytes.len() - kept < limits::SEARCHED_PORTION + 2 * reach;
        let again = if ended { bytes.len() } else { bytes.len() - reach };
        visit(&Window { bytes: &bytes, new: read, position, line, again, before });
        if ended {
            return Ok(());
        }
        let gone = again - reach;
        line += memchr::memchr_iter(b'\n', &bytes[..gone]).count() as u64;
        position += gone as u64;
        before = again - gone;
        bytes.drain(..gone);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everything_is_settled_once_with_its_place_and_line() {
        let word = b"moonrise";
        let mut stream = Vec::new();
        let mut expected = Vec::new();
        let mut line = 1;
        for n in 0..400_000_usize {
            if n % 37 == 0 {
                expected.push((stream.len() as u64, line));
                stream.extend_from_slice(word);
            }
            stream.extend_from_slice(if n % 11 == 0 { b"\n" } else { b"night " });
            line += u64::from(n % 11 == 0);
        }
        let mut found = Vec::new();
        each(&mut stream.as_slice(), 64, &mut |portion| {
            let (mut counted, mut line) = (0, portion.line);
            for at in memchr::memmem::find_iter(portion.bytes, word) {
                line += memchr::memchr_iter(b'\n', &portion.bytes[counted..at]).count() as u64;
                counted = at;
                if portion.is_settled(at) {
                    found.push((portion.position + at as u64, line));
                }
            }
        })
        .unwrap();
        assert_eq!(found, expected);
    }
}
