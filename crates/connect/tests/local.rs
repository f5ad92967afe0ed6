//! Building and switching file trees on this machine.

use fernweh_connect::local::{LocalSource, LocalTarget, file_id, switch};
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{Direction, FileSource, FileSwap, FileTarget};
use std::fs;
use std::path::Path;

fn entry(path: &str, kind: EntryKind, mode: u32) -> Entry {
    let owner = (0, 0);
    Entry {
        path: path.as_bytes().to_vec(),
        kind,
        mode,
        mtime: 1_400_000_000,
        nanos: 5,
        owner,
        extra: Extra::default(),
    }
}

fn text(path: &Path) -> String {
    fs::read_to_string(path).unwrap_or_default()
}

#[test]
fn a_tree_is_built_beside_and_takes_the_place_and_goes_back() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("site");
    fs::create_dir(&root).unwrap();
    fs::write(root.join("old.txt"), "old").unwrap();
    let mut target = LocalTarget::new(&root, "run");
    assert_eq!(target.existing().unwrap(), 1);
    target.build().unwrap();
    target.put(&entry("closed", EntryKind::Folder, 0o555)).unwrap();
    target.put_file(&entry("closed/a", EntryKind::File(3), 0o640), &mut &b"new"[..]).unwrap();
    target.put(&entry("link", EntryKind::Link(b"closed/a".to_vec()), 0o777)).unwrap();
    let swap = target.finish().unwrap();
    assert_eq!(text(&root.join("old.txt")), "old", "nothing has changed yet");
    for _ in 0..2 {
        target.switch(&swap, Direction::Forward).unwrap();
        assert_eq!(text(&root.join("link")), "new");
        assert!(!root.join("old.txt").exists());
    }
    let mut seen = Vec::new();
    let mut source = LocalSource::open(&root).unwrap();
    source
        .walk(&|_| true, &mut |entry| {
            seen.push(entry);
            Ok(())
        })
        .unwrap();
    let shown: Vec<_> =
        seen.iter().map(|e| (e.shown(), e.mode & 0o777, e.mtime, e.nanos)).collect();
    assert_eq!(shown[0], ("closed".into(), 0o555, 1_400_000_000, 5));
    assert_eq!(shown[1], ("closed/a".into(), 0o640, 1_400_000_000, 5));
    assert_eq!((shown[2].0.as_str(), shown[2].2), ("link", 1_400_000_000));
    for _ in 0..2 {
        target.switch(&swap, Direction::Back).unwrap();
        assert_eq!(text(&root.join("old.txt")), "old");
    }
    target.let_go(&swap).unwrap();
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "only the site is left");
}

#[test]
fn an_exchange_by_three_renames_that_broke_off_is_completed() {
    // The places as they stand after each of the three renames.
    for broken_after in 0..3 {
        let folder = tempfile::tempdir().unwrap();
        let (target, side) = (folder.path().join("site"), folder.path().join("new"));
        let between = folder.path().join("new.between");
        fs::write(&side, "new").unwrap();
        let new = file_id(&side);
        fs::write(&target, "old").unwrap();
        if broken_after > 0 {
            fs::rename(&target, &between).unwrap();
        }
        if broken_after > 1 {
            fs::rename(&side, &target).unwrap();
        }
        let swap = FileSwap {
            target: target.clone(),
            side: side.clone(),
            new,
            had_old: true,
            part: false,
            resident: None,
        };
        switch(&swap, Direction::Forward).unwrap();
        assert_eq!((text(&target), text(&side)), ("new".into(), "old".into()), "{broken_after}");
        switch(&swap, Direction::Back).unwrap();
        assert_eq!((text(&target), text(&side)), ("old".into(), "new".into()), "{broken_after}");
    }
}

#[test]
fn a_place_that_was_empty_is_empty_again() {
    let folder = tempfile::tempdir().unwrap();
    let (target, side) = (folder.path().join("site"), folder.path().join("new"));
    fs::write(&side, "new").unwrap();
    let swap = FileSwap {
        target: target.clone(),
        side,
        new: file_id(&folder.path().join("new")),
        had_old: false,
        part: false,
        resident: None,
    };
    switch(&swap, Direction::Forward).unwrap();
    assert_eq!(text(&target), "new");
    switch(&swap, Direction::Back).unwrap();
    assert!(!target.exists());
}

