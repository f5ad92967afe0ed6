//! A large sample site packed and unpacked: rates, peak memory, and a floor in the same
//! run, the bare driver that reads the same rows and throws them away.
//!
//! `cargo bench -p fernweh --bench large -- [ARTICLES] [sqlite|mariadb]`

use fernweh_demo::database::Place;
use fernweh_testkit::{Engine, Stage, read_and_throw_away};
use std::process::Stdio;
use std::time::{Duration, Instant};

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

struct Measured {
    seconds: f64,
    peak_mb: u64,
}

/// Runs the program; its peak memory is what the kernel noted last.
fn measured(stage: &Stage, line: &str) -> Measured {
    let began = Instant::now();
    let mut child =
        stage.scene.command(line).stdout(Stdio::null()).spawn().expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let mut peak_kb = 0;
    loop {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let peak = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let found = peak.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok());
        peak_kb = peak_kb.max(found.unwrap_or(0));
        if let Some(ended) = child.try_wait().expect("the program can be waited for") {
            assert!(ended.success(), "fernweh {line} failed");
            break;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    Measured { seconds: began.elapsed().as_secs_f64(), peak_mb: peak_kb / 1000 }
}

/// Bytes of SQL in an archive, uncompressed.
fn sql_bytes(stage: &Stage, archive: &str) -> f64 {
    let file = std::fs::File::open(stage.scene.path(archive)).expect("the archive");
    let mut tar = tar::Archive::new(file);
    let mut total = 0;
    for member in tar.entries().expect("members") {
        let member = member.expect("a member");
        if member.path().expect("a name").starts_with("database") {
            let mut decoder = zstd::Decoder::new(member).expect("zstd");
            total += std::io::copy(&mut decoder, &mut std::io::sink()).expect("SQL");
        }
    }
    total as f64
}

fn measure(articles: u64, engine: Engine) {
    let stage = Stage::of_size(PROGRAM, engine, articles);
    let floor = {
        let began = Instant::now();
        let rows = read_and_throw_away(&stage.old);
        println!("{engine:?}, {articles} articles, {rows} records");
        began.elapsed().as_secs_f64()
    };
    let steps = [
        ("survey", "survey old"),
        ("pack", "pack old -o site.fernweh.tar"),
        ("preview", "unpack site.fernweh.tar new --preview"),
        ("unpack as is", "unpack site.fernweh.tar new --as-is"),
        ("unpack", "unpack site.fernweh.tar new --overwrite"),
        ("rewrite preview", "rewrite new"),
        ("undo", "undo new"),
    ];
    let mut mb = 0.0;
    println!("{:<16} {:>8} {:>9} {:>11} {:>14}", "", "seconds", "MB/s", "peak MB", "times floor");
    println!("{:<16} {floor:>8.2} {:>9} {:>11} {:>14}", "bare read", "", "", "1.00");
    for (name, line) in steps {
        let found = measured(&stage, line);
        if name == "pack" {
            mb = sql_bytes(&stage, "site.fernweh.tar") / 1e6;
        }
        let rate = if mb > 0.0 && name != "undo" {
            format!("{:.0}", mb / found.seconds)
        } else {
            String::new()
        };
        println!(
            "{name:<16} {:>8.2} {rate:>9} {:>11} {:>14.2}",
            found.seconds,
            found.peak_mb,
            found.seconds / floor
        );
        assert!(found.peak_mb < 150, "{name} needs {} MB", found.peak_mb);
    }
    let size =
        std::fs::metadata(stage.scene.path("site.fernweh.tar")).map_or(0, |found| found.len());
    println!("{mb:.0} MB of SQL, {:.0} MB of archive", size as f64 / 1e6);
    if let Place::Sqlite(path) = &stage.old {
        println!(
            "{:.0} MB of database",
            std::fs::metadata(path).map_or(0, |f| f.len()) as f64 / 1e6
        );
    }
    println!();
}

fn main() {
    let words: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let articles = words.first().and_then(|word| word.parse().ok()).unwrap_or(200_000);
    let only = words.get(1).map(String::as_str);
    if only != Some("mariadb") {
        measure(articles, Engine::Sqlite);
    }
    if only != Some("sqlite") {
        measure(articles, Engine::Mariadb);
    }
}
