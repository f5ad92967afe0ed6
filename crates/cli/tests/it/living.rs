//! Sites that others write into while the program is at work.

use super::{PROGRAM, fixture};
use fernweh_demo::server::Server;
use fernweh_ports::SETTLED;
use fernweh_testkit::{Engine, FTP_LOGIN, FtpHost, SshHost, Workspace, shared_server};
use std::fs::{self, OpenOptions};
use std::io::{Seek, SeekFrom, Write};
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Writes settings in place, as a program does that knows no better: half of them, then the rest.
/// And makes and removes files all the time.
///
/// It tells the longest time for which it was halted between two of its steps, in milliseconds.
fn visitors(site: &Path, stop: &AtomicBool, halted: &AtomicU64) {
    let path = site.join("settings.json");
    for version in 0_usize.. {
        if stop.load(Ordering::Relaxed) {
            return;
        }
        let text = format!("{{\"version\":{version},\"pad\":\"{}\"}}", "x".repeat(version % 7000));
        let mut file = OpenOptions::new().write(true).open(&path).unwrap();
        let since = Instant::now();
        file.set_len(0).unwrap();
        file.seek(SeekFrom::Start(0)).unwrap();
        let (first, second) = text.split_at(text.len() / 2);
        file.write_all(first.as_bytes()).unwrap();
        file.write_all(second.as_bytes()).unwrap();
        halted.fetch_max(since.elapsed().as_millis() as u64, Ordering::Relaxed);
        let cache = site.join(format!("cache/{}.tmp", version % 50));
        match version / 50 % 2 {
            0 => fs::write(&cache, "x").unwrap(),
            _ => drop(fs::remove_file(&cache)),
        }
    }
}

#[test]
fn what_is_packed_of_files_that_change_is_whole_or_named() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("site/settings.json", "{}");
    workspace.write("site/cache/keep", "");
    for number in 0..400 {
        workspace.write(&format!("site/pages/{number:03}.html"), format!("page {number}"));
    }
    workspace.write("fernweh.toml", "[site.living]\nfiles = \"site\"\n");
    let (site, stop) = (workspace.path("site"), AtomicBool::new(false));
    let halted = AtomicU64::new(0);
    std::thread::scope(|scope| {
        scope.spawn(|| visitors(&site, &stop, &halted));
        let packed = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            for round in 0..12 {
                let archive = format!("a{round}.tar");
                let ran = workspace.run(&format!("pack living -o {archive} --json"));
                let report = ran.json();
                let named = report["changed"].to_string().contains("settings.json");
                let settings = unpacked_by_tar(&workspace.path(&archive), "settings.json");
                let whole = serde_json::from_slice::<serde_json::Value>(&settings).is_ok();
                // A machine may halt a writer for longer than anybody can wait for it.
                let too_long = halted.swap(0, Ordering::Relaxed) >= SETTLED.as_millis() as u64;
                let what = String::from_utf8_lossy(&settings);
                assert!(whole || named || too_long, "{what}");
                let left_out = report["left_out"].to_string();
                assert!(!left_out.contains("pages/"), "{left_out}");
                workspace.run(&format!("show {archive} --verify")).fine();
            }
        }));
        stop.store(true, Ordering::Relaxed);
        packed.unwrap_or_else(|reason| std::panic::resume_unwind(reason));
    });
}

/// A file of an archive, by the tools that every machine has.
fn unpacked_by_tar(archive: &Path, path: &str) -> Vec<u8> {
    let script = "tar -xOf \"$0\" --wildcards 'files/*.tar.zst' | zstd -dcq | tar -xO \"$1\"";
    let out = Command::new("sh").args(["-c", script]).arg(archive).arg(path).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    out.stdout
}

/// A site with a page that is spoiled, and something that nobody may touch.
fn spoiled(workspace: &Workspace, place: &str, more: &str) {
    workspace.write("old/pages/index.html", "the page");
    workspace.write("old/pages/new/deep.html", "was not there");
    workspace.write("old/other.html", "no part of it");
    workspace.write("new/pages/index.html", "spoiled");
    workspace.write("new/uploads/a.jpg", "a picture");
    workspace.write(
        "fernweh.toml",
        format!("[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{place}\"\n{more}\n"),
    );
    workspace.done("pack old -o a.tar");
}

const PART: &str = "unpack a.tar new --paths pages/** --overwrite --as-is";

