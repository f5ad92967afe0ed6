//! A SQLite database that is a file of another host: read as a copy of one moment, replaced
//! beside the old one or with the files.

use super::fixture;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::site::DATABASE_FILE;
use fernweh_testkit::{Engine, FTP_LOGIN, Fixture, FtpHost, SshHost, database_cells};
use std::sync::atomic::{AtomicBool, Ordering};

/// A fixture whose sites are reached over SFTP or FTP, and the hosts, which must live on.
struct Far {
    fixture: Fixture,
    _ssh: SshHost,
    _ftp: FtpHost,
}

impl Far {
    fn new(engine: Engine, old: &str, new: &str) -> Self {
        let fixture = fixture(engine);
        let ssh = SshHost::start(&fixture.workspace.path("ssh-host"), "");
        fixture.workspace.write(".ssh/known_hosts", &ssh.known);
        fixture.workspace.write("ftp-password", FTP_LOGIN.1);
        let ftp = FtpHost::start(
            &fixture.workspace.path("ftp-host"),
            fixture.workspace.folder(),
            None,
            "",
        );
        for (site, way) in [("old", old), ("new", new)] {
            match way {
                "sftp" => {
                    let key = format!("key = \"{}\"", ssh.key.display());
                    fixture.reach_files(site, &ssh.files(&fixture.root(site)), &key);
                }
                "ftp" => {
                    let place = ftp.files("ftp", &format!("/{site}/htdocs"));
                    let password = "password.files = { file = \"ftp-password\" }";
                    fixture.reach_files(site, &place, password);
                }
                _ => continue,
            }
            // The place of the file is meant from the site's folder on.
            let text = fixture.workspace.read("fernweh.toml");
            let text = text.replace(&format!("sqlite:{site}/htdocs/"), "sqlite:");
            fixture.workspace.write("fernweh.toml", text);
        }
        Self { fixture, _ssh: ssh, _ftp: ftp }
    }

    fn left_behind(&self) -> Vec<String> {
        let walk = std::process::Command::new("find")
            .args([
                self.fixture.workspace.folder().as_os_str(),
                "-name".as_ref(),
                "*fernweh-*".as_ref(),
            ])
            .output()
            .unwrap();
        let found = String::from_utf8_lossy(&walk.stdout).into_owned();
        found.lines().filter(|line| !line.contains("/.fernweh/")).map(str::to_owned).collect()
    }
}

fn ask(place: &Place, sql: &str) -> String {
    Database::open(place).unwrap().ask(sql).unwrap()[0][0].clone().unwrap()
}

#[test]
fn a_sqlite_site_moves_between_hosts_with_its_database_among_the_files() {
    let here = Far::new(Engine::Sqlite, "local", "local");
    here.fixture.workspace.done("move old new --yes --no-scan");
    let expected = database_cells(&here.fixture.new);
    for (old, new) in [("sftp", "sftp"), ("ftp", "sftp"), ("sftp", "ftp"), ("local", "ftp")] {
        let far = Far::new(Engine::Sqlite, old, new);
        far.fixture.workspace.done("survey old").says("SQLite").says(DATABASE_FILE);
        far.fixture.workspace.done("move old new --yes --no-scan").says("every part is in place");
        assert!(expected == database_cells(&far.fixture.new), "{old} to {new}");

        // Once more, over what is there; and back.
        let sql = b"UPDATE gp_articles SET title = 'written here'";
        far.fixture.database("new").run(sql).unwrap();
        let written = database_cells(&far.fixture.new);
        let ran = far.fixture.workspace.run("survey old --for new").fine();
        ran.says("nobody can lock it").says("stop the site there");
        let ran = far.fixture.workspace.done("move old new --yes --no-scan --overwrite");
        ran.says("is a file of").says("stopped");
        assert!(expected == database_cells(&far.fixture.new), "{old} to {new} again");
        far.fixture.workspace.done("undo new");
        assert!(written == database_cells(&far.fixture.new), "{old} to {new} taken back");
        far.fixture.workspace.done("undo new --let-go --yes");
        assert!(far.left_behind().is_empty(), "{:?}", far.left_behind());
    }
}

#[test]
fn a_sqlite_file_outside_the_folder_is_switched_by_itself_across_kills() {
    let far = Far::new(Engine::SqliteOutside, "sftp", "sftp");
    let Far { fixture, .. } = &far;
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture.workspace.done("undo new --let-go --yes");
    let first = database_cells(&fixture.new);
    fixture.database("new").run(b"DELETE FROM gp_comments").unwrap();
    fixture.database("new").run(b"CREATE TABLE guests (name text)").unwrap();
    let second = database_cells(&fixture.new);
    let line = format!("unpack {archive} new --overwrite");
    for step in ["made", "secured", "built", "checked", "switching", "database-in-place"] {
        fixture.workspace.run_killed_at(&line, step);
        fixture.workspace.done(&line);
        let names = "SELECT count(*) FROM gp_comments";
        assert_ne!(ask(&fixture.new, names), "0", "killed at {step}");
        assert_eq!(ask(&fixture.new, "SELECT count(*) FROM guests"), "0", "extras stay: {step}");
        fixture.workspace.done("undo new").says("undone");
        assert!(second == database_cells(&fixture.new), "killed at {step}, then undone");
        fixture.workspace.run_killed_at("undo new", "switching");
        fixture.workspace.done("undo new");
        assert!(second == database_cells(&fixture.new), "an undo that was killed: {step}");
        fixture.workspace.done("undo new --let-go --yes");
    }
    assert!(first != second);
    assert!(far.left_behind().is_empty(), "{:?}", far.left_behind());
}

