//! One large file from one host to another, each 40 ms away: `move` against its two directions,
//! `pack` and `unpack`, in the same run.
//!
//! `cargo bench -p fernweh --bench long_way -- [MB] [milliseconds]`

use fernweh_testkit::{SshHost, Workspace, delaying_relay};
use std::io::Write;
use std::time::{Duration, Instant};

fn timed(workspace: &Workspace, line: &str) -> f64 {
    let began = Instant::now();
    workspace.done(line);
    began.elapsed().as_secs_f64()
}

/// A file that does not compress, as pictures, films and archives do not.
fn fill(workspace: &Workspace, megabytes: usize) {
    let path = workspace.path("old/film.bin");
    std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
    let mut file = std::io::BufWriter::new(std::fs::File::create(path).expect("a file"));
    let mut state = 1129_u64;
    for _ in 0..megabytes << 17 {
        // xorshift64 (Marsaglia, 2003).
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        file.write_all(&state.to_le_bytes()).expect("written");
    }
    file.flush().expect("written");
}

fn main() {
    let numbers: Vec<usize> =
        std::env::args().skip(1).filter_map(|word| word.parse().ok()).collect();
    let at = |place: usize, usual| numbers.get(place).copied().unwrap_or(usual);
    let (megabytes, delay) = (at(0, 1024), at(1, 40) as u64);
    let workspace = Workspace::new(env!("CARGO_BIN_EXE_fernweh"));
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    let far = delaying_relay(host.port, Duration::from_millis(delay));
    let key = host.known.split_once(' ').expect("a key").1;
    workspace.write(".ssh/known_hosts", format!("[127.0.0.1]:{far} {key}"));
    let site = |name: &str, folder: &str| {
        let files =
            format!("sftp://{}@127.0.0.1:{far}{}", host.user, workspace.path(folder).display());
        let (key, url) = (host.key.display(), format!("http://{name}.example"));
        format!(
            "[site.{name}]\nurl = \"{url}\"\nfiles = \"{files}\"\ndatabase = \"none\"\nkey = \"{key}\"\n"
        )
    };
    workspace.write("fernweh.toml", site("old", "old") + &site("new", "new"));
    std::fs::create_dir_all(workspace.path("new")).expect("a folder");
    fill(&workspace, megabytes);
    println!("one file of {megabytes} MB, {delay} ms from and to");
    for round in 1..=3 {
        let pack = timed(&workspace, &format!("pack old -o {round}.fernweh.tar"));
        let unpack = timed(&workspace, &format!("unpack {round}.fernweh.tar new --overwrite"));
        workspace.done("undo new --yes");
        workspace.done("undo new --let-go --yes");
        let all = timed(&workspace, "move old new --yes --no-scan --overwrite");
        workspace.done("undo new --yes");
        workspace.done("undo new --let-go --yes");
        println!(
            "pack {pack:.1} s, unpack {unpack:.1} s; move {all:.1} s: {:.2} times the slower one",
            all / pack.max(unpack)
        );
    }
}