/// Puts the part in place while somebody uploads, takes it back, and puts it in place again.
fn part_comes_and_goes(workspace: &Workspace) {
    let read = |path: &str| std::fs::read_to_string(workspace.path(path)).unwrap_or_default();
    let ran = workspace.run_halted_at(PART, "checked", || {
        workspace.write("new/uploads/b.jpg", "while it was built");
        workspace.write("new/pages/new.txt", "beside the new pages");
    });
    ran.fine().says("2 files");
    let in_place = || {
        assert_eq!(read("new/pages/index.html"), "the page");
        assert_eq!(read("new/pages/new/deep.html"), "was not there");
        assert_eq!(read("new/uploads/b.jpg"), "while it was built");
        assert_eq!(read("new/pages/new.txt"), "beside the new pages");
        assert!(!workspace.path("new/other.html").exists());
    };
    in_place();
    workspace.done("undo new");
    assert_eq!(read("new/pages/index.html"), "spoiled");
    assert!(!workspace.path("new/pages/new").exists());
    assert_eq!(read("new/uploads/b.jpg"), "while it was built");
    assert_eq!(read("new/pages/new.txt"), "beside the new pages");
    workspace.done("undo new");
    in_place();
    workspace.done("undo new --let-go --yes");
    in_place();
    assert!(!workspace.path(".fernweh-new").exists(), "nothing is left beside the site");
}

#[test]
fn a_part_of_the_files_takes_its_place_and_the_rest_is_not_touched() {
    use std::os::unix::fs::MetadataExt;
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", "");
    let picture = workspace.path("new/uploads/a.jpg");
    fs::hard_link(&picture, workspace.path("new/uploads/same.jpg")).unwrap();
    let before = fs::metadata(&picture).unwrap();
    part_comes_and_goes(&workspace);
    let after = fs::metadata(&picture).unwrap();
    assert_eq!((before.ino(), before.nlink()), (after.ino(), after.nlink()), "the same file");
    workspace.run(&format!("{PART} --in-place")).code(2).says("do not go together");
}

#[test]
fn a_part_that_is_killed_at_any_step_is_completed_or_taken_back() {
    for step in ["built", "checked", "switching", "files-in-place", "files-switched"] {
        for goes_on in [true, false] {
            let workspace = Workspace::new(PROGRAM);
            spoiled(&workspace, "new", "");
            workspace.run_killed_at(PART, step);
            let page = || std::fs::read_to_string(workspace.path("new/pages/index.html")).unwrap();
            if goes_on {
                workspace.done(PART);
                assert_eq!(page(), "the page", "{step}");
            } else if page() != "spoiled" || step == "switching" {
                workspace.done("undo new");
                assert_eq!(page(), "spoiled", "{step}");
            }
        }
    }
}

#[test]
fn a_part_never_goes_through_a_link_or_over_a_folder() {
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", "");
    workspace.write("elsewhere/keep.txt", "mine");
    std::os::unix::fs::symlink("../../elsewhere", workspace.path("new/pages/new")).unwrap();
    workspace
        .run(PART)
        .code(3)
        .says("a link or a file is where a folder belongs")
        .says("pages/new");
    assert!(!workspace.path("elsewhere/deep.html").exists());
    fs::remove_file(workspace.path("new/pages/new")).unwrap();
    fs::create_dir_all(workspace.path("new/pages/new/deep.html")).unwrap();
    workspace.run(PART).code(3).says("a folder is where a file belongs");
    assert_eq!(workspace.read("new/pages/index.html"), "spoiled");
}

#[test]
fn a_part_takes_its_place_on_other_hosts() {
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let key = format!("key = \"{}\"", host.key.display());
    spoiled(&workspace, &host.files(&workspace.path("new")), &key);
    part_comes_and_goes(&workspace);
    for facts in ["", "FactsAdvertise off\n"] {
        let workspace = Workspace::new(PROGRAM);
        workspace.write("ftp-password", FTP_LOGIN.1);
        let host = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, facts);
        let password = "password.files = { file = \"ftp-password\" }";
        spoiled(&workspace, &host.files("ftp", "/new"), password);
        part_comes_and_goes(&workspace);
    }
}

