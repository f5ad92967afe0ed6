//! What ran, how far it came, and what it keeps safe.
//!
//! Each changing run has a folder in `.fernweh/runs/` with a journal: one JSON object a
//! line, written through to disk before the step that it announces. From the journal
//! alone a run can be completed, taken back or cleaned up by another process.

use fernweh_ports::{DatabaseSwap, Direction, FileSwap, Fingerprint, Progress, Result, Trouble};
use serde::{Deserialize, Serialize};
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

/// The folder of Fernweh's own records, beside the configuration.
#[derive(Clone, Debug)]
pub struct Records {
    folder: PathBuf,
}

/// Archives whose digests are remembered; older ones are forgotten.
const REMEMBERED: usize = 1000;

/// The first line of a journal.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Header {
    /// The run's name: moment, command and site.
    pub run: String,
    /// Its place among all runs recorded here; several can begin in one second.
    pub number: u64,
    /// `unpack` or `rewrite`.
    pub command: String,
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
}

/// A step of a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "step")]
pub enum Step {
    /// The run has begun.
    Started(Header),
    /// The old state is packed into an archive of the run: it will be removed to make room.
    SetAside,
    /// The old state is about to be removed.
    Clearing,
    /// The old state is removed.
    Cleared,
    /// Tables stand beside the old ones, ready for rows.
    Made,
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
}

/// The archive of the old state, in the run's folder.
pub const SET_ASIDE: &str = "before.fernweh.tar";

/// Where a run stands.
#[derive(Clone, Debug, PartialEq)]
pub enum State {
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
    /// Cleaned up, given up, or (a move) complete.
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
}

/// The site's lock; it is released when it is dropped, and when its holder dies.
pub struct Lock {
    _file: File,
}

fn trouble(path: &Path, error: &std::io::Error) -> Trouble {
    Trouble::file("cannot write Fernweh's own records", path, error)
}

fn private_folder(path: &Path) -> Result<()> {
    let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(path);
    made.map_err(|error| trouble(path, &error))
}

/// Ten random digits.
fn random_part() -> String {
    use std::hash::{BuildHasher, Hasher, RandomState};
    let random = RandomState::new().build_hasher().finish();
    format!("{:010x}", random & 0xFF_FFFF_FFFF)
}

impl Records {
    /// The records beside a configuration file, or in the present folder.
    pub fn beside(folder: &Path) -> Self {
        Self { folder: folder.join(".fernweh") }
    }

    fn runs_folder(&self) -> PathBuf {
        self.folder.join("runs")
    }

    /// Takes the lock of a site, or says that another run holds it.
    pub fn lock(&self, site: &str) -> Result<Lock> {
        let folder = self.folder.join("locks");
        private_folder(&folder)?;
        let path = folder.join(format!("{site}.lock"));
        let file = OpenOptions::new().create(true).append(true).open(&path);
        let file = file.map_err(|error| trouble(&path, &error))?;
        match file.try_lock() {
            Ok(()) => Ok(Lock { _file: file }),
            Err(fs::TryLockError::WouldBlock) => {
                Err(Trouble::outside(format!("another run is at work on site {site}"))
                    .at(path.display().to_string())
                    .because("one run per site at a time, so that none undoes the other's work")
                    .hint("wait until it has ended; fernweh runs lists it"))
            }
            Err(fs::TryLockError::Error(error)) => Err(trouble(&path, &error)),
        }
    }

    fn packed_list(&self) -> PathBuf {
        self.folder.join("packed")
    }

    /// Notes the digest of an archive that was packed here.
    pub fn remember(&self, digest: &str) -> Result<()> {
        private_folder(&self.folder)?;
        let path = self.packed_list();
        let known = fs::read_to_string(&path).unwrap_or_default();
        let mut lines: Vec<&str> = known.lines().filter(|line| *line != digest).collect();
        lines.push(digest);
        let text = lines[lines.len().saturating_sub(REMEMBERED)..].join("\n") + "\n";
        // A list that is half written would forget archives; the next one is complete.
        let write = || -> std::io::Result<()> {
            let mut file = tempfile::NamedTempFile::new_in(&self.folder)?;
            file.write_all(text.as_bytes())?;
            file.persist(&path).map(drop).map_err(|error| error.error)
        };
        write().map_err(|error| trouble(&path, &error))
    }

