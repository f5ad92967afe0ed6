//! Somebody writes all the time, through a connection that stays open: whatever was acknowledged is
//! in the live site or in a kept state.
//!
//! `scripts/soak` runs more rounds, with other seeds.

use super::fixture;
use fernweh_demo::database::{Database, Place};
use fernweh_testkit::{Engine, Fixture};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

const ENGINES: [Engine; 4] =
    [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres];

/// The numbers of what was written, by where.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Written {
    /// Records of a table that is replaced.
    comments: BTreeSet<u64>,
    /// Records of a table that the archive does not hold.
    visitors: BTreeSet<u64>,
    /// Files in a folder that is carried over.
    files: BTreeSet<u64>,
}

impl Written {
    fn with(mut self, other: &Written) -> Written {
        self.comments.extend(&other.comments);
        self.visitors.extend(&other.visitors);
        self.files.extend(&other.files);
        self
    }
}

/// Writes until it is told to stop; gives what was acknowledged.
fn write_on(place: &Place, root: &Path, first: u64, stop: &AtomicBool) -> Written {
    let mut database = Database::open(place).unwrap();
    let mut written = Written::default();
    for number in first.. {
        if stop.load(Ordering::Relaxed) {
            break;
        }
        let comment = format!(
            "INSERT INTO gp_comments (id, article_id, author, body) VALUES ({number}, 1, 'v', 'v')"
        );
        if database.run(comment.as_bytes()).is_ok() {
            written.comments.insert(number);
        }
        let visitor = format!("INSERT INTO visitors VALUES ({number})");
        if database.run(visitor.as_bytes()).is_ok() {
            written.visitors.insert(number);
        }
        // What is carried over must hold still for a moment; an upload every other moment does.
        let file = root.join(format!("uploads/{number}.txt"));
        if number % 100 == 1 && std::fs::write(file, "v").is_ok() {
            written.files.insert(number);
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    written
}

/// What is in the live site.
fn live(fixture: &Fixture) -> Written {
    let mut database = fixture.database("new");
    let mut numbers = |sql: &str| -> BTreeSet<u64> {
        let rows = database.ask(sql).unwrap_or_default();
        rows.into_iter().filter_map(|row| row[0].as_ref()?.parse().ok()).collect()
    };
    let comments = numbers("SELECT id FROM gp_comments WHERE id > 100000");
    let visitors = numbers("SELECT id FROM visitors");
    let files = std::fs::read_dir(fixture.root("new").join("uploads")).into_iter().flatten();
    let files = files
        .flatten()
        .filter_map(|entry| entry.file_name().to_str()?.strip_suffix(".txt")?.parse().ok());
    Written { comments, visitors, files: files.collect() }
}

/// Numbers that a seed gives (xorshift64).
struct Random(u64);

impl Random {
    fn below(&mut self, most: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % most
    }
}

fn setting(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// The new site stands, with a table and a folder of its own.
fn prepared(engine: Engine) -> Fixture {
    let fixture = fixture(engine);
    fixture.configure("[unpack]\nkeep = [\"uploads/**\"]\nkeep-states = 0\n");
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    fixture.workspace.done("undo new --let-go --yes");
    fixture.database("new").run(b"CREATE TABLE visitors (id int PRIMARY KEY)").unwrap();
    std::fs::create_dir_all(fixture.root("new").join("uploads")).unwrap();
    fixture
}

/// Runs a command while somebody writes; where `killed` says so it is killed, and typed again
/// until it is done.
fn run(fixture: &Fixture, line: &str, killed: Option<Duration>) {
    if let Some(moment) = killed {
        let mut command = fixture.workspace.command(line);
        let quiet = std::process::Stdio::null;
        let mut child = command.stdout(quiet()).stderr(quiet()).spawn().unwrap();
        std::thread::sleep(moment);
        let _ = child.kill();
        child.wait().unwrap();
    }
    let mut said = String::new();
    for _ in 0..20 {
        let ran = fixture.workspace.run(line);
        match ran.code {
            Some(0 | 1) => return,
            // What is carried over did not hold still, or somebody held a table.
            Some(3 | 5) => said.push_str(&ran.err),
            _ => panic!("{line}: {}{}", ran.out, ran.err),
        }
    }
    panic!(
        "{line}: not done after twenty times
{said}"
    );
}

/// The command runs while somebody writes; gives what was acknowledged.
fn meanwhile(fixture: &Fixture, first: u64, work: impl FnOnce()) -> Written {
    let (stop, root): (AtomicBool, PathBuf) = (AtomicBool::new(false), fixture.root("new"));
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| write_on(&fixture.new, &root, first, &stop));
        std::thread::sleep(Duration::from_millis(20));
        let worked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
        std::thread::sleep(Duration::from_millis(20));
        stop.store(true, Ordering::Relaxed);
        let written = writer.join().unwrap();
        worked.unwrap_or_else(|reason| std::panic::resume_unwind(reason));
        written
    })
}

