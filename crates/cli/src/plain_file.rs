//! Small text files that the user names: the configuration, and files of passwords.

use fernweh_core::limits;
use fernweh_ports::{Result, Trouble, TroubleKind};
use std::path::Path;

/// The text of a plain file: a device would never end, and what is read from a pipe is gone.
pub fn plain_text(what: &str, path: &Path) -> Result<String> {
    let wrong = |error: std::io::Error| {
        let mut trouble = Trouble::file(what, path, &error);
        trouble.kind = TroubleKind::Usage;
        trouble
    };
    let found = std::fs::metadata(path).map_err(wrong)?;
    if !found.is_file() {
        return Err(Trouble::usage(what)
            .at(path.display().to_string())
            .because("it is a device, a pipe or a folder, not a file")
            .hint("name a plain file"));
    }
    if found.len() > limits::PLAIN_FILE {
        return Err(Trouble::usage(what)
            .at(path.display().to_string())
            .because("it is far too large")
            .hint("check the path"));
    }
    std::fs::read_to_string(path).map_err(wrong)
}
