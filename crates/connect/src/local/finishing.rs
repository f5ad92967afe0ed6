//! What of a built tree takes its place, where it is not the whole tree at once.

use super::target::{LocalTarget, open_up, write_trouble};
use super::{LocalTrees, resident};
use crate::part;
use fernweh_core::entries::EntryList;
use fernweh_ports::{FileSource, FileSwap, Result};
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

impl LocalTarget {
    /// Notes which entries at the top change places.
    pub(super) fn finish_entries(&mut self) -> Result<FileSwap> {
        let wrong = |error| write_trouble(&self.root, &error);
        resident::prepare(self.resident.as_deref(), &self.root, &self.built).map_err(wrong)?;
        let names = |folder: &Path| -> std::io::Result<Vec<Vec<u8>>> {
            let mut names = Vec::new();
            for entry in fs::read_dir(folder)? {
                let name = entry?.file_name().as_bytes().to_vec();
                let stays = name == super::WITHIN.as_bytes()
                    || resident::is_resident(self.resident.as_deref(), &name);
                if !stays {
                    names.push(name);
                }
            }
            names.sort();
            Ok(names)
        };
        let (built, live) = (names(&self.built), names(&self.root));
        let items = part::plan_whole(&built.map_err(wrong)?, &live.map_err(wrong)?);
        let trees = LocalTrees::of(&self.root, &self.built);
        trees.check_disk()?;
        trees.note(&items)?;
        let folder = fs::File::open(&self.built).map_err(wrong)?;
        rustix::fs::syncfs(&folder).map_err(|error| wrong(error.into()))?;
        Ok(FileSwap {
            target: self.root.clone(),
            side: self.built.clone(),
            new: None,
            had_old: true,
            part: true,
            resident: self.resident.clone(),
        })
    }

    /// Notes what of the built tree takes its place, and what it needs there.
    pub(super) fn finish_part(&mut self) -> Result<FileSwap> {
        fs::create_dir_all(&self.root).map_err(|error| write_trouble(&self.root, &error))?;
        let mut built = EntryList::default();
        super::LocalSource::open(&self.built)?.walk(&|_| true, &mut |entry| {
            built.push(entry);
            Ok(())
        })?;
        let trees = LocalTrees::of(&self.root, &self.built);
        trees.check_disk()?;
        let place = self.root.display().to_string();
        trees.note(&part::plan(&trees, built.iter(), &place)?)?;
        // What lies in a folder leaves it, whatever mode the folder is to have.
        open_up(&self.built);
        let folder =
            fs::File::open(&self.built).map_err(|error| write_trouble(&self.built, &error))?;
        rustix::fs::syncfs(&folder)
            .map_err(|error| write_trouble(&self.built, &std::io::Error::from(error)))?;
        let (target, side) = (self.root.clone(), self.built.clone());
        Ok(FileSwap { target, side, new: None, had_old: true, part: true, resident: None })
    }
}