/// What is in the live site and in every state that is kept.
fn everywhere(fixture: &Fixture) -> Written {
    let mut all = live(fixture);
    loop {
        let runs = fixture.workspace.changes();
        let stands = runs.as_array().unwrap().iter().any(|run| run["state"] == "done");
        if !stands {
            return all;
        }
        fixture.workspace.done("undo new");
        all = all.with(&live(fixture));
    }
}

fn assert_there(written: &BTreeSet<u64>, there: &BTreeSet<u64>, what: &str) {
    let lost: Vec<_> = written.difference(there).collect();
    assert!(lost.is_empty(), "{what}: {} of {} are lost: {lost:?}", lost.len(), written.len());
}

#[test]
fn what_is_acknowledged_while_a_site_is_replaced_is_live_or_kept() {
    let (rounds, mut random) = (setting("SOAK_ROUNDS", 2), Random(setting("SOAK_SEED", 1609)));
    for engine in ENGINES {
        let fixture = prepared(engine);
        for round in 0..rounds {
            let first = 100_001 + round * 100_000;
            let killed = (round % 2 == 1).then(|| Duration::from_millis(random.below(400)));
            let place = format!("{engine:?}, round {round}, killed after {killed:?}");
            let line = "unpack site.fernweh.tar new --overwrite";
            let written = meanwhile(&fixture, first, || run(&fixture, line, killed));
            assert!(written.visitors.len() > 3, "{place}: {written:?}");
            assert_there(&written.visitors, &live(&fixture).visitors, &place);
            let all = everywhere(&fixture);
            assert_there(&written.comments, &all.comments, &format!("{place}, comments"));
            assert_there(&written.files, &all.files, &format!("{place}, files"));
            assert_there(&written.visitors, &live(&fixture).visitors, &format!("{place}, undone"));
            fixture.workspace.done("undo new --let-go --yes");
        }
    }
}

#[test]
fn what_is_acknowledged_while_a_part_is_replaced_or_rewritten_is_live() {
    let (rounds, mut random) = (setting("SOAK_ROUNDS", 2), Random(setting("SOAK_SEED", 1610)));
    for engine in ENGINES {
        let fixture = prepared(engine);
        for (way, line) in [
            ("part", "unpack site.fernweh.tar new --tables gp_nights --overwrite"),
            (
                "rewriting",
                "rewrite new --from https://www.glimmer-point.example --to https://third.example --apply",
            ),
        ] {
            for round in 0..rounds {
                let first = 100_001 + round * 100_000 + if way == "part" { 0 } else { 50_000 };
                let killed = (round % 2 == 1).then(|| Duration::from_millis(random.below(300)));
                let place = format!("{engine:?}, {way}, round {round}, killed after {killed:?}");
                let written = meanwhile(&fixture, first, || {
                    run(&fixture, line, killed);
                    run(&fixture, "undo new", None);
                });
                assert!(written.comments.len() > 3, "{place}: {written:?}");
                let there = live(&fixture);
                assert_there(&written.comments, &there.comments, &format!("{place}, comments"));
                assert_there(&written.visitors, &there.visitors, &format!("{place}, visitors"));
                assert_there(&written.files, &there.files, &format!("{place}, files"));
                fixture.workspace.done("undo new --let-go --yes");
            }
        }
    }
}

#[test]
fn an_archive_of_a_site_that_is_written_to_is_of_one_moment() {
    for engine in ENGINES {
        let fixture = prepared(engine);
        let fixture = &fixture;
        let mut packed_from = 0;
        let written = meanwhile(fixture, 100_001, || {
            packed_from = live(fixture).comments.len();
            fixture.workspace.done("pack new -o moment.fernweh.tar");
        });
        fixture.workspace.done("unpack moment.fernweh.tar new --as-is --overwrite --only database");
        let there = live(fixture);
        let last = *there.comments.last().unwrap_or(&100_000);
        let all: BTreeSet<u64> = written.comments.range(..=last).copied().collect();
        assert_eq!(
            there.comments, all,
            "{engine:?}: every record up to the moment, and none behind"
        );
        assert!(there.comments.len() >= packed_from, "{engine:?}");
        let visitors = there.visitors.last().copied().unwrap_or(100_000);
        assert!(last - visitors <= 1, "{engine:?}: tables are of one moment: {last}, {visitors}");
    }
}
