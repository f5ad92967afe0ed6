//! Rewriting against floors in the same run and on the same bytes: a bare search without case
//! for the old host, and a search that copies.
//!
//! `cargo bench -p fernweh-core --bench rewriting -- [MB]`

use fernweh_core::rewrite::{ColumnText, Rewriter, Rule, origins};
use fernweh_core::sql::{Dialect, ScriptPart, TextCutter};
use fernweh_core::trace::Needles;
use regex::bytes::{Regex, RegexBuilder};
use std::convert::Infallible;
use std::hint::black_box;
use std::time::Instant;

const HOST: &str = "glimmerpoint";

/// Cells of text: `hit` of a hundred hold the old address; all are serialized if so wanted.
fn cells(bytes: usize, hits: usize, serialized: bool) -> Vec<Vec<u8>> {
    let words =
        ["night", "the moon", "over", "telescope", "dusk;", "\"quoted\"", "a < b", "été", "42"];
    let mut state = 7_u64;
    let mut next = |below: usize| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 33) as usize % below
    };
    let (mut all, mut size) = (Vec::new(), 0);
    while size < bytes {
        let mut text = String::new();
        let length = 200 + next(1500);
        while text.len() < length {
            text.push_str(words[next(words.len())]);
            text.push_str(if next(12) == 0 { "</p>\n<p>" } else { " " });
        }
        if next(10) == 0 {
            text.push_str("<img src=\"https://pictures.example/a/b.jpg\"/>");
        }
        if next(100) < hits {
            text.push_str("<a href=\"http://glimmerpoint.example/a\">");
        }
        if serialized {
            text = format!(
                "a:2:{{s:4:\"text\";s:{}:\"{text}\";s:1:\"n\";i:{};}}",
                text.len(),
                next(99)
            );
        }
        size += text.len();
        all.push(text.into_bytes());
    }
    all
}

/// The rate of the best of three, in MB a second.
fn rate(cells: &[Vec<u8>], mut work: impl FnMut(&[u8])) -> f64 {
    let bytes: usize = cells.iter().map(Vec::len).sum();
    let once = |work: &mut dyn FnMut(&[u8])| {
        let began = Instant::now();
        cells.iter().for_each(|cell| work(cell));
        began.elapsed().as_secs_f64()
    };
    let best = (0..3).map(|_| once(&mut work)).fold(f64::MAX, f64::min);
    bytes as f64 / 1e6 / best
}

fn search(cells: &[Vec<u8>], host: &Regex) -> f64 {
    rate(cells, |cell| {
        black_box(host.find_iter(cell).count());
    })
}

fn main() {
    let megabytes = std::env::args().filter_map(|word| word.parse::<usize>().ok()).next();
    let bytes = megabytes.unwrap_or(256) << 20;
    let rule = Rule::new("http://glimmerpoint.example", "https://www.glimmer-point.example");
    let rewriter = Rewriter::new(vec![rule.expect("a rule")]).expect("rules");
    let host = RegexBuilder::new(HOST).case_insensitive(true).build().expect("a pattern");
    let rewrite = |cells: &[Vec<u8>]| {
        rate(cells, |cell| {
            black_box(rewriter.cell(ColumnText::Utf8, cell).map(|outcome| outcome.new));
        })
    };
    let told = |what: &str, ours: f64, floor: f64, aim: &str| {
        println!(
            "{what:<44} {ours:>7.0} MB/s, floor {floor:>7.0}: {:>5.2} (aim {aim})",
            ours / floor
        );
    };

    let plain = cells(bytes, 0, false);
    let floor = search(&plain, &host);
    told("rewriting, no hit", rewrite(&plain), floor, "1.0, better 2");
    let found = rate(&plain, |cell| {
        black_box(origins(cell));
    });
    told("counting addresses of any host, no hit", found, floor, "none");
    for number in [1, 1000] {
        let texts = (0..number).map(|n| format!("http://cdn{n}.example/pictures/night-{n}.png"));
        let needles = Needles::new(&texts.collect::<Vec<_>>()).expect("texts");
        let ours = rate(&plain, |cell| {
            black_box(needles.find(cell));
        });
        told(&format!("tracing {number} addresses, no hit"), ours, floor, "none");
    }
    let script = plain.iter().map(|cell| {
        let text = String::from_utf8_lossy(cell).replace('\'', "''");
        format!("INSERT INTO t VALUES (1,'{text}');\n").into_bytes()
    });
    let script: Vec<Vec<u8>> = script.collect();
    let mut cutter = TextCutter::new(Dialect::Mariadb);
    let ours = rate(&script, |piece| {
        let mut take = |part: ScriptPart<'_>| -> Result<(), Infallible> {
            if let ScriptPart::Text(raw, notation) = part {
                black_box(notation.look(&rewriter, raw));
            }
            Ok(())
        };
        let Ok(()) = cutter.feed(piece, &mut take);
    });
    told("rewriting a script, no hit", ours, search(&script, &host), "none");
    drop((plain, script));

    let few = cells(bytes, 1, false);
    told("rewriting, a hit in 1 of 100 cells", rewrite(&few), search(&few, &host), "0.7");
    drop(few);

    let dense = cells(bytes, 100, true);
    let copying = rate(&dense, |cell| {
        black_box(host.replace_all(cell, &b"glimmer-point"[..]).into_owned());
    });
    told("rewriting serialized values, a hit in each", rewrite(&dense), copying, "0.25");
}
