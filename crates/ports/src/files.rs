//! File trees: reading them, building them beside the old one, switching.

use crate::{Result, Trouble};
use fernweh_core::entries::EntryList;
use fernweh_core::record::{Entry, EntryKind};
use serde::{Deserialize, Serialize};
use std::io::Read;
use std::path::PathBuf;
use std::time::Duration;

/// Something of the tree that is not read, with the reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LeftOut {
    /// The path below the root.
    pub path: String,
    /// Why.
    pub because: String,
}

impl LeftOut {
    /// Something that was listed and was gone when it was to be read.
    pub fn vanished(path: &[u8]) -> Self {
        Self::new(String::from_utf8_lossy(path), "it was removed while the site was read")
    }

    /// Something that is neither file, folder nor link.
    pub fn special(path: &[u8]) -> Self {
        let because = "neither file, folder nor link (a socket or device)";
        Self::new(String::from_utf8_lossy(path), because)
    }

    /// A path, and why nothing below it is read.
    pub fn new(path: impl Into<String>, because: impl Into<String>) -> Self {
        Self { path: path.into(), because: because.into() }
    }
}

/// What tells one content of a file from another, as far as its host says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stamp {
    /// Its size in bytes.
    pub size: u64,
    /// When its content was changed: seconds since 1970, and nanoseconds of that second.
    pub mtime: Option<(i64, u32)>,
    /// When anything of it was changed, which nobody can set.
    pub change: Option<(i64, u32)>,
}

impl Stamp {
    /// Whether two are of one content, as far as both tell.
    pub fn is_same(&self, other: &Self) -> bool {
        let same = |a: Option<(i64, u32)>, b: Option<(i64, u32)>| match (a, b) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        self.size == other.size && same(self.mtime, other.mtime) && same(self.change, other.change)
    }
}

/// A file that is open for reading.
pub trait OpenFile: Read {
    /// What it was when it was opened.
    fn opened(&self) -> Stamp;
    /// What it is now, after the last byte was read; `None` if it is not there any more.
    fn now(&mut self) -> Result<Option<Stamp>>;
    /// Whether it has been left alone for so long, after the last byte was read, that no program
    /// is likely to be between two steps of writing it. Asked after [`now`](OpenFile::now).
    fn is_settled(&self) -> bool;
}

/// How long a file must have been left alone before what was read of it is taken as whole. A
/// program that writes in several steps may be halted between two of them, and then the file is
/// the same before and after it was read, and yet half written.
pub const SETTLED: Duration = Duration::from_millis(500);

/// The content of a file that was held whole.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WholeFile {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// What it was when these were read.
    pub stamp: Stamp,
    /// Whether it changed while they were read, however often that was tried: they may be of
    /// different moments.
    pub changed: bool,
    /// Whether it had been left alone for a while ([`SETTLED`]).
    pub settled: bool,
}

/// What became of a file that was to be held whole.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Held {
    /// It is held.
    Whole(WholeFile),
    /// It is larger than may be held, whatever was listed before.
    TooLarge,
    /// It is not there any more.
    Gone,
}

/// How often a file is read that changes meanwhile.
const READ_AGAIN: usize = 3;

/// A tree's file, the same before and after it was read, if it has no more than `most` bytes.
pub fn read_whole<S: FileSource + ?Sized>(source: &mut S, path: &[u8], most: u64) -> Result<Held> {
    let mut attempt = 1;
    loop {
        let Some(mut file) = source.open(path)? else { return Ok(Held::Gone) };
        let stamp = file.opened();
        if stamp.size > most {
            return Ok(Held::TooLarge);
        }
        let mut bytes = Vec::new();
        // One byte more shows that it has grown.
        file.by_ref().take(most + 1).read_to_end(&mut bytes).map_err(|error| {
            Trouble::outside("cannot read a file of the site")
                .at(String::from_utf8_lossy(path).into_owned())
                .because(error)
                .hint("make it readable, or leave it out")
        })?;
        let size = bytes.len() as u64;
        if size > most {
            return Ok(Held::TooLarge);
        }
        let same = size == stamp.size && file.now()?.is_none_or(|now| now.is_same(&stamp));
        if same || attempt == READ_AGAIN {
            let (stamp, settled) = (Stamp { size, ..stamp }, file.is_settled());
            return Ok(Held::Whole(WholeFile { bytes, stamp, changed: !same, settled }));
        }
        attempt += 1;
    }
}

