//! What ran, how far it came, and what it keeps safe.
//!
//! Each changing run has a folder in `.fernweh/runs/` with a journal: one JSON object a
//! line, written through to disk before the step that it announces. From the journal
//! alone a run can be completed, taken back or cleaned up by another process.

mod records;

pub use records::{Lock, Records};
pub(crate) use records::{is_run_name, random_part};

use fernweh_ports::{
    Amount, DatabaseSwap, Direction, FileSwap, Fingerprint, Progress, Result, Trouble,
};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

/// What a run does; its name is that of the command.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Operation {
    /// An archive into a site.
    Unpack,
    /// The same, tried and taken away again.
    Preview,
    /// Addresses in a live site.
    Rewrite,
    /// Redirect rules in a live site.
    Redirects,
    /// An old site that leads to the new one, or shows a notice.
    Close,
    /// The whole journey; what it changes belongs to the runs that it begins.
    Move,
    /// Something that this version does not know.
    #[serde(other)]
    Unknown,
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Unpack => "unpack",
            Self::Preview => "preview",
            Self::Rewrite => "rewrite",
            Self::Redirects => "redirects",
            Self::Close => "close",
            Self::Move => "move",
            Self::Unknown => "unknown",
        })
    }
}

/// The first line of a journal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Header {
    /// The run's name: moment, command and site.
    pub run: String,
    /// Its place among all runs recorded here; several can begin in one second.
    pub number: u64,
    /// What it does.
    pub command: Operation,
    /// The site that is changed.
    pub site: String,
    /// When it began (RFC 3339, UTC).
    pub started: String,
    /// What goes in: the archive, or the rules.
    pub input: String,
    /// What tells the same command, on the same things, from others: only it goes on with
    /// this run.
    #[serde(default)]
    pub mark: String,
    /// Whether another folder has begun it. It stands behind the last run that had begun here
    /// before it, whose number it has.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub adopted: bool,
}

/// A step of a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "step")]
pub enum Step {
    /// The run has begun.
    Started(Header),
    /// Once this run has changed something, these runs, which were taken back, cannot come again.
    Ends {
        /// Their names.
        runs: Vec<String>,
    },
    /// The old state is packed into an archive of the run: it will be removed to make room.
    SetAside,
    /// The old state is about to be removed.
    Clearing {
        /// The database, as it was packed.
        #[serde(default)]
        packed: Fingerprint,
    },
    /// The old state is removed.
    Cleared,
    /// Tables stand beside the old ones, ready for rows.
    Made,
    /// All rows are in; keys of large tables are made from here on.
    Filled,
    /// The new state stands beside the old one.
    Built,
    /// The new state has been compared with the archive.
    Checked,
    /// The places are about to change names.
    Switching {
        /// Which way.
        direction: Direction,
        /// How.
        plan: Plan,
    },
    /// The database is in place.
    DatabaseSwitched,
    /// The files are in place.
    FilesSwitched,
    /// All is in place.
    Done {
        /// Which way it went last.
        direction: Direction,
        /// When (RFC 3339, UTC).
        at: String,
        /// A mark of the database at that moment.
        fingerprint: Fingerprint,
        /// Bytes that the other state takes, if that is known.
        #[serde(default)]
        kept: Option<u64>,
        /// What of it are files, if that is known.
        #[serde(default)]
        kept_files: Option<Amount>,
    },
    /// A stage of a move is complete.
    Stage {
        /// Its name: `packed`, `unpacked`, `refreshed`, `scanned`.
        name: String,
        /// How long it took, in seconds.
        seconds: f64,
        /// What to remember of it.
        about: String,
    },
    /// A move is complete.
    Ended {
        /// When (RFC 3339, UTC).
        at: String,
    },
    /// The unfinished run was cleaned up.
    Discarded,
    /// What was kept safe has been given up.
    LetGo,
    /// Another folder has taken it over: what is kept is the other one's to take back.
    TakenOver,
}

/// How a new state takes its place; everything another process needs for it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// The database.
    pub database: Option<DatabaseSwap>,
    /// The files.
    pub files: Option<FileSwap>,
    /// The tables whose mark is compared later.
    pub tables: Vec<String>,
    /// The records with which the new ones were built: visitors write from the switch on, before
    /// anybody can count again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub built: Vec<(String, u64)>,
}

/// The archive of the old state, in the run's folder.
pub const SET_ASIDE: &str = "before.fernweh.tar";

/// Where a run stands.
#[derive(Clone, Debug, PartialEq)]
pub enum RunState {
    /// Begun; the old state stands.
    Open,
    /// The old state is only in the run's archive, and the new one is not in place.
    Emptied,
    /// Broken off in the middle of the switch.
    Switching(Direction, Plan),
    /// The switch is complete.
    InPlace {
        /// Which way it went last.
        direction: Direction,
        /// How to go the other way; a rewriting has no plan, but a list of changes.
        plan: Plan,
        /// When it was completed.
        at: String,
        /// A mark of the database at that moment.
        fingerprint: Fingerprint,
    },
    /// Cleaned up, given up, taken over by another folder, or (a move) complete.
    Closed,
}