#[test]
fn nothing_is_written_outside_or_through_a_link() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("site");
    let mut target = LocalTarget::new(&root, "run");
    target.build().unwrap();
    let outside = folder.path().join("outside");
    fs::create_dir(&outside).unwrap();
    let link = EntryKind::Link(outside.to_string_lossy().as_bytes().to_vec());
    target.put(&entry("link", link, 0o777)).unwrap();
    for path in ["../x", "a/../../x", "/x", "link/x", "link/deep/x", "", ".", "a/.."] {
        let put = target.put_file(&entry(path, EntryKind::File(1), 0o644), &mut &b"x"[..]);
        assert!(put.is_err(), "{path}");
    }
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
    target.put_file(&entry("a", EntryKind::File(1), 0o644), &mut &b"x"[..]).unwrap();
    assert!(target.put_file(&entry("a", EntryKind::File(1), 0o644), &mut &b"y"[..]).is_err());
    target.discard().unwrap();
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[test]
fn files_of_the_old_state_are_carried_over() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("site");
    fs::create_dir_all(root.join("keep/deep")).unwrap();
    fs::write(root.join("keep/deep/a"), "kept").unwrap();
    fs::write(root.join("both"), "old").unwrap();
    fs::write(root.join("gone"), "old").unwrap();
    let mut target = LocalTarget::new(&root, "run");
    target.build().unwrap();
    target.put_file(&entry("both", EntryKind::File(3), 0o644), &mut &b"new"[..]).unwrap();
    let kept = target.keep(&|path| path.starts_with(b"keep") || path == b"both").unwrap();
    assert_eq!(kept, 2);
    let swap = target.finish().unwrap();
    target.switch(&swap, Direction::Forward).unwrap();
    assert_eq!(text(&root.join("keep/deep/a")), "kept");
    assert_eq!(text(&root.join("both")), "old", "what is kept wins");
    assert!(!root.join("gone").exists());
}

#[test]
fn a_resident_stays_the_file_that_it_is_wherever_the_program_was_killed() {
    use std::os::unix::fs::MetadataExt;
    for (killed, mode) in (0..4).flat_map(|killed| [(killed, "delete"), (killed, "wal")]) {
        let folder = tempfile::tempdir().unwrap();
        let (target, side) = (folder.path().join("site"), folder.path().join("new"));
        fs::create_dir_all(target.join("data")).unwrap();
        fs::create_dir(&side).unwrap();
        fs::write(side.join("page"), "new").unwrap();
        let db = rusqlite::Connection::open(target.join("data/site.db")).unwrap();
        db.pragma_update(None, "journal_mode", mode).unwrap();
        db.execute_batch("CREATE TABLE t (a); INSERT INTO t VALUES (1)").unwrap();
        let inode = || fs::metadata(target.join("data/site.db")).unwrap().ino();
        let before = inode();
        let swap = FileSwap {
            target: target.clone(),
            side: side.clone(),
            new: file_id(&side),
            had_old: true,
            part: false,
            resident: Some("data/site.db".into()),
        };
        // What a killed program has left: a second name, or that of an earlier log.
        if killed > 0 {
            fs::create_dir(side.join("data")).unwrap();
            fs::hard_link(target.join("data/site.db"), side.join("data/site.db")).unwrap();
        }
        if killed > 1 {
            fs::write(side.join("data/site.db-wal"), "of an earlier log").unwrap();
        }
        if killed > 2 {
            fs::rename(&target, folder.path().join("between")).unwrap();
            fs::rename(&side, &target).unwrap();
            fs::rename(folder.path().join("between"), &side).unwrap();
            let _ = fs::remove_file(target.join("data/site.db-wal"));
            for ending in ["-wal", "-shm"] {
                let name = format!("data/site.db{ending}");
                let _ = fs::hard_link(side.join(&name), target.join(&name));
            }
        }
        for direction in [Direction::Forward, Direction::Back, Direction::Forward] {
            switch(&swap, direction).unwrap();
            assert_eq!(
                (inode(), fs::metadata(target.join("data/site.db")).unwrap().nlink()),
                (before, 1)
            );
            assert_eq!(target.join("page").exists(), direction == Direction::Forward);
            let names = fs::read_dir(side.join("data")).unwrap().count();
            assert_eq!(names, 0, "nothing of it is left in the other folder");
            db.execute("INSERT INTO t VALUES (2)", []).unwrap();
            let other = rusqlite::Connection::open(target.join("data/site.db")).unwrap();
            let seen = |db: &rusqlite::Connection| -> i64 {
                db.query_row("SELECT count(*) FROM t", [], |row| row.get(0)).unwrap()
            };
            assert_eq!(seen(&other), seen(&db), "{mode}, killed at {killed}");
            let whole: String =
                other.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
            assert_eq!(whole, "ok");
        }
    }
}

