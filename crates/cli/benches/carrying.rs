//! Files to and from another host over SFTP, without and with 40 ms of delay, and as a floor
//! in the same run the same with the `sftp` client of OpenSSH; FTP against as many bare
//! connections.
//!
//! `cargo bench -p fernweh --bench carrying -- [MB in large files] [small files] [with delay]`

use fernweh_connect::ftp::{FtpAddress, FtpTree};
use fernweh_connect::remote::{RemoteSource, RemoteTarget, Tree};
use fernweh_connect::sftp::SftpTree;
use fernweh_connect::ssh::{Asks, Session, SshAddress};
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, FileTarget, files_of};
use fernweh_testkit::{FTP_LOGIN, FtpHost, SshHost, delaying_relay};
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A host that is new is taken for the right one: it was made here.
struct Trusting;

impl Asks for Trusting {
    fn secret(&self, _: &str) -> Option<String> {
        None
    }

    fn agrees(&self, _: &str) -> Option<bool> {
        Some(true)
    }
}

struct Bench {
    folder: PathBuf,
    host: SshHost,
}

fn main() {
    let numbers: Vec<usize> =
        std::env::args().skip(1).filter_map(|word| word.parse().ok()).collect();
    let at = |place: usize, usual| numbers.get(place).copied().unwrap_or(usual);
    let Some(folder) = std::env::var_os("FERNWEH_BENCH_FOLDER") else { return begin() };
    let folder = PathBuf::from(folder);
    let (large, small, delayed) = (at(0, 1024), at(1, 20_000), at(2, 2_000));
    make(&folder.join("large"), 4, (large / 4) << 20);
    make(&folder.join("small"), small, 3_000);
    make(&folder.join("delayed"), delayed, 3_000);
    let host = SshHost::start(&folder.join("host"), "");
    let bench = Bench { folder: folder.clone(), host };
    let far = delaying_relay(bench.host.port, Duration::from_millis(40));
    println!("{:<34}{:>9}{:>9}{:>9}", "", "fernweh", "sftp", "ratio");
    let near = bench.host.port;
    for (what, name, port) in [
        (format!("{large} MB in 4 files"), "large", near),
        (format!("{large} MB in 4 files, 40 ms"), "large", far),
        (format!("{small} small files"), "small", near),
        (format!("{delayed} small files, 40 ms"), "delayed", far),
    ] {
        bench.compare(&what, name, port);
    }
    bench.ftp(small);
    println!("peak memory of this process: {} MB", peak());
}

/// Starts itself again with a home of its own, in which hosts may be noted.
fn begin() {
    let home = tempfile::tempdir().expect("a folder");
    let ended = Command::new(std::env::current_exe().expect("this program"))
        .args(std::env::args().skip(1))
        .env("HOME", home.path())
        .env("FERNWEH_BENCH_FOLDER", home.path())
        .status();
    assert!(ended.expect("it starts").success());
}

fn make(folder: &Path, files: usize, size: usize) {
    let content: Vec<u8> = (0..size).map(|n| (n * 31 % 251) as u8).collect();
    for number in 0..files {
        let below = folder.join(format!("{:03}", number / 100));
        fs::create_dir_all(&below).expect("a folder");
        fs::write(below.join(format!("{number}.bin")), &content).expect("a file");
    }
}