    /// Whether the archive with this digest was packed here.
    pub fn remembers(&self, digest: &str) -> bool {
        let known = fs::read_to_string(self.packed_list()).unwrap_or_default();
        known.lines().any(|line| line == digest)
    }

    /// Begins a run.
    pub fn begin(&self, command: &str, site: &str, input: &str) -> Result<Journal> {
        self.begin_marked(command, site, input, String::new())
    }

    /// Begins a run with which the same command can go on after a break.
    pub fn begin_marked(
        &self,
        command: &str,
        site: &str,
        input: &str,
        mark: String,
    ) -> Result<Journal> {
        let started = crate::now();
        let moment: String = started
            .chars()
            .filter(|ch| !matches!(ch, ':' | 'Z'))
            .map(|ch| if ch == 'T' { '-' } else { ch })
            .collect();
        private_folder(&self.runs_folder())?;
        let number = 1 + self.runs()?.last().map_or(0, |run| run.header.number);
        // Runs are begun in other folders, and on other machines, in the same second; and a
        // name that can be guessed could be asked of a web server.
        let run = format!("{moment}-{command}-{site}-{}", random_part());
        let folder = self.runs_folder().join(&run);
        private_folder(&folder)?;
        let header = Header {
            run,
            number,
            command: command.into(),
            site: site.into(),
            started,
            input: input.into(),
            mark,
        };
        let mut journal = Journal::open(&folder, header.clone())?;
        journal.write(&Step::Started(header))?;
        Ok(journal)
    }

    /// All runs, the oldest first.
    pub fn runs(&self) -> Result<Vec<Run>> {
        let folder = self.runs_folder();
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(trouble(&folder, &error)),
        };
        let mut runs: Vec<Run> = entries.flatten().filter_map(|e| Run::read(&e.path())).collect();
        runs.sort_by_key(|run| run.header.number);
        Ok(runs)
    }

    /// The runs of one site, the newest first.
    pub fn runs_of(&self, site: &str) -> Result<Vec<Run>> {
        let mut runs: Vec<Run> =
            self.runs()?.into_iter().filter(|run| run.header.site == site).collect();
        runs.reverse();
        Ok(runs)
    }
}

impl Journal {
    fn open(folder: &Path, header: Header) -> Result<Self> {
        let path = folder.join("journal.jsonl");
        let file = OpenOptions::new().create(true).append(true).open(&path);
        let file = file.map_err(|error| trouble(&path, &error))?;
        Ok(Self { folder: folder.to_owned(), file, header })
    }

    /// Goes on with a run found on disk.
    pub fn resume(run: &Run) -> Result<Self> {
        Self::open(&run.folder, run.header.clone())
    }

    /// Removes the record of a run that has left nothing.
    pub fn forget(self) {
        let _ = fs::remove_dir_all(&self.folder);
    }

    /// The run as it is on disk.
    pub fn run(&self) -> Result<Run> {
        Run::read(&self.folder).ok_or_else(|| {
            trouble(&self.folder, &std::io::Error::other("the journal cannot be read back"))
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
            Step::SetAside => "set-aside",
            Step::Clearing => "clearing",
            Step::Cleared => "cleared",
            Step::Made => "made",
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
        }
    }
}

impl Run {
    fn read(folder: &Path) -> Option<Self> {
        let text = fs::read_to_string(folder.join("journal.jsonl")).ok()?;
        // A last line that is not whole was never acted upon.
        let steps: Vec<Step> =
            text.lines().map_while(|line| serde_json::from_str(line).ok()).collect();
        match steps.first()? {
            Step::Started(header) => Some(Self {
                folder: folder.to_owned(),
                header: header.clone(),
                steps: steps.clone(),
            }),
            _ => None,
        }
    }

    /// Where the run stands.
    pub fn state(&self) -> State {
        let mut state = State::Open;
        let mut known = Plan::default();
        let mut emptied = false;
        for step in &self.steps {
            match step {
                Step::Clearing => {
                    emptied = true;
                    state = State::Emptied;
                }
                Step::Discarded if emptied => state = State::Emptied,
                Step::Switching { direction, plan } => {
                    known.clone_from(plan);
                    state = State::Switching(*direction, plan.clone());
                }
                Step::Done { direction, at, fingerprint } => {
                    emptied = false;
                    state = State::InPlace {
                        direction: *direction,
                        plan: known.clone(),
                        at: at.clone(),
                        fingerprint: fingerprint.clone(),
                    };
                }
                Step::Discarded | Step::LetGo | Step::Ended { .. } => state = State::Closed,
                _ => {}
            }
        }
        state
    }