/// Unpacks over a site whose uploads are carried over, while somebody uploads.
fn uploads_are_carried_over(workspace: &Workspace) {
    let read = |path: &str| std::fs::read_to_string(workspace.path(path)).unwrap_or_default();
    workspace.write("new/uploads/gone.jpg", "soon removed");
    workspace.write("new/uploads/deep/old.jpg", "soon removed with its folder");
    let line = "unpack a.tar new --overwrite --as-is";
    let ran = workspace.run_halted_at(line, "checked", || {
        workspace.write("new/uploads/a.jpg", "another picture");
        workspace.write("new/uploads/b/new.jpg", "a new one");
        fs::remove_file(workspace.path("new/uploads/gone.jpg")).unwrap();
        fs::remove_dir_all(workspace.path("new/uploads/deep")).unwrap();
    });
    ran.fine().says("carried over");
    assert_eq!(read("new/pages/index.html"), "the page");
    assert_eq!(read("new/uploads/a.jpg"), "another picture");
    assert_eq!(read("new/uploads/b/new.jpg"), "a new one");
    assert!(!workspace.path("new/uploads/gone.jpg").exists());
    assert!(!workspace.path("new/uploads/deep").exists());
    workspace.done("undo new");
    assert_eq!(read("new/pages/index.html"), "spoiled");
    assert_eq!(read("new/uploads/b/new.jpg"), "a new one");

    // A switch that was broken off is completed with what has come since.
    workspace.run_killed_at(line, "switching");
    workspace.write("new/uploads/b/later.jpg", "after the break");
    workspace.write("new/uploads/a.jpg", "changed after the break");
    fs::remove_file(workspace.path("new/uploads/b/new.jpg")).unwrap();
    workspace.done(line);
    assert_eq!(read("new/pages/index.html"), "the page");
    assert_eq!(read("new/uploads/b/later.jpg"), "after the break");
    assert_eq!(read("new/uploads/a.jpg"), "changed after the break");
    assert!(!workspace.path("new/uploads/b/new.jpg").exists());
    workspace.done("undo new");
    // One that was made already is left as it is.
    workspace.run_killed_at(line, "files-in-place");
    workspace.write("new/uploads/b/last.jpg", "into the new state");
    workspace.done(line);
    assert_eq!(read("new/uploads/b/last.jpg"), "into the new state");
    assert_eq!(read("new/pages/index.html"), "the page");
}

const KEEP: &str = "[unpack]\nkeep = [\"uploads/**\"]";

#[test]
fn what_is_uploaded_into_what_is_carried_over_is_carried_over_too() {
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", KEEP);
    uploads_are_carried_over(&workspace);
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let key = format!("key = \"{}\"", host.key.display());
    spoiled(&workspace, &host.files(&workspace.path("new")), &format!("{key}\n{KEEP}"));
    uploads_are_carried_over(&workspace);
    let workspace = Workspace::new(PROGRAM);
    workspace.write("ftp-password", FTP_LOGIN.1);
    let host = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, "");
    let password = format!("password.files = {{ file = \"ftp-password\" }}\n{KEEP}");
    spoiled(&workspace, &host.files("ftp", "/new"), &password);
    uploads_are_carried_over(&workspace);
}

#[test]
fn a_place_that_is_a_link_stays_a_link() {
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", "");
    fs::create_dir(workspace.path("releases")).unwrap();
    fs::rename(workspace.path("new"), workspace.path("releases/7")).unwrap();
    std::os::unix::fs::symlink("releases/7", workspace.path("new")).unwrap();
    let is_link = || fs::symlink_metadata(workspace.path("new")).unwrap().is_symlink();
    let page = || workspace.read("releases/7/pages/index.html");
    workspace.done("unpack a.tar new --overwrite --as-is");
    assert_eq!((is_link(), page().as_str()), (true, "the page"));
    workspace.done("undo new");
    assert_eq!((is_link(), page().as_str()), (true, "spoiled"));
    workspace.done("undo new");
    workspace.done("undo new --let-go --yes");
    assert_eq!((is_link(), page().as_str()), (true, "the page"));
}

#[test]
fn a_folder_that_another_file_system_is_mounted_at_or_in_does_not_change_places() {
    for place in ["new", "new/uploads"] {
        let workspace = Workspace::new(PROGRAM);
        spoiled(&workspace, "new", "");
        let mounted = format!("mount -t tmpfs none {place} && echo mine > {place}/mine.txt");
        let line = "unpack a.tar new --overwrite --as-is";
        let after = format!("cat {place}/mine.txt; ls -A");
        let ran = workspace.run_on_disk(&mounted, line, &after).code(3);
        ran.says("another file system is mounted").says("nothing was changed").says("mine");
        let ran = workspace.run_on_disk(&mounted, "survey old --for new", "true").code(3);
        ran.says("failed").says("cannot be exchanged");
        let ran = workspace.run_on_disk(&mounted, PART, &format!("cat {place}/mine.txt"));
        match place {
            "new" => ran.code(3).says("nothing can be renamed into it").says("mine"),
            _ => ran.fine().says("mine"),
        };
    }
}

