//! nginx, in a folder of its own, ended by process id.

use std::fs;
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running nginx.
pub struct Nginx {
    child: Child,
}

impl Nginx {
    /// Starts one with these servers (what stands inside of `http`), and waits for these places.
    pub fn start(folder: &Path, servers: &str, places: &[SocketAddr]) -> Self {
        fs::create_dir_all(folder).expect("a folder for nginx");
        let folder = folder.canonicalize().expect("the folder is there");
        let shown = folder.display();
        let user = if is_root() { "user root;\n" } else { "" };
        let paths: String = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
            .iter()
            .map(|kind| format!("{kind}_temp_path {shown}/tmp-{kind};\n"))
            .collect();
        let text = format!(
            "{user}daemon off;\nworker_processes 1;\npid {shown}/pid;\nerror_log {shown}/errors;\n\
             events {{ worker_connections 1000; }}\nhttp {{\naccess_log off;\n{paths}\
             types {{ text/html html; text/plain txt; text/css css; application/xml xml; \
             image/png png; }}\ndefault_type application/octet-stream;\n\
             ssl_protocols TLSv1.2 TLSv1.3;\n\
             server_names_hash_max_size 8192;\nserver_names_hash_bucket_size 128;\n{servers}\n}}\n"
        );
        fs::write(folder.join("nginx.conf"), text).expect("a configuration");
        // Servers that nobody has looked after for long are part of the world.
        let lax = "openssl_conf = a\n[a]\nssl_conf = b\n[b]\nsystem_default = c\n[c]\n\
                   MinProtocol = TLSv1\nCipherString = DEFAULT:@SECLEVEL=0\n";
        fs::write(folder.join("openssl.cnf"), lax).expect("a configuration");
        let child = Command::new("/usr/sbin/nginx")
            .env("OPENSSL_CONF", folder.join("openssl.cnf"))
            .args(["-e", &format!("{shown}/errors"), "-c"])
            .arg(folder.join("nginx.conf"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.join("log")).expect("a log"))
            .spawn()
            .expect("nginx starts; scripts/test installs it");
        let ends = Instant::now() + Duration::from_secs(30);
        for place in places {
            while TcpStream::connect(place).is_err() {
                let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
                assert!(Instant::now() < ends, "nginx does not answer at {place}: {log}");
                std::thread::sleep(Duration::from_millis(10));
            }
        }
        Self { child }
    }
}

fn is_root() -> bool {
    let told = Command::new("id").arg("-u").output();
    told.is_ok_and(|told| told.stdout.starts_with(b"0"))
}

impl Drop for Nginx {
    fn drop(&mut self) {
        // The master ends its workers.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}
