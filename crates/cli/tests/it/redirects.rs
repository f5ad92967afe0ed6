//! `fernweh redirects`: every rule is asked of real web servers and lands in one step; what is
//! placed in a site is taken out to the byte.

use super::PROGRAM;
use fernweh_demo::server::free_port;
use fernweh_testkit::{
    Apache, FTP_LOGIN, FtpHost, Issuing, Nginx, SshHost, Wanted, Workspace, files_of,
};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const PAGES: &str = "old,new\n\
    /archive.html,/nights/\n\
    /?p=7,/nights/seven\n\
    /with space/ü.html,/plain\n\
    http://glimmerpoint.example/team,/people?show=all\n\
    # what has moved on leads there at once\n\
    /first,/second\n\
    /second,/third\n";

/// Host, scheme, path with query, and where it leads; nothing where it stays.
const ASKED: [(&str, &str, &str, &str); 25] = [
    ("www.glimmer-point.example", "http", "/", "/"),
    ("www.glimmer-point.example", "http", "/a/b?x=1&y=a%20b", "/a/b?x=1&y=a%20b"),
    ("glimmer-point.example", "http", "/a", "/a"),
    ("glimmer-point.example", "https", "/a%2520b?x", "/a%2520b?x"),
    ("GLIMMER-point.example", "https", "/a//b", "/a//b"),
    ("glimmerpoint.example", "http", "/", "/"),
    ("glimmerpoint.example", "http", "/%C3%BC%20x?q=%2F&q=2", "/%C3%BC%20x?q=%2F&q=2"),
    ("www.glimmerpoint.example", "http", "/a?b", "/a?b"),
    ("www.glimmerpoint.example", "https", "/a?b", "/a?b"),
    // Pages that have moved, on any host.
    ("www.glimmer-point.example", "https", "/archive.html", "/nights/"),
    ("www.glimmer-point.example", "https", "/archive.html?x=1", "/nights/?x=1"),
    ("www.glimmer-point.example", "http", "/archive.html", "/nights/"),
    ("glimmerpoint.example", "http", "/archive.html", "/nights/"),
    ("glimmerpoint.example", "http", "/?p=7", "/nights/seven"),
    ("www.glimmer-point.example", "https", "/with%20space/%c3%bc.html", "/plain"),
    ("glimmerpoint.example", "http", "/team", "/people?show=all"),
    ("glimmerpoint.example", "http", "/first", "/third"),
    // Everything below a folder, by a rule of the configuration.
    ("glimmerpoint.example", "http", "/objects/m31?x=1", "/catalogue/m31?x=1"),
    ("glimmerpoint.example", "http", "/objects", "/catalogue"),
    ("www.glimmerpoint.example", "https", "/objects/", "/catalogue/"),
    // What only begins alike has not moved.
    ("glimmerpoint.example", "http", "/objects2", "/objects2"),
    ("glimmerpoint.example", "http", "/archive.htm", "/archive.htm"),
    // What is right stays, and so does what belongs to somebody else.
    ("www.glimmer-point.example", "https", "/team", ""),
    ("www.glimmer-point.example", "https", "/?p=8", ""),
    ("other.example", "http", "/a", ""),
];

/// The same for a site that moves into a folder of its own host.
const ASKED_BELOW: [(&str, &str, &str, &str); 7] = [
    ("www.glimmer-point.example", "https", "/a?x", "/sub/a?x"),
    ("glimmer-point.example", "http", "/a", "/sub/a"),
    ("glimmer-point.example", "http", "/sub/a?x", "/sub/a?x"),
    ("www.glimmer-point.example", "https", "/subway", "/sub/subway"),
    ("www.glimmer-point.example", "https", "/sub/a", ""),
    ("www.glimmer-point.example", "https", "/sub", ""),
    ("www.glimmer-point.example", "https", "/sub?x", ""),
];

/// What is asked: of a site with another name, and of one that moves into a folder.
const BOTH: [&[(&str, &str, &str, &str)]; 2] = [&ASKED, &ASKED_BELOW];