fn timed(work: impl FnOnce()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

impl Bench {
    fn tree(&self, port: u16) -> Arc<dyn Tree> {
        let (user, key) = (self.host.user.clone(), Some(self.host.key.clone()));
        let address = SshAddress::complete("127.0.0.1", Some(port), Some(&user), None, key);
        let asks: Arc<dyn Asks> = Arc::new(Trusting);
        let session = Session::open(&address.expect("an address"), &asks).expect("a login");
        Arc::new(SftpTree::open(session).expect("sftp"))
    }

    fn sftp(&self, port: u16, line: &str) {
        let batch = self.folder.join("batch");
        fs::write(&batch, line).expect("a batch");
        let ended = Command::new("sftp")
            .args(["-q", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"])
            .args(["-o", "LogLevel=ERROR", "-P", &port.to_string(), "-i"])
            .arg(&self.host.key)
            .arg("-b")
            .arg(&batch)
            .arg(format!("{}@127.0.0.1", self.host.user))
            .stdout(Stdio::null())
            .status();
        assert!(ended.expect("sftp starts").success(), "{line}");
    }

    fn compare(&self, what: &str, name: &str, port: u16) {
        let from = self.folder.join(name);
        let (out, theirs) = (self.folder.join("out"), self.folder.join("theirs"));
        let read = timed(|| read_all(self.tree(port), &from));
        let floor = timed(|| {
            fs::create_dir_all(&theirs).expect("a folder");
            self.sftp(port, &format!("get -r {} {}\n", from.display(), theirs.display()));
        });
        line(&format!("read {what}"), read, floor);
        let _ = fs::remove_dir_all(&theirs);
        let write = timed(|| write_all(self.tree(port), &from, &out));
        let floor = timed(|| {
            self.sftp(port, &format!("put -r {} {}\n", from.display(), theirs.display()));
        });
        line(&format!("write {what}"), write, floor);
        let _ = fs::remove_dir_all(&theirs);
        let _ = fs::remove_dir_all(&out);
        let _ = fs::remove_dir_all(self.folder.join(".fernweh-out"));
    }

    /// Reading over FTP, against as many connections that do nothing else.
    fn ftp(&self, files: usize) {
        let host = FtpHost::start(&self.folder.join("ftp-host"), &self.folder, None, "");
        let tree = FtpTree::open(FtpAddress {
            host: "127.0.0.1".into(),
            port: host.port,
            user: FTP_LOGIN.0.into(),
            password: FTP_LOGIN.1.into(),
            encrypted: false,
            authority: None,
        });
        let tree: Arc<dyn Tree> = Arc::new(tree.expect("a login"));
        let lanes = tree.lanes();
        let read = timed(|| read_all(tree, Path::new("/small")));
        let floor = timed(|| {
            std::thread::scope(|scope| {
                for lane in 0..lanes {
                    let port = host.port;
                    scope.spawn(move || bare_lane(port, (lane..files).step_by(lanes)));
                }
            });
        });
        line(&format!("read {files} small files, FTP, bare"), read, floor);
    }
}

/// One connection that fetches files and does nothing else.
fn bare_lane(port: u16, numbers: impl Iterator<Item = usize>) {
    use std::io::{BufRead, BufReader, Read, Write};
    use std::net::TcpStream;
    let control = TcpStream::connect(("127.0.0.1", port)).expect("a connection");
    control.set_nodelay(true).expect("no delay");
    let mut answers = BufReader::new(control.try_clone().expect("a second handle"));
    let mut control = control;
    let mut answer = |wanted: &str| {
        let mut line = String::new();
        loop {
            line.clear();
            answers.read_line(&mut line).expect("an answer");
            if line.as_bytes().get(3) == Some(&b' ') {
                assert!(line.starts_with(wanted), "{line}");
                return line.clone();
            }
        }
    };
    answer("220");
    let login = [format!("USER {}", FTP_LOGIN.0), format!("PASS {}", FTP_LOGIN.1), "TYPE I".into()];
    for (command, wanted) in login.iter().zip(["331", "230", "200"]) {
        control.write_all(format!("{command}\r\n").as_bytes()).expect("a command");
        answer(wanted);
    }
    for number in numbers {
        control.write_all(b"PASV\r\n").expect("a command");
        let place = answer("227");
        let numbers: Vec<u16> = place
            .split(|ch: char| !ch.is_ascii_digit())
            .filter_map(|part| part.parse().ok())
            .collect();
        let data = numbers[numbers.len() - 2] * 256 + numbers[numbers.len() - 1];
        let mut data = TcpStream::connect(("127.0.0.1", data)).expect("a data connection");
        let command = format!("RETR /small/{:03}/{number}.bin\r\n", number / 100);
        control.write_all(command.as_bytes()).expect("a command");
        answer("150");
        let mut content = Vec::new();
        data.read_to_end(&mut content).expect("data");
        // The host waits for this end of it, too.
        drop(data);
        answer("226");
    }
}

fn read_all(tree: Arc<dyn Tree>, folder: &Path) {
    let mut source = RemoteSource::open(tree, folder.as_os_str().as_bytes()).expect("a folder");
    let mut entries = Vec::new();
    source
        .walk(&|_| true, &mut |entry| {
            entries.push(entry);
            Ok(())
        })
        .expect("a listing");
    source.expect(files_of(&entries));
    for entry in &entries {
        if let EntryKind::File(size) = entry.kind {
            let mut content = source.open(&entry.path).expect("a file");
            let came = std::io::copy(&mut content, &mut std::io::sink()).expect("its bytes");
            assert_eq!(came, size);
        }
    }
}

fn write_all(tree: Arc<dyn Tree>, from: &Path, to: &Path) {
    let mut target = RemoteTarget::new(tree, to.as_os_str().as_bytes(), "bench");
    target.build().expect("a place");
    for found in walkdir::WalkDir::new(from).min_depth(1).sort_by_file_name() {
        let found = found.expect("an entry");
        let about = found.metadata().expect("metadata");
        let path = found.path().strip_prefix(from).expect("below").as_os_str().as_bytes().to_vec();
        let kind = match about.is_dir() {
            true => EntryKind::Folder,
            false => EntryKind::File(about.len()),
        };
        let mode = if about.is_dir() { 0o755 } else { 0o644 };
        let entry = Entry { path, kind, mode, mtime: 1, nanos: 0, owner: (0, 0) };
        match entry.kind {
            EntryKind::Folder => target.put(&entry).expect("a folder"),
            _ => {
                let mut content = fs::File::open(found.path()).expect("a file");
                target.put_file(&entry, &mut content).expect("a file is written");
            }
        }
    }
    target.finish().expect("all is written");
}

fn line(what: &str, ours: f64, floor: f64) {
    println!("{what:<34}{ours:>8.2}s{floor:>8.2}s{:>9.2}", floor / ours);
}

fn peak() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|rest| rest.trim().trim_end_matches(" kB").parse::<u64>().ok()).unwrap_or(0)
        / 1000
}
