//! `move` of a large site between two hosts against its single steps, typed one after the
//! other: files over SFTP, the database through SSH.
//!
//! `cargo bench -p fernweh --bench moving -- [ARTICLES] [mariadb|postgres|sqlite]`

use fernweh_testkit::{Engine, Fixture, SshHost};
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

fn timed(fixture: &Fixture, line: &str) -> f64 {
    let began = Instant::now();
    fixture.workspace.done(line);
    began.elapsed().as_secs_f64()
}

fn main() {
    let words: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let articles = words.first().and_then(|word| word.parse().ok()).unwrap_or(200_000);
    let engine = match words.get(1).map(String::as_str) {
        Some("postgres") => Engine::Postgres,
        Some("sqlite") => Engine::Sqlite,
        _ => Engine::Mariadb,
    };
    let fixture = Fixture::of_size(PROGRAM, engine, articles);
    let ssh = SshHost::start(&fixture.workspace.path("ssh-host"), "");
    fixture.workspace.write(".ssh/known_hosts", &ssh.known);
    for site in ["old", "new"] {
        let through = match engine.server() {
            Some(_) => format!("through = \"{}\"", ssh.address()),
            None => String::new(),
        };
        let more = format!("key = \"{}\"\n{through}", ssh.key.display());
        fixture.reach_files(site, &ssh.files(&fixture.root(site)), &more);
    }
    if engine == Engine::Sqlite {
        let text = fixture.workspace.read("fernweh.toml");
        let text = text.replace("sqlite:old/htdocs/", "sqlite:");
        fixture.workspace.write("fernweh.toml", text.replace("sqlite:new/htdocs/", "sqlite:"));
    }
    println!("{engine:?}, {articles} articles");
    for round in 1..=3 {
        let survey = timed(&fixture, "survey old --for new");
        let pack = timed(&fixture, &format!("pack old -o {round}.fernweh.tar"));
        let unpack = timed(&fixture, &format!("unpack {round}.fernweh.tar new"));
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        let all = timed(&fixture, "move old new --yes --no-scan");
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        let slowest = survey.max(pack).max(unpack);
        println!(
            "survey --for {survey:.2} s, pack {pack:.2} s, unpack {unpack:.2} s; move {all:.2} s: \
             {:.2} times the slowest step",
            all / slowest
        );
    }
}
