//! Files to and from another host over SFTP, without and with 40 ms of delay, and as a floor
//! in the same run the same with the `sftp` client of OpenSSH; FTP against as many bare
//! connections.
//!
//! `cargo bench -p fernweh --bench carrying -- [MB in large files] [small files] [with delay]`

use fernweh_connect::ftp::{FtpAddress, FtpTree};
use fernweh_connect::remote::{RemoteSource, RemoteTarget, Tree};
use fernweh_connect::sftp::SftpTree;
use fernweh_connect::ssh::{Asks, Session, SshAddress};
use fernweh_core::entries::EntryList;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_demo::host::Authority;
use fernweh_ports::{FileSource, FileTarget, in_turn};
use fernweh_testkit::{FTP_LOGIN, FtpHost, SshHost, delaying_relay};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};
use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
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
    let _ = rustls::crypto::ring::default_provider().install_default();
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
    bench.ftp(small, false);
    bench.ftp(small, true);
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
    fn ftp(&self, files: usize, encrypted: bool) {
        let authority = Authority::new().expect("an authority");
        let (certificate, key) = authority.issue("localhost").expect("a certificate");
        let path = |name: &str| self.folder.join(name);
        fs::write(path("authority.pem"), &authority.certificate).expect("written");
        fs::write(path("host.pem"), certificate).expect("written");
        fs::write(path("host-key.pem"), key).expect("written");
        let (certificate, key) = (path("host.pem"), path("host-key.pem"));
        let tls = encrypted.then_some((certificate.as_path(), key.as_path()));
        let place = path(if encrypted { "ftps-host" } else { "ftp-host" });
        let host = FtpHost::start(&place, &self.folder, tls, "");
        let tree = FtpTree::open(FtpAddress {
            host: "localhost".into(),
            port: host.port,
            user: FTP_LOGIN.0.into(),
            password: FTP_LOGIN.1.into(),
            encrypted,
            trust: fernweh_connect::tls::Trust {
                authority: encrypted.then(|| path("authority.pem")),
                ..fernweh_connect::tls::Trust::default()
            },
        });
        let tree: Arc<dyn Tree> = Arc::new(tree.expect("a login"));
        let connections = tree.connections();
        let read = timed(|| read_all(tree, Path::new("/small")));
        let floor = timed(|| {
            std::thread::scope(|scope| {
                for lane in 0..connections {
                    let (port, authority) = (host.port, &authority.certificate);
                    let tls = encrypted.then(|| trusting(authority));
                    scope.spawn(move || bare_lane(port, tls, (lane..files).step_by(connections)));
                }
            });
        });
        let word = if encrypted { "FTPS" } else { "FTP" };
        line(&format!("read {files} small files, {word}, bare"), read, floor);
    }
}

/// TLS as hosts of FTP want it: 1.2, with sessions that go on from one connection to the next.
fn trusting(authority: &str) -> Arc<ClientConfig> {
    let mut roots = RootCertStore::empty();
    let certificate = CertificateDer::from_pem_slice(authority.as_bytes()).expect("a certificate");
    roots.add(certificate).expect("an authority");
    let config = ClientConfig::builder_with_protocol_versions(&[&rustls::version::TLS12]);
    Arc::new(config.with_root_certificates(roots).with_no_client_auth())
}

/// A connection, encrypted or not.
trait Wire: Read + Write {}

impl<T: Read + Write> Wire for T {}

fn wire(stream: TcpStream, tls: Option<&Arc<ClientConfig>>) -> Box<dyn Wire> {
    let Some(config) = tls else { return Box::new(stream) };
    let name = "localhost".try_into().expect("a name");
    let session = ClientConnection::new(config.clone(), name).expect("a session");
    Box::new(StreamOwned::new(session, stream))
}

/// An answer of the host, to its last line.
fn answer(control: &mut dyn Wire, wanted: &str) -> String {
    let mut line = Vec::new();
    loop {
        let mut byte = [0];
        control.read_exact(&mut byte).expect("an answer");
        if byte != *b"\n" {
            line.push(byte[0]);
            continue;
        }
        if line.get(3) == Some(&b' ') {
            let line = String::from_utf8_lossy(&line).into_owned();
            assert!(line.starts_with(wanted), "{line}");
            return line;
        }
        line.clear();
    }
}

fn asked(control: &mut dyn Wire, command: &str, wanted: &str) -> String {
    control.write_all(format!("{command}\r\n").as_bytes()).expect("a command");
    answer(control, wanted)
}

/// One connection that fetches files and does nothing else.
fn bare_lane(port: u16, tls: Option<Arc<ClientConfig>>, numbers: impl Iterator<Item = usize>) {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("a connection");
    stream.set_nodelay(true).expect("no delay");
    answer(&mut stream, "220");
    if tls.is_some() {
        asked(&mut stream, "AUTH TLS", "234");
    }
    let mut control = wire(stream, tls.as_ref());
    if tls.is_some() {
        asked(&mut *control, "PBSZ 0", "200");
        asked(&mut *control, "PROT P", "200");
    }
    asked(&mut *control, &format!("USER {}", FTP_LOGIN.0), "331");
    asked(&mut *control, &format!("PASS {}", FTP_LOGIN.1), "230");
    asked(&mut *control, "TYPE I", "200");
    for number in numbers {
        let place = asked(&mut *control, "PASV", "227");
        let numbers: Vec<u16> = place
            .split(|ch: char| !ch.is_ascii_digit())
            .filter_map(|part| part.parse().ok())
            .collect();
        let data = numbers[numbers.len() - 2] * 256 + numbers[numbers.len() - 1];
        let data = TcpStream::connect(("127.0.0.1", data)).expect("a data connection");
        asked(&mut *control, &format!("RETR /small/{:03}/{number}.bin", number / 100), "150");
        let mut data = wire(data, tls.as_ref());
        let mut content = Vec::new();
        // Some hosts end the connection without ending TLS.
        let read = data.read_to_end(&mut content);
        assert!(read.is_ok() || !content.is_empty(), "data");
        // The host waits for this end of it, too.
        drop(data);
        answer(&mut *control, "226");
    }
}

fn read_all(tree: Arc<dyn Tree>, folder: &Path) {
    let mut source = RemoteSource::open(tree, folder.as_os_str().as_bytes()).expect("a folder");
    let mut entries = EntryList::default();
    source
        .walk(&|_| true, &mut |entry| {
            entries.push(entry);
            Ok(())
        })
        .expect("a listing");
    in_turn(&mut source, &entries, |source, entry| {
        if let EntryKind::File(size) = entry.kind {
            let mut content = source.open(&entry.path)?.expect("it is there");
            let came = std::io::copy(&mut content, &mut std::io::sink()).expect("its bytes");
            assert_eq!(came, size);
        }
        Ok(())
    })
    .expect("its files");
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
        let entry =
            Entry { path, kind, mode, mtime: 1, nanos: 0, owner: (0, 0), extra: Extra::default() };
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
