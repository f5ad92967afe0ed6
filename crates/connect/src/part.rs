//! A part of a site's files takes its place entry by entry, each by a rename; what stays is not
//! touched: visitors write into it all the time, and its owner, links and attributes are its own.
//!
//! The list of what belongs to the part is written down before the first rename. Where each entry
//! lies tells how far a switch has come, so that one that was broken off is completed or taken
//! back.

use fernweh_core::archive::{Located, read_index_line, write_index_line};
use fernweh_core::entries::PathSet;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{Direction, Result, Trouble};

/// The trees between which entries move; an entry has the same path in all of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Side {
    /// The site's own.
    Live,
    /// What the part brings, as long as it is not in place.
    New,
    /// What it has replaced.
    Old,
    /// What came into the place of an entry while a switch was broken off.
    Later,
}

/// What lies at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum There {
    Nothing,
    Folder,
    /// A file, a link, or anything else that is no folder.
    Other,
}

/// Single steps on the trees. No link is followed on the way to an entry.
pub(crate) trait Trees {
    /// What lies at a path of a tree.
    fn look(&self, side: Side, path: &[u8]) -> Result<There>;
    /// Moves an entry from one tree to the same path of another.
    fn move_entry(&self, from: Side, to: Side, path: &[u8]) -> Result<()>;
    /// Makes a folder in a folder that is there.
    fn make_folder(&self, side: Side, path: &[u8], mode: u32) -> Result<()>;
    /// Removes a folder if it is empty.
    fn remove_folder(&self, side: Side, path: &[u8]) -> Result<()>;
}

/// One entry of the part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Item {
    /// A folder that is not there, and its permissions.
    Folder(Vec<u8>, u32),
    /// A file or a link; where whole entries change places, a folder with all that is in it.
    Other(Vec<u8>),
    /// An entry that goes, and nothing takes its place.
    Gone(Vec<u8>),
}

/// What of the entries that were built takes its place, and the folders that are missing for
/// it. Refuses what would lie where something else is.
pub(crate) fn plan(
    trees: &impl Trees,
    built: impl Iterator<Item = Entry>,
    place: &str,
) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    let (mut there, mut missing) = (PathSet::default(), PathSet::default());
    let refused = |path: &[u8], because: &str| {
        Trouble::outside("some of the files cannot be put in place")
            .at(format!("{place}: {}", String::from_utf8_lossy(path)))
            .because(because)
            .hint("check what is there and move it away; nothing else of the site was changed")
    };
    for entry in built {
        for folder in folders_of(&entry.path) {
            if there.contains(folder) || missing.contains(folder) {
                continue;
            }
            match trees.look(Side::Live, folder)? {
                There::Folder => drop(there.insert(folder)),
                There::Other => return Err(refused(folder, "a link or a file is on the way")),
                There::Nothing => {
                    missing.insert(folder);
                    items.push(Item::Folder(folder.to_vec(), 0o755));
                }
            }
        }
        let known = there.contains(&entry.path) || missing.contains(&entry.path);
        match (&entry.kind, trees.look(Side::Live, &entry.path)?) {
            (EntryKind::Folder, _) if known => {}
            (EntryKind::Folder, There::Nothing) => {
                missing.insert(&entry.path);
                items.push(Item::Folder(entry.path, entry.mode));
            }
            (EntryKind::Folder, There::Folder) => drop(there.insert(&entry.path)),
            (EntryKind::Folder, There::Other) => {
                return Err(refused(&entry.path, "a link or a file is where a folder belongs"));
            }
            (_, There::Folder) => {
                return Err(refused(&entry.path, "a folder is where a file belongs"));
            }
            _ => items.push(Item::Other(entry.path)),
        }
    }
    Ok(items)
}

/// What changes places where the whole tree does so entry by entry: each entry at its top, with
/// all that is in it.
pub(crate) fn plan_whole(built: &[Vec<u8>], live: &[Vec<u8>]) -> Vec<Item> {
    let gone = live.iter().filter(|name| !built.contains(name)).cloned().map(Item::Gone);
    built.iter().cloned().map(Item::Other).chain(gone).collect()
}

/// The folders above an entry, from the top.
fn folders_of(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| &path[..at])
}

/// Makes the switch, or completes it; doing it twice is the same as once.
pub(crate) fn switch(trees: &impl Trees, items: &[Item], direction: Direction) -> Result<()> {
    let mut folders = PathSet::default();
    match direction {
        Direction::Forward => items.iter().try_for_each(|item| forward(trees, item, &mut folders)),
        Direction::Back => items.iter().rev().try_for_each(|item| back(trees, item, &mut folders)),
    }
}

