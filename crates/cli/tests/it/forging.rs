//! Archives that are changed at random, and sealed anew, unpacked with an ordinary login and
//! with the administrator's: nothing outside the site's own tables and folder is made, read or
//! changed, and memory stays bounded. `scripts/fuzz archives MINUTES` goes on for longer.

use super::archives::{Members, forge, read};
use super::fixture;
use super::intruders::with_administrator;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Engine, Fixture, database_cells, files_of, new_database};
use std::io::Write;
use std::time::{Duration, Instant};

/// A source of numbers that gives the same again (xorshift, Marsaglia 2003).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, most: usize) -> usize {
        (self.next() % most.max(1) as u64) as usize
    }

    fn one<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len())]
    }
}

/// What is put into SQL; OUTSIDE is a file, and OTHER a database, that nobody may touch.
const SNIPPETS: [&str; 40] = [
    ";",
    "'",
    "\"",
    "`",
    "[",
    "]",
    "(",
    ")",
    "--",
    "/*",
    "*/",
    "/*!",
    "/*M!",
    "\\",
    "$$",
    "$x$",
    "\n",
    ",",
    "; DROP TABLE victim;",
    "; ATTACH 'OUTSIDE' AS x;",
    "ATTACH 'OUTSIDE' AS x;\n",
    "VACUUM INTO 'OUTSIDE';\n",
    "DROP TABLE OTHER.canary;\n",
    "SELECT 1 INTO OUTFILE 'OUTSIDE';\n",
    "DELIMITER $$\nCREATE TABLE `evil` (a int); DROP TABLE victim$$\nDELIMITER ;\n",
    "SET sql_mode = 'NO_BACKSLASH_ESCAPES';\n",
    "SET sql_mode = 'ANSI_QUOTES';\n",
    "SET standard_conforming_strings = off;\n",
    " DATA DIRECTORY='/tmp'",
    "COPY (SELECT 1) TO 'OUTSIDE';\n",
    "CREATE TABLE t AS SELECT pg_read_file('/etc/passwd');\n",
    "CREATE TRIGGER g AFTER INSERT ON gp_log BEGIN SELECT 1; END -- x\n; ATTACH 'OUTSIDE' AS x;\n",
    "DELIMITER ;;\nCREATE PROCEDURE p() BEGIN DROP TABLE victim; END;;\nDELIMITER ;\n",
    "DELIMITER ;;\nCREATE PROCEDURE p() BEGIN SELECT 1; END; DROP TABLE victim; BEGIN SELECT 2; END;;\nDELIMITER ;\n",
    "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'DROP TABLE victim; SELECT 1';\n",
    "CREATE EXTENSION file_fdw;\n",
    "CREATE VIRTUAL TABLE v USING fts5(a);\n",
    "PRAGMA writable_schema = ON;\n",
    "\0",
    "\u{fffd}",
];

const NAMES: [&str; 8] =
    ["../evil", "/tmp/evil", "a/../../evil", "..", "", "evil\0x", "gp_log", "victim"];

/// Changes bytes at random.
fn shake(random: &mut Random, bytes: &mut Vec<u8>, outside: &str, other: &str) {
    for _ in 0..=random.below(4) {
        let at = random.below(bytes.len() + 1);
        let to = (at + random.below(200)).min(bytes.len());
        match random.below(6) {
            0 | 1 => {
                let text =
                    random.one(&SNIPPETS).replace("OUTSIDE", outside).replace("OTHER", other);
                bytes.splice(at..at, text.into_bytes());
            }
            2 => drop(bytes.drain(at..to)),
            3 => {
                let again = bytes[at..to].to_vec();
                bytes.splice(at..at, again);
            }
            4 if at < bytes.len() => bytes[at] ^= 1 << random.below(8),
            _ => {
                // Behind the end of a statement most is possible.
                let text =
                    random.one(&SNIPPETS).replace("OUTSIDE", outside).replace("OTHER", other);
                let ends: Vec<usize> = memchr::memmem::find_iter(bytes, b";\n").collect();
                if !ends.is_empty() {
                    let at = *random.one(&ends) + 2;
                    bytes.splice(at..at, text.into_bytes());
                }
            }
        }
    }
}