/// A run that is recorded.
pub struct Journal {
    folder: PathBuf,
    file: File,
    /// The first line.
    pub header: Header,
}

/// A run as it is found on disk.
#[derive(Clone, Debug)]
pub struct Run {
    /// Its folder.
    pub folder: PathBuf,
    /// Its first line.
    pub header: Header,
    /// All steps.
    pub steps: Vec<Step>,
    /// Bytes of its journal that are whole lines: what follows them was never acted upon.
    whole: u64,
}

fn trouble(path: &Path, error: &std::io::Error) -> Trouble {
    Trouble::file("cannot write Fernweh's own records", path, error)
}

/// A record of which nobody knows what it says.
fn unreadable(folder: &Path, line: usize, because: &dyn std::fmt::Display) -> Trouble {
    let path = folder.join("journal.jsonl");
    Trouble::damaged("the record of a run is not readable")
        .at(format!("{}, line {line}", path.display()))
        .because(because)
        .hint(format!(
            "use the version of Fernweh that wrote it; or, if the disk has damaged it, move {} \
             away: what the run has kept can then be brought back by hand only",
            folder.display()
        ))
}

impl Journal {
    fn open(folder: &Path, header: Header) -> Result<Self> {
        let path = folder.join("journal.jsonl");
        let file = OpenOptions::new().create(true).append(true).open(&path);
        let file = file.map_err(|error| trouble(&path, &error))?;
        Ok(Self { folder: folder.to_owned(), file, header })
    }

    /// Goes on with a run found on disk. A line that was torn goes first: the next one would
    /// become a part of it.
    pub fn resume(run: &Run) -> Result<Self> {
        let journal = Self::open(&run.folder, run.header.clone())?;
        let cut = journal.file.set_len(run.whole).and_then(|()| journal.file.sync_all());
        cut.map_err(|error| trouble(&run.folder, &error))?;
        Ok(journal)
    }

    /// Removes the record of a run that has left nothing.
    pub fn forget(self) {
        let _ = fs::remove_dir_all(&self.folder);
    }

    /// The run as it is on disk.
    pub fn run(&self) -> Result<Run> {
        Run::read(&self.folder)?.ok_or_else(|| {
            trouble(&self.folder, &std::io::Error::other("the journal is not readable"))
        })
    }

    /// The run's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn write(&mut self, step: &Step) -> Result<()> {
        let mut line = serde_json::to_vec(step).unwrap_or_default();
        line.push(b'\n');
        self.file
            .write_all(&line)
            .and_then(|()| self.file.sync_all())
            .map_err(|error| trouble(&self.folder, &error))
    }

    /// Writes a step through to disk, then reaches its failpoint.
    pub fn step(&mut self, step: &Step, progress: &dyn Progress) -> Result<()> {
        self.write(step)?;
        progress.reached(step.name());
        Ok(())
    }
}

impl Step {
    /// The name of the step, as tests stop at it.
    pub fn name(&self) -> &'static str {
        match self {
            Step::Started(_) => "started",
            Step::Ends { .. } => "ends",
            Step::SetAside => "set-aside",
            Step::Clearing { .. } => "clearing",
            Step::Cleared => "cleared",
            Step::Made => "made",
            Step::Filled => "filled",
            Step::Built => "built",
            Step::Checked => "checked",
            Step::Switching { .. } => "switching",
            Step::DatabaseSwitched => "database-switched",
            Step::FilesSwitched => "files-switched",
            Step::Done { .. } => "done",
            Step::Stage { .. } => "stage",
            Step::Ended { .. } => "ended",
            Step::Discarded => "discarded",
            Step::LetGo => "let-go",
            Step::TakenOver => "taken-over",
        }
    }
}

impl Run {
    /// The run of a folder; `None` if none has begun there.
    ///
    /// # Errors
    ///
    /// Where a line cannot be read that was written to its end: what the run has done is not
    /// known then, and nothing may be built upon it.
    fn read(folder: &Path) -> Result<Option<Self>> {
        use std::io::ErrorKind::{NotADirectory, NotFound};
        let path = folder.join("journal.jsonl");
        let text = match fs::read(&path) {
            Ok(text) => text,
            // Something else may lie among the runs.
            Err(error) if matches!(error.kind(), NotFound | NotADirectory) => return Ok(None),
            Err(error) => return Err(trouble(&path, &error)),
        };
        // A step is taken when its line is on the disk, with its end.
        let whole = text.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let mut steps = Vec::new();
        for (number, line) in text[..whole].split_inclusive(|byte| *byte == b'\n').enumerate() {
            let step = serde_json::from_slice(line);
            steps.push(step.map_err(|error| unreadable(folder, number + 1, &error))?);
        }
        let header = match steps.first() {
            Some(Step::Started(header)) => header.clone(),
            Some(_) => return Err(unreadable(folder, 1, &"it is not the beginning of a run")),
            None => return Ok(None),
        };
        Ok(Some(Self { folder: folder.to_owned(), header, steps, whole: whole as u64 }))
    }