/// Lets the sites of a workspace be one that moves into a folder.
fn move_into_folder(space: &Workspace) {
    space.write(
        "fernweh.toml",
        "[site.old]\nurl = \"http://glimmer-point.example\"\n\n[site.new]\nurl = \
         \"https://www.glimmer-point.example/sub\"\n",
    );
    space.write("pages.csv", "");
}

/// A workspace with both sites and the list; what is `more` stands in the section of the new one.
fn space(more: &str) -> Workspace {
    let space = Workspace::new(PROGRAM);
    space.write("pages.csv", PAGES);
    space.write(
        "fernweh.toml",
        format!(
            "[site.old]\nurl = \"http://glimmerpoint.example\"\n\n[site.new]\nurl = \
             \"https://www.glimmer-point.example\"\n{more}\n\n[[rule]]\nfrom = \
             \"http://glimmerpoint.example/objects\"\nto = \
             \"https://www.glimmer-point.example/catalogue\"\n"
        ),
    );
    space
}

fn certificate(space: &Workspace) -> (PathBuf, PathBuf) {
    let names = ["www.glimmer-point.example", "glimmer-point.example", "glimmerpoint.example"];
    let names = names.map(str::to_owned).to_vec();
    let issuing = Issuing::new(&space.path("certificates"));
    issuing.issue("site", &Wanted { names, ..Wanted::default() })
}

/// Status and place of an answer, asked with exactly this request line.
fn asked(place: SocketAddr, tls: bool, host: &str, path: &str) -> (u16, String) {
    let request = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
    let answer = match tls {
        false => {
            let mut stream = TcpStream::connect(place).unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
            stream.write_all(request.as_bytes()).unwrap();
            let mut answer = Vec::new();
            stream.read_to_end(&mut answer).unwrap();
            answer
        }
        true => {
            let mut child = Command::new("openssl")
                .args(["s_client", "-quiet", "-connect", &place.to_string(), "-servername", host])
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .stderr(Stdio::null())
                .spawn()
                .unwrap();
            child.stdin.as_mut().unwrap().write_all(request.as_bytes()).unwrap();
            // It ends with its input, before the answer is there.
            let mut answer = Vec::new();
            child.stdout.as_mut().unwrap().read_to_end(&mut answer).unwrap();
            child.wait().unwrap();
            answer
        }
    };
    let text = String::from_utf8_lossy(&answer).into_owned();
    let status = text.split(' ').nth(1).and_then(|it| it.parse().ok());
    let status = status.unwrap_or_else(|| panic!("{host}{path}: {text}"));
    let location = text.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("location").then(|| value.trim().to_owned())
    });
    (status, location.unwrap_or_default())
}

/// Every address, at a server; the differences.
fn each_lands(
    asked: &[(&str, &str, &str, &str)],
    ask: &dyn Fn(&str, bool, &str) -> (u16, String),
) -> Vec<String> {
    let lands = |(host, scheme, path, to): &(&str, &str, &str, &str)| {
        let (status, location) = ask(host, *scheme == "https", path);
        let expected = match to.is_empty() {
            true => String::new(),
            false => format!("https://www.glimmer-point.example{to}"),
        };
        let fine = match to.is_empty() {
            true => !(300..400).contains(&status),
            false => status == 301 && location == expected,
        };
        (!fine).then(|| format!("{scheme}://{host}{path}: {status} {location}, not {expected}"))
    };
    let mut wrong: Vec<String> = asked.iter().filter_map(lands).collect();
    // Authorities that look who has a host are not sent away.
    let (status, _) = ask("glimmerpoint.example", false, "/.well-known/acme-challenge/token");
    if (300..400).contains(&status) {
        wrong.push(format!("a challenge is redirected: {status}"));
    }
    wrong
}

fn rules(space: &Workspace, server: &str) -> String {
    let ran = space.run(&format!("redirects new --from old --pages pages.csv --server {server}"));
    assert_eq!(ran.code, Some(0), "{ran:?}");
    ran.out
}