    /// Removes what is kept of it; its record stays.
    pub fn clear(&self) {
        for entry in fs::read_dir(&self.folder).into_iter().flatten().flatten() {
            if entry.file_name() != "journal.jsonl" {
                let _ = fs::remove_file(entry.path());
            }
        }
    }

    /// Whether it is a move, whose changes are those of the runs that it began.
    pub fn is_move(&self) -> bool {
        self.header.command == "move"
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
        matches!(self.header.command.as_str(), "unpack" | "preview")
    }

    /// Whether the same command can go on with it: rows were being written.
    pub fn takes_rows(&self) -> bool {
        let discarded = self.steps.iter().rposition(|step| *step == Step::Discarded);
        let since = &self.steps[discarded.map_or(0, |place| place + 1)..];
        matches!(self.state(), State::Open | State::Emptied)
            && since.contains(&Step::Made)
            && !since.contains(&Step::Built)
    }

    /// The archive of the old state, if that was removed to make room.
    pub fn set_aside(&self) -> Option<PathBuf> {
        let archive = self.folder.join(SET_ASIDE);
        (self.steps.contains(&Step::SetAside) && archive.exists()).then_some(archive)
    }

    /// Whether it keeps a state that can be put in place again.
    pub fn is_kept(&self) -> bool {
        matches!(self.state(), State::InPlace { .. })
    }

    /// Whether the run was broken off.
    pub fn is_unfinished(&self) -> bool {
        matches!(self.state(), State::Open | State::Emptied | State::Switching(..))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_ports::Silent;

    fn records() -> (tempfile::TempDir, Records) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::beside(folder.path());
        (folder, records)
    }

    #[test]
    fn a_journal_tells_where_its_run_stands() {
        let (_folder, records) = records();
        let mut journal = records.begin("unpack", "new", "a.tar").unwrap();
        let state = || records.runs().unwrap()[0].state();
        assert_eq!(state(), State::Open);
        let plan = Plan { tables: vec!["a".into()], ..Plan::default() };
        let switching = Step::Switching { direction: Direction::Forward, plan: plan.clone() };
        journal.step(&switching, &Silent).unwrap();
        assert_eq!(state(), State::Switching(Direction::Forward, plan.clone()));
        let fingerprint = Fingerprint::default();
        let done = Step::Done { direction: Direction::Forward, at: "x".into(), fingerprint };
        journal.step(&done, &Silent).unwrap();
        assert!(matches!(state(), State::InPlace { plan: found, .. } if found == plan));
        journal.step(&Step::LetGo, &Silent).unwrap();
        assert_eq!(state(), State::Closed);
    }

    #[test]
    fn a_line_that_was_not_written_to_its_end_does_not_count() {
        let (_folder, records) = records();
        let mut journal = records.begin("unpack", "new", "a.tar").unwrap();
        journal.step(&Step::Built, &Silent).unwrap();
        journal.file.write_all(b"{\"step\":\"disc").unwrap();
        let runs = records.runs().unwrap();
        assert_eq!(runs[0].steps.len(), 2);
        assert!(runs[0].is_unfinished());
    }

    #[test]
    fn runs_that_begin_in_the_same_second_keep_their_order() {
        let (_folder, records) = records();
        for command in ["unpack", "rewrite", "unpack", "archive"] {
            records.begin(command, "new", "").unwrap();
        }
        let runs = records.runs().unwrap();
        let commands: Vec<_> = runs.iter().map(|run| run.header.command.as_str()).collect();
        assert_eq!(commands, ["unpack", "rewrite", "unpack", "archive"]);
    }

    #[test]
    fn one_run_per_site_at_a_time() {
        let (_folder, records) = records();
        let held = records.lock("new").unwrap();
        assert!(records.lock("new").is_err());
        assert!(records.lock("other").is_ok());
        drop(held);
        assert!(records.lock("new").is_ok());
    }
}
