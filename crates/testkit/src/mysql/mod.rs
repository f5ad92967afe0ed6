//! A mask of MySQL before a real MariaDB server.
//!
//! No MySQL server is among Debian's packages, and most rented hosts run one. The mask stands
//! between a client and MariaDB and answers as MySQL does, as far as its reference manuals tell:
//! greeting and version, logins, statements and settings that MySQL does not know, its words for
//! tables and columns, its error numbers. Storage, locks, renames and keys stay real. A statement
//! of a kind that the mask does not know fails the test.

mod answers;
mod login;
mod statements;
mod wire;

use std::collections::HashMap;
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// A line of versions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Version {
    /// 5.7
    V57,
    /// 8.0
    V80,
    /// 8.4
    V84,
}

impl Version {
    /// All of them.
    pub const ALL: [Version; 3] = [Version::V57, Version::V80, Version::V84];

    /// As the greeting says it.
    pub fn text(self) -> &'static str {
        match self {
            Version::V57 => "5.7.44-log",
            Version::V80 => "8.0.39",
            Version::V84 => "8.4.3",
        }
    }
}

/// What such servers do that not all of them do.
#[derive(Clone, Copy, Debug, Default)]
pub struct Habits {
    /// Binary logging is on, and the login has not the right to make triggers and functions.
    pub logs_in_binary: bool,
    /// The bodies of routines are for others than this login.
    pub hides_bodies: bool,
    /// Tables need a primary key.
    pub wants_primary_keys: bool,
    /// Nobody is let in without encryption.
    pub wants_encryption: bool,
    /// Every transaction has a number of its own (GTID): what cannot be taken back may stand in none.
    pub numbers_transactions: bool,
}

/// A collation of MySQL's, and the one that stands for it at MariaDB.
const COLLATIONS: [(&str, &str); 1] = [("utf8mb4_0900_ai_ci", "utf8mb4_unicode_520_nopad_ci")];

/// What all connections of a mask share.
struct Shared {
    port: u16,
    version: Version,
    habits: Habits,
    /// Logins that the server has seen: they need not prove themselves in full again.
    known: Mutex<HashMap<String, String>>,
    /// Logins that had to show their password in full.
    full: Mutex<u32>,
    /// Statements of which the mask does not know what MySQL would say.
    unknown: Mutex<Vec<String>>,
}

/// A mask at work. Where it has met a statement that it does not know, dropping it fails the test.
pub struct MysqlMask {
    /// Its port on 127.0.0.1.
    pub port: u16,
    shared: Arc<Shared>,
}

impl MysqlMask {
    /// Puts a mask before the server at this port of this machine.
    pub fn before(port: u16, version: Version, habits: Habits) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let own = listener.local_addr().expect("its address").port();
        let shared = Arc::new(Shared {
            port,
            version,
            habits,
            known: Mutex::default(),
            full: Mutex::default(),
            unknown: Mutex::default(),
        });
        let of_thread = shared.clone();
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let shared = of_thread.clone();
                std::thread::spawn(move || {
                    // Whoever hangs up has had enough.
                    let _ = serve(client, &shared);
                });
            }
        });
        Self { port: own, shared }
    }

    /// The port of the server behind it.
    pub fn behind(&self) -> u16 {
        self.shared.port
    }

    /// How many logins have shown their password in full, and how many are known by now.
    pub fn logins(&self) -> (u32, usize) {
        let full = *self.shared.full.lock().expect("a count");
        (full, self.shared.known.lock().expect("a map").len())
    }
}

impl Drop for MysqlMask {
    fn drop(&mut self) {
        let unknown = self.shared.unknown.lock().expect("a list");
        if !unknown.is_empty() && !std::thread::panicking() {
            panic!("the mask does not know what MySQL says to: {unknown:#?}");
        }
    }
}

fn serve(client: TcpStream, shared: &Shared) -> std::io::Result<()> {
    let server = TcpStream::connect(("127.0.0.1", shared.port))?;
    let (mut client, mut server) = (wire::Wire::new(client)?, wire::Wire::new(server)?);
    match login::log_in(&mut client, &mut server, shared)? {
        Some(capabilities) => statements::serve(&mut client, &mut server, shared, capabilities),
        None => Ok(()),
    }
}
