//! FTP servers with other habits: vsftpd knows no facts of files (MLSD), Pure-FTPd has orders of its
//! own. As packages they exclude each other, so `scripts/test` unpacks them without installing.

use crate::hosts::set_private;
use fernweh_demo::server::free_port;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Which server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FtpServer {
    /// vsftpd: anonymous, with the right to write; it sees the whole machine.
    Vsftpd,
    /// Pure-FTPd: a virtual user, locked in the folder.
    Pure,
}

/// A server at work.
pub struct OtherFtp {
    child: Child,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// The user.
    pub user: &'static str,
    /// The password.
    pub password: &'static str,
    /// What stands before paths of the folder that it serves.
    pub before: String,
}

/// Where `scripts/test` unpacks: beside what is built.
fn unpacked(program: &str) -> PathBuf {
    let own = std::env::current_exe().expect("this program");
    let target = own.ancestors().nth(3).expect("target/debug/deps/…").to_owned();
    target.join("ftp-servers/usr").join(program)
}

impl OtherFtp {
    /// Starts one that serves `root`; its own files lie in `folder`.
    pub fn start(kind: FtpServer, folder: &Path, root: &Path) -> Self {
        fs::create_dir_all(folder.join("empty")).expect("a folder");
        let port = free_port().expect("a free port");
        let log = fs::File::create(folder.join("log")).expect("a log");
        let (mut command, user, before) = match kind {
            FtpServer::Vsftpd => {
                let settings = folder.join("vsftpd.conf");
                let text = format!(
                    "listen=YES\nlisten_port={port}\nlisten_address=127.0.0.1\nbackground=NO\n\
                     run_as_launching_user=YES\nanonymous_enable=YES\nno_anon_password=YES\n\
                     anon_umask=022\nwrite_enable=YES\nanon_upload_enable=YES\n\
                     anon_mkdir_write_enable=YES\nanon_other_write_enable=YES\n\
                     anon_world_readable_only=NO\nmdtm_write=YES\nseccomp_sandbox=NO\n\
                     force_dot_files=YES\nuse_localtime=NO\nxferlog_enable=NO\n\
                     secure_chroot_dir={}\n",
                    folder.join("empty").display()
                );
                fs::write(&settings, text).expect("its settings");
                let mut command = Command::new(unpacked("sbin/vsftpd"));
                command.arg(settings);
                (command, "anonymous", root.display().to_string())
            }
            FtpServer::Pure => {
                let (users, list) = (folder.join("users"), folder.join("users.pdb"));
                let [uid, gid] = ["-u", "-g"].map(|which| {
                    let told = Command::new("id").arg(which).output().expect("id");
                    let number: u32 =
                        String::from_utf8_lossy(&told.stdout).trim().parse().unwrap_or(0);
                    number
                });
                // The server lets nobody be root: what it serves goes to somebody else.
                let [uid, gid] = if uid == 0 { [1000, 1000] } else { [uid, gid] };
                let owner = format!("{uid}:{gid}");
                let _ = Command::new("chown").args(["-R", &owner]).arg(root).status();
                // A password of the program's own making takes seconds to check, which is not what
                // is tested.
                let hashed = Command::new("openssl").args(["passwd", "-6", "star-atlas"]).output();
                let hashed = hashed.expect("openssl runs; scripts/test installs it").stdout;
                let hashed = String::from_utf8_lossy(&hashed).trim().to_owned();
                let (place, rest) = (root.display(), ":".repeat(12));
                fs::write(&users, format!("keeper:{hashed}:{uid}:{gid}::{place}/./{rest}\n"))
                    .expect("a list of users");
                set_private(&users);
                let made = Command::new(unpacked("bin/pure-pw"))
                    .arg("mkdb")
                    .arg(&list)
                    .arg("-f")
                    .arg(&users)
                    .status();
                assert!(made.expect("pure-pw").success());
                let mut command = Command::new(unpacked("sbin/pure-ftpd"));
                command.args([
                    "-S",
                    &format!("127.0.0.1,{port}"),
                    "-E",
                    "-H",
                    "-u",
                    "1",
                    "-U",
                    "133:022",
                ]);
                command.args(["-l", &format!("puredb:{}", list.display()), "-g"]);
                command.arg(folder.join("pid"));
                (command, "keeper", String::new())
            }
        };
        let child =
            command.stdin(Stdio::null()).stdout(log.try_clone().expect("a log")).stderr(log);
        let mut child = child.spawn().expect("the server runs; scripts/test unpacks it");
        let until = Instant::now() + Duration::from_secs(20);
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            let told = fs::read_to_string(folder.join("log")).unwrap_or_default();
            assert!(child.try_wait().expect("a child").is_none(), "{kind:?} has ended: {told}");
            assert!(Instant::now() < until, "{kind:?} does not start: {told}");
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { child, port, user, password: "star-atlas", before }
    }

    /// The address of a folder below the root.
    pub fn files(&self, path: &str) -> String {
        format!("ftp://{}@127.0.0.1:{}{}{path}", self.user, self.port, self.before)
    }
}

impl Drop for OtherFtp {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
