//! A tar stream from outside, with its headers looked at before anybody believes them.
//!
//! A header may be followed by an extended one (pax, GNU) that says a longer name: a reader
//! keeps it in memory, as large as it says it is. A few bytes that are well compressed can say
//! gigabytes; here they end at a stated size.
//!
//! POSIX.1-2017, "pax Interchange Format"; GNU tar manual, "Basic Tar Format".

use fernweh_core::attributes::{self, Attribute};
use fernweh_core::limits;
use std::cell::RefCell;
use std::io::{Error, ErrorKind, Read, Result};
use std::rc::Rc;

/// Bytes of a block.
const BLOCK: usize = 512;

/// What an extended header says of the entry at hand: values may hold any byte, line breaks too,
/// for each record begins with its length.
#[derive(Clone, Debug, Default)]
pub struct Extended(Rc<RefCell<Vec<u8>>>);

impl Extended {
    /// The last value of a key.
    pub fn get(&self, key: &str) -> Option<Vec<u8>> {
        value_in(&self.0.borrow(), key.as_bytes()).map(<[u8]>::to_vec)
    }

    /// Extended attributes and access lists.
    pub fn attributes(&self) -> Vec<Attribute> {
        let mut found = Vec::new();
        each_record(&self.0.borrow(), &mut |record| {
            if let Some(at) = memchr::memchr(b'=', record) {
                found.extend(attributes::from_pax(&record[..at], &record[at + 1..]));
            }
        });
        found
    }
}

/// Passes a tar stream on, and refuses headers that say too much.
pub struct BoundedTar<R> {
    /// What is told of the entry at hand.
    told: Extended,
    inner: R,
    /// The header at hand, as far as it has come.
    header: [u8; BLOCK],
    filled: usize,
    /// Bytes of content, with its padding, that follow before the next header.
    content: u64,
    /// The extended header at hand.
    extended: Option<Vec<u8>>,
    /// The extended header of the next entry.
    next: Vec<u8>,
}

fn refused(because: String) -> Error {
    Error::new(ErrorKind::InvalidData, because)
}

impl<R: Read> BoundedTar<R> {
    /// Looks at what comes through.
    pub fn new(inner: R) -> Self {
        let (told, next) = (Extended::default(), Vec::new());
        Self { told, inner, header: [0; BLOCK], filled: 0, content: 0, extended: None, next }
    }

    /// What extended headers say of the entry that was read last.
    pub fn extended(&self) -> Extended {
        self.told.clone()
    }

    fn look(&mut self, mut bytes: &[u8]) -> Result<()> {
        while !bytes.is_empty() {
            if self.content > 0 {
                let length = usize::try_from(self.content).unwrap_or(usize::MAX).min(bytes.len());
                let (now, rest) = bytes.split_at(length);
                if let Some(extended) = &mut self.extended {
                    extended.extend_from_slice(now);
                }
                self.content -= length as u64;
                bytes = rest;
                if self.content == 0
                    && let Some(extended) = self.extended.take()
                {
                    self.next = extended;
                }
                continue;
            }
            let length = bytes.len().min(BLOCK - self.filled);
            self.header[self.filled..self.filled + length].copy_from_slice(&bytes[..length]);
            self.filled += length;
            bytes = &bytes[length..];
            if self.filled == BLOCK {
                self.filled = 0;
                self.begin()?;
            }
        }
        Ok(())
    }

    /// A header is complete.
    fn begin(&mut self) -> Result<()> {
        if self.header.iter().all(|byte| *byte == 0) {
            return Ok(());
        }
        let kind = self.header[156];
        let said = number(&self.header[124..136]).ok_or_else(|| {
            refused("a header of the tar stream has a size that is not a number".into())
        })?;
        let is_extended = matches!(kind, b'x' | b'g' | b'L' | b'K');
        if is_extended && said > limits::TAR_NAME {
            return Err(refused(format!(
                "a name in the tar stream has {said} bytes, at most {} are taken",
                limits::TAR_NAME
            )));
        }
        let size = match is_extended {
            true => said,
            false => {
                let told = std::mem::take(&mut self.next);
                let size = value_in(&told, b"size").and_then(|value| {
                    std::str::from_utf8(value).ok().and_then(|text| text.parse().ok())
                });
                *self.told.0.borrow_mut() = told;
                size.unwrap_or(said)
            }
        };
        self.extended = (kind == b'x').then(Vec::new);
        let holds_content = is_extended || matches!(kind, b'0' | 0 | b'7' | b'S' | b'1');
        if size > limits::NUMBER {
            return Err(refused(format!("an entry of the tar stream says {size} bytes")));
        }
        let padded = size.next_multiple_of(BLOCK as u64);
        self.content = if holds_content { padded } else { 0 };
        Ok(())
    }
}

impl<R: Read> Read for BoundedTar<R> {
    fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
        let length = self.inner.read(buffer)?;
        self.look(&buffer[..length])?;
        Ok(length)
    }
}