#[test]
fn new_files_belong_to_the_owner_of_what_they_replace() {
    use std::os::unix::fs::{MetadataExt, chown};
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", "");
    let me = fs::metadata(workspace.path("new")).unwrap().uid();
    // Only root can give files away; for everybody else all of them stay their own.
    let (keeper, editor) = if me == 0 { (4321, 4322) } else { (me, me) };
    for (path, owner) in [("new", keeper), ("new/pages", keeper), ("new/pages/index.html", editor)]
    {
        chown(workspace.path(path), Some(owner), None).unwrap();
    }
    let owner = |path: &str| fs::symlink_metadata(workspace.path(path)).unwrap().uid();
    for line in ["unpack a.tar new --overwrite --as-is", PART] {
        let ran = workspace.done(line);
        assert_eq!(ran.out.contains("you are root"), me == 0, "{}", ran.out);
        assert_eq!(owner("new"), keeper, "{line}");
        assert_eq!(owner("new/pages/index.html"), editor, "{line}");
        assert_eq!(owner("new/pages/new"), keeper, "{line}");
        assert_eq!(owner("new/pages/new/deep.html"), keeper, "{line}");
        workspace.done("undo new");
        assert_eq!(owner("new/pages/index.html"), editor, "{line}");
        workspace.done("undo new --let-go --yes");
    }
}

#[test]
fn what_came_in_while_the_new_state_was_built_is_named() {
    const OVER: &str = "unpack site.fernweh.tar new --overwrite";
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new");
        super::settled(&fixture, engine);
        let quiet = fixture.workspace.done(OVER);
        assert!(!quiet.out.contains("meanwhile"), "{engine:?}: {}", quiet.out);
        fixture.workspace.done("undo new");
        let ran = fixture.workspace.run_halted_at(&format!("{OVER} --json"), "checked", || {
            for sql in [
                "INSERT INTO gp_comments (id, article_id, author, body) VALUES (9001, 1, 'x', 'y')",
                "INSERT INTO gp_comments (id, article_id, author, body) VALUES (9002, 1, 'x', 'y')",
                "DELETE FROM gp_guestbook WHERE id = 1",
                "UPDATE gp_members SET name = 'changed meanwhile' WHERE id = 1",
            ] {
                fixture.database("new").run(sql.as_bytes()).unwrap();
            }
            fixture.workspace.write("new/htdocs/uploads/late.jpg", "late");
        });
        let report = ran.fine().json();
        let came: Vec<(String, i64, bool)> = report["came_in"]
            .as_array()
            .unwrap_or_else(|| panic!("{engine:?}: {report}"))
            .iter()
            .map(|one| {
                let table = one["table"].as_str().unwrap().to_owned();
                (table, one["records"].as_i64().unwrap(), one["changed"].as_bool().unwrap())
            })
            .collect();
        let of =
            |name: &str| came.iter().find(|(table, ..)| table == name).map(|one| (one.1, one.2));
        assert_eq!(of("gp_comments").map(|one| one.0), Some(2), "{engine:?}: {came:?}");
        assert_eq!(of("gp_guestbook").map(|one| one.0), Some(-1), "{engine:?}: {came:?}");
        assert_eq!(of("gp_members"), Some((0, true)), "{engine:?}: {came:?}");
        assert_eq!(of("gp_articles"), None, "{engine:?}: {came:?}");
        assert_eq!(report["came_in_files"], serde_json::json!(["uploads/late.jpg"]), "{engine:?}");
        fixture.workspace.done("undo new");
        let rows = fixture.database("new").ask("SELECT count(*) FROM gp_comments WHERE id > 9000");
        assert_eq!(
            rows.unwrap()[0][0].as_deref(),
            Some("2"),
            "{engine:?}: they are in the old state"
        );
    }
}

#[test]
fn what_a_server_has_forgotten_is_not_claimed() {
    const OVER: &str = "unpack site.fernweh.tar new --overwrite --json";
    let fixture = fixture(Engine::Mariadb);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    super::settled(&fixture, Engine::Mariadb);
    let ran = fixture.workspace.run_halted_at(OVER, "checked", || {
        let server = shared_server(Server::Mariadb).lock().unwrap();
        server.administrator().unwrap().run(b"FLUSH TABLES").unwrap();
    });
    let report = ran.fine().json();
    for came in report["came_in"].as_array().into_iter().flatten() {
        assert!(came["changed"].is_null() && came["records"] == 0, "{came}");
    }
}

