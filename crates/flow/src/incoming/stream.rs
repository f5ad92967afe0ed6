//! Files as streams, whatever they are compressed with.

use fernweh_ports::{Result, Trouble};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::Path;

/// By what a file is compressed; known by its first bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    Plain,
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
    Bzip2,
    Xz,
    Zip,
}

impl Packing {
    pub fn of(start: &[u8]) -> Self {
        let known: [(&[u8], Self); 6] = [
            (&[0x1F, 0x8B], Self::Gzip),
            (&[0x28, 0xB5, 0x2F, 0xFD], Self::Zstd),
            (b"BZh", Self::Bzip2),
            (b"\xFD7zXZ\0", Self::Xz),
            (b"PK\x03\x04", Self::Zip),
            (b"PK\x05\x06", Self::Zip),
        ];
        let found = known.into_iter().find(|(magic, _)| start.starts_with(magic));
        found.map_or(Self::Plain, |(_, packing)| packing)
    }
}

/// Up to the first 512 bytes.
pub(super) fn first_bytes(stream: &mut dyn Read) -> std::io::Result<Vec<u8>> {
    let mut start = Vec::new();
    stream.take(512).read_to_end(&mut start)?;
    Ok(start)
}

fn unreadable(path: &Path, error: impl std::fmt::Display) -> Trouble {
    Trouble::damaged("the file cannot be decompressed")
        .at(path.display().to_string())
        .because(error)
        .hint("copy it again from where it was made")
}

/// A file's bytes, decompressed; of a zip file, those of the one script in it.
pub fn opened(path: &Path) -> Result<Box<dyn Read + Send>> {
    let wrong = |error: std::io::Error| Trouble::file("cannot read the file", path, &error);
    let mut file = File::open(path).map_err(wrong)?;
    let start = first_bytes(&mut file).map_err(wrong)?;
    file.seek(SeekFrom::Start(0)).map_err(wrong)?;
    if Packing::of(&start) != Packing::Zip {
        return decompressed(path, &start, Box::new(file));
    }
    let Some(Inner { at, size, deflated }) = only_script(path)? else {
        return Err(Trouble::usage("the zip file holds no script")
            .at(path.display().to_string())
            .hint("name the file itself"));
    };
    file.seek(SeekFrom::Start(at)).map_err(wrong)?;
    let bytes = BufReader::new(file.take(size));
    Ok(match deflated {
        true => Box::new(flate2::bufread::DeflateDecoder::new(bytes)),
        false => Box::new(bytes),
    })
}

/// The bytes of standard input, decompressed.
pub fn opened_input() -> Result<Box<dyn Read + Send>> {
    let (mut input, path) = (std::io::stdin(), Path::new("standard input"));
    let start = first_bytes(&mut input)
        .map_err(|error| Trouble::file("cannot read the file", path, &error))?;
    if Packing::of(&start) == Packing::Zip {
        return Err(Trouble::usage("a zip file cannot be read from standard input")
            .hint("name the file, or unzip it on the way: unzip -p FILE | fernweh …"));
    }
    decompressed(path, &start, Box::new(std::io::Cursor::new(start.clone()).chain(input)))
}

fn decompressed(
    path: &Path,
    start: &[u8],
    bytes: Box<dyn Read + Send>,
) -> Result<Box<dyn Read + Send>> {
    Ok(match Packing::of(start) {
        Packing::Plain | Packing::Zip => bytes,
        Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(BufReader::new(bytes))),
        Packing::Zstd => Box::new(zstd::Decoder::new(bytes).map_err(|e| unreadable(path, e))?),
        Packing::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(BufReader::new(bytes))),
        Packing::Xz => Box::new(liblzma::read::XzDecoder::new_multi_decoder(BufReader::new(bytes))),
    })
}

/// A file that is written, compressed as its name says.
pub enum Packed {
    /// As it is.
    Plain(BufWriter<File>),
    /// `.gz`
    Gzip(flate2::write::GzEncoder<File>),
    /// `.zst`
    Zstd(Box<zstd::Encoder<'static, File>>),
    /// `.bz2`
    Bzip2(bzip2::write::BzEncoder<File>),
    /// `.xz`
    Xz(Box<liblzma::write::XzEncoder<File>>),
}

impl Packed {
    /// Begins a file; `name` is the one that it will have.
    pub fn create(file: File, name: &Path) -> std::io::Result<Self> {
        Ok(match name.extension().and_then(|ending| ending.to_str()) {
            Some("gz") => {
                Self::Gzip(flate2::write::GzEncoder::new(file, flate2::Compression::default()))
            }
            Some("zst") => Self::Zstd(Box::new(zstd::Encoder::new(file, 3)?)),
            Some("bz2") => {
                Self::Bzip2(bzip2::write::BzEncoder::new(file, bzip2::Compression::default()))
            }
            Some("xz") => Self::Xz(Box::new(liblzma::write::XzEncoder::new(file, 6))),
            _ => Self::Plain(BufWriter::with_capacity(1 << 18, file)),
        })
    }

    /// Writes what is left, through to disk.
    pub fn finish(self) -> std::io::Result<()> {
        let file = match self {
            Self::Plain(writer) => {
                writer.into_inner().map_err(std::io::IntoInnerError::into_error)?
            }
            Self::Gzip(writer) => writer.finish()?,
            Self::Zstd(writer) => writer.finish()?,
            Self::Bzip2(writer) => writer.finish()?,
            Self::Xz(writer) => writer.finish()?,
        };
        file.sync_all()
    }

    fn writer(&mut self) -> &mut dyn Write {
        match self {
            Self::Plain(writer) => writer,
            Self::Gzip(writer) => writer,
            Self::Zstd(writer) => writer,
            Self::Bzip2(writer) => writer,
            Self::Xz(writer) => writer,
        }
    }
}

impl Write for Packed {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.writer().write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.writer().flush()
    }
}

/// Where a file lies in a zip file.
pub(super) struct Inner {
    at: u64,
    size: u64,
    deflated: bool,
}

/// The script in a zip file that holds nothing else.
pub(super) fn only_script(path: &Path) -> Result<Option<Inner>> {
    let mut zip = zip_of(path)?;
    let names: Vec<String> =
        zip.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let files: Vec<&String> = names.iter().filter(|name| !name.ends_with('/')).collect();
    let [name] = files[..] else { return Ok(None) };
    if !name.to_lowercase().ends_with(".sql") {
        return Ok(None);
    }
    let file = zip.by_name(name).map_err(|error| unreadable(path, error))?;
    let Some(at) = file.data_start() else {
        return Err(unreadable(path, "it does not say where its file lies"));
    };
    let deflated = match file.compression() {
        zip::CompressionMethod::Stored => false,
        zip::CompressionMethod::Deflated => true,
        other => return Err(unreadable(path, format!("it is compressed by {other}"))),
    };
    Ok(Some(Inner { at, size: file.compressed_size(), deflated }))
}

pub(super) fn zip_of(path: &Path) -> Result<zip::ZipArchive<BufReader<File>>> {
    let wrong = |error: std::io::Error| Trouble::file("cannot read the file", path, &error);
    let file = BufReader::new(File::open(path).map_err(wrong)?);
    zip::ZipArchive::new(file).map_err(|error| unreadable(path, error))
}