#[test]
fn every_rule_lands_in_one_step_at_apache() {
    for (number, asked_for) in BOTH.into_iter().enumerate() {
        let space = space("");
        if number == 1 {
            move_into_folder(&space);
        }
        std::fs::set_permissions(space.folder(), PermissionsExt::from_mode(0o755)).unwrap();
        space.write("site/index.html", "<p>Observing nights.</p>");
        space.write("site/.htaccess", rules(&space, "apache"));
        let apache = Apache::start(
            &space.path("apache"),
            &space.path("site"),
            &certificate(&space),
            None,
            "",
        );
        let ask = |host: &str, tls: bool, path: &str| {
            asked(if tls { apache.https } else { apache.http }, tls, host, path)
        };
        assert_eq!(each_lands(asked_for, &ask), [""; 0]);
    }
}

#[test]
fn every_rule_lands_in_one_step_at_nginx() {
    for (number, asked_for) in BOTH.into_iter().enumerate() {
        let space = space("");
        if number == 1 {
            move_into_folder(&space);
        }
        space.write("rules", rules(&space, "nginx"));
        space.write("site/index.html", "<p>Observing nights.</p>");
        let (certificate, key) = certificate(&space);
        let [http, https] =
            [(); 2].map(|()| SocketAddr::from(([127, 0, 0, 1], free_port().unwrap())));
        let servers = format!(
            "server {{ listen {http}; listen {https} ssl; server_name _; ssl_certificate {}; \
         ssl_certificate_key {}; merge_slashes off; root {}; include {}; }}",
            certificate.display(),
            key.display(),
            space.path("site").display(),
            space.path("rules").display()
        );
        let _nginx = Nginx::start(&space.path("nginx"), &servers, &[http, https]);
        let ask = |host: &str, tls: bool, path: &str| {
            asked(if tls { https } else { http }, tls, host, path)
        };
        assert_eq!(each_lands(asked_for, &ask), [""; 0]);
    }
}