#[test]
fn what_only_the_log_of_a_sqlite_file_holds_travels_along() {
    let far = Far::new(Engine::Sqlite, "sftp", "local");
    let Place::Sqlite(path) = &far.fixture.old else { panic!("a file") };
    let site = rusqlite::Connection::open(path).unwrap();
    site.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(())).unwrap();
    site.execute_batch(
        "PRAGMA wal_autocheckpoint = 0; CREATE TABLE late (n); INSERT INTO late VALUES (7)",
    )
    .unwrap();
    let archive = far.fixture.pack();
    drop(site);
    far.fixture.workspace.done(&format!("unpack {archive} new --as-is"));
    assert_eq!(ask(&far.fixture.new, "SELECT n FROM late"), "7");
}

/// Writes to the old site's database until it is told to stop.
fn while_it_writes(fixture: &Fixture, work: impl FnOnce()) {
    let Place::Sqlite(path) = &fixture.old else { panic!("a file") };
    let site = rusqlite::Connection::open(path).unwrap();
    site.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    site.execute_batch("CREATE TABLE first (n); CREATE TABLE second (n)").unwrap();
    let stop = &AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            for n in 0_u64.. {
                if stop.load(Ordering::Relaxed) {
                    break;
                }
                let both = format!(
                    "BEGIN IMMEDIATE; INSERT INTO first VALUES ({n}); INSERT INTO second VALUES ({n}); COMMIT"
                );
                site.execute_batch(&both).unwrap();
            }
        });
        // Set even if the work fails: the writer must end.
        let _end = Stop(stop);
        work();
    });
}

struct Stop<'a>(&'a AtomicBool);

impl Drop for Stop<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

#[test]
fn a_busy_sqlite_file_is_copied_by_its_host_or_the_site_must_stop() {
    let far = Far::new(Engine::Sqlite, "sftp", "local");
    while_it_writes(&far.fixture, || {
        far.fixture.workspace.done("pack old -o busy.fernweh.tar");
    });
    far.fixture.workspace.done("unpack busy.fernweh.tar new --as-is");
    let both = "SELECT (SELECT count(*) FROM first) = (SELECT count(*) FROM second)";
    assert_eq!(ask(&far.fixture.new, both), "1", "a copy of one moment");

    let far = Far::new(Engine::Sqlite, "ftp", "local");
    while_it_writes(&far.fixture, || {
        let ran = far.fixture.workspace.run("pack old -o busy.fernweh.tar").code(3);
        ran.says("cannot be copied while the site writes").says("stop the site for a moment");
    });
    far.fixture.workspace.done("pack old -o quiet.fernweh.tar");
}

#[test]
fn one_half_of_a_remote_sqlite_site_leaves_the_other_alone() {
    let far = Far::new(Engine::Sqlite, "local", "sftp");
    let fixture = &far.fixture;
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture.database("new").run(b"UPDATE gp_articles SET title = 'written here'").unwrap();
    let written = database_cells(&fixture.new);
    fixture.workspace.done(&format!("unpack {archive} new --only files --overwrite"));
    assert!(written == database_cells(&fixture.new), "the database stays");
    fixture.workspace.done("undo new --let-go --yes");

    let page = fixture.root("new").join("index.php");
    std::fs::write(&page, "changed here").unwrap();
    fixture.workspace.done(&format!("unpack {archive} new --only database --overwrite"));
    assert!(written != database_cells(&fixture.new));
    assert_eq!(std::fs::read_to_string(&page).unwrap(), "changed here");
    fixture.workspace.done("undo new");
    assert!(written == database_cells(&fixture.new));
    fixture.workspace.done("undo new --let-go --yes");
    assert!(far.left_behind().is_empty(), "{:?}", far.left_behind());
}

#[test]
fn a_remote_sqlite_file_is_rewritten_unless_the_site_has_it_open() {
    let far = Far::new(Engine::Sqlite, "sftp", "local");
    let fixture = &far.fixture;
    let before = database_cells(&fixture.old);
    let line = "rewrite old --from http://glimmerpoint.example --to http://dome.example";
    fixture.workspace.done(line).says("nothing was changed");
    assert!(before == database_cells(&fixture.old), "a preview");
    fixture.workspace.done(&format!("{line} --only database --apply"));
    let new = "SELECT count(*) FROM gp_articles WHERE body LIKE '%http://dome.example%'";
    assert_ne!(ask(&fixture.old, new), "0");
    fixture.workspace.done("undo old");
    assert!(before == database_cells(&fixture.old), "taken back");

    let Place::Sqlite(path) = &fixture.old else { panic!("a file") };
    let site = rusqlite::Connection::open(path).unwrap();
    site.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(())).unwrap();
    site.execute_batch("CREATE TABLE open_now (n)").unwrap();
    let ran = fixture.workspace.run(&format!("{line} --only database --apply")).code(5);
    ran.says("has it open").says("stop the site for a moment");
    drop(site);
    fixture.workspace.done("undo old");
    assert_eq!(ask(&fixture.old, new), "0");
}
