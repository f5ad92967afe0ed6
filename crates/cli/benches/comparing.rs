//! Two large databases compared, against the bare driver that reads the rows of both sides at once and
//! throws them away.
//!
//! `cargo bench -p fernweh --bench comparing -- [ARTICLES] [sqlite|mariadb|postgres]`

use fernweh_testkit::{Engine, Fixture, read_and_throw_away};
use std::time::Instant;

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

fn main() {
    let words: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let articles = words.first().and_then(|word| word.parse().ok()).unwrap_or(200_000);
    let engines = match words.get(1).map(String::as_str) {
        Some("sqlite") => vec![Engine::Sqlite],
        Some("mariadb") => vec![Engine::Mariadb],
        Some("postgres") => vec![Engine::Postgres],
        _ => vec![Engine::Mariadb, Engine::Postgres, Engine::Sqlite],
    };
    engines.into_iter().for_each(|engine| measure(engine, articles));
}

fn measure(engine: Engine, articles: u64) {
    let fixture = Fixture::of_size(PROGRAM, engine, articles);
    fixture.workspace.done("pack old -o site.fernweh.tar");
    fixture.workspace.done("unpack site.fernweh.tar new");
    for round in 1..=3 {
        let began = Instant::now();
        let rows: u64 = std::thread::scope(|scope| {
            let sides = [&fixture.old, &fixture.new];
            let reading = sides.map(|side| scope.spawn(|| read_and_throw_away(side)));
            reading.into_iter().map(|side| side.join().expect("it is read")).sum()
        });
        let floor = began.elapsed().as_secs_f64();
        let began = Instant::now();
        let (ran, peak) = fixture.workspace.run_measured("compare old new --database --json");
        let ours = began.elapsed().as_secs_f64();
        assert_eq!(ran.json()["identical"], true);
        println!(
            "{engine:?}, round {round}: {rows} records of both sides: compare {ours:.2} s, bare read \
             {floor:.2} s, ratio {:.2}; at most {} MB",
            ours / floor,
            peak / 1_000_000
        );
    }
}
