//! One small file of a live site, changed as a whole, with its old content kept.

use super::kept::Safekeeping;
use crate::journal::{Journal, Plan, Step};
use fernweh_core::limits;
use fernweh_ports::{Direction, Editors, Fingerprint, Held, Progress, Result, Trouble, read_whole};

/// A change of one file.
pub(crate) struct FileEdit {
    /// Its path below the site's folder.
    pub path: Vec<u8>,
    /// What it held; `None` if it was not there.
    pub old: Option<Vec<u8>>,
    /// What it shall hold; `None` if it shall go.
    pub new: Option<Vec<u8>>,
}

impl FileEdit {
    /// What `change` makes of a file as it is now.
    pub fn of(
        parts: &mut Editors,
        path: &str,
        change: impl FnOnce(Option<&[u8]>) -> Option<Vec<u8>>,
    ) -> Result<Self> {
        let what = "cannot read a file of the site";
        let source = parts.files.as_mut().ok_or_else(|| Trouble::usage("the site has no files"))?;
        let old = match read_whole(&mut **source, path.as_bytes(), limits::TEXT_FILE)? {
            Held::Whole(file) if file.changed => {
                return Err(Trouble::outside(what)
                    .at(path)
                    .because("it changed each time it was read")
                    .hint("try again when nobody works on it"));
            }
            Held::Whole(file) => Some(file.bytes),
            Held::Gone => None,
            Held::TooLarge => {
                return Err(Trouble::outside(what).at(path).because("it is far too large"));
            }
        };
        let new = change(old.as_deref());
        Ok(Self { path: path.as_bytes().to_vec(), old, new })
    }

    /// Whether it changes anything.
    pub fn changes(&self) -> bool {
        self.old != self.new
    }
}

/// Makes changes, each kept first.
pub(crate) fn edit_files(
    edits: &[FileEdit],
    parts: &mut Editors,
    safe: &mut Safekeeping,
    progress: &dyn Progress,
) -> Result<()> {
    let editor = parts.editor.as_mut().ok_or_else(|| Trouble::usage("the site has no files"))?;
    for FileEdit { path, old, new } in edits.iter().filter(|edit| edit.changes()) {
        match (old, new) {
            (Some(old), Some(new)) => {
                safe.keep_file(path, old, new)?;
                progress.reached("changes-kept");
                editor.replace(path, new, &safe.hidden_name)?;
            }
            (None, Some(new)) => {
                safe.keep_made(path, new)?;
                progress.reached("changes-kept");
                editor.make(path, new, &safe.hidden_name)?;
            }
            (Some(old), None) => {
                safe.keep_removed(path, old)?;
                progress.reached("changes-kept");
                editor.remove(path)?;
            }
            (None, None) => {}
        }
    }
    Ok(())
}

/// Notes in the journal that all changes are made.
pub(crate) fn edited(journal: &mut Journal, progress: &dyn Progress) -> Result<()> {
    let (direction, fingerprint) = (Direction::Forward, Fingerprint::default());
    journal.step(&Step::Switching { direction, plan: Plan::default() }, progress)?;
    journal.step(
        &Step::Done { direction, at: crate::now(), fingerprint, kept: None, kept_files: None },
        progress,
    )
}
