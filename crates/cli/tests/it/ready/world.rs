//! Everything that a domain meets on its way from one host to another, on this machine: name
//! servers, a resolver, an old host and a new one. Each situation has a domain of its own.

use super::super::PROGRAM;
use fernweh_demo::server::free_port;
use fernweh_testkit::{Issuing, NameWorld, Nginx, Signer, Wanted, Workspace, ZoneText};
use serde_json::Value;
use std::collections::BTreeMap;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::thread;

/// Where the old host is, …
pub const OLD: &str = "127.0.0.2";
/// … the new one, …
pub const NEW: &str = "127.0.0.1";
/// … and something that is neither.
pub const PROXY: &str = "127.0.0.3";

/// Records of the zone as they are usual: the site on one host, mail somewhere else.
pub fn zone_on(host: &str) -> String {
    format!(
        "@ 300 IN NS ns1.hosting.example.\n@ 300 IN NS ns2.hosting.example.\n@ 300 IN A {host}\n\
         www 300 IN A {host}\n@ 300 IN MX 10 mail.post.example.\n"
    )
}

/// The zone with a higher serial number, as a server has it that has taken a change over.
pub fn newer(text: &str) -> String {
    format!("@ 300 IN SOA ns1.hosting.example. keeper.DOMAIN. 2 60 60 60 60\n{text}")
}

/// One domain and its two hosts.
#[derive(Clone)]
pub struct Situation {
    /// What it is called; the domain is made of it.
    pub name: &'static str,
    /// The zone on the first name server, on the second, and what a resolver remembers.
    pub zone: [Option<String>; 3],
    /// The name servers that the zone above names.
    pub delegated: Vec<&'static str>,
    /// What nginx says over http (inside of `server`).
    pub http: String,
    /// What it says for the name without `www`.
    pub twin: String,
    /// What it says for the site's own name.
    pub own: String,
    /// The certificate.
    pub certificate: &'static str,
    /// The old host's servers; nothing where it does not matter.
    pub old: String,
    /// Files of the site: path and content.
    pub files: Vec<(&'static str, String)>,
    /// More lines of `[site.new]`.
    pub more: String,
    /// The address of the old site.
    pub old_url: &'static str,
    /// More options.
    pub options: &'static str,
    /// The question that is answered.
    pub question: &'static str,
    /// What does not pass: verdict and code.
    pub expected: &'static [&'static str],
}

/// One in which everything is as it should be before the switch.
pub fn before(name: &'static str) -> Situation {
    Situation {
        name,
        zone: [Some(zone_on(OLD)), Some(zone_on(OLD)), None],
        delegated: vec!["ns1.hosting.example", "ns2.hosting.example"],
        http: "return 301 https://www.DOMAIN$request_uri;".into(),
        twin: "return 301 https://www.DOMAIN$request_uri;".into(),
        own: "location / { try_files $uri $uri/ =404; }".into(),
        certificate: "good",
        old: String::new(),
        files: Vec::new(),
        more: String::new(),
        old_url: "http://www.DOMAIN",
        options: "",
        question: "before",
        expected: &[],
    }
}

/// The same after the switch.
pub fn after(name: &'static str) -> Situation {
    Situation {
        zone: [Some(zone_on(NEW)), Some(zone_on(NEW)), None],
        own: "add_header Strict-Transport-Security \"max-age=31536000\"; \
              location / { try_files $uri $uri/ =404; }"
            .into(),
        question: "after",
        ..before(name)
    }
}

impl Situation {
    /// Other records on both name servers.
    pub fn zone(mut self, text: &str) -> Self {
        self.zone[0] = Some(text.to_owned());
        self.zone[1] = Some(text.to_owned());
        self
    }

    /// More records on both name servers.
    pub fn records(mut self, more: &str) -> Self {
        for text in self.zone[..2].iter_mut().flatten() {
            text.push_str(more);
        }
        self
    }

    /// Other records in place of those that hold these words.
    pub fn replaced(mut self, old: &str, new: &str) -> Self {
        for text in self.zone[..2].iter_mut().flatten() {
            assert!(text.contains(old), "{}: {old}", self.name);
            *text = text.replace(old, new);
        }
        self
    }

    /// Another file of the site.
    pub fn file(mut self, path: &'static str, content: &str) -> Self {
        self.files.push((path, content.into()));
        self
    }

    /// The first page with these elements in its head.
    pub fn head(self, elements: &str) -> Self {
        self.file("index.html", &page(elements))
    }

    /// More of what nginx says for the site's own name.
    pub fn own(mut self, more: &str) -> Self {
        self.own = format!("{more} {}", self.own);
        self
    }

