//! `move` of a large site between two hosts against its single steps, typed one after the
//! other: files over SFTP, the database through SSH.
//!
//! `cargo bench -p fernweh --bench moving -- [ARTICLES] [mariadb|postgres|sqlite]`

use fernweh_testkit::{Engine, SshHost, Stage};
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

fn timed(stage: &Stage, line: &str) -> f64 {
    let began = Instant::now();
    stage.scene.done(line);
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
    let stage = Stage::of_size(PROGRAM, engine, articles);
    let ssh = SshHost::start(&stage.scene.path("ssh-host"), "");
    stage.scene.write(".ssh/known_hosts", &ssh.known);
    for site in ["old", "new"] {
        let through = match engine.server() {
            Some(_) => format!("through = \"{}\"", ssh.address()),
            None => String::new(),
        };
        let more = format!("key = \"{}\"\n{through}", ssh.key.display());
        stage.reach_files(site, &ssh.files(&stage.root(site)), &more);
    }
    if engine == Engine::Sqlite {
        let text = stage.scene.read("fernweh.toml");
        let text = text.replace("sqlite:old/htdocs/", "sqlite:");
        stage.scene.write("fernweh.toml", text.replace("sqlite:new/htdocs/", "sqlite:"));
    }
    println!("{engine:?}, {articles} articles");
    for round in 1..=3 {
        let survey = timed(&stage, "survey old --for new");
        let pack = timed(&stage, &format!("pack old -o {round}.fernweh.tar"));
        let unpack = timed(&stage, &format!("unpack {round}.fernweh.tar new"));
        stage.scene.done("undo new");
        stage.scene.done("undo new --let-go");
        let all = timed(&stage, "move old new --yes --no-scan");
        stage.scene.done("undo new");
        stage.scene.done("undo new --let-go");
        let slowest = survey.max(pack).max(unpack);
        println!(
            "survey --for {survey:.2} s, pack {pack:.2} s, unpack {unpack:.2} s; move {all:.2} s: \
             {:.2} times the slowest step",
            all / slowest
        );
    }
}
