//! Writing an archive. Blocks are compressed, digested and written by a thread of their
//! own while the next block is read. Until the seal is written the file has another name.

use fernweh_core::archive::{Member, Seal, SealedMember};
use fernweh_core::digest::sha256;
use fernweh_ports::{Result, Trouble};
use std::fs::{self, File, OpenOptions};
use std::io::{BufWriter, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

/// The level of zstd: the best rate for its size on text of this kind.
const LEVEL: i32 = 3;

type Made = std::io::Result<(tar::Builder<BufWriter<File>>, Vec<SealedMember>)>;

/// An archive that is being written.
pub struct ArchiveWriter {
    path: PathBuf,
    partial: PathBuf,
    blocks: Option<SyncSender<(Member, Vec<u8>)>>,
    worker: Option<JoinHandle<Made>>,
    sealed: bool,
}

impl ArchiveWriter {
    /// Begins an archive that will have this name; refuses an existing one.
    pub fn create(path: &Path) -> Result<Self> {
        let what = "cannot write the archive";
        if path.exists() {
            return Err(Trouble::usage(what)
                .at(path.display().to_string())
                .because("a file of this name is already there")
                .hint("choose another name with -o, or remove the file"));
        }
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let partial = path.with_file_name(format!(".{name}.partial"));
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            fs::create_dir_all(folder).map_err(|error| Trouble::file(what, folder, &error))?;
        }
        let file = OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(true)
            .mode(0o600)
            .open(&partial)
            .map_err(|error| Trouble::file(what, &partial, &error))?;
        let (blocks, incoming) = sync_channel::<(Member, Vec<u8>)>(2);
        let worker = std::thread::spawn(move || {
            let mut tar = tar::Builder::new(BufWriter::with_capacity(1 << 20, file));
            let mut sealed = Vec::new();
            for (member, raw) in incoming {
                let name = member.to_string();
                let bytes =
                    if name.ends_with(".zst") { zstd::bulk::compress(&raw, LEVEL)? } else { raw };
                append(&mut tar, &name, &bytes)?;
                let size = bytes.len() as u64;
                sealed.push(SealedMember { name, size, sha256: sha256(&bytes) });
            }
            Ok((tar, sealed))
        });
        let path = path.to_owned();
        Ok(Self { path, partial, blocks: Some(blocks), worker: Some(worker), sealed: false })
    }

    /// Adds a member; its bytes are compressed if its name says so.
    pub fn add(&mut self, member: Member, raw: Vec<u8>) -> Result<()> {
        let sent = self.blocks.as_ref().is_some_and(|blocks| blocks.send((member, raw)).is_ok());
        if sent {
            return Ok(());
        }
        // The worker has ended: only an error makes it do so.
        match self.join() {
            Err(trouble) => Err(trouble),
            Ok(_) => Err(Trouble::outside("the archive is closed already")),
        }
    }

    fn join(&mut self) -> Result<(tar::Builder<BufWriter<File>>, Vec<SealedMember>)> {
        self.blocks = None;
        let what = "cannot write the archive";
        match self.worker.take().map(JoinHandle::join) {
            Some(Ok(Ok(made))) => Ok(made),
            Some(Ok(Err(error))) => Err(Trouble::file(what, &self.path, &error)),
            _ => Err(Trouble::outside(what).because("its writer has stopped")),
        }
    }

    /// Writes the seal and gives the archive its name; returns its size in bytes.
    pub fn seal(mut self, mut seal: Seal) -> Result<u64> {
        let (mut tar, members) = self.join()?;
        seal.members = members;
        let text = serde_json::to_vec_pretty(&seal).unwrap_or_default();
        let close = || -> std::io::Result<u64> {
            append(&mut tar, &Member::Seal.to_string(), &text)?;
            let mut buffer = tar.into_inner()?;
            buffer.flush()?;
            let file = buffer.into_inner().map_err(std::io::IntoInnerError::into_error)?;
            file.sync_all()?;
            // A link cannot replace a file that has appeared in the meantime.
            fs::hard_link(&self.partial, &self.path)
                .or_else(|_| no_overwrite(&self.partial, &self.path))?;
            let _ = fs::remove_file(&self.partial);
            Ok(file.metadata()?.len())
        };
        let size = close()
            .map_err(|error| Trouble::file("cannot write the archive", &self.path, &error))?;
        self.sealed = true;
        Ok(size)
    }
}

/// For file systems without hard links.
fn no_overwrite(from: &Path, to: &Path) -> std::io::Result<()> {
    if to.exists() {
        return Err(std::io::ErrorKind::AlreadyExists.into());
    }
    fs::rename(from, to)
}

impl Drop for ArchiveWriter {
    fn drop(&mut self) {
        self.blocks = None;
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
        if !self.sealed {
            let _ = fs::remove_file(&self.partial);
        }
    }
}

fn append<W: Write>(tar: &mut tar::Builder<W>, name: &str, bytes: &[u8]) -> std::io::Result<()> {
    let mut header = tar::Header::new_ustar();
    header.set_size(bytes.len() as u64);
    header.set_mode(0o600);
    header.set_mtime(jiff::Timestamp::now().as_second().max(0) as u64);
    header.set_entry_type(tar::EntryType::Regular);
    if name.len() > 100 {
        tar.append_pax_extensions([("path", name.as_bytes())])?;
        header.set_path("long-name")?;
    } else {
        header.set_path(name)?;
    }
    header.set_cksum();
    tar.append(&header, bytes)
}