    pub fn expect(mut self, expected: &'static [&'static str]) -> Self {
        self.expected = expected;
        self
    }

    pub fn with(mut self, change: impl FnOnce(&mut Self)) -> Self {
        change(&mut self);
        self
    }

    pub fn domain(&self) -> String {
        format!("{}.example", self.name)
    }
}

fn page(elements: &str) -> String {
    format!(
        "<!DOCTYPE html><html><head><title>Glimmer Point</title>{elements}</head><body>\
         <p>Observing nights.</p><a href=\"/about.html\">about</a>\
         <img src=\"/pictures/dome.png\" alt=\"\"></body></html>"
    )
}

/// The running world.
pub struct World {
    pub names: NameWorld,
    _folder: tempfile::TempDir,
    pub issuing: Issuing,
    pub http: u16,
    pub https: u16,
    /// TLS as it was long ago.
    pub ancient: u16,
    pub old: u16,
    /// Accepts connections and says nothing.
    pub hanging: u16,
    _nginx: Nginx,
}

/// A port at which connections are accepted, and nothing is said.
fn hanging() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        let held: Vec<_> = listener.incoming().collect();
        drop(held);
    });
    port
}

impl World {
    pub fn start(situations: &[Situation]) -> Self {
        let folder = tempfile::Builder::new().prefix("fw").tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let issuing = Issuing::new(&root.join("certificates"));
        let certificates = certificates(&issuing, situations);
        let [http, https, ancient, old] = [(); 4].map(|()| free_port().unwrap());
        let mut servers = String::new();
        for situation in situations {
            let domain = situation.domain();
            let site = root.join("sites").join(situation.name);
            let mut files = vec![
                ("index.html", page(&format!("<link rel=canonical href=https://www.{domain}/>"))),
                ("about.html", page("")),
                ("pictures/dome.png", "a picture".into()),
            ];
            files.extend(situation.files.clone());
            for (path, content) in files {
                let path = site.join(path);
                std::fs::create_dir_all(path.parent().unwrap()).unwrap();
                std::fs::write(path, content.replace("DOMAIN", &domain)).unwrap();
            }
            let (chain, key) = &certificates[situation.certificate];
            let (chain, key, shown) = (chain.display(), key.display(), site.display());
            let tls = format!("ssl_certificate {chain}; ssl_certificate_key {key};");
            let at = |port: u16| format!("listen {NEW}:{port} ssl; listen {PROXY}:{port} ssl;");
            let old_tls =
                "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers \"DEFAULT:@SECLEVEL=0\";";
            let is_ancient = situation.more.contains("ANCIENT");
            let (listen, more) = match is_ancient {
                true => (format!("listen {NEW}:{ancient} ssl;"), old_tls),
                false => (at(https), ""),
            };
            servers.push_str(
                &format!(
                    "server {{ listen {NEW}:{http}; server_name www.DOMAIN DOMAIN; {} }}\n\
                     server {{ {listen} {more} server_name DOMAIN; {tls} {} }}\n\
                     server {{ {listen} {more} server_name www.DOMAIN; {tls} root {shown}; {} }}\n\
                     {}\n",
                    situation.http,
                    situation.twin,
                    situation.own,
                    situation.old.replace("LISTEN", &format!("listen {OLD}:{old};"))
                )
                .replace("DOMAIN", &domain),
            );
        }
        let local = |port| SocketAddr::from(([127, 0, 0, 1], port));
        let nginx = Nginx::start(&root.join("nginx"), &servers, &[local(http), local(https)]);
        let zones: Vec<ZoneText> = situations.iter().map(zone_text).collect();
        let names = NameWorld::start(&root.join("names"), &zones);
        let hanging = hanging();
        Self { names, _folder: folder, issuing, http, https, ancient, old, hanging, _nginx: nginx }
    }

    /// A folder with the configuration of a situation.
    pub fn workspace(&self, situation: &Situation) -> Workspace {
        let space = Workspace::new(PROGRAM);
        let domain = situation.domain();
        let resolvers = match situation.zone[2] {
            Some(_) => vec![self.names.resolver, self.names.forgetful],
            None => vec![self.names.resolver],
        };
        let resolvers = match situation.more.contains("DEAF") {
            true => vec![self.names.silent],
            false => resolvers,
        };
        let mut more = situation.more.clone();
        let https = if more.contains("ANCIENT") { self.ancient } else { self.https };
        let https = if more.contains("HANGING") { self.hanging } else { https };
        for word in ["ANCIENT", "DEAF", "HANGING"] {
            more = more.replace(word, "");
        }
        let connect = match more.contains("UNKNOWN") {
            true => String::new(),
            false => format!(
                "connect-to = \"{NEW}:{https}\"\nconnect-to-http = \"{NEW}:{}\"\n",
                self.http
            ),
        };
        more = more.replace("UNKNOWN", "");
        let authority = self.issuing.authority();
        let ready = self.names.section(&resolvers);
        space.write(
            "fernweh.toml",
            format!(
                "[site.old]\nurl = \"{}\"\nconnect-to = \"{OLD}:{}\"\n\n[site.new]\nurl = \
                 \"https://www.DOMAIN\"\n{connect}authority = \"{}\"\nfinal = true\n{more}\n\n{ready}",
                situation.old_url,
                self.old,
                authority.display(),
            )
            .replace("DOMAIN", &domain),
        );
        space
    }

