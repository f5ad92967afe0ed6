//! The stream of files: one tar, cut into pieces that are compressed on their own, so
//! that `zstd -dc files/*.tar.zst | tar -x` gives the files, and one file is found
//! without reading the others.

use super::{ArchiveReader, ArchiveWriter};
use fernweh_core::archive::{Located, Member, write_index_line};
use fernweh_core::attributes;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{Result, Trouble};
use std::io::{Cursor, Read, Write};

/// Collects the tar stream and hands it to an archive, piece by piece.
struct Cut<'a> {
    archive: &'a mut ArchiveWriter,
    buffer: Vec<u8>,
    piece: u32,
    trouble: Option<Trouble>,
}

impl Write for Cut<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let room = limits::FILE_PIECE - self.buffer.len();
        let taken = bytes.len().min(room);
        self.buffer.extend_from_slice(&bytes[..taken]);
        if self.buffer.len() == limits::FILE_PIECE {
            self.hand_over()?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl Cut<'_> {
    fn hand_over(&mut self) -> std::io::Result<()> {
        let piece = std::mem::take(&mut self.buffer);
        self.archive.add(Member::Files(self.piece), piece).map_err(|trouble| {
            self.trouble = Some(trouble);
            std::io::Error::other("the archive cannot be written")
        })?;
        self.piece += 1;
        Ok(())
    }
}

/// Writes files into an archive.
pub struct PieceWriter<'a> {
    tar: tar::Builder<Cut<'a>>,
    index: Vec<u8>,
}

impl<'a> PieceWriter<'a> {
    /// Begins the files of an archive.
    pub fn new(archive: &'a mut ArchiveWriter) -> Self {
        let cut = Cut { archive, buffer: Vec::new(), piece: 1, trouble: None };
        Self { tar: tar::Builder::new(cut), index: Vec::new() }
    }

    /// Adds an entry. A file must give exactly the bytes its entry announces.
    pub fn add(&mut self, entry: &Entry, content: &mut dyn Read) -> Result<()> {
        let cut = self.tar.get_ref();
        let (piece, offset) = (cut.piece, cut.buffer.len() as u64);
        let located = Located { piece, offset, path: entry.path.clone() };
        write_index_line(&located, &mut self.index);
        let written = append(&mut self.tar, entry, content);
        written.map_err(|error| match self.tar.get_mut().trouble.take() {
            Some(trouble) => trouble,
            None => Trouble::outside("cannot read a file").at(entry.shown()).because(error),
        })
    }

    /// Writes the last piece and the index.
    pub fn finish(self) -> Result<()> {
        let Self { tar, index } = self;
        let mut cut = tar
            .into_inner()
            .map_err(|error| Trouble::outside("cannot write the archive").because(error))?;
        if !cut.buffer.is_empty()
            && cut.hand_over().is_err()
            && let Some(trouble) = cut.trouble
        {
            return Err(trouble);
        }
        cut.archive.add(Member::Index, index)
    }
}

