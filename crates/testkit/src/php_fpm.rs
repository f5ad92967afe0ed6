//! PHP as web servers ask it, in a folder of its own, ended by process id.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running php-fpm.
pub struct PhpFpm {
    child: Child,
    /// The socket at which it is asked.
    pub socket: PathBuf,
}

impl PhpFpm {
    /// Starts one.
    pub fn start(folder: &Path) -> Self {
        fs::create_dir_all(folder).expect("a folder for PHP");
        let folder = folder.canonicalize().expect("the folder is there");
        let socket = folder.join("socket");
        let shown = folder.display();
        let text = format!(
            "[global]\nerror_log = {shown}/errors\ndaemonize = no\n[www]\nlisten = {shown}/socket\n\
             listen.mode = 0666\npm = static\npm.max_children = 2\ncatch_workers_output = yes\n\
             php_admin_value[opcache.enable] = 1\n"
        );
        fs::write(folder.join("php-fpm.conf"), text).expect("a configuration");
        let mut found: Vec<PathBuf> = fs::read_dir("/usr/sbin")
            .into_iter()
            .flatten()
            .flatten()
            .map(|entry| entry.path())
            .filter(|path| path.to_string_lossy().contains("/php-fpm"))
            .collect();
        found.sort();
        let program = found.pop().expect("php-fpm is there; scripts/test installs it");
        let child = Command::new(program)
            .args(["-R", "-F", "-y"])
            .arg(folder.join("php-fpm.conf"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.join("log")).expect("a log"))
            .spawn()
            .expect("php-fpm starts");
        let ends = Instant::now() + Duration::from_secs(30);
        while std::os::unix::net::UnixStream::connect(&socket).is_err() {
            let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
            assert!(Instant::now() < ends, "php-fpm does not answer: {log}");
            std::thread::sleep(Duration::from_millis(10));
        }
        Self { child, socket }
    }
}

impl Drop for PhpFpm {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}