    /// The report of a situation.
    pub fn looked(&self, situation: &Situation) -> Value {
        let space = self.workspace(situation);
        let checks = "--check name --check certificate --check redirects --check search \
                      --check security --check mail --check time";
        let checks = if situation.options.contains("--check") { "" } else { checks };
        let from = if situation.options.contains("--no-old") { "" } else { "--from old" };
        let options = situation.options.replace("--no-old", "");
        let line = format!("ready new {from} {options} {checks} --json");
        let ran = space.run(&line);
        let report: Value = serde_json::from_str(&ran.out)
            .unwrap_or_else(|error| panic!("{}: {error} {ran:?}", situation.name));
        let ready = report["ready"].as_bool();
        assert_eq!(ran.code, Some(if ready == Some(true) { 0 } else { 1 }), "{ran:?}");
        report
    }
}

fn zone_text(situation: &Situation) -> ZoneText {
    let apex = situation.domain();
    let whole = |text: &Option<String>| {
        let text = text.as_ref()?;
        let start = match text.contains(" SOA ") {
            true => String::new(),
            false => format!("@ 300 IN SOA ns1.hosting.example. keeper.{apex}. 1 60 60 60 60\n"),
        };
        Some(format!("$ORIGIN {apex}.\n{start}{}", text.replace("DOMAIN", &apex)))
    };
    let [first, second, remembered] = situation.zone.each_ref().map(whole);
    let delegated = situation.delegated.iter().map(|name| (*name).to_owned()).collect();
    ZoneText { apex, first, second, remembered, delegated }
}

type Paths = (PathBuf, PathBuf);

/// Every certificate that a situation wants.
fn certificates(issuing: &Issuing, situations: &[Situation]) -> BTreeMap<&'static str, Paths> {
    let of = |wanted: &str| -> Vec<String> {
        let users = situations.iter().filter(|situation| situation.certificate == wanted);
        users.flat_map(|one| [format!("www.{}", one.domain()), one.domain()]).collect()
    };
    let kinds: [(&'static str, Wanted); 14] = [
        ("good", Wanted::default()),
        ("expired", Wanted { days: Some((-90, -2)), ..Wanted::default() }),
        ("not-yet", Wanted { days: Some((3, 90)), ..Wanted::default() }),
        ("soon", Wanted { days: Some((-80, 10)), ..Wanted::default() }),
        ("not-sent", Wanted { signer: Signer::BetweenNotSent, ..Wanted::default() }),
        ("wrong-sent", Wanted { signer: Signer::BetweenWrongSent, ..Wanted::default() }),
        ("unknown", Wanted { signer: Signer::Unknown, ..Wanted::default() }),
        ("itself", Wanted { signer: Signer::Itself, ..Wanted::default() }),
        ("staple", Wanted { must_staple: true, ..Wanted::default() }),
        ("short", Wanted { weak: Some((1024, false)), ..Wanted::default() }),
        ("sha1", Wanted { weak: Some((2048, true)), ..Wanted::default() }),
        ("without-twin", Wanted::default()),
        ("wildcard", Wanted::default()),
        ("other", Wanted::default()),
    ];
    let issued = kinds.into_iter().map(|(kind, mut wanted)| {
        wanted.names = of(kind);
        match kind {
            "without-twin" => wanted.names.retain(|name| name.starts_with("www.")),
            // One label and no more: the bare name is not covered.
            "wildcard" => wanted.names.iter_mut().for_each(|name| {
                *name = format!("*.{}", name.trim_start_matches("www."));
            }),
            "other" => wanted.names = vec!["somebody.example".into()],
            _ => {}
        }
        if wanted.names.is_empty() {
            wanted.names.push("nobody.example".into());
        }
        (kind, issuing.issue(kind, &wanted))
    });
    issued.collect()
}

/// What does not pass, as `verdict code`, sorted.
pub fn not_passed(report: &Value) -> Vec<String> {
    let checks = report["checks"].as_array().unwrap().iter();
    let bad = checks.filter(|check| check["verdict"] != "passed");
    let words = |value: &Value| value.as_str().unwrap().to_owned();
    let mut found: Vec<String> =
        bad.map(|one| format!("{} {}", words(&one["verdict"]), words(&one["code"]))).collect();
    found.sort();
    found
}
