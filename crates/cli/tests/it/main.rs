//! The built program on the sample site: files in temporary folders, real servers.

mod archives;
mod at_once;
mod certificates;
mod chosen;
mod closing;
mod comparing;
mod configuration;
mod crashes;
mod disks;
mod documents;
mod exit_codes;
mod first_hour;
mod fitting;
mod foreseen;
mod forging;
mod forms;
mod ftp;
mod going_on;
mod hidden;
mod hostile;
mod hostile_web;
mod hosts;
mod intruders;
mod journey;
mod json_documents;
mod kept;
mod keys;
mod large_objects;
mod live;
mod living;
mod logins;
mod messages;
mod moves;
mod mysql;
mod neighbours;
mod open_databases;
mod pages;
mod parts;
mod php;
mod programs;
mod properties;
mod ready;
mod redirects;
mod remote_sqlite;
mod reports;
mod scanning;
mod scripts;
mod servers;
mod shells;
mod silence;
mod terminals;
mod tracing;
mod types;
mod uploads;
mod writers;
mod zoo;

use fernweh_testkit::{Engine, Fixture};

/// The program alone, and all its commands.
const COMMANDS: [&str; 20] = [
    "",
    "init",
    "sites",
    "survey",
    "pack",
    "show",
    "unpack",
    "rewrite",
    "scan",
    "trace",
    "compare",
    "move",
    "ready",
    "redirects",
    "close",
    "undo",
    "runs",
    "tell",
    "demo",
    "completions",
];

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

fn fixture(engine: Engine) -> Fixture {
    Fixture::build(PROGRAM, engine)
}

/// The first value of a question to the new site's database.
fn one(fixture: &Fixture, sql: &str) -> String {
    let rows = fixture.database("new").ask(sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    rows[0][0].clone().unwrap_or_else(|| "NULL".into())
}

/// Waits until MariaDB can tell what is written now from what was written before: it notes whole
/// seconds.
fn settled(fixture: &Fixture, engine: Engine) {
    let question = "SELECT max(update_time) < now() - INTERVAL 3 SECOND \
                    FROM information_schema.tables WHERE table_schema = database()";
    while engine == Engine::Mariadb && one(fixture, question) != "1" {
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
}
