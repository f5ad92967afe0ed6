//! A small internet of names on this machine: the zones above (`example`, `test`), two name
//! servers that disagree if a test wants it, a resolver in front (NSD and Unbound, on free ports of
//! their own), a server that never answers, and one without TCP.

use fernweh_demo::server::free_port;
use std::collections::BTreeMap;
use std::fs;
use std::net::{Ipv4Addr, SocketAddr, TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A zone as a test wants it.
#[derive(Clone, Debug, Default)]
pub struct ZoneText {
    /// The name at its top.
    pub apex: String,
    /// Its records on the first server, one a line, as in a zone file; `None` where that server
    /// does not know the zone.
    pub first: Option<String>,
    /// The same on the second server.
    pub second: Option<String>,
    /// What a forgetful resolver still says, if it says something.
    pub remembered: Option<String>,
    /// The name servers that the zone above names.
    pub delegated: Vec<String>,
}

/// The servers.
pub struct NameWorld {
    children: Vec<Child>,
    folder: PathBuf,
    /// The resolver in front.
    pub resolver: SocketAddr,
    /// A resolver that remembers what was true before.
    pub forgetful: SocketAddr,
    /// Where nobody answers.
    pub silent: SocketAddr,
    /// Servers by their names.
    pub servers: BTreeMap<String, SocketAddr>,
    _deaf: UdpSocket,
}

/// The zones above.
const ABOVE: [&str; 2] = ["example", "test"];

impl NameWorld {
    /// Starts all of them.
    pub fn start(folder: &Path, zones: &[ZoneText]) -> Self {
        fs::create_dir_all(folder).expect("a folder for name servers");
        let folder = folder.canonicalize().expect("the folder is there");
        let mut children = Vec::new();
        let mut start = |name: &str, texts: Vec<(String, String)>| {
            let port = free_port().expect("a free port");
            children.push(nsd(&folder.join(name), port, &texts));
            SocketAddr::from((Ipv4Addr::LOCALHOST, port))
        };
        let of = |part: fn(&ZoneText) -> &Option<String>| {
            let texts = zones.iter().filter_map(|zone| {
                part(zone).as_ref().map(|text| (zone.apex.clone(), text.clone()))
            });
            texts.collect::<Vec<_>>()
        };
        let first = start("first", of(|zone| &zone.first));
        let second = start("second", of(|zone| &zone.second));
        let forgetful = start("forgetful", of(|zone| &zone.remembered));
        let above = start("above", above(zones));
        let deaf = UdpSocket::bind("127.0.0.1:0").expect("a socket");
        let silent = deaf.local_addr().expect("an address");
        let without_tcp = udp_alone(first);
        let port = free_port().expect("a free port");
        let resolver = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        children.push(unbound(&folder.join("resolver"), port, zones, [first, second, above]));
        let servers = [
            ("ns1.hosting.example", first),
            ("ns2.hosting.example", second),
            ("silent.hosting.example", silent),
            ("udp.hosting.example", without_tcp),
            ("a.nic.example", above),
        ];
        let servers = servers.into_iter().map(|(name, at)| (name.to_owned(), at)).collect();
        let world = Self { children, folder, resolver, forgetful, silent, servers, _deaf: deaf };
        for place in [first, second, forgetful, above, resolver] {
            world.wait_for(place);
        }
        for server in ["first", "second", "forgetful", "above"] {
            let log = fs::read_to_string(world.folder.join(server).join("log")).expect("a log");
            assert!(!log.contains("error"), "{server}: {log}");
        }
        world
    }

    /// The section of a configuration that leads here.
    pub fn section(&self, resolvers: &[SocketAddr]) -> String {
        let resolvers: Vec<String> = resolvers.iter().map(|place| format!("\"{place}\"")).collect();
        let servers: Vec<String> =
            self.servers.iter().map(|(name, place)| format!("\"{name}\" = \"{place}\"")).collect();
        format!(
            "[ready]\nresolvers = [{}]\nservers = {{ {} }}\n",
            resolvers.join(", "),
            servers.join(", ")
        )
    }

    fn wait_for(&self, place: SocketAddr) {
        let ends = Instant::now() + Duration::from_secs(30);
        while TcpStream::connect(place).is_err() {
            let logs = || {
                let log = |name| fs::read_to_string(self.folder.join(name)).unwrap_or_default();
                ["first/log", "above/log", "resolver/log"].map(log).join("\n")
            };
            assert!(Instant::now() < ends, "{place} does not answer: {}", logs());
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for NameWorld {
    fn drop(&mut self) {
        for child in &mut self.children {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// The zones above, with what they say of those below.
fn above(zones: &[ZoneText]) -> Vec<(String, String)> {
    let text = |above: &str| {
        let mut text = format!("{above}. 3600 IN NS a.nic.example.\n");
        for zone in zones.iter().filter(|zone| zone.apex.ends_with(&format!(".{above}"))) {
            for server in &zone.delegated {
                text.push_str(&format!("{}. 3600 IN NS {server}.\n", zone.apex));
            }
        }
        text
    };
    ABOVE.iter().map(|above| ((*above).to_owned(), text(above))).collect()
}

fn nsd(folder: &Path, port: u16, zones: &[(String, String)]) -> Child {
    fs::create_dir_all(folder).expect("a folder");
    let shown = folder.display();
    let mut text = format!(
        "server:\n ip-address: 127.0.0.1\n port: {port}\n username: \"\"\n server-count: 1\n \
         database: \"\"\n zonesdir: \"{shown}\"\n pidfile: \"{shown}/pid\"\n xfrdfile: \
         \"{shown}/xfrd\"\n zonelistfile: \"{shown}/list\"\n xfrdir: \"{shown}\"\n\
         remote-control:\n control-enable: no\n"
    );
    for (apex, records) in zones {
        text.push_str(&format!("zone:\n name: \"{apex}\"\n zonefile: \"{apex}.zone\"\n"));
        let start = match records.contains(" SOA ") {
            true => String::new(),
            false => {
                format!("{apex}. 3600 IN SOA ns1.hosting.example. keeper.{apex}. 1 60 60 60 60\n")
            }
        };
        fs::write(folder.join(format!("{apex}.zone")), format!("{start}{records}"))
            .expect("a zone");
    }
    fs::write(folder.join("nsd.conf"), text).expect("a configuration");
    Command::new("/usr/sbin/nsd")
        .args(["-d", "-c"])
        .arg(folder.join("nsd.conf"))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(fs::File::create(folder.join("log")).expect("a log"))
        .spawn()
        .expect("nsd starts; scripts/test installs it")
}

fn unbound(folder: &Path, port: u16, zones: &[ZoneText], asked: [SocketAddr; 3]) -> Child {
    fs::create_dir_all(folder).expect("a folder");
    let shown = folder.display();
    let mut text = format!(
        "server:\n interface: 127.0.0.1@{port}\n username: \"\"\n chroot: \"\"\n directory: \
         \"{shown}\"\n pidfile: \"\"\n use-syslog: no\n logfile: \"\"\n do-not-query-localhost: \
         no\n module-config: \"iterator\"\n num-threads: 1\n access-control: 127.0.0.0/8 allow\n \
         do-ip6: no\n"
    );
    for above in ABOVE {
        text.push_str(&format!(" local-zone: \"{above}.\" nodefault\n"));
    }
    text.push_str("remote-control:\n control-enable: no\n");
    let [first, second, above] = asked;
    let at = |place: SocketAddr| format!(" stub-addr: 127.0.0.1@{}\n", place.port());
    for name in ABOVE {
        text.push_str(&format!("stub-zone:\n name: \"{name}\"\n{}", at(above)));
    }
    for zone in zones {
        let places = [(first, &zone.first), (second, &zone.second)];
        let known = places.into_iter().filter(|(_, text)| text.is_some());
        let places: String = known.map(|(place, _)| at(place)).collect();
        if !places.is_empty() {
            text.push_str(&format!("stub-zone:\n name: \"{}\"\n{places}", zone.apex));
        }
    }
    fs::write(folder.join("unbound.conf"), text).expect("a configuration");
    Command::new("/usr/sbin/unbound")
        .args(["-d", "-c"])
        .arg(folder.join("unbound.conf"))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(fs::File::create(folder.join("log")).expect("a log"))
        .spawn()
        .expect("unbound starts; scripts/test installs it")
}

/// A server that is asked over UDP alone: what comes is handed on, and nobody listens on TCP.
fn udp_alone(behind: SocketAddr) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").expect("a socket");
    let place = socket.local_addr().expect("an address");
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok((length, from)) = socket.recv_from(&mut buffer) {
            let ask = || -> std::io::Result<Vec<u8>> {
                let asking = UdpSocket::bind("127.0.0.1:0")?;
                asking.set_read_timeout(Some(Duration::from_secs(5)))?;
                asking.send_to(&buffer[..length], behind)?;
                let mut answer = vec![0; 4096];
                let length = asking.recv(&mut answer)?;
                answer.truncate(length);
                Ok(answer)
            };
            if let Ok(answer) = ask() {
                let _ = socket.send_to(&answer, from);
            }
        }
    });
    place
}