/// A file tree that is read.
pub trait FileSource: Send {
    /// Where it is, for people.
    fn place(&self) -> String;
    /// Every entry, folders before what they hold, names in byte order. `enter` decides
    /// about an entry and everything below it before it is read. What was announced before is
    /// not expected any more.
    fn walk(
        &mut self,
        enter: &dyn Fn(&[u8]) -> bool,
        visit: &mut dyn FnMut(Entry) -> Result<()>,
    ) -> Result<Vec<LeftOut>>;
    /// Announces which files will be opened after those that were announced before, as they were
    /// when the tree was walked; a source that waits for a network begins to fetch them.
    fn announce(&mut self, order: Vec<(Vec<u8>, Stamp)>) {
        drop(order);
    }
    /// Opens a file; `None` if there is none: it may have gone since the tree was walked.
    fn open(&mut self, path: &[u8]) -> Result<Option<Box<dyn OpenFile + '_>>>;
    /// What a file is now, without reading it; `None` if there is none.
    fn look(&mut self, path: &[u8]) -> Result<Option<Stamp>>;
    /// Bytes free on its disk, if that can be known.
    fn free(&self) -> Option<u64>;
}

/// Files that are announced together; as many are announced ahead of the one that is read.
const ANNOUNCED: usize = 512;

/// Goes through entries in their order and announces the files among them a little ahead.
/// `visit` opens all of these files, or hardly any.
pub fn in_turn<S: FileSource + ?Sized>(
    source: &mut S,
    entries: &EntryList,
    mut visit: impl FnMut(&mut S, Entry) -> Result<()>,
) -> Result<()> {
    let file = |entry: Entry| match entry.kind {
        EntryKind::File(size) => {
            let mtime = Some((entry.mtime, entry.nanos));
            Some((entry.path, Stamp { size, mtime, change: None }))
        }
        _ => None,
    };
    let mut ahead = entries.iter().filter_map(file);
    source.announce(ahead.by_ref().take(ANNOUNCED).collect());
    let mut files = 0;
    for entry in entries.iter() {
        if matches!(entry.kind, EntryKind::File(_)) {
            if files % ANNOUNCED == 0 {
                source.announce(ahead.by_ref().take(ANNOUNCED).collect());
            }
            files += 1;
        }
        visit(source, entry)?;
    }
    Ok(())
}

/// Writes files of a live site in place.
pub trait FileEditor: Send {
    /// Replaces the content of a file; its other properties stay. The new content is written
    /// beside it first, as `beside`: a name that nobody else can know. What an earlier call has
    /// left under that name goes.
    fn replace(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()>;
    /// Makes a file that is not there, readable by everybody as a web server needs it. It is
    /// written beside its place first, as `beside`.
    fn make(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()>;
    /// Removes a file that a call which was broken off may have left; it need not be there.
    fn remove_left(&mut self, path: &[u8]) -> Result<()>;
    /// Removes a file or a link.
    fn remove(&mut self, path: &[u8]) -> Result<()>;
}

/// What identifies a file or folder whatever its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct FileId {
    /// The device.
    pub device: u64,
    /// The number on the device.
    pub inode: u64,
}

/// Two places that change names. `side` holds the new state before the switch and the
/// old one after it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct FileSwap {
    /// The place that the site uses.
    pub target: PathBuf,
    /// The place beside it.
    pub side: PathBuf,
    /// What identifies the new state; where a host does not tell, the names that are there
    /// say which state is where.
    pub new: Option<FileId>,
    /// Whether there was an old state.
    pub had_old: bool,
    /// Only some entries take their places; everything else stays where it is.
    #[serde(default)]
    pub part: bool,
    /// A file in it, by its path below, that stays itself while everything around it changes
    /// places: others have it open (a database of SQLite; its companions stay with it).
    #[serde(default)]
    pub resident: Option<String>,
}

/// How much files are.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct Amount {
    /// Their number.
    pub files: u64,
    /// Bytes of all.
    pub bytes: u64,
}

/// Entries, and what of them not every host carries.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Files and folders.
    pub entries: u64,
    /// Links.
    pub links: u64,
    /// Further names of files.
    pub hard_links: u64,
    /// Entries with extended attributes or access lists.
    pub attributes: u64,
}

/// A file that is to be put among new ones.
pub struct NewFile {
    /// Its path below the site's folder, size and properties.
    pub entry: Entry,
    /// Its bytes.
    pub content: Box<dyn Read>,
}

/// A file by which one sees whether others can read a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Probe {
    /// Its path from the site's folder on, as `../.fernweh-htdocs/probe-1a2b`.
    pub path: String,
    /// What it holds.
    pub content: String,
}

