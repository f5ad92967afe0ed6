//! The built program, run in a folder of its own with an environment of its own.

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::Duration;
use tempfile::TempDir;

/// A folder in which the program runs.
pub struct Workspace {
    folder: TempDir,
    program: PathBuf,
}

/// What a run of the program gave.
#[derive(Debug)]
pub struct Ran {
    /// The exit code; `None` if it was killed.
    pub code: Option<i32>,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl Workspace {
    /// An empty folder for the program at this path.
    pub fn new(program: &str) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        Self { folder, program: program.into() }
    }

    /// The folder.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// A path in the folder.
    pub fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    /// Writes a file into the folder.
    pub fn write(&self, path: &str, content: impl AsRef<[u8]>) {
        let path = self.path(path);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).expect("a folder for the file");
        }
        std::fs::write(path, content).expect("a file can be written");
    }

    /// The program with these words, not yet started.
    pub fn command(&self, line: &str) -> Command {
        let mut command = Command::new(&self.program);
        command
            .args(line.split_whitespace())
            .current_dir(self.folder())
            .env_clear()
            .env("HOME", self.folder())
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("TZ", "UTC")
            .env("COLUMNS", "100")
            .stdin(Stdio::null());
        command
    }

    /// A file of the workspace as text.
    pub fn read(&self, path: &str) -> String {
        std::fs::read_to_string(self.path(path)).expect("the file can be read")
    }

    /// Runs the program with these words.
    pub fn run(&self, line: &str) -> Ran {
        Self::finish(&mut self.command(line))
    }

    /// Runs the program where `setup` has mounted something that nobody else sees; what `after`
    /// prints then is added to its output.
    pub fn run_on_disk(&self, setup: &str, line: &str, after: &str) -> Ran {
        let program = self.program.display();
        let script =
            format!("{setup} || exit 99\n'{program}' {line}\nended=$?\n{after}\nexit $ended\n");
        let typed = self.command(line);
        let mut command = Command::new("unshare");
        // Whoever is not root is root in a namespace of users, too.
        command.args(["-rm", "sh", "-c", &script]).current_dir(self.folder()).env_clear();
        command.envs(typed.get_envs().filter_map(|(name, value)| Some((name, value?))));
        Self::finish(&mut command)
    }

    /// Runs the program; gives the most memory that it took as well, in bytes.
    pub fn run_measured(&self, line: &str) -> (Ran, u64) {
        const MEASURE: &str = "import resource, subprocess, sys\n\
             code = subprocess.run(sys.argv[1:]).returncode\n\
             most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss\n\
             open('most-memory', 'w').write(str(most))\n\
             sys.exit(code)";
        let typed = self.command(line);
        let mut command = Command::new("python3");
        command.args(["-c", MEASURE]).arg(&self.program).args(typed.get_args());
        command.current_dir(self.folder()).env_clear().stdin(Stdio::null());
        command.envs(typed.get_envs().filter_map(|(name, value)| Some((name, value?))));
        let ran = Self::finish(&mut command);
        let kilobytes: u64 = self.read("most-memory").parse().expect("a number of kilobytes");
        (ran, kilobytes * 1024)
    }

    /// Runs the program and lets it be killed at a named step.
    pub fn run_killed_at(&self, line: &str, step: &str) -> Ran {
        Self::finish(self.command(line).env("FERNWEH_TEST_STOP_AT", step))
    }

    /// Starts the program, and interrupts it as Ctrl-C does once this path exists.
    pub fn run_interrupted_at(&self, line: &str, path: &str) -> Ran {
        let mut command = self.command(line);
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the program starts");
        let path = self.path(path);
        while !path.exists() && child.try_wait().expect("its state").is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        let id = child.id().to_string();
        let sent = Command::new("kill").args(["-INT", &id]).status().expect("kill");
        assert!(sent.success(), "fernweh {line} had ended already");
        Self::ran(child.wait_with_output().expect("the program ends"))
    }

    /// Halts the program at a named step, does something meanwhile, and lets it go on.
    pub fn run_halted_at(&self, line: &str, step: &str, meanwhile: impl FnOnce()) -> Ran {
        let mut command = self.command(line);
        command.env("FERNWEH_TEST_PAUSE_AT", step).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().expect("the program starts");
        let id = child.id();
        let halted = || {
            let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
            stat.rsplit(')').next().is_some_and(|rest| rest.starts_with(" T"))
        };
        while !halted() {
            let ended = child.try_wait().expect("its state");
            assert!(ended.is_none(), "fernweh {line} has ended before {step}");
            std::thread::sleep(Duration::from_millis(1));
        }
        meanwhile();
        let sent = Command::new("kill").args(["-CONT", &id.to_string()]).status().expect("kill");
        assert!(sent.success());
        Self::ran(child.wait_with_output().expect("the program ends"))
    }

    fn finish(command: &mut Command) -> Ran {
        Self::ran(command.output().expect("the program starts"))
    }

    fn ran(output: Output) -> Ran {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Ran { code: output.status.code(), out: text(&output.stdout), err: text(&output.stderr) }
    }

    /// The runs that change sites, the oldest first: without packings, scans and previews.
    pub fn changes(&self) -> Value {
        let runs = self.done("runs --json").json();
        let all = runs["runs"].as_array().into_iter().flatten();
        all.filter(|run| run["run"] != "").cloned().collect()
    }

    /// Brings the last change of a site again that was taken back.
    pub fn redo(&self, site: &str) -> Ran {
        let runs = self.changes();
        let all = runs.as_array().into_iter().flatten();
        let mut of_site = all.filter(|run| run["site"] == site && run["state"] == "undone");
        let last = of_site.next_back().expect("a run that was taken back");
        let name = last["run"].as_str().unwrap_or_default().to_owned();
        self.done(&format!("undo {site} --to-run {name}"))
    }

    /// Runs the program and expects it to do what was asked: with nothing left to look at, or with
    /// something, as the sample site always has.
    #[track_caller]
    pub fn done(&self, line: &str) -> Ran {
        self.run(line).fine()
    }
}

impl Ran {
    /// The output as JSON.
    #[track_caller]
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out)
            .unwrap_or_else(|error| panic!("no JSON: {error}\n{}\n{}", self.out, self.err))
    }

    /// Expects this exit code.
    #[track_caller]
    pub fn code(self, code: i32) -> Self {
        assert_eq!(self.code, Some(code), "{}\n{}", self.out, self.err);
        self
    }

    /// Expects that what was asked was done: with nothing left to look at, or with something, as
    /// the sample site always has.
    #[track_caller]
    pub fn fine(self) -> Self {
        assert!(matches!(self.code, Some(0 | 1)), "{}\n{}", self.out, self.err);
        self
    }

    /// Expects these words in what was printed.
    #[track_caller]
    pub fn says(self, words: &str) -> Self {
        let all = format!("{}\n{}", self.out, self.err);
        assert!(all.contains(words), "expected “{words}” in\n{all}");
        self
    }
}