/// A server that is ended with the test.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn wait_for(place: SocketAddr) {
    let ends = Instant::now() + Duration::from_secs(30);
    while TcpStream::connect(place).is_err() {
        assert!(Instant::now() < ends, "{place} does not answer");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn every_rule_lands_in_one_step_in_php() {
    for (number, asked_for) in BOTH.into_iter().enumerate() {
        let space = space("");
        if number == 1 {
            move_into_folder(&space);
        }
        space.write("site/rules.php", rules(&space, "php"));
        space.write("site/front.php", "<?php require __DIR__ . '/rules.php'; echo 'the site';");
        let place = SocketAddr::from(([127, 0, 0, 1], free_port().unwrap()));
        let child = Command::new("php")
            .args(["-S", &place.to_string(), "front.php"])
            .current_dir(space.path("site"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let _running = Running(child);
        wait_for(place);
        // It speaks no TLS; what stands before it says so.
        let ask = |host: &str, tls: bool, path: &str| {
            let host =
                if tls { format!("{host}\r\nX-Forwarded-Proto: https") } else { host.to_owned() };
            asked(place, false, &host, path)
        };
        assert_eq!(each_lands(asked_for, &ask), [""; 0]);
    }
}

#[test]
fn every_rule_lands_in_one_step_at_caddy() {
    for (number, asked_for) in BOTH.into_iter().enumerate() {
        let space = space("");
        if number == 1 {
            move_into_folder(&space);
        }
        let (certificate, key) = certificate(&space);
        let [http, https] =
            [(); 2].map(|()| SocketAddr::from(([127, 0, 0, 1], free_port().unwrap())));
        let rules = rules(&space, "caddy");
        space.write(
        "Caddyfile",
        format!(
            "{{\n\tadmin off\n\tauto_https off\n}}\nhttp://:{} {{\n{rules}\nrespond \"the site\"\n}}\n\
             https://:{} {{\ntls {} {}\n{rules}\nrespond \"the site\"\n}}\n",
            http.port(),
            https.port(),
            certificate.display(),
            key.display()
        ),
    );
        let child = Command::new("caddy")
            .args(["run", "--config", "Caddyfile", "--adapter", "caddyfile"])
            .current_dir(space.folder())
            .env("HOME", space.folder())
            .env("XDG_DATA_HOME", space.folder())
            .env("XDG_CONFIG_HOME", space.folder())
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(space.path("log")).unwrap())
            .spawn()
            .unwrap();
        let _running = Running(child);
        wait_for(https);
        let ask = |host: &str, tls: bool, path: &str| {
            asked(if tls { https } else { http }, tls, host, path)
        };
        assert_eq!(each_lands(asked_for, &ask), [""; 0]);
    }
}

/// A site on Apache with a rule file of its own, and where it is.
fn placed_site(without: Option<&str>, more: &str) -> (Workspace, Apache) {
    let space = space("");
    std::fs::set_permissions(space.folder(), PermissionsExt::from_mode(0o755)).unwrap();
    space.write("site/index.html", "<p>Observing nights.</p>");
    space.write("site/.htaccess", "# the site's own\nRewriteEngine On\nRewriteRule ^own$ - [G]\n");
    let certificate = certificate(&space);
    let apache =
        Apache::start(&space.path("apache"), &space.path("site"), &certificate, without, more);
    let toml = space.read("fernweh.toml").replace(
        "url = \"https://www.glimmer-point.example\"\n",
        &format!(
            "url = \"https://www.glimmer-point.example\"\nfiles = \"site\"\ndatabase = \"none\"\n\
             connect-to = \"{}\"\nconnect-to-http = \"{}\"\n",
            apache.https, apache.http
        ),
    );
    space.write("fernweh.toml", toml);
    (space, apache)
}

const PLACE: &str = "redirects new --from old --pages pages.csv --place";

#[test]
fn what_is_placed_works_and_is_taken_out_to_the_byte() {
    let (space, apache) = placed_site(None, "");
    let before = files_of(&space.path("site"));
    let ran = space.run(PLACE);
    assert_eq!(ran.code, Some(0), "{ran:?}");
    assert!(ran.out.contains("placed") && !ran.out.contains("failed"), "{}", ran.out);
    let ask = |host: &str, tls: bool, path: &str| {
        asked(if tls { apache.https } else { apache.http }, tls, host, path)
    };
    assert_eq!(each_lands(&ASKED, &ask), [""; 0]);
    // The site's own rules go on.
    assert_eq!(ask("www.glimmer-point.example", true, "/own").0, 410);
    // Repeated, nothing more changes, and there is nothing more to take back.
    let placed = files_of(&space.path("site"));
    let again = space.run(PLACE);
    assert_eq!(again.code, Some(0), "{again:?}");
    assert!(again.out.contains("are there already"), "{}", again.out);
    assert_eq!(files_of(&space.path("site")), placed);
    assert_eq!(space.run("undo new").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
    // Forward again, and out by the command.
    assert_eq!(space.run("undo new").code, Some(0));
    assert_eq!(files_of(&space.path("site")), placed);
    assert_eq!(space.run("redirects new --remove").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
    let none = space.run("redirects new --remove");
    assert!(none.out.contains("there are no redirects"), "{}", none.out);
}

#[test]
fn a_rule_file_is_made_where_there_is_none_and_goes_again() {
    let (space, _apache) = placed_site(None, "");
    std::fs::remove_file(space.path("site/.htaccess")).unwrap();
    let before = files_of(&space.path("site"));
    assert_eq!(space.run(PLACE).code, Some(0));
    let placed = files_of(&space.path("site"));
    assert_ne!(placed, before);
    let made = std::fs::metadata(space.path("site/.htaccess")).unwrap();
    assert_eq!(made.permissions().mode() & 0o777, 0o644);
    for (command, expected) in [
        ("undo new", &before),
        ("undo new", &placed),
        ("redirects new --remove", &before),
        ("undo new", &placed),
        ("undo new", &before),
    ] {
        let ran = space.run(command);
        assert_eq!(ran.code, Some(0), "{command}: {ran:?}");
        assert_eq!(&files_of(&space.path("site")), expected, "{command}");
    }
}

#[test]
fn rules_that_the_web_server_does_not_bear_are_taken_back_at_once() {
    // Without the module a rule file that names its rules outside of a condition would fail; here
    // the server forbids what the lines need.
    let (space, _apache) = placed_site(None, "AllowOverride AuthConfig");
    std::fs::write(space.path("site/.htaccess"), "").unwrap();
    let before = files_of(&space.path("site"));
    let ran = space.run(PLACE);
    assert_eq!(ran.code, Some(3), "{ran:?}");
    assert!(ran.err.contains("the web server fails with what was placed"), "{}", ran.err);
    assert_eq!(files_of(&space.path("site")), before);
}

#[test]
fn rules_that_nobody_follows_are_named() {
    let (space, _apache) = placed_site(None, "AllowOverride None");
    let ran = space.run(PLACE);
    assert_eq!(ran.code, Some(1), "{ran:?}");
    assert!(ran.out.contains("failed") && ran.out.contains("AllowOverride"), "{}", ran.out);
}

#[test]
fn rules_that_could_not_be_asked_are_not_called_working() {
    let (space, apache) = placed_site(None, "");
    drop(apache);
    let ran = space.run(PLACE);
    assert_eq!(ran.code, Some(1), "{ran:?}");
    assert!(ran.out.contains("not checked: the host of"), "{}", ran.out);
    assert_eq!(space.run("undo new").code, Some(0));
}

/// Rules are placed, taken back, brought again and taken out on a host that is far away.
fn far_away(space: &Workspace, files: &str) {
    let toml = space.read("fernweh.toml").replace(
        "url = \"https://www.glimmer-point.example\"\n",
        &format!("url = \"https://www.glimmer-point.example\"\n{files}\ndatabase = \"none\"\n"),
    );
    space.write("fernweh.toml", toml);
    for own in [Some("# the site's own\n"), None] {
        match own {
            Some(text) => space.write("site/.htaccess", text),
            None => std::fs::remove_file(space.path("site/.htaccess")).unwrap(),
        }
        let before = files_of(&space.path("site"));
        // Nobody answers for its pages there.
        let ran = space.run(PLACE);
        assert_eq!(ran.code, Some(1), "{ran:?}");
        assert!(ran.out.contains("placed") && ran.out.contains("not checked"), "{}", ran.out);
        let placed = files_of(&space.path("site"));
        assert_ne!(placed, before);
        assert_eq!(space.run("undo new").code, Some(0));
        assert_eq!(files_of(&space.path("site")), before);
        space.redo("new");
        assert_eq!(files_of(&space.path("site")), placed);
        assert_eq!(space.run("redirects new --remove").code, Some(0));
        assert_eq!(files_of(&space.path("site")), before);
    }
}

#[test]
fn rules_are_placed_over_sftp_and_over_ftp() {
    let of_site = |space: &Workspace| {
        space.write("site/index.html", "<p>Observing nights.</p>");
        space.write("site/.htaccess", "");
    };
    let far = space("");
    of_site(&far);
    let host = SshHost::start(&far.path("ssh-host"), "");
    far.write(".ssh/known_hosts", &host.known);
    let (place, key) = (host.files(&far.path("site")), host.key.display());
    // Its pages are asked where nobody listens.
    let nobody = "connect-to = \"127.0.0.1:9\"\nconnect-to-http = \"127.0.0.1:9\"";
    far_away(&far, &format!("files = \"{place}\"\nkey = \"{key}\"\n{nobody}"));
    let far = space("");
    of_site(&far);
    let host = FtpHost::start(&far.path("ftp-host"), far.folder(), None, "");
    far.write("ftp-password", FTP_LOGIN.1);
    let place = host.files("ftp", "/site");
    let password = "password.files = { file = \"ftp-password\" }";
    far_away(&far, &format!("files = \"{place}\"\n{password}\n{nobody}"));
}

#[test]
fn wrong_lists_are_refused_with_their_line() {
    let space = space("");
    for (list, words) in [
        ("/a,/b\n/a,/c\n", "line 2"),
        ("/a\n", "has 1 fields"),
        ("/a,/a\n", "leads back to itself"),
        ("http://other.example/a,/b\n", "neither the old nor the new site"),
        ("/a,b\n", "neither a path"),
    ] {
        space.write("wrong.csv", list);
        let ran = space.run("redirects new --from old --pages wrong.csv");
        assert_eq!(ran.code, Some(2), "{list}: {ran:?}");
        assert!(ran.err.contains(words), "{list}: {}", ran.err);
    }
    let ran = space.run("redirects new --from old --server nginx --place");
    assert_eq!(ran.code, Some(2), "{ran:?}");
}
