//! Apache httpd, in a folder of its own, ended by process id. Every host name is served from one
//! folder, whose `.htaccess` counts.

use fernweh_demo::server::free_port;
use std::fs;
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running Apache.
pub struct Apache {
    child: Child,
    /// Where it speaks http.
    pub http: SocketAddr,
    /// Where it speaks https.
    pub https: SocketAddr,
}

const MODULES: [&str; 12] = [
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_user",
    "auth_basic",
    "alias",
    "dir",
    "headers",
    "mime",
    "rewrite",
    "ssl",
];

impl Apache {
    /// Serves `root`, with a certificate and its key. `without` names a module that is missing,
    /// `more` are further lines of the folder's section.
    pub fn start(
        folder: &Path,
        root: &Path,
        (certificate, key): &(PathBuf, PathBuf),
        without: Option<&str>,
        more: &str,
    ) -> Self {
        fs::create_dir_all(folder).expect("a folder for Apache");
        let folder = folder.canonicalize().expect("the folder is there");
        let root = root.canonicalize().expect("the root is there");
        let [http, https] =
            [(); 2].map(|()| SocketAddr::from(([127, 0, 0, 1], free_port().expect("a free port"))));
        let (shown, root) = (folder.display(), root.display());
        let modules: String = MODULES
            .iter()
            .filter(|name| Some(**name) != without)
            .map(|name| {
                format!("LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n")
            })
            .collect();
        let is_root = fs::metadata("/proc/self").is_ok_and(|own| {
            use std::os::unix::fs::MetadataExt;
            own.uid() == 0
        });
        // It does not serve as root; what it serves must be open to others then.
        let user = if is_root { "User nobody\nGroup nogroup\n" } else { "" };
        let text = format!(
            "ServerRoot {shown}\nPidFile {shown}/pid\nErrorLog {shown}/errors\nServerName \
             localhost\nListen {http}\nListen {https}\n{modules}{user}TypesConfig /dev/null\n\
             AddType text/html .html\nDirectoryIndex index.html\n\
             <Directory {root}>\nAllowOverride All\nRequire all granted\n{more}\n</Directory>\n\
             <VirtualHost *:{}>\nDocumentRoot {root}\n</VirtualHost>\n\
             <VirtualHost *:{}>\nDocumentRoot {root}\nSSLEngine on\n\
             SSLCertificateFile {}\nSSLCertificateKeyFile {}\n</VirtualHost>\n",
            http.port(),
            https.port(),
            certificate.display(),
            key.display()
        );
        fs::write(folder.join("httpd.conf"), text).expect("a configuration");
        let child = Command::new("/usr/sbin/apache2")
            .args(["-D", "FOREGROUND", "-f"])
            .arg(folder.join("httpd.conf"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.join("log")).expect("a log"))
            .spawn()
            .expect("apache2 starts; scripts/test installs it");
        let ends = Instant::now() + Duration::from_secs(30);
        while TcpStream::connect(https).is_err() {
            let read = |name| fs::read_to_string(folder.join(name)).unwrap_or_default();
            let logs = || format!("{}{}", read("log"), read("errors"));
            assert!(Instant::now() < ends, "Apache does not answer: {}", logs());
            std::thread::sleep(Duration::from_millis(10));
        }
        Self { child, http, https }
    }
}

impl Drop for Apache {
    fn drop(&mut self) {
        // The first process ends the others.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}