/// Changes one value of a document at random.
fn shake_document(random: &mut Random, value: &mut serde_json::Value) {
    match value {
        serde_json::Value::Object(map) if !map.is_empty() => {
            let keys: Vec<String> = map.keys().cloned().collect();
            let key = random.one(&keys).clone();
            match random.below(8) {
                0 => drop(map.remove(&key)),
                1 => drop(map.insert(key, u64::MAX.into())),
                _ => shake_document(random, &mut map[&key]),
            }
        }
        serde_json::Value::Array(all) if !all.is_empty() => {
            let at = random.below(all.len());
            match random.below(6) {
                0 => drop(all.remove(at)),
                1 => all.push(all[at].clone()),
                _ => shake_document(random, &mut all[at]),
            }
        }
        other => {
            *other = match random.below(4) {
                0 => (*random.one(&NAMES)).into(),
                1 => u64::MAX.into(),
                2 => serde_json::Value::Null,
                _ => "x".repeat(random.below(5000)).into(),
            };
        }
    }
}

/// Changes headers of a tar at random; their sums fit again.
fn shake_headers(random: &mut Random, tar: &mut [u8]) {
    for _ in 0..=random.below(3) {
        let at = random.below(tar.len() / 512) * 512;
        let Some(block) = tar.get_mut(at..at + 512) else { return };
        if &block[257..262] != b"ustar" {
            continue;
        }
        match random.below(4) {
            0 => {
                let name = random.one(&NAMES);
                block[..100].fill(0);
                block[..name.len()].copy_from_slice(name.as_bytes());
            }
            1 => block[156] = *random.one(b"0123456789gxLKSVM\0"),
            2 => {
                let size =
                    format!("{:011o}\0", random.next() >> random.below(64) & 0o77_777_777_777);
                block[124..136].copy_from_slice(size.as_bytes());
            }
            _ => {
                block[156] = b'2';
                block[157..257].fill(0);
                block[157..162].copy_from_slice(b"/etc/");
            }
        }
        block[148..156].fill(b' ');
        let sum: u32 = block.iter().map(|byte| u32::from(*byte)).sum();
        block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    }
}

/// One forged archive out of a real one.
fn forged(random: &mut Random, members: &Members, outside: &str, other: &str) -> Members {
    let mut members = members.clone();
    for _ in 0..=random.below(2) {
        let at = random.below(members.len());
        let (name, bytes) = &mut members[at];
        if name.ends_with(".json") {
            let mut document: serde_json::Value = serde_json::from_slice(bytes).unwrap_or_default();
            shake_document(random, &mut document);
            *bytes = serde_json::to_vec(&document).unwrap_or_default();
            continue;
        }
        let Ok(mut plain) = zstd::decode_all(&bytes[..]) else { continue };
        match name.starts_with("files/0") && random.below(4) > 0 {
            true => shake_headers(random, &mut plain),
            false => shake(random, &mut plain, outside, other),
        }
        let mut encoder = zstd::Encoder::new(Vec::new(), 1).expect("an encoder");
        encoder.write_all(&plain).expect("memory");
        *bytes = encoder.finish().expect("memory");
    }
    members
}

/// A site that is attacked, and what must stay as it is.
struct Target {
    fixture: Fixture,
    members: Members,
    other: Option<Place>,
    before: String,
}

impl Target {
    fn new(engine: Engine) -> Self {
        Self::of(fixture(engine), engine)
    }

    /// With the login of the server's administrator; the archive holds a body.
    fn of_administrator(engine: Engine) -> Self {
        let fixture = fixture(engine);
        fixture.database("old").run(b"CREATE VIEW gp_shown AS SELECT 1 AS a").expect("a view");
        with_administrator(&fixture, engine.server().expect("a server"));
        Self::of(fixture, engine)
    }

