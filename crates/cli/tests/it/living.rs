//! Sites that others write into while the program is at work.

use super::PROGRAM;
use fernweh_testkit::Workspace;
use std::fs::{self, OpenOptions};
use std::io::{Seek, SeekFrom, Write};
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};

/// Writes settings in place, as a program does that knows no better: half of them, then the rest.
/// And makes and removes files all the time.
fn visitors(site: &Path, stop: &AtomicBool) {
    let path = site.join("settings.json");
    for version in 0_usize.. {
        if stop.load(Ordering::Relaxed) {
            return;
        }
        let text = format!("{{\"version\":{version},\"pad\":\"{}\"}}", "x".repeat(version % 7000));
        let mut file = OpenOptions::new().write(true).open(&path).unwrap();
        file.set_len(0).unwrap();
        file.seek(SeekFrom::Start(0)).unwrap();
        let (first, second) = text.split_at(text.len() / 2);
        file.write_all(first.as_bytes()).unwrap();
        file.write_all(second.as_bytes()).unwrap();
        let cache = site.join(format!("cache/{}.tmp", version % 50));
        match version / 50 % 2 {
            0 => fs::write(&cache, "x").unwrap(),
            _ => drop(fs::remove_file(&cache)),
        }
    }
}

#[test]
fn what_is_packed_of_files_that_change_is_whole_or_named() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("site/settings.json", "{}");
    workspace.write("site/cache/keep", "");
    for number in 0..400 {
        workspace.write(&format!("site/pages/{number:03}.html"), format!("page {number}"));
    }
    workspace.write("fernweh.toml", "[site.living]\nfiles = \"site\"\n");
    let (site, stop) = (workspace.path("site"), AtomicBool::new(false));
    std::thread::scope(|scope| {
        scope.spawn(|| visitors(&site, &stop));
        let packed = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            for round in 0..12 {
                let archive = format!("a{round}.tar");
                let ran = workspace.run(&format!("pack living -o {archive} --json"));
                let report = ran.json();
                let named = report["changed"].to_string().contains("settings.json");
                let settings = unpacked_by_tar(&workspace.path(&archive), "settings.json");
                let whole = serde_json::from_slice::<serde_json::Value>(&settings).is_ok();
                assert!(whole || named, "{}", String::from_utf8_lossy(&settings));
                let left_out = report["left_out"].to_string();
                assert!(!left_out.contains("pages/"), "{left_out}");
                workspace.run(&format!("show {archive} --verify")).code(0);
            }
        }));
        stop.store(true, Ordering::Relaxed);
        packed.unwrap_or_else(|reason| std::panic::resume_unwind(reason));
    });
}

/// A file of an archive, by the tools that every machine has.
fn unpacked_by_tar(archive: &Path, path: &str) -> Vec<u8> {
    let script = "tar -xOf \"$0\" --wildcards 'files/*.tar.zst' | zstd -dcq | tar -xO \"$1\"";
    let out = Command::new("sh").args(["-c", script]).arg(archive).arg(path).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    out.stdout
}
