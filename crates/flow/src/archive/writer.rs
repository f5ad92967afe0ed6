//! Writing an archive. Blocks are compressed by threads of their own, and digested and
//! written by another, while the next block is read. Until the seal is written the file has
//! another name; checkpoints in a file beside it say from where writing can go on after a break.

use super::checkpoints::Checkpoints;
use super::member_index::{MemberIndex, StoredMember};
use super::partial::{Checkpoint, Partial, partial_archive};
use super::unfinished::{checkpoints_of, partial_of};
use fernweh_core::archive::{Member, Seal, SealedMember, stored};
use fernweh_core::digest::sha256;
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble};
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{BufWriter, Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;
use zstd::bulk::Compressor;

/// How hard members are compressed: a level of zstd, 1 to 19, or 0 for not at all, where time
/// counts and room does not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Level(i32);

impl Level {
    /// A level from 0 to 19.
    pub fn new(level: u8) -> Self {
        Self(i32::from(level.min(19)))
    }

    /// The level for what is compressed as it comes; 0 means the usual one to zstd, and a negative
    /// level looks for repetitions in few places only.
    fn streaming(self) -> i32 {
        if self.0 == 0 { -50 } else { self.0 }
    }
}

impl Default for Level {
    /// The best rate for its size on text of this kind.
    fn default() -> Self {
        Self::new(3)
    }
}

type Made = std::io::Result<Tape>;

/// Gives the bytes of a member piece by piece.
pub type Fill<'a> =
    &'a mut dyn FnMut(&mut dyn FnMut(&[u8]) -> std::io::Result<()>) -> std::io::Result<()>;

/// What is to be done; what is to be added is compressed on the way.
enum Job {
    Add(Member, Vec<u8>),
    Order(Order),
}

/// What is to be done with the file.
enum Order {
    /// A member as it is stored with its digest, and its bytes before compression.
    Store(String, std::io::Result<(Vec<u8>, String)>, usize),
    /// Takes the blocks of a table back; they are the last ones.
    TakeBack(String),
    /// Notes that all is written up to here.
    Checkpoint(Checkpoint),
}

/// An archive that is being written.
pub struct ArchiveWriter {
    path: PathBuf,
    partial: PathBuf,
    jobs: Option<Compressors>,
    worker: Option<JoinHandle<Made>>,
    level: Level,
    /// Whoever reads it while it is written.
    member_index: Option<Arc<MemberIndex>>,
    sealed: bool,
    kept: bool,
}

/// The file as it grows, and what it holds.
struct Tape {
    tar: tar::Builder<BufWriter<File>>,
    checkpoints: Checkpoints,
    /// The members, and where each begins.
    members: Vec<(SealedMember, u64)>,
    /// Checkpoints that wait until there is enough to be worth writing it through to disk.
    waiting: Vec<Checkpoint>,
    /// Bytes since the last checkpoint, before compression.
    since: usize,
    member_index: Option<Arc<MemberIndex>>,
}

impl Tape {
    /// Tells whoever follows that a member is there, the last one that was written.
    fn tell(&mut self, name: &str, size: u64, sha256: &str) -> std::io::Result<()> {
        let file = self.tar.get_mut();
        file.flush()?;
        // A member ends with a whole block of 512 bytes (POSIX, pax).
        let offset = file.stream_position()? - size.next_multiple_of(512);
        let member = Member::parse(name).map_err(std::io::Error::other)?;
        let (name, sha256) = (name.to_owned(), Some(sha256.to_owned()));
        let stored = StoredMember { name, member, offset, size, sha256 };
        self.member_index.iter().for_each(|member_index| member_index.add(stored.clone()));
        Ok(())
    }

    fn work(&mut self, order: Order) -> std::io::Result<()> {
        match order {
            Order::Store(name, bytes, raw) => {
                self.since += raw;
                let (bytes, sha256) = bytes?;
                let start = self.tar.get_mut().stream_position()?;
                append(&mut self.tar, &name, &bytes)?;
                let size = bytes.len() as u64;
                if self.member_index.is_some() {
                    self.tell(&name, size, &sha256)?;
                }
                self.members.push((SealedMember { name, size, sha256 }, start));
                Ok(())
            }
            Order::TakeBack(table) => {
                let of_table = |name: &str| match Member::parse(name) {
                    Ok(Member::Rows { table: found, .. }) => found == table,
                    _ => false,
                };
                self.member_index.iter().for_each(|member_index| member_index.take_back());
                let first = self.members.iter().position(|(member, _)| of_table(&member.name));
                let Some(first) = first else { return Ok(()) };
                let start = self.members[first].1;
                self.members.truncate(first);
                let file = self.tar.get_mut();
                file.flush()?;
                file.get_ref().set_len(start)?;
                file.seek(SeekFrom::Start(start)).map(drop)
            }
            Order::Checkpoint(mut checkpoint) => {
                let first = checkpoint.table.is_none();
                if let (Some(member_index), Some(table), None) =
                    (&self.member_index, &checkpoint.table, &checkpoint.part)
                {
                    member_index.complete(table);
                }
                let file = self.tar.get_mut();
                checkpoint.end = file.stream_position()?;
                self.waiting.push(checkpoint);
                if self.since < limits::CHECKPOINT && !first {
                    return Ok(());
                }
                self.since = 0;
                file.flush()?;
                self.checkpoints.note(std::mem::take(&mut self.waiting))
            }
        }
    }
}

/// What compresses members.
enum Packer {
    /// Keeps its tables from one member to the next.
    Compressing(Compressor<'static>),
    /// Leaves bytes as they are.
    Storing,
}

impl Packer {
    fn of(level: Level) -> std::io::Result<Self> {
        match level.0 {
            0 => Ok(Self::Storing),
            level => Compressor::new(level).map(Self::Compressing),
        }
    }

    fn pack(&mut self, raw: &[u8]) -> std::io::Result<Vec<u8>> {
        match self {
            Self::Compressing(with) => with.compress(raw),
            Self::Storing => Ok(stored(raw)),
        }
    }
}

/// What is to be done with the file; what is added is compressed, if its name says so.
fn compressed(job: Job, with: &mut std::io::Result<Packer>) -> Order {
    let (member, raw) = match job {
        Job::Add(member, raw) => (member, raw),
        Job::Order(order) => return order,
    };
    let (name, length) = (member.to_string(), raw.len());
    let bytes = match name.ends_with(".zst") {
        true => match with {
            Ok(packer) => packer.pack(&raw),
            Err(error) => Err(std::io::Error::other(error.to_string())),
        },
        false => Ok(raw),
    };
    Order::Store(name, bytes.map(digested), length)
}

fn digested(bytes: Vec<u8>) -> (Vec<u8>, String) {
    let digest = sha256(&bytes);
    (bytes, digest)
}

/// Compresses on several threads. Jobs go round from one to the next, and are taken back in
/// the same order.
struct Compressors {
    send: Vec<SyncSender<Job>>,
    next: usize,
}

impl Compressors {
    /// The threads, and what comes out of them.
    fn start(level: Level) -> (Self, Vec<Receiver<Order>>) {
        let count = std::thread::available_parallelism().map_or(1, usize::from).min(MOST);
        let (mut send, mut receive) = (Vec::new(), Vec::new());
        for _ in 0..count {
            let (to_thread, incoming) = sync_channel::<Job>(1);
            let (from_thread, outgoing) = sync_channel::<Order>(1);
            std::thread::spawn(move || {
                let mut with = Packer::of(level);
                // Nobody listens any more after an error.
                let mut jobs = incoming.into_iter();
                jobs.try_for_each(|job| from_thread.send(compressed(job, &mut with)))
            });
            send.push(to_thread);
            receive.push(outgoing);
        }
        (Self { send, next: 0 }, receive)
    }

    /// Hands over a job; `false` if nobody takes it.
    fn hand_over(&mut self, job: Job) -> bool {
        let sent = self.send[self.next].send(job).is_ok();
        self.next = (self.next + 1) % self.send.len();
        sent
    }
}

/// Threads that compress, at most.
const MOST: usize = 4;

const WHAT: &str = "cannot write the archive";

impl ArchiveWriter {
    /// Begins an archive that will have this name; refuses an existing one.
    pub fn create(path: &Path, level: Level) -> Result<Self> {
        Self::create_for(path, level, None)
    }

    fn create_for(
        path: &Path,
        level: Level,
        member_index: Option<Arc<MemberIndex>>,
    ) -> Result<Self> {
        refuse_existing(path)?;
        let partial = partial_of(path);
        let open = |path: &Path| {
            let mut options = OpenOptions::new();
            options.write(true).create(true).truncate(false).mode(0o600);
            options.open(path).map_err(|error| Trouble::file(WHAT, path, &error))
        };
        let emptied = |file: File, path: &Path| {
            file.set_len(0).map_err(|error| Trouble::file(WHAT, path, &error))?;
            Ok::<_, Trouble>(file)
        };
        let file = alone(open(&partial)?, path)?;
        let (file, marks) = (emptied(file, &partial)?, checkpoints_of(path));
        let checkpoints = emptied(open(&marks)?, &marks)?;
        Ok(Self::begin(path, (file, checkpoints), Vec::new(), level, member_index))
    }

    /// The same, for somebody who reads it while it is written.
    pub fn create_followed(
        path: &Path,
        level: Level,
        member_index: Arc<MemberIndex>,
    ) -> Result<Self> {
        Self::create_for(path, level, Some(member_index))
    }

    /// Goes on with an archive that was broken off.
    pub fn go_on(path: &Path, level: Level) -> Result<(Self, Option<Partial>)> {
        refuse_existing(path)?;
        let partial = partial_of(path);
        let wrong = |error: std::io::Error| Trouble::file(WHAT, &partial, &error);
        let held = OpenOptions::new().read(true).write(true).open(&partial);
        let held = held.map(|file| alone(file, path)).ok().transpose()?;
        let Some(found) = partial_archive(path)? else {
            drop(held);
            return Ok((Self::create(path, level)?, None));
        };
        let mut file = held.ok_or_else(|| wrong(std::io::ErrorKind::NotFound.into()))?;
        file.seek(SeekFrom::Start(found.end)).map_err(wrong)?;
        let checkpoints =
            OpenOptions::new().append(true).open(checkpoints_of(path)).map_err(wrong)?;
        let writer = Self::begin(path, (file, checkpoints), found.members.clone(), level, None);
        Ok((writer, Some(found)))
    }

    fn begin(
        path: &Path,
        (file, checkpoints): (File, File),
        members: Vec<(SealedMember, u64)>,
        level: Level,
        member_index: Option<Arc<MemberIndex>>,
    ) -> Self {
        let (jobs, incoming) = Compressors::start(level);
        let followed = member_index.clone();
        let worker = std::thread::spawn(move || {
            let checkpoints = Checkpoints::of(file.try_clone()?, checkpoints);
            let tar = tar::Builder::new(BufWriter::with_capacity(1 << 20, file));
            let waiting = Vec::new();
            let mut tape =
                Tape { tar, checkpoints, members, waiting, since: 0, member_index: followed };
            let mut round = incoming.iter().cycle();
            while let Some(Ok(order)) = round.next().map(Receiver::recv) {
                tape.work(order)?;
            }
            tape.checkpoints.close()?;
            Ok(tape)
        });
        let (path, partial) = (path.to_owned(), partial_of(path));
        let (jobs, worker) = (Some(jobs), Some(worker));
        Self { path, partial, jobs, worker, level, member_index, sealed: false, kept: false }
    }

    /// Adds a member; its bytes are compressed if its name says so.
    pub fn add(&mut self, member: Member, raw: Vec<u8>) -> Result<()> {
        if raw.len() > limits::ROWS_COMPRESSED_AT_ONCE {
            // One of these at a time: several that wait would fill the memory.
            let order = compressed(Job::Add(member, raw), &mut Packer::of(self.level));
            return self.hand_over(Job::Order(order));
        }
        self.hand_over(Job::Add(member, raw))
    }

    /// Adds a member whose bytes come in pieces and are compressed at once, for what is too
    /// large to be held whole before.
    pub fn add_in_pieces(&mut self, member: &Member, fill: Fill<'_>) -> Result<()> {
        let mut raw = 0;
        let made =
            zstd::Encoder::new(Vec::new(), self.level.streaming()).and_then(|mut encoder| {
                fill(&mut |piece| {
                    raw += piece.len();
                    encoder.write_all(piece)
                })?;
                encoder.finish()
            });
        let made = made.map(|mut bytes| {
            fill_up(&mut bytes, raw);
            digested(bytes)
        });
        self.hand_over(Job::Order(Order::Store(member.to_string(), made, raw)))
    }

    /// Takes the blocks of the table back that was written last.
    pub fn take_back(&mut self, table: &str) -> Result<()> {
        self.hand_over(Job::Order(Order::TakeBack(table.to_owned())))
    }

    /// Notes that a table is complete, or up to which row; writing can go on from there after a
    /// break.
    pub fn checkpoint(&mut self, checkpoint: Checkpoint) -> Result<()> {
        self.hand_over(Job::Order(Order::Checkpoint(checkpoint)))
    }

    /// Keeps what is written so far when this is dropped.
    pub fn keep(&mut self) {
        self.kept = true;
    }

    fn hand_over(&mut self, job: Job) -> Result<()> {
        if self.jobs.as_mut().is_some_and(|jobs| jobs.hand_over(job)) {
            return Ok(());
        }
        // The worker has ended: only an error makes it do so.
        match self.join() {
            Err(trouble) => Err(trouble),
            Ok(_) => Err(Trouble::outside("the archive is closed already")),
        }
    }

    fn join(&mut self) -> Result<Tape> {
        self.jobs = None;
        match self.worker.take().map(JoinHandle::join) {
            Some(Ok(Ok(made))) => Ok(made),
            Some(Ok(Err(error))) => Err(Trouble::file(WHAT, &self.path, &error)),
            _ => Err(Trouble::outside(WHAT).because("the thread that writes it has stopped")),
        }
    }

    /// Writes the seal and gives the archive its name; returns its size in bytes.
    pub fn seal(mut self, mut seal: Seal) -> Result<u64> {
        let Tape { mut tar, members, .. } = self.join()?;
        seal.members = members.into_iter().map(|(member, _)| member).collect();
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
        let size = close().map_err(|error| Trouble::file(WHAT, &self.path, &error))?;
        let _ = fs::remove_file(checkpoints_of(&self.path));
        self.sealed = true;
        self.member_index.iter().for_each(|member_index| member_index.seal(seal.clone()));
        Ok(size)
    }
}

/// Makes a member that was compressed very well as large as readers want it for what it holds:
/// by a skippable frame, which every program that reads Zstandard passes over (RFC 8878, 3.1.2).
fn fill_up(bytes: &mut Vec<u8>, holds: usize) {
    const SKIPPABLE: [u8; 4] = 0x184D_2A50_u32.to_le_bytes();
    let wanted = holds / limits::EXPANSION + 1;
    if holds <= limits::STATEMENT || bytes.len() >= wanted {
        return;
    }
    let missing = (wanted - bytes.len()) as u32;
    bytes.extend_from_slice(&SKIPPABLE);
    bytes.extend_from_slice(&missing.to_le_bytes());
    bytes.resize(bytes.len() + missing as usize, 0);
}

/// An unfinished archive for this program alone, as long as it is open: two that write into one
/// would leave neither. What was completed between the opening and the lock is the archive of
/// whoever completed it, and is not written to.
fn alone(file: File, path: &Path) -> Result<File> {
    let locked = match file.try_lock() {
        Ok(()) => true,
        Err(TryLockError::WouldBlock) => false,
        // Some file systems know no locks.
        Err(TryLockError::Error(_)) => true,
    };
    let place = |about: fs::Metadata| (about.dev(), about.ino());
    let still_there = || {
        let named = fs::metadata(partial_of(path)).ok().map(place);
        named.is_some() && named == file.metadata().ok().map(place)
    };
    match locked && still_there() {
        true => Ok(file),
        false => Err(Trouble::outside("another run is writing this archive")
            .at(path.display().to_string())
            .hint("wait until it has ended, or choose another name with -o")),
    }
}

fn refuse_existing(path: &Path) -> Result<()> {
    match path.exists() {
        true => Err(Trouble::already_there(WHAT, path)),
        false => Ok(()),
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
        self.jobs = None;
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
        self.member_index.iter().for_each(|member_index| member_index.give_up());
        if !self.sealed && !self.kept {
            let _ = fs::remove_file(&self.partial);
            let _ = fs::remove_file(checkpoints_of(&self.path));
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    #[test]
    fn a_member_that_was_compressed_very_well_is_filled_up_and_reads_the_same() {
        let small = zstd::encode_all(&b"flat"[..], 1).unwrap();
        let mut filled = small.clone();
        fill_up(&mut filled, limits::STATEMENT);
        assert_eq!(filled, small, "usual members stay as they are");
        let holds = limits::LARGEST_STATEMENT;
        fill_up(&mut filled, holds);
        assert!(filled.len() * limits::EXPANSION >= holds);
        assert!(filled.len() < holds / limits::EXPANSION + 64);
        assert_eq!(zstd::decode_all(&filled[..]).unwrap(), b"flat");
        let mut read = Vec::new();
        zstd::Decoder::new(&filled[..]).unwrap().read_to_end(&mut read).unwrap();
        assert_eq!(read, b"flat");
    }

    #[test]
    fn what_was_completed_before_the_lock_is_not_written_to() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.tar");
        let open =
            || OpenOptions::new().write(true).create(true).truncate(false).open(partial_of(&path));
        let late = open().unwrap();
        // Its writer ends: the file has its own name now.
        fs::rename(partial_of(&path), &path).unwrap();
        let trouble = alone(late, &path).unwrap_err();
        assert_eq!(trouble.what, "another run is writing this archive");
        let late = open().unwrap();
        assert!(alone(late, &path).is_ok(), "one of its own is");
    }
}