/// A file tree that is built beside the old one and takes its place.
pub trait FileTarget: Send {
    /// Where it is, for people.
    fn place(&self) -> String;
    /// How many entries are there now.
    fn existing(&self) -> Result<u64>;
    /// Begins to build.
    fn build(&mut self) -> Result<()>;
    /// What is built is a part: its entries take their places one by one, and everything else
    /// stays as it is.
    fn as_part(&mut self);
    /// Where the whole tree cannot change places at once, its entries do so one by one: for some
    /// seconds visitors see a mixture. Said before `build`.
    fn entry_by_entry(&mut self) {}
    /// What is built is only a trial and taken away again: nobody else is kept from the place
    /// meanwhile, and one that is at work there is found all the same, unless it is one of these
    /// `own` runs. Said before `build`.
    fn as_trial(&mut self, own: &[String]) {
        let _ = own;
    }
    /// Adds a folder or a link.
    fn put(&mut self, entry: &Entry) -> Result<()>;
    /// Adds a file.
    fn put_file(&mut self, entry: &Entry, content: &mut dyn Read) -> Result<()>;
    /// Carries entries of the present state over into the new one; gives the number of files.
    fn keep(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64>;
    /// Looks again at what was carried over, and brings into the new state what has changed, come
    /// or gone since; gives the number of such entries. Also after `finish`.
    fn catch_up(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64>;
    /// Takes up what an earlier process had carried over for a switch that is still to be made;
    /// `false` if it is made already, or is one of a part.
    fn take_up(&mut self, swap: &FileSwap, wanted: &dyn Fn(&[u8]) -> bool) -> Result<bool> {
        let _ = (swap, wanted);
        Ok(false)
    }
    /// Sets the times of folders, writes everything through to disk, plans the switch.
    fn finish(&mut self) -> Result<FileSwap>;
    /// Bytes free on its disk, if that can be known.
    fn free(&self) -> Option<u64> {
        None
    }
    /// What of the entries could not be carried, and what else people should know.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }
    /// What of so many entries the place cannot carry, in words.
    fn cannot_carry(&self, counts: Counts) -> Vec<String> {
        let _ = counts;
        Vec::new()
    }
    /// Puts a file that nobody can know where states of the site are kept, if something is kept
    /// there; by it one sees whether others can read that place. Beside the site's folder only
    /// if that is asked for.
    fn put_probe(&mut self, beside: bool) -> Result<Option<Probe>> {
        let _ = beside;
        Ok(None)
    }
    /// Puts such a file into the site's folder itself, hidden, if that folder is there: whoever
    /// sees it looks at the same folder.
    fn put_mark(&mut self) -> Result<Option<Probe>> {
        Ok(None)
    }
    /// Takes either away again, and what was made for it.
    fn take_probe(&mut self, probe: &Probe) -> Result<()> {
        let _ = probe;
        Ok(())
    }
    /// Removes the files of the site, so that there is room for new ones, except those that
    /// `stays` names, and those that are not, right before they are removed, what `is_packed`
    /// knows. They are not kept. Gives the paths of the files that somebody has written: they
    /// are still there.
    fn clear(
        &mut self,
        stays: &dyn Fn(&[u8]) -> bool,
        is_packed: &dyn Fn(&Entry) -> bool,
    ) -> Result<Vec<String>>;
    /// Removes what was built and not switched.
    fn discard(&mut self) -> Result<()>;
    /// Makes the switch; doing it twice is the same as once.
    fn switch(&mut self, swap: &FileSwap, direction: crate::Direction) -> Result<()>;
    /// Files of the kept state that came or were changed since this moment, at most `most` of
    /// them, and how many they are; `None` if that cannot be known.
    fn came_in(
        &mut self,
        swap: &FileSwap,
        since: std::time::SystemTime,
        most: usize,
    ) -> Result<Option<(Vec<String>, u64)>> {
        let _ = (swap, since, most);
        Ok(None)
    }
    /// Notes at the place itself that this run keeps a state there, or that it does no more.
    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        let _ = (run, note);
        Ok(())
    }
    /// What was noted there, by whatever folder and machine. It comes from outside.
    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        Ok(Vec::new())
    }
    /// The switch of a run that another folder has made, with its places as seen from here.
    ///
    /// # Errors
    ///
    /// What was noted comes from outside: whatever lies elsewhere than the run would have built
    /// is refused.
    fn adopted(&mut self, swap: &FileSwap) -> Result<FileSwap> {
        let _ = swap;
        Err(crate::foreign("this place"))
    }
    /// What the kept state takes, as far as that can be known without reading it.
    fn kept_amount(&mut self, swap: &FileSwap) -> Result<Option<Amount>> {
        let _ = swap;
        Ok(None)
    }
    /// What of the kept state is not there any more that a switch in this direction would bring
    /// into place, in words.
    fn absent(&mut self, swap: &FileSwap, direction: crate::Direction) -> Result<Vec<String>>;
    /// Gives up what a switch keeps aside.
    fn let_go(&mut self, swap: &FileSwap) -> Result<()>;
}