/// An access list that lets user 1001 read: as Linux hands it over.
const LIST: &[u8] =
    b"\x02\0\0\0\x01\0\x06\0\xff\xff\xff\xff\x02\0\x04\0\xe9\x03\0\0\x04\0\x04\0\xff\xff\xff\xff\
\x10\0\x04\0\xff\xff\xff\xff\x20\0\0\0\xff\xff\xff\xff";

#[test]
fn names_attributes_and_holes_of_files_come_back_from_a_tree() {
    use std::os::unix::fs::MetadataExt;
    let folder = tempfile::tempdir().unwrap();
    let old = folder.path().join("old");
    fs::create_dir(&old).unwrap();
    let (a, b) = (old.join("a"), old.join("b"));
    fs::write(&a, "x").unwrap();
    fs::hard_link(&a, &b).unwrap();
    let flags = rustix::fs::XattrFlags::empty();
    rustix::fs::setxattr(&a, "user.note", b"from \0 the dome", flags).unwrap();
    rustix::fs::setxattr(&a, "system.posix_acl_access", LIST, flags).unwrap();
    rustix::fs::setxattr(&old, "user.note", b"", flags).unwrap();
    let holes = fs::File::create(old.join("holes")).unwrap();
    holes.set_len(40 << 20).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&holes, b"in the middle", 10 << 20).unwrap();

    let mut source = LocalSource::open(&old).unwrap();
    let mut entries = Vec::new();
    let left_out = source.walk(&|_| true, &mut |entry| {
        entries.push(entry);
        Ok(())
    });
    assert!(left_out.unwrap().is_empty());
    assert_eq!(entries[0].extra.names, entries[1].extra.names);
    let mut target = LocalTarget::new(&folder.path().join("new"), "run");
    target.build().unwrap();
    for entry in &entries {
        let first = entry.path == b"b";
        match first {
            true => {
                let kind = EntryKind::HardLink(b"a".to_vec());
                target.put(&Entry { kind, ..entry.clone() }).unwrap();
            }
            false => {
                let mut content = source.open(&entry.path).unwrap().unwrap();
                target.put_file(entry, &mut content).unwrap();
            }
        }
    }
    // Neither a link nor a folder nor what is not there has further names.
    let further = |path: &str, first: &str| {
        entry(path, EntryKind::HardLink(first.as_bytes().to_vec()), 0o644)
    };
    target.put(&entry("way", EntryKind::Link(b"/etc".to_vec()), 0o777)).unwrap();
    for first in ["missing", "way", "way/passwd", "../old/a", "/etc/passwd", "", "."] {
        let trouble = target.put(&further("c", first)).unwrap_err();
        assert!(trouble.what.contains("does not hold"), "{first}: {trouble}");
    }
    let swap = target.finish().unwrap();
    target.switch(&swap, Direction::Forward).unwrap();
    let new = folder.path().join("new");
    let found = |name: &str| fs::metadata(new.join(name)).unwrap();
    assert_eq!((found("a").ino(), found("a").nlink()), (found("b").ino(), 2));
    assert_eq!(found("a").mode(), fs::metadata(&a).unwrap().mode());
    let value = |name: &str| {
        let mut value = [0_u8; 100];
        let length = rustix::fs::getxattr(new.join("b"), name, &mut value[..]).unwrap();
        value[..length].to_vec()
    };
    assert_eq!(value("user.note"), b"from \0 the dome");
    assert_eq!(value("system.posix_acl_access"), LIST);
    assert_eq!(found("holes").len(), 40 << 20);
    assert!(found("holes").blocks() * 512 < 1 << 20, "{} blocks", found("holes").blocks());
    assert_eq!(fs::read(new.join("holes")).unwrap(), fs::read(old.join("holes")).unwrap());
}