/// Octal digits, or a binary number whose first bit is set.
fn number(field: &[u8]) -> Option<u64> {
    if field[0] & 0x80 != 0 {
        let mut value = u64::from(field[0] & 0x7F);
        for byte in &field[1..] {
            value = value.checked_mul(256)?.checked_add(u64::from(*byte))?;
        }
        return Some(value);
    }
    let digits: Vec<u8> = field.iter().copied().filter(|byte| !matches!(byte, 0 | b' ')).collect();
    if digits.is_empty() {
        return Some(0);
    }
    let text = std::str::from_utf8(&digits).ok()?;
    u64::from_str_radix(text, 8).ok()
}

/// The last value of a key among records of the form `LENGTH KEY=VALUE\n`.
fn value_in<'a>(records: &'a [u8], key: &[u8]) -> Option<&'a [u8]> {
    let mut found = None;
    each_record(records, &mut |record| {
        if let Some(value) = record.strip_prefix(key).and_then(|rest| rest.strip_prefix(b"=")) {
            found = Some(value);
        }
    })?;
    found
}

/// Every `KEY=VALUE`; `None` if what follows is no record.
fn each_record<'a>(mut records: &'a [u8], visit: &mut dyn FnMut(&'a [u8])) -> Option<()> {
    while let Some(space) = memchr::memchr(b' ', records) {
        let length: usize = std::str::from_utf8(&records[..space]).ok()?.parse().ok()?;
        visit(records.get(space + 1..length)?.strip_suffix(b"\n")?);
        records = &records[length..];
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(kind: u8, size: u64, content: &[u8]) -> Vec<u8> {
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(tar::EntryType::new(kind));
        header.set_size(size);
        header.set_path("a").unwrap();
        header.set_cksum();
        let mut bytes = header.as_bytes().to_vec();
        bytes.extend_from_slice(content);
        bytes.resize(bytes.len().next_multiple_of(BLOCK), 0);
        bytes
    }

    fn passed(bytes: &[u8], piece: usize) -> Result<Vec<u8>> {
        struct Pieces<'a>(&'a [u8], usize);
        impl Read for Pieces<'_> {
            fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
                let most = self.1.min(buffer.len());
                self.0.read(&mut buffer[..most])
            }
        }
        let mut out = Vec::new();
        BoundedTar::new(Pieces(bytes, piece)).read_to_end(&mut out)?;
        Ok(out)
    }

    const PIECES: [usize; 6] = [1, 3, 8, 511, 513, 4096];

    #[test]
    fn what_is_in_bounds_passes_unchanged() {
        // Content that looks like a header must not be taken for one.
        let fake = entry(b'x', 1 << 40, b"");
        let long = format!("{} path={}\n", 15 + 200, "p".repeat(200));
        let bytes = [
            entry(b'x', long.len() as u64, long.as_bytes()),
            entry(b'0', fake.len() as u64, &fake),
            entry(b'2', 1 << 40, b""),
            entry(b'5', 0, b""),
            vec![0; 1024],
        ]
        .concat();
        for piece in PIECES {
            assert_eq!(passed(&bytes, piece).unwrap(), bytes);
        }
    }

    #[test]
    fn a_size_in_an_extended_header_counts_for_the_entry() {
        let fake = entry(b'L', 1 << 40, b"");
        let record = b"12 size=512\n";
        let bytes = [entry(b'x', 12, record), entry(b'0', 0, &fake)].concat();
        for piece in PIECES {
            assert!(passed(&bytes, piece).is_ok());
        }
    }

    #[test]
    fn values_of_extended_headers_may_hold_any_byte() {
        let records = b"18 path=a\nb=c d\n=\n13 mtime=1.5\n8 path=\n";
        assert_eq!(value_in(&records[..18], b"path"), Some(&b"a\nb=c d\n="[..]));
        assert_eq!(value_in(records, b"path"), Some(&b""[..]));
        assert_eq!(value_in(records, b"mtime"), Some(&b"1.5"[..]));
        for broken in [&b"9999 path=a\n"[..], b"x path=a\n", b"3 path=a\n", b"0 a=b\n"] {
            assert_eq!(value_in(broken, b"path"), None);
        }
    }

    #[test]
    fn names_without_end_are_refused_before_they_are_read() {
        for kind in [b'x', b'g', b'L', b'K'] {
            let bytes = entry(kind, limits::TAR_NAME + 1, b"");
            for piece in PIECES {
                let error = passed(&bytes, piece).unwrap_err();
                assert_eq!(error.kind(), ErrorKind::InvalidData);
                assert!(error.to_string().starts_with("a name in the tar stream has"), "{error}");
            }
        }
    }

    #[test]
    fn binary_sizes_are_read_and_absurd_ones_refused() {
        assert_eq!(number(b"00000001000\0"), Some(512));
        assert_eq!(number(&[0x80, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 0]), Some(2 << 32));
        assert_eq!(number(&[0xFF; 12]), None);
        assert_eq!(number(b"9\0\0\0\0\0\0\0\0\0\0\0"), None);
        for piece in PIECES {
            let error = passed(&entry(b'0', limits::NUMBER + 1, b""), piece).unwrap_err();
            assert!(error.to_string().ends_with("says 9007199254740993 bytes"), "{error}");
        }
    }
}