    fn of(fixture: Fixture, engine: Engine) -> Self {
        fixture.pack();
        let members = read(&fixture.workspace.path("site.fernweh.tar"));
        // Of another working folder: this one does not know the archive.
        std::fs::remove_dir_all(fixture.workspace.path(".fernweh")).expect("records");
        let mut new = fixture.database("new");
        new.run(b"CREATE TABLE victim (a int)").expect("a table");
        new.run(b"INSERT INTO victim VALUES (1)").expect("a row");
        let other = engine.server().map(|kind: Server| {
            let place = new_database(kind, "other");
            let mut other = Database::open(&place).expect("a database");
            other.run(b"CREATE TABLE canary (a int)").expect("a table");
            other.run(b"INSERT INTO canary VALUES (7)").expect("a row");
            place
        });
        let mut target = Self { fixture, members, other, before: String::new() };
        target.before = target.untouched();
        target
    }

    /// Everything that is not the new site's, as text.
    fn untouched(&self) -> String {
        let workspace = &self.fixture.workspace;
        let mut names: Vec<String> = std::fs::read_dir(workspace.folder())
            .expect("the folder")
            .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
            .filter(|name| {
                !["forged.tar", ".fernweh", "new", "most-memory"].contains(&name.as_str())
            })
            .collect();
        names.sort();
        let old = files_of(&self.fixture.root("old"));
        let others = self.other.as_ref().map(database_cells);
        let victim = self.fixture.database("new").ask("SELECT a FROM victim").ok();
        let evil = ["/tmp/evil", "/evil"].map(|path| std::path::Path::new(path).exists());
        format!("{names:?}\n{old:?}\n{others:?}\n{victim:?}\n{evil:?}")
    }

    fn attack(&self, random: &mut Random) {
        let workspace = &self.fixture.workspace;
        let outside = workspace.path("x.php").display().to_string();
        let other = match &self.other {
            Some(Place::Mariadb { name, .. } | Place::Postgres { name, .. }) => name.as_str(),
            _ => "other",
        };
        let members = forged(random, &self.members, &outside, other);
        forge(&workspace.path("forged.tar"), members);
        let more = if random.below(4) == 0 { " --preview" } else { "" };
        let (ran, memory) =
            workspace.run_measured(&format!("unpack forged.tar new --overwrite{more}"));
        let told = format!("{}\n{}", ran.out, ran.err);
        let keep = || {
            let kept = std::env::temp_dir().join("fernweh-forged.tar");
            let _ = std::fs::copy(workspace.path("forged.tar"), &kept);
            kept.display().to_string()
        };
        let ended = matches!(ran.code, Some(0..=5)) && !told.contains("panicked");
        assert!(ended, "{:?} with {}\n{told}", ran.code, keep());
        assert!(memory < 200 << 20, "{} MB with {}\n{told}", memory >> 20, keep());
        let after = self.untouched();
        assert!(after == self.before, "changed by {}\n{told}\n{}\n{after}", keep(), self.before);
    }
}

/// Rounds where no time is said.
const ROUNDS: u32 = 45;

#[test]
fn forged_archives_touch_nothing_but_the_site() {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let minutes = number("FUZZ_MINUTES").map(|minutes| Duration::from_secs(60 * minutes));
    let mut random = Random(number("FUZZ_SEED").unwrap_or(0x9E37_79B9_7F4A_7C15) | 1);
    let own = [Engine::Sqlite, Engine::Mariadb, Engine::Postgres].map(Target::new);
    let administrators = [Engine::Mariadb, Engine::Postgres].map(Target::of_administrator);
    let targets: Vec<Target> = own.into_iter().chain(administrators).collect();
    let (began, mut rounds) = (Instant::now(), 0);
    while minutes.map_or(rounds < ROUNDS, |minutes| began.elapsed() < minutes) {
        targets[rounds as usize % targets.len()].attack(&mut random);
        rounds += 1;
    }
    println!("{rounds} forged archives");
}