    /// Where the run stands.
    pub fn state(&self) -> RunState {
        let mut state = RunState::Open;
        let mut known = Plan::default();
        let mut emptied = false;
        for step in &self.steps {
            match step {
                Step::Clearing { .. } => {
                    emptied = true;
                    state = RunState::Emptied;
                }
                Step::Discarded if emptied => state = RunState::Emptied,
                Step::Switching { direction, plan } => {
                    known.clone_from(plan);
                    state = RunState::Switching(*direction, plan.clone());
                }
                Step::Done { direction, at, fingerprint, .. } => {
                    emptied = false;
                    state = RunState::InPlace {
                        direction: *direction,
                        plan: known.clone(),
                        at: at.clone(),
                        fingerprint: fingerprint.clone(),
                    };
                }
                Step::Discarded | Step::LetGo | Step::TakenOver | Step::Ended { .. } => {
                    state = RunState::Closed;
                }
                _ => {}
            }
        }
        state
    }

    /// The runs that cannot come again because of this one.
    pub fn ends(&self) -> impl Iterator<Item = &String> {
        let has_changed = self.steps.iter().any(|step| matches!(step, Step::Switching { .. }))
            || self.is_edit() && self.state() == RunState::Open;
        let ended = self.steps.iter().filter_map(|step| match step {
            Step::Ends { runs } => Some(runs),
            _ => None,
        });
        ended.flatten().filter(move |_| has_changed)
    }

    /// Bytes that the state takes that it keeps, if that is known.
    pub fn kept_bytes(&self) -> Option<u64> {
        let last = self.steps.iter().rev().find_map(|step| match step {
            Step::Done { kept, .. } => Some(*kept),
            _ => None,
        });
        last.flatten().filter(|_| self.is_kept())
    }

    /// What the files take that it keeps, if that is known.
    pub fn kept_files(&self) -> Option<Amount> {
        self.steps.iter().rev().find_map(|step| match step {
            Step::Done { kept_files, .. } => Some(*kept_files),
            _ => None,
        })?
    }

    /// Removes what is kept of it; its record stays.
    pub fn clear(&self) {
        for entry in fs::read_dir(&self.folder).into_iter().flatten().flatten() {
            if entry.file_name() != "journal.jsonl" {
                let _ = fs::remove_file(entry.path());
            }
        }
    }

    /// Whether it changes a live site in place: cells, or files, each with its old value kept.
    pub fn is_edit(&self) -> bool {
        matches!(self.header.command, Operation::Rewrite | Operation::Redirects | Operation::Close)
    }

    /// Whether it is a move, whose changes are those of the runs that it began.
    pub fn is_move(&self) -> bool {
        self.header.command == Operation::Move
    }

    /// The stages of a move that are complete: name, seconds and what to remember.
    pub fn stages(&self) -> Vec<(&str, f64, &str)> {
        let stage = |step| match step {
            &Step::Stage { ref name, seconds, ref about } => {
                Some((name.as_str(), seconds, about.as_str()))
            }
            _ => None,
        };
        self.steps.iter().filter_map(stage).collect()
    }

    /// When it was complete (RFC 3339, UTC), before anything was taken back.
    pub fn ended(&self) -> Option<&str> {
        self.steps.iter().find_map(|step| match step {
            Step::Done { at, .. } | Step::Ended { at } => Some(at.as_str()),
            _ => None,
        })
    }

    /// Whether it builds a new state beside the old one, which can be thrown away.
    pub fn builds(&self) -> bool {
        matches!(self.header.command, Operation::Unpack | Operation::Preview)
    }

    /// Whether the same command can go on with it: rows were being written.
    pub fn takes_rows(&self) -> bool {
        let discarded = self.steps.iter().rposition(|step| *step == Step::Discarded);
        let since = &self.steps[discarded.map_or(0, |place| place + 1)..];
        matches!(self.state(), RunState::Open | RunState::Emptied)
            && since.contains(&Step::Made)
            && !since.contains(&Step::Built)
    }

    /// What another folder needs to take the run back, if it is complete: how it began, its last
    /// switch, and how that ended.
    pub(crate) fn last_switch(&self) -> Option<[&Step; 3]> {
        let last = |wanted: fn(&Step) -> bool| self.steps.iter().rev().find(|step| wanted(step));
        let switching = last(|step| matches!(step, Step::Switching { .. }))?;
        let done = last(|step| matches!(step, Step::Done { .. }))?;
        Some([self.steps.first()?, switching, done])
    }

    /// The archive of the old state, if that was removed to make room.
    pub fn set_aside(&self) -> Option<PathBuf> {
        let archive = self.folder.join(SET_ASIDE);
        (self.steps.contains(&Step::SetAside) && archive.exists()).then_some(archive)
    }

    /// Whether it keeps a state that can be put in place again.
    pub fn is_kept(&self) -> bool {
        matches!(self.state(), RunState::InPlace { .. })
    }

    /// Whether the run was broken off.
    pub fn is_unfinished(&self) -> bool {
        matches!(self.state(), RunState::Open | RunState::Emptied | RunState::Switching(..))
    }
}

#[cfg(test)]
mod tests;