/// One entry as POSIX pax: what ustar cannot hold goes into an extended header.
pub(crate) fn append<W: Write>(
    tar: &mut tar::Builder<W>,
    entry: &Entry,
    content: &mut dyn Read,
) -> std::io::Result<()> {
    let mut path = entry.path.clone();
    let (kind, size) = match &entry.kind {
        EntryKind::File(size) => (tar::EntryType::Regular, *size),
        EntryKind::Folder => {
            path.push(b'/');
            (tar::EntryType::Directory, 0)
        }
        EntryKind::Link(_) => (tar::EntryType::Symlink, 0),
        EntryKind::HardLink(_) => (tar::EntryType::Link, 0),
    };
    let mut extended: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
    let fits = |text: &[u8]| text.len() < 100 && text.is_ascii();
    if !fits(&path) {
        extended.push((b"path".into(), path.clone()));
    }
    let link = match &entry.kind {
        EntryKind::Link(target) | EntryKind::HardLink(target) => target.as_slice(),
        _ => b"",
    };
    if !fits(link) {
        extended.push((b"linkpath".into(), link.to_vec()));
    }
    if entry.nanos != 0 || entry.mtime < 0 {
        let time = format!("{}.{:09}", entry.mtime, entry.nanos);
        extended.push((b"mtime".into(), time.into_bytes()));
    }
    extended.extend(entry.extra.attributes.iter().filter_map(attributes::to_pax));
    if !extended.is_empty() {
        append_extended(tar, &extended)?;
    }
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(kind);
    header.set_size(size);
    header.set_mode(entry.mode);
    header.set_mtime(entry.mtime.max(0) as u64);
    header.set_uid(entry.owner.0.min(0o7_777_777));
    header.set_gid(entry.owner.1.min(0o7_777_777));
    if let Some(ustar) = header.as_ustar_mut() {
        copy_short(&path, &mut ustar.name);
        copy_short(link, &mut ustar.linkname);
    }
    header.set_cksum();
    tar.append(&header, content)
}

/// An extended header; keys may hold any bytes, as names of attributes do.
fn append_extended<W: Write>(
    tar: &mut tar::Builder<W>,
    records: &[(Vec<u8>, Vec<u8>)],
) -> std::io::Result<()> {
    let mut text = Vec::new();
    for (key, value) in records {
        // The length counts its own digits, a space, the equals sign and the line break.
        let rest = key.len() + value.len() + 3;
        let mut length = rest + 1;
        while length != rest + length.to_string().len() {
            length = rest + length.to_string().len();
        }
        text.extend_from_slice(format!("{length} ").as_bytes());
        text.extend_from_slice(key);
        text.push(b'=');
        text.extend_from_slice(value);
        text.push(b'\n');
    }
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(tar::EntryType::XHeader);
    header.set_size(text.len() as u64);
    header.set_cksum();
    tar.append(&header, text.as_slice())
}

/// As much as fits; the extended header has the whole.
fn copy_short(text: &[u8], field: &mut [u8; 100]) {
    let length = text.len().min(field.len() - 1);
    field[..length].copy_from_slice(&text[..length]);
}

/// Reads the stream of files of an archive, piece after piece.
pub struct PieceReader<'a> {
    archive: &'a ArchiveReader,
    pieces: Box<dyn Iterator<Item = Result<Member>> + 'a>,
    current: Option<zstd::Decoder<'static, std::io::BufReader<Cursor<Vec<u8>>>>>,
    /// Bytes of the first piece that are passed over.
    skip: u64,
    /// The trouble behind an error of the stream.
    pub trouble: Option<Trouble>,
}

impl<'a> PieceReader<'a> {
    /// All pieces of an archive.
    pub fn new(archive: &'a ArchiveReader) -> Self {
        let pieces = Box::new(archive.pieces(0));
        Self { archive, pieces, current: None, skip: 0, trouble: None }
    }

    /// From where an entry begins.
    pub fn from(archive: &'a ArchiveReader, entry: &Located) -> Self {
        let pieces = Box::new(archive.pieces(entry.piece));
        Self { archive, pieces, current: None, skip: entry.offset, trouble: None }
    }
}

impl Read for PieceReader<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        loop {
            if let Some(decoder) = &mut self.current {
                let length = decoder.read(buffer)?;
                if length > 0 || buffer.is_empty() {
                    return Ok(length);
                }
                self.current = None;
            }
            let Some(piece) = self.pieces.next() else { return Ok(0) };
            let bytes = piece.and_then(|piece| self.archive.read(&piece)).map_err(|trouble| {
                let error = std::io::Error::other(trouble.to_string());
                self.trouble = Some(trouble);
                error
            })?;
            let mut decoder = zstd::Decoder::new(Cursor::new(bytes))?;
            let skip = std::mem::take(&mut self.skip);
            std::io::copy(&mut (&mut decoder).take(skip), &mut std::io::sink())?;
            self.current = Some(decoder);
        }
    }
}
