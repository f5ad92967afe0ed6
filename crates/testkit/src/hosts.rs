//! Hosts to log in at: OpenSSH and ProFTPD, each in a folder of its own on a free port,
//! ended by process id.

use fernweh_demo::server::free_port;
use std::fs;
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// An SSH host; one logs in with a key.
pub struct SshHost {
    child: Child,
    folder: PathBuf,
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// The user.
    pub user: String,
    /// The line of a `known_hosts` file that names its key.
    pub known: String,
    /// The private key that it accepts.
    pub key: PathBuf,
}

impl SshHost {
    /// Starts one; `more` are further lines of its configuration.
    pub fn start(folder: &Path, more: &str) -> Self {
        fs::create_dir_all(folder).expect("a folder for the host");
        let folder = folder.canonicalize().expect("the folder is there");
        let port = free_port().expect("a free port");
        let (host_key, key) = (folder.join("host-key"), folder.join("key"));
        for path in [&host_key, &key] {
            run(Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(path));
        }
        let shown = folder.display();
        let sftp = match more.contains("Subsystem") {
            true => "",
            false => "Subsystem sftp internal-sftp\n",
        };
        let text = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {shown}/host-key\n\
             AuthorizedKeysFile {shown}/key.pub\nPidFile {shown}/pid\nStrictModes no\nUsePAM no\n\
             PasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin yes\n\
             MaxStartups 200\n{sftp}{more}\n"
        );
        fs::write(folder.join("sshd_config"), text).expect("a configuration");
        if unprivileged_folder_is_missing() {
            let _ = fs::create_dir_all("/run/sshd");
        }
        // It wants to be started by its full path.
        let child = Command::new("/usr/sbin/sshd")
            .args(["-D", "-e", "-f"])
            .arg(folder.join("sshd_config"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.join("log")).expect("a log"))
            .spawn()
            .expect("sshd starts; scripts/test installs it");
        wait_for(port, &folder);
        let public = fs::read_to_string(folder.join("host-key.pub")).expect("the host's key");
        let public: Vec<&str> = public.split_whitespace().take(2).collect();
        let known = format!("[127.0.0.1]:{port} {}\n", public.join(" "));
        Self { child, folder, port, user: user(), known, key }
    }

    /// The address of a folder of this machine on this host.
    pub fn files(&self, path: &Path) -> String {
        format!("sftp://{}@127.0.0.1:{}{}", self.user, self.port, path.display())
    }

    /// The address of the host.
    pub fn address(&self) -> String {
        format!("ssh://{}@127.0.0.1:{}", self.user, self.port)
    }

    /// Ends every connection that is open now; the host goes on.
    pub fn cut_connections(&self) {
        let pid = self.child.id().to_string();
        let _ = Command::new("pkill").args(["-9", "-P", &pid]).status();
    }

    /// The folder with its configuration, and with the keys that it accepts (`key.pub`).
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The public part of the key that it accepts.
    pub fn public_key(&self) -> PathBuf {
        self.key.with_extension("pub")
    }
}

impl Drop for SshHost {
    fn drop(&mut self) {
        self.cut_connections();
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// An FTP host; its users see nothing but its folder.
pub struct FtpHost {
    child: Child,
    /// Its port on 127.0.0.1.
    pub port: u16,
}

/// The user of FTP hosts, and the password.
pub const FTP_LOGIN: (&str, &str) = ("keeper", "night-sky-7");

impl FtpHost {
    /// Starts one that shows `root`; with a certificate and its key it speaks TLS. `more` are
    /// further lines of its configuration.
    pub fn start(folder: &Path, root: &Path, tls: Option<(&Path, &Path)>, more: &str) -> Self {
        fs::create_dir_all(folder).expect("a folder for the host");
        let folder = folder.canonicalize().expect("the folder is there");
        let root = root.canonicalize().expect("the root is there");
        let port = free_port().expect("a free port");
        let shown = folder.display();
        let id = |flag: &str| {
            let output = Command::new("id").arg(flag).output().expect("id");
            String::from_utf8_lossy(&output.stdout).trim().to_owned()
        };
        let hashed = Command::new("openssl").args(["passwd", "-5", FTP_LOGIN.1]).output();
        let hashed = String::from_utf8_lossy(&hashed.expect("openssl").stdout).trim().to_owned();
        let line = format!(
            "{}:{hashed}:{}:{}::{}:/bin/sh\n",
            FTP_LOGIN.0,
            id("-u"),
            id("-g"),
            root.display()
        );
        let users = folder.join("users");
        fs::write(&users, line).expect("a list of users");
        set_private(&users);
        let secure = match tls {
            None => String::new(),
            Some((certificate, key)) => format!(
                "LoadModule mod_tls.c\nTLSEngine on\nTLSRequired on\nTLSLog {shown}/tls.log\n\
                 TLSRSACertificateFile {}\nTLSRSACertificateKeyFile {}\n",
                certificate.display(),
                key.display()
            ),
        };
        let jail = if id("-u") == "0" {
            format!("DefaultRoot {}\n", root.display())
        } else {
            String::new()
        };
        let text = format!(
            "ModulePath /usr/lib/proftpd\nServerType standalone\nDefaultServer on\nPort {port}\n\
             DefaultAddress 127.0.0.1\nUseReverseDNS off\nUser {}\nGroup {}\nRootLogin on\n\
             AuthOrder mod_auth_file.c\nAuthUserFile {shown}/users\nRequireValidShell off\n\
             PidFile {shown}/pid\nScoreboardFile {shown}/scoreboard\nDelayEngine off\nWtmpLog off\n\
             TransferLog none\nSystemLog {shown}/log\nAllowOverwrite on\nAllowStoreRestart on\n\
             AllowRetrieveRestart on\nMaxInstances 60\n{jail}{secure}{more}\n",
            id("-un"),
            id("-gn"),
        );
        let config = folder.join("proftpd.conf");
        fs::write(&config, text).expect("a configuration");
        let child = Command::new("/usr/sbin/proftpd")
            .args(["-n", "-q", "-c"])
            .arg(&config)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.join("start.log")).expect("a log"))
            .spawn()
            .expect("proftpd starts; scripts/test installs it");
        wait_for(port, &folder);
        Self { child, port }
    }

    /// The address of a folder below its root.
    pub fn files(&self, scheme: &str, path: &str) -> String {
        format!("{scheme}://{}@localhost:{}{path}", FTP_LOGIN.0, self.port)
    }

    /// Ends every connection that is open now; the host goes on.
    pub fn cut_connections(&self) {
        let pid = self.child.id().to_string();
        let _ = Command::new("pkill").args(["-9", "-P", &pid]).status();
    }
}

impl Drop for FtpHost {
    fn drop(&mut self) {
        self.cut_connections();
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn unprivileged_folder_is_missing() -> bool {
    !Path::new("/run/sshd").exists()
}

pub(crate) fn set_private(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(0o600)).expect("permissions");
}

fn user() -> String {
    let output = Command::new("id").arg("-un").output().expect("id");
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

fn run(command: &mut Command) {
    let ended = command.status().expect("the program is installed; scripts/test does that");
    assert!(ended.success(), "{command:?} ended with {ended}");
}

fn wait_for(port: u16, folder: &Path) {
    let until = Instant::now() + Duration::from_secs(20);
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
        let more = fs::read_to_string(folder.join("start.log")).unwrap_or_default();
        assert!(Instant::now() < until, "the host does not answer: {log}{more}");
        std::thread::sleep(Duration::from_millis(20));
    }
}