#[test]
fn files_that_came_in_on_other_hosts_are_named_or_said_to_be_unknown() {
    let came_in = |workspace: &Workspace, known: bool| {
        for path in ["new/pages/index.html", "new/uploads/a.jpg"] {
            let file = fs::File::options().write(true).open(workspace.path(path)).unwrap();
            file.set_modified(std::time::UNIX_EPOCH + Duration::from_secs(1_700_000_000)).unwrap();
        }
        let ran = workspace.run_halted_at(
            "unpack a.tar new --overwrite --as-is --json",
            "checked",
            || {
                workspace.write("new/uploads/late.jpg", "while it was built");
            },
        );
        let report = ran.fine().json();
        match known {
            true => {
                assert_eq!(report["came_in_files"], serde_json::json!(["uploads/late.jpg"]));
                assert_eq!(report["came_in_files_count"], 1);
            }
            false => assert_eq!(report["came_in_files_unknown"], true),
        }
        workspace.done("undo new");
        assert_eq!(workspace.read("new/uploads/late.jpg"), "while it was built");
    };
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let key = format!("key = \"{}\"", host.key.display());
    spoiled(&workspace, &host.files(&workspace.path("new")), &key);
    came_in(&workspace, true);
    for (facts, known) in [("", true), ("FactsAdvertise off\n", false)] {
        let workspace = Workspace::new(PROGRAM);
        workspace.write("ftp-password", FTP_LOGIN.1);
        let host = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, facts);
        let password = "password.files = { file = \"ftp-password\" }";
        spoiled(&workspace, &host.files("ftp", "/new"), password);
        came_in(&workspace, known);
    }
}

#[test]
fn steps_before_the_switch_are_taken_and_ended_however_the_run_ends() {
    let workspace = Workspace::new(PROGRAM);
    let (place, before) = (
        "new",
        "[before]\ninto = [\"new\"]\ncommand = [\"echo begun >> ../steps; cat pages/index.html >> ../steps\"]\n\
         end-command = [\"echo ended >> ../steps; cat pages/index.html >> ../steps\"]",
    );
    spoiled(&workspace, place, before);
    workspace.write("old/pages/index.html", "the page\n");
    workspace.write("new/pages/index.html", "spoiled\n");
    workspace.done("pack old -o b.tar");
    let steps = || {
        let steps = std::fs::read_to_string(workspace.path("steps")).unwrap_or_default();
        let _ = std::fs::remove_file(workspace.path("steps"));
        steps
    };
    let line = "unpack b.tar new --overwrite --as-is";
    workspace.done(&format!("{line} --preview"));
    assert_eq!(steps(), "", "a preview takes none");
    workspace.done(line);
    assert_eq!(steps(), "begun\nspoiled\nended\nthe page\n");
    workspace.done("undo new");
    // A step that does not work: nothing is changed, and what was begun is ended.
    let text = std::fs::read_to_string(workspace.path("fernweh.toml")).unwrap();
    workspace.write(
        "fernweh.toml",
        text.replace("cat pages/index.html >> ../steps\"]\nend", "false\"]\nend"),
    );
    let ran = workspace.run(line).code(3).says("a step of [before] failed");
    ran.says("nothing was changed");
    assert_eq!(steps(), "begun\nended\nspoiled\n");
    // Killed between: whoever completes the switch ends it.
    workspace.write("fernweh.toml", &text);
    workspace.run_killed_at(line, "switching");
    assert_eq!(steps(), "begun\nspoiled\n");
    workspace.done(line).says("completed");
    assert_eq!(steps(), "ended\nthe page\n");
    // An end that does not work is said.
    workspace.write("fernweh.toml", text.replace("echo ended", "false; echo ended; false"));
    workspace.write(
        "fernweh.toml",
        text.replace("ended >> ../steps; cat pages/index.html >> ../steps", "x; false"),
    );
    workspace.done(line).says("a step at the end of [before] failed");
}

