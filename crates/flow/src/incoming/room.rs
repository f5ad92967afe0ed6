//! A folder in which something of others becomes an archive; it goes with the program.

use fernweh_ports::{Result, Trouble};
use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

/// A folder of this process, for its owner alone; it is removed when this is dropped.
pub struct Room(PathBuf);

impl Room {
    /// Makes a folder in `all`; what killed runs have left there goes.
    pub fn make(all: &Path) -> Result<Self> {
        for old in fs::read_dir(all).into_iter().flatten().flatten() {
            if !Path::new("/proc").join(old.file_name()).exists() {
                let _ = fs::remove_dir_all(old.path());
            }
        }
        let own = all.join(std::process::id().to_string());
        let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(&own);
        made.map_err(|error| Trouble::file("cannot make room to read in", &own, &error))?;
        Ok(Self(own))
    }

    /// The path of a file in it.
    pub fn file(&self, name: &str) -> PathBuf {
        self.0.join(name)
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}
