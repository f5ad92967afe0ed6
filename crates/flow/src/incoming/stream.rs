//! Files as streams, whatever they are compressed with.

use fernweh_ports::{Result, Trouble};
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
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
pub(super) fn opened(path: &Path) -> Result<Box<dyn Read + Send>> {
    let wrong = |error: std::io::Error| Trouble::file("cannot read the file", path, &error);
    let mut file = File::open(path).map_err(wrong)?;
    let start = first_bytes(&mut file).map_err(wrong)?;
    file.seek(SeekFrom::Start(0)).map_err(wrong)?;
    Ok(match Packing::of(&start) {
        Packing::Plain => Box::new(file),
        Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(BufReader::new(file))),
        Packing::Zstd => Box::new(zstd::Decoder::new(file).map_err(|e| unreadable(path, e))?),
        Packing::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(BufReader::new(file))),
        Packing::Xz => Box::new(liblzma::read::XzDecoder::new_multi_decoder(BufReader::new(file))),
        Packing::Zip => {
            let Some(Inner { at, size, deflated }) = only_script(path)? else {
                return Err(Trouble::usage("the zip file holds no script")
                    .at(path.display().to_string())
                    .hint("name the file itself"));
            };
            file.seek(SeekFrom::Start(at)).map_err(wrong)?;
            let bytes = BufReader::new(file.take(size));
            if deflated {
                Box::new(flate2::bufread::DeflateDecoder::new(bytes))
            } else {
                Box::new(bytes)
            }
        }
    })
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
