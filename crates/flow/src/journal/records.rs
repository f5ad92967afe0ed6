//! All runs of a working folder, the locks of its sites, and the archives that it knows.

use super::{Header, Journal, Operation, Run, Step, trouble};
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble};
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

/// The folder of Fernweh's own records, beside the configuration.
#[derive(Clone, Debug)]
pub struct Records {
    folder: PathBuf,
}

/// The site's lock; it is released when it is dropped, and when its holder dies.
pub struct Lock {
    _file: File,
}

fn private_folder(path: &Path) -> Result<()> {
    let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(path);
    made.map_err(|error| trouble(path, &error))
}

/// Puts a file in the place of another one, whole or not at all.
fn replace(folder: &Path, path: &Path, content: &[u8]) -> Result<()> {
    let write = || -> std::io::Result<()> {
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        file.write_all(content)?;
        file.persist(path).map(drop).map_err(|error| error.error)
    };
    write().map_err(|error| trouble(path, &error))
}

/// Whether this can be the name of a run, and so of a folder.
pub(crate) fn is_run_name(name: &str) -> bool {
    !name.chars().any(|ch| ch == '/' || ch.is_control())
        && !name.starts_with('.')
        && (1..=200).contains(&name.len())
}

/// Ten random digits.
pub(crate) fn random_part() -> String {
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
                Err(Trouble::outside(format!("another run is working on site {site}"))
                    .at(path.display().to_string())
                    .because("only one run per site is allowed at a time")
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
        self.append(&self.packed_list(), digest, limits::REMEMBERED_ARCHIVES)
    }

    fn scan_state(&self, site: &str) -> PathBuf {
        self.state_of("scans", site)
    }

    /// Keeps what an interrupted scan of a site knew.
    pub fn keep_scan(&self, site: &str, state: &[u8]) -> Result<()> {
        self.keep_of("scans", site, state)
    }

    /// What is kept of a scan that was interrupted within the last day.
    pub fn kept_scan(&self, site: &str) -> Option<Vec<u8>> {
        let path = self.scan_state(site);
        let age = fs::metadata(&path).ok()?.modified().ok()?.elapsed().unwrap_or_default();
        (age < limits::SCAN_KEPT).then(|| fs::read(&path).ok()).flatten()
    }

    /// Forgets it.
    pub fn forget_scan(&self, site: &str) {
        let _ = fs::remove_file(self.scan_state(site));
    }

    fn state_of(&self, kind: &str, site: &str) -> PathBuf {
        self.folder.join(kind).join(format!("{site}.json"))
    }

    /// What is remembered of a site, of one kind.
    pub(crate) fn kept_of(&self, kind: &str, site: &str) -> Option<Vec<u8>> {
        fs::read(self.state_of(kind, site)).ok()
    }

    /// Remembers it.
    pub(crate) fn keep_of(&self, kind: &str, site: &str, state: &[u8]) -> Result<()> {
        let folder = self.folder.join(kind);
        private_folder(&folder)?;
        replace(&folder, &self.state_of(kind, site), state)
    }

    fn looks_list(&self) -> PathBuf {
        self.folder.join("looks")
    }

    /// Adds a line to the list of what only looked.
    pub(crate) fn add_line(&self, line: &str) -> Result<()> {
        private_folder(&self.folder)?;
        self.append(&self.looks_list(), line, limits::REMEMBERED_LOOKS)
    }

    /// The lines of that list, the oldest first.
    pub(crate) fn lines(&self) -> Vec<String> {
        let text = fs::read_to_string(self.looks_list()).unwrap_or_default();
        text.lines().map(str::to_owned).collect()
    }

    /// Adds a line at the end of a list, which keeps so many of them, each once.
    fn append(&self, path: &Path, line: &str, most: usize) -> Result<()> {
        let known = fs::read_to_string(path).unwrap_or_default();
        let mut lines: Vec<&str> = known.lines().filter(|known| *known != line).collect();
        lines.push(line);
        let text = lines[lines.len().saturating_sub(most)..].join("\n") + "\n";
        // A list that is half written would forget lines; the next one is complete.
        replace(&self.folder, path, text.as_bytes())
    }

    /// Whether the archive with this digest was packed here.
    pub fn remembers(&self, digest: &str) -> bool {
        let known = fs::read_to_string(self.packed_list()).unwrap_or_default();
        known.lines().any(|line| line == digest)
    }

    /// Begins a run.
    pub fn begin(&self, command: Operation, site: &str, input: &str) -> Result<Journal> {
        self.begin_marked(command, site, input, String::new())
    }

    /// Begins a run with which the same command can go on after a break.
    pub fn begin_marked(
        &self,
        command: Operation,
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
        let (site, input, adopted) = (site.into(), input.into(), false);
        let header = Header { run, number, command, site, started, input, mark, adopted };
        let mut journal = Journal::open(&folder, header.clone())?;
        journal.write(&Step::Started(header))?;
        Ok(journal)
    }

    /// Tells this folder's records from all others, wherever they are moved.
    pub(crate) fn identity(&self) -> Result<String> {
        let path = self.folder.join("identity");
        if let Ok(known) = fs::read_to_string(&path) {
            return Ok(known.trim().to_owned());
        }
        private_folder(&self.folder)?;
        let new = random_part() + &random_part();
        let write = || -> std::io::Result<()> {
            let mut file = tempfile::NamedTempFile::new_in(&self.folder)?;
            file.write_all(new.as_bytes())?;
            file.persist_noclobber(&path).map(drop).map_err(|error| error.error)
        };
        match write() {
            // Another run was faster.
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => self.identity(),
            written => written.map(|()| new).map_err(|error| trouble(&path, &error)),
        }
    }

    /// The records that a run belongs to.
    pub(crate) fn of(run: &Run) -> Self {
        // `.fernweh/runs/RUN`.
        let folder = run.folder.ancestors().nth(2).unwrap_or(&run.folder);
        Self { folder: folder.to_owned() }
    }

    /// Takes over the record of a run that another folder has begun; what was recorded of it here
    /// goes.
    pub(crate) fn adopt(&self, mut header: Header, rest: [Step; 2]) -> Result<Run> {
        let name = header.run.clone();
        let before = self.runs()?.into_iter().filter(|run| run.header.run != name);
        let number = before.filter(|run| run.header.started <= header.started);
        header.number = number.map(|run| run.header.number).max().unwrap_or(0);
        header.adopted = true;
        let folder = self.runs_folder().join(&name);
        private_folder(&folder)?;
        let path = folder.join("journal.jsonl");
        let mut lines = Vec::new();
        for step in [Step::Started(header)].iter().chain(&rest) {
            lines.extend(serde_json::to_vec(step).unwrap_or_default());
            lines.push(b'\n');
        }
        let write = || -> std::io::Result<()> {
            let mut file = tempfile::NamedTempFile::new_in(&folder)?;
            file.write_all(&lines)?;
            file.as_file().sync_all()?;
            file.persist(&path).map(drop).map_err(|error| error.error)
        };
        write().map_err(|error| trouble(&path, &error))?;
        Run::read(&folder)?.ok_or_else(|| fernweh_ports::foreign("the record of a run"))
    }

    /// All runs, the oldest first.
    pub fn runs(&self) -> Result<Vec<Run>> {
        let folder = self.runs_folder();
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(trouble(&folder, &error)),
        };
        let found = entries.flatten().map(|entry| Run::read(&entry.path()));
        let mut runs: Vec<Run> = found.filter_map(Result::transpose).collect::<Result<_>>()?;
        runs.sort_by_cached_key(|run| {
            let Header { number, adopted, started, run, .. } = &run.header;
            (*number, *adopted, started.clone(), run.clone())
        });
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