fn forward(trees: &impl Trees, item: &Item, folders: &mut PathSet) -> Result<()> {
    match item {
        Item::Folder(path, mode) => match trees.look(Side::Live, path)? {
            There::Nothing => trees.make_folder(Side::Live, path, *mode),
            _ => Ok(()),
        },
        Item::Other(path) => {
            if trees.look(Side::New, path)? == There::Nothing {
                return Ok(());
            }
            if trees.look(Side::Live, path)? != There::Nothing {
                let aside = match trees.look(Side::Old, path)? {
                    There::Nothing => Side::Old,
                    _ => Side::Later,
                };
                move_with_folders(trees, Side::Live, aside, path, folders)?;
            }
            trees.move_entry(Side::New, Side::Live, path)
        }
        Item::Gone(path) => {
            // What came into its place since it went stays.
            let waits = trees.look(Side::Old, path)? == There::Nothing;
            if waits && trees.look(Side::Live, path)? != There::Nothing {
                move_with_folders(trees, Side::Live, Side::Old, path, folders)?;
            }
            Ok(())
        }
    }
}

fn back(trees: &impl Trees, item: &Item, folders: &mut PathSet) -> Result<()> {
    match item {
        Item::Folder(path, _) => match trees.remove_folder(Side::Live, path) {
            Err(trouble) if trouble.lost => Err(trouble),
            // One in which visitors have put something is not empty, and stays.
            _ => Ok(()),
        },
        Item::Other(path) => {
            let is_new = trees.look(Side::New, path)? == There::Nothing;
            if is_new && trees.look(Side::Live, path)? != There::Nothing {
                move_with_folders(trees, Side::Live, Side::New, path, folders)?;
            }
            if trees.look(Side::Old, path)? == There::Nothing {
                return Ok(());
            }
            if trees.look(Side::Live, path)? != There::Nothing {
                move_with_folders(trees, Side::Live, Side::Later, path, folders)?;
            }
            trees.move_entry(Side::Old, Side::Live, path)
        }
        Item::Gone(path) => {
            if trees.look(Side::Old, path)? == There::Nothing {
                return Ok(());
            }
            if trees.look(Side::Live, path)? != There::Nothing {
                move_with_folders(trees, Side::Live, Side::Later, path, folders)?;
            }
            trees.move_entry(Side::Old, Side::Live, path)
        }
    }
}

/// Moves an entry into a tree of ours, whose folders are made where they are missing.
fn move_with_folders(
    trees: &impl Trees,
    from: Side,
    to: Side,
    path: &[u8],
    known: &mut PathSet,
) -> Result<()> {
    let top: &[u8] = b"";
    for folder in std::iter::once(top).chain(folders_of(path)) {
        let name = [&[to as u8], folder].concat();
        if known.insert(&name) && trees.look(to, folder)? == There::Nothing {
            trees.make_folder(to, folder, 0o700)?;
        }
    }
    trees.move_entry(from, to, path)
}

/// The list as it is written down: one line for each entry.
pub(crate) fn write_list(items: &[Item]) -> Vec<u8> {
    let mut out = Vec::new();
    for item in items {
        let located = match item {
            Item::Folder(path, mode) => {
                Located { piece: 1, offset: (*mode).into(), path: path.clone() }
            }
            Item::Other(path) => Located { piece: 0, offset: 0, path: path.clone() },
            Item::Gone(path) => Located { piece: 2, offset: 0, path: path.clone() },
        };
        write_index_line(&located, &mut out);
    }
    out
}