/// Waits until a file of this name below a folder has so many bytes.
fn grown(folder: &Path, name: &str, bytes: u64) -> std::path::PathBuf {
    loop {
        let entries = walkdir::WalkDir::new(folder).into_iter().flatten();
        let found = entries
            .filter(|entry| entry.file_name() == name)
            .find(|entry| entry.metadata().is_ok_and(|found| found.len() >= bytes));
        if let Some(found) = found {
            return found.into_path();
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

#[test]
fn a_large_file_is_not_joined_from_two_versions() {
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let mut film: Vec<u8> =
        (0..96_u32 << 20).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    film[50 << 20] = 1;
    workspace.write("old/film.bin", &film);
    workspace.write("new/index.html", "there");
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{}\"\nkey = \"{}\"\n",
            host.files(&workspace.path("new")),
            host.key.display()
        ),
    );
    workspace.done("pack old -o a.tar --level 1");
    let line = "unpack a.tar new --overwrite --as-is";
    // What is built lies beside the site's folder, or in it.
    let built = workspace.folder().join(".fernweh-new");
    let mut child = workspace
        .command(line)
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let partial = grown(&built, "film.bin", 20 << 20);
    child.kill().unwrap();
    child.wait().unwrap();
    if partial.starts_with(workspace.path("old"))
        || fs::metadata(&partial).unwrap().len() == film.len() as u64
    {
        panic!("the run was not broken off in the middle of the file");
    }
    // What was written came from another version of the file.
    let mut file = OpenOptions::new().write(true).open(&partial).unwrap();
    file.seek(SeekFrom::Start(3 << 20)).unwrap();
    file.write_all(b"of an earlier version").unwrap();
    drop(file);
    workspace.done(line);
    assert!(
        fs::read(workspace.path("new/film.bin")).unwrap() == film,
        "it is the one that was packed"
    );
}

#[test]
fn entries_of_a_mount_point_change_places_one_by_one() {
    let workspace = Workspace::new(PROGRAM);
    spoiled(&workspace, "new", "database = \"sqlite:new/data/site.db\"");
    workspace.write("old/top.html", "at the top");
    workspace.done("pack old -o b.tar");
    // The whole story takes place where the folder is mounted, and nowhere else.
    let setup = "cp -a new saved && mount -t tmpfs none new && cp -a saved/. new/ && mkdir new/data && \
         python3 -c \"import sqlite3; c = sqlite3.connect('new/data/site.db'); \
         c.execute('create table t (a)'); c.execute('insert into t values (7)'); c.commit()\"";
    let program = env!("CARGO_BIN_EXE_fernweh");
    let look = "cat new/pages/index.html new/pages/new/deep.html new/top.html new/uploads/a.jpg; echo; \
         ls -A new; stat -c inode-%i new/data/site.db; \
         python3 -c \"import sqlite3; print('row', *sqlite3.connect('new/data/site.db').execute('select a from t'))\"";
    let line = "unpack b.tar new --overwrite --as-is --entry-by-entry --only files";
    let killed = format!("FERNWEH_TEST_STOP_AT=switching '{program}' {line}");
    let after = format!(
        "echo =forward; {look}; '{program}' undo new; echo =back; {look}; \
         {killed}; '{program}' {line}; echo =again; {look}; '{program}' undo new --let-go --yes; \
         echo =end; ls -A new"
    );
    let ran = workspace.run_on_disk(setup, line, &after).fine();
    let part = |name: &str| {
        let from = ran.out.find(&format!("={name}\n")).unwrap_or_else(|| panic!("{}", ran.out));
        let rest = &ran.out[from + name.len() + 2..];
        rest.split("\n=").next().unwrap().to_owned()
    };
    let (forward, back, again) = (part("forward"), part("back"), part("again"));
    for new in [&forward, &again] {
        assert!(new.starts_with("the pagewas not thereat the top\n"), "{new}{}", ran.err);
        assert!(!new.contains("uploads\n"), "{new}");
    }
    assert!(back.starts_with("spoileda picture\n"), "{back}{}", ran.err);
    let inode =
        |text: &str| text.lines().find(|line| line.starts_with("inode")).unwrap().to_owned();
    assert_eq!((inode(&forward), inode(&again)), (inode(&back), inode(&back)));
    for state in [&forward, &back, &again] {
        assert!(state.contains("row (7,)"), "{state}");
    }
    let end = part("end");
    assert!(!end.contains(".fernweh"), "nothing of ours is left: {end}");
    // Without the word it is refused, and what is mounted below is never moved along.
    let nested = "mount -t tmpfs none new && mkdir new/uploads && mount -t tmpfs none new/uploads";
    workspace.run_on_disk(nested, line, "true").code(3).says("another file system is mounted");
}
