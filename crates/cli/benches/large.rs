//! A large sample site packed and unpacked: rates, peak memory, and floors in the same
//! run: the bare driver that reads the same rows and throws them away, zstd on the same
//! text on one core, and the engine's own bulk loading of the same rows.
//!
//! `cargo bench -p fernweh --bench large -- [ARTICLES] [sqlite|mariadb|postgres] [grow]`
//!
//! With `grow` the site is packed and unpacked once at this size, at two, four and eight times
//! the size, and nothing else is measured.

use fernweh_demo::database::Place;
use fernweh_testkit::{Engine, Fixture, bulk_load, read_and_throw_away};
use std::io::Read;
use std::process::Stdio;
use std::time::{Duration, Instant};

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

struct Measured {
    seconds: f64,
    /// Seconds of processor time.
    cpu: f64,
    peak_mb: u64,
}

/// Runs the program; its peak memory is what the kernel noted last.
fn measured(fixture: &Fixture, line: &str) -> Measured {
    measured_until(fixture, line, None)
}

/// Runs the program to its end, or until it is killed at a step of its journal.
fn measured_until(fixture: &Fixture, line: &str, step: Option<&str>) -> Measured {
    let began = Instant::now();
    let mut command = fixture.workspace.command(line);
    if let Some(step) = step {
        command.env("FERNWEH_TEST_STOP_AT", step);
    }
    let mut child = command.stdout(Stdio::null()).spawn().expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let stat = format!("/proc/{}/stat", child.id());
    let (mut peak_kb, mut ticks) = (0, 0.0);
    loop {
        // Fields 14 and 15 of proc(5): a hundredth of a second each.
        let text = std::fs::read_to_string(&stat).unwrap_or_default();
        let fields = text.rsplit(')').next().unwrap_or_default().split(' ').skip(12).take(2);
        let now: f64 = fields.filter_map(|field| field.parse::<f64>().ok()).sum();
        ticks = f64::max(ticks, now);
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let peak = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let found = peak.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok());
        peak_kb = peak_kb.max(found.unwrap_or(0));
        if let Some(ended) = child.try_wait().expect("the program can be waited for") {
            // 1 is done, with findings: what is traced here is not there.
            let well = ended.success() || step.is_some() || ended.code() == Some(1);
            assert!(well, "fernweh {line} failed");
            break;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    let seconds = began.elapsed().as_secs_f64();
    Measured { seconds, cpu: ticks / 100.0, peak_mb: peak_kb / 1000 }
}

/// The SQL in an archive, uncompressed: its bytes, and the seconds that zstd needs for them.
fn compressed(fixture: &Fixture, archive: &str) -> (f64, f64) {
    let file = std::fs::File::open(fixture.workspace.path(archive)).expect("the archive");
    let mut tar = tar::Archive::new(file);
    let (mut total, mut seconds) = (0, 0.0);
    for member in tar.entries().expect("members") {
        let member = member.expect("a member");
        if member.path().expect("a name").starts_with("database") {
            let mut decoder = zstd::Decoder::new(member).expect("zstd");
            let mut text = Vec::new();
            decoder.read_to_end(&mut text).expect("SQL");
            let began = Instant::now();
            std::hint::black_box(zstd::bulk::compress(&text, 3).expect("zstd"));
            seconds += began.elapsed().as_secs_f64();
            total += text.len();
        }
    }
    (total as f64, seconds)
}

/// The middle of some runs.
fn median(mut seconds: Vec<f64>) -> f64 {
    seconds.sort_by(f64::total_cmp);
    seconds[seconds.len() / 2]
}

/// How long unpacking takes up to each step of its journal.
fn phases(fixture: &Fixture, line: &str) {
    for step in ["made", "secured", "built", "checked"] {
        let found = measured_until(fixture, line, Some(step));
        print!("{step} after {:.2} s ({:.2} of the program's own), ", found.seconds, found.cpu);
        let runs = fixture.workspace.done("runs --json").json();
        let open = runs.as_array().and_then(|runs| runs.last().cloned()).expect("a run");
        fixture
            .workspace
            .done(&format!("runs --discard {}", open["run"].as_str().expect("a name")));
    }
    println!("as is");
}

/// Ratios to the floors: higher is better, 1.0 is as fast as the floor.
fn ratios(articles: u64, engine: Engine, runs: u32) {
    let fixture = Fixture::of_size(PROGRAM, engine, articles);
    let (mut packing, mut unpacking, mut rewriting) = (Vec::new(), Vec::new(), Vec::new());
    let (mut zstd_rate, mut loading) = (Vec::new(), Vec::new());
    let (mut reading, mut plain) = (Vec::new(), Vec::new());
    for run in 0..runs {
        let archive = format!("{run}.fernweh.tar");
        let pack = measured(&fixture, &format!("pack old --only database -o {archive}"));
        let (bytes, seconds) = compressed(&fixture, &archive);
        packing.push(bytes / 1e6 / pack.seconds);
        zstd_rate.push(bytes / 1e6 / seconds);
        let began = Instant::now();
        read_and_throw_away(&fixture.old);
        reading.push(began.elapsed().as_secs_f64());
        let line = "pack old --only database --level 0 -o plain.fernweh.tar";
        plain.push(measured(&fixture, line).seconds);
        std::fs::remove_file(fixture.workspace.path("plain.fernweh.tar")).expect("removed");
        loading.push(bulk_load(&fixture.old));
        let line = format!("unpack {archive} new --only database --overwrite");
        unpacking.push(measured(&fixture, &format!("{line} --as-is")).seconds);
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        rewriting.push(measured(&fixture, &line).seconds);
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        if run + 1 == runs {
            phases(&fixture, &format!("{line} --as-is"));
        }
        std::fs::remove_file(fixture.workspace.path(&archive)).expect("removed");
    }
    let (packing, zstd_rate) = (median(packing), median(zstd_rate));
    let (loading, as_is, rewriting) = (median(loading), median(unpacking), median(rewriting));
    println!("{engine:?}, {articles} articles, medians of {runs}");
    println!("pack {packing:.0} MB/s, zstd on one core {zstd_rate:.0}: {:.2}", packing / zstd_rate);
    let (reading, plain) = (median(reading), median(plain));
    println!("pack --level 0 {plain:.2} s, bare read {reading:.2} s: {:.2}", plain / reading);
    println!("bulk load {loading:.2} s, unpack as is {as_is:.2} s: {:.2}", loading / as_is);
    println!("unpack rewriting {rewriting:.2} s: {:.2} of as is\n", as_is / rewriting);
}

/// How time and memory grow with the size.
fn grow(articles: u64, engine: Engine) {
    println!("{engine:?}");
    for times in [1, 2, 4, 8] {
        let fixture = Fixture::of_size(PROGRAM, engine, articles * times);
        for line in ["pack old -o a.fernweh.tar", "unpack a.fernweh.tar new"] {
            let found = measured(&fixture, line);
            let (word, peak) = (line.split(' ').next().unwrap_or_default(), found.peak_mb);
            println!("{times} times {articles}: {word} {:.1} s, {peak} MB", found.seconds);
        }
    }
}

fn measure(articles: u64, engine: Engine) {
    let fixture = Fixture::of_size(PROGRAM, engine, articles);
    let floor = {
        let began = Instant::now();
        let rows = read_and_throw_away(&fixture.old);
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
        ("trace one", "trace new http://cdn0.example/pictures/0.png"),
        ("trace 1000", "trace new --findings findings.json"),
        ("undo", "undo new"),
    ];
    let texts = (0..1000).map(|n| format!("http://cdn{n}.example/pictures/{n}.png"));
    let findings: Vec<_> = texts.map(|text| serde_json::json!({ "address": text })).collect();
    let findings = serde_json::json!({ "findings": findings }).to_string();
    fixture.workspace.write("findings.json", findings);
    let mut mb = 0.0;
    let titles = ["", "seconds", "CPU s", "MB/s", "peak MB", "times floor"];
    let [a, b, c, d, e, f] = titles;
    println!("{a:<16} {b:>8} {c:>6} {d:>9} {e:>11} {f:>14}");
    println!("{:<16} {floor:>8.2} {:>6} {:>9} {:>11} {:>14}", "bare read", "", "", "", "1.00");
    for (name, line) in steps {
        let found = measured(&fixture, line);
        if name == "pack" {
            mb = compressed(&fixture, "site.fernweh.tar").0 / 1e6;
        }
        let rate = if mb > 0.0 && name != "undo" {
            format!("{:.0}", mb / found.seconds)
        } else {
            String::new()
        };
        println!(
            "{name:<16} {:>8.2} {:>6.2} {rate:>9} {:>11} {:>14.2}",
            found.seconds,
            found.cpu,
            found.peak_mb,
            found.seconds / floor
        );
        assert!(found.peak_mb < 150, "{name} needs {} MB", found.peak_mb);
    }
    let size = std::fs::metadata(fixture.workspace.path("site.fernweh.tar"))
        .map_or(0, |found| found.len());
    println!("{mb:.0} MB of SQL, {:.0} MB of archive", size as f64 / 1e6);
    if let Place::Sqlite(path) = &fixture.old {
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
    let engines =
        [("sqlite", Engine::Sqlite), ("mariadb", Engine::Mariadb), ("postgres", Engine::Postgres)];
    for (name, engine) in engines {
        if only.is_some_and(|only| only != name) {
            continue;
        }
        if words.iter().any(|word| word == "grow") {
            grow(articles, engine);
        } else {
            measure(articles, engine);
            ratios(articles, engine, 3);
        }
    }
}