/// Reads it back.
pub(crate) fn read_list(text: &[u8], place: &str) -> Result<Vec<Item>> {
    let lines = text.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
    let item = |line| {
        let located = read_index_line(line)?;
        Some(match located.piece {
            0 => Item::Other(located.path),
            2 => Item::Gone(located.path),
            _ => Item::Folder(located.path, located.offset as u32),
        })
    };
    lines.map(item).collect::<Option<_>>().ok_or_else(|| {
        Trouble::damaged("the list of what a run has put in place cannot be read")
            .at(place.to_owned())
            .hint("what it replaced is next to the list; restore it by hand")
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::record::Extra;
    use proptest::prelude::*;
    use std::cell::{Cell, RefCell};
    use std::collections::BTreeMap;

    /// The content of a file, none of a folder, by tree and path.
    type Entries = BTreeMap<(u8, Vec<u8>), Option<u32>>;

    /// Four trees in memory; a folder has no content. After so many steps the connection is lost.
    #[derive(Default)]
    struct Memory {
        entries: RefCell<Entries>,
        steps: Cell<Option<usize>>,
    }

    impl Memory {
        fn put(&self, side: Side, path: &str, content: Option<u32>) {
            for folder in folders_of(path.as_bytes()) {
                self.entries.borrow_mut().entry((side as u8, folder.to_vec())).or_insert(None);
            }
            self.entries.borrow_mut().insert((side as u8, path.into()), content);
        }

        fn live(&self) -> BTreeMap<String, Option<u32>> {
            let entries = self.entries.borrow();
            let live = entries.iter().filter(|((side, _), _)| *side == Side::Live as u8);
            live.map(|((_, path), content)| (String::from_utf8_lossy(path).into_owned(), *content))
                .collect()
        }

        fn step(&self) -> Result<()> {
            if let Some(left) = self.steps.get() {
                if left == 0 {
                    return Err(Trouble::outside("the connection is lost").lost(true));
                }
                self.steps.set(Some(left - 1));
            }
            Ok(())
        }
    }

    impl Trees for Memory {
        fn look(&self, side: Side, path: &[u8]) -> Result<There> {
            let found = self.entries.borrow().get(&(side as u8, path.to_vec())).copied();
            Ok(match found {
                None => There::Nothing,
                Some(None) => There::Folder,
                Some(Some(_)) => There::Other,
            })
        }
        fn move_entry(&self, from: Side, to: Side, path: &[u8]) -> Result<()> {
            self.step()?;
            let mut entries = self.entries.borrow_mut();
            let found = entries.remove(&(from as u8, path.to_vec())).unwrap();
            assert!(entries.insert((to as u8, path.to_vec()), found).is_none(), "over something");
            for folder in folders_of(path) {
                assert_eq!(entries.get(&(to as u8, folder.to_vec())), Some(&None), "a folder");
            }
            Ok(())
        }
        fn make_folder(&self, side: Side, path: &[u8], _: u32) -> Result<()> {
            self.step()?;
            self.entries.borrow_mut().insert((side as u8, path.to_vec()), None);
            Ok(())
        }
        fn remove_folder(&self, side: Side, path: &[u8]) -> Result<()> {
            self.step()?;
            let below = [path, b"/"].concat();
            let mut entries = self.entries.borrow_mut();
            let full = entries.keys().any(|(of, at)| *of == side as u8 && at.starts_with(&below));
            if full {
                return Err(Trouble::outside("not empty"));
            }
            entries.remove(&(side as u8, path.to_vec()));
            Ok(())
        }
    }

    fn entry(path: &str) -> Entry {
        let kind = EntryKind::File(1);
        Entry {
            path: path.into(),
            kind,
            mode: 0o644,
            mtime: 0,
            nanos: 0,
            owner: (0, 0),
            extra: Extra::default(),
        }
    }

    const PATHS: [&str; 6] = ["a", "b", "deep/a", "deep/b", "deep/er/a", "x/y"];

    proptest! {
        /// Whatever is there, whatever the part brings, and wherever a switch is broken off: it
        /// can be completed, and taken back, and what is no part of it stays as it is.
        #[test]
        fn a_part_is_put_in_place_and_taken_back_from_anywhere(
            there in prop::collection::btree_map(0..PATHS.len(), 0..9_u32, 0..5),
            brings in prop::collection::btree_map(0..PATHS.len(), 10..19_u32, 1..5),
            cut in 0..20_usize,
            then_back: bool,
        ) {
            let trees = Memory::default();
            there.iter().for_each(|(at, content)| trees.put(Side::Live, PATHS[*at], Some(*content)));
            trees.put(Side::Live, "uploads/mine", Some(99));
            brings.iter().for_each(|(at, content)| trees.put(Side::New, PATHS[*at], Some(*content)));
            let before = trees.live();
            let built = brings.keys().map(|at| entry(PATHS[*at]));
            let items = plan(&trees, built, "test").unwrap();
            prop_assert_eq!(&read_list(&write_list(&items), "test").unwrap(), &items);

            trees.steps.set(Some(cut));
            let _ = switch(&trees, &items, Direction::Forward);
            trees.steps.set(None);
            trees.put(Side::Live, "uploads/while", Some(98));
            if then_back {
                switch(&trees, &items, Direction::Back).unwrap();
                let mut expected = before;
                expected.insert("uploads/while".into(), Some(98));
                prop_assert_eq!(trees.live(), expected);
                return Ok(());
            }
            switch(&trees, &items, Direction::Forward).unwrap();
            let mut expected = before.clone();
            for (at, content) in &brings {
                for folder in folders_of(PATHS[*at].as_bytes()) {
                    expected.entry(String::from_utf8_lossy(folder).into_owned()).or_insert(None);
                }
                expected.insert(PATHS[*at].into(), Some(*content));
            }
            expected.insert("uploads/while".into(), Some(98));
            prop_assert_eq!(&trees.live(), &expected);
            // Back, broken off as well, and forward again.
            trees.steps.set(Some(cut));
            let _ = switch(&trees, &items, Direction::Back);
            trees.steps.set(None);
            switch(&trees, &items, Direction::Back).unwrap();
            let mut old = before;
            old.insert("uploads/while".into(), Some(98));
            prop_assert_eq!(&trees.live(), &old);
            switch(&trees, &items, Direction::Forward).unwrap();
            prop_assert_eq!(&trees.live(), &expected);
        }
    }

    #[test]
    fn what_would_lie_where_something_else_is_is_refused() {
        let trees = Memory::default();
        trees.put(Side::Live, "a/b", Some(1));
        for (path, because) in [("a", "a folder is where a file"), ("a/b/c", "is on the way")] {
            let trouble = plan(&trees, std::iter::once(entry(path)), "here").unwrap_err();
            assert!(trouble.because.as_deref().unwrap().contains(because), "{trouble}");
        }
    }
}
