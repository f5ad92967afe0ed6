//! What was printed, kept in a file with the time of each line: for runs that nobody watches.

use fernweh_ports::{Result, Trouble};
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::{Mutex, OnceLock, PoisonError};

/// The file, once it is open.
static LOG: OnceLock<Mutex<File>> = OnceLock::new();

/// Opens the file and notes the command; lines are added at its end. A second call changes
/// nothing.
pub fn open(path: &Path, command: &str) -> Result<()> {
    if LOG.get().is_some() {
        return Ok(());
    }
    let mut options = OpenOptions::new();
    options.append(true).create(true).mode(0o600);
    let file = options.open(path).map_err(|error| {
        let mut trouble = Trouble::file("cannot write the log", path, &error);
        trouble.kind = fernweh_ports::TroubleKind::Usage;
        trouble
    })?;
    let _ = LOG.set(Mutex::new(file));
    add(&format!("$ {command}"));
    Ok(())
}

/// Adds what is printed, line by line. A log that cannot be written stops no run.
pub fn add(text: &str) {
    let Some(log) = LOG.get() else { return };
    let now = jiff::Zoned::now().strftime("%Y-%m-%d %H:%M:%S %:z");
    let mut log = log.lock().unwrap_or_else(PoisonError::into_inner);
    let mut lines = String::new();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        lines.push_str(&format!("{now}  {line}"));
        lines.push('\n');
    }
    let _ = log.write_all(console::strip_ansi_codes(&lines).as_bytes());
}
