//! Files and databases of other hosts: SFTP, FTP with and without TLS, through SSH.

use super::ftp::{FTP_PASSWORD, ftp_host};
use super::{PROGRAM, fixture};
use fernweh_demo::host::Authority;
use fernweh_demo::server::Server;
use fernweh_testkit::{
    Engine, Fixture, SshHost, Workspace, database_cells, files_of, shared_server,
};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::{Command, Stdio};
use std::time::Duration;

/// A host of SSH that the fixture's program knows.
pub(super) fn ssh_host(workspace: &Workspace, more: &str) -> SshHost {
    let host = SshHost::start(&workspace.path("ssh-host"), more);
    workspace.write(".ssh/known_hosts", &host.known);
    host
}

pub(super) fn with_key(host: &SshHost) -> String {
    format!("key = \"{}\"", host.key.display())
}

/// A tree with times of whole seconds, as the protocols carry them.
pub(super) fn whole_seconds(tree: BTreeMap<String, String>) -> BTreeMap<String, String> {
    let cut = |text: String| {
        let (mode, rest) = text.split_once(' ').expect("a mode");
        let (time, rest) = rest.split_once(' ').expect("a time");
        format!("{mode} {} {rest}", time.split('.').next().unwrap_or_default())
    };
    tree.into_iter().map(|(path, text)| (path, cut(text))).collect()
}

pub(super) fn without_links(mut tree: BTreeMap<String, String>) -> BTreeMap<String, String> {
    tree.retain(|_, text| !text.contains(" link to "));
    tree
}

/// The same tree without modes and times.
pub(super) fn contents(tree: BTreeMap<String, String>) -> BTreeMap<String, String> {
    let cut = |text: String| text.splitn(3, ' ').nth(2).unwrap_or_default().to_owned();
    tree.into_iter().map(|(path, text)| (path, cut(text))).collect()
}

/// What unpacking on this machine gives, to be compared with.
pub(super) fn unpacked_here(fixture: &Fixture, archive: &str) -> BTreeMap<String, String> {
    fixture.workspace.write(
        "here.toml",
        "[site.here]\nurl = \"https://www.glimmer-point.example\"\nfiles = \"here\"\n",
    );
    fixture.workspace.done(&format!("-c here.toml unpack {archive} here --only files"));
    files_of(&fixture.workspace.path("here"))
}

#[test]
fn a_site_moves_over_sftp_with_its_database_through_ssh() {
    for engine in [Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        // A link that leads nowhere, a name that is not UTF-8, a file of several portions.
        let root = fixture.root("old");
        symlink("nowhere", root.join("gone")).unwrap();
        fs::write(root.join(std::ffi::OsStr::from_bytes(b"caf\xe9.txt")), "au lait").unwrap();
        fs::write(root.join("large.bin"), vec![7; 3 << 20]).unwrap();
        let host = ssh_host(&fixture.workspace, "");
        let more = format!("{}\nthrough = \"{}\"", with_key(&host), host.address());
        fixture.reach_files("old", &host.files(&root), &more);
        fixture.reach_files("new", &host.files(&fixture.root("new")), &more);

        fixture.workspace.done("survey old").says("sftp://");
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));

        assert_eq!(
            whole_seconds(files_of(&fixture.root("new"))).len(),
            files_of(&fixture.root("old")).len() - 1,
            "all but the cache, which is left out"
        );
        let mut here = whole_seconds(unpacked_here(&fixture, archive));
        let mut there = whole_seconds(files_of(&fixture.root("new")));
        // The settings of the destination are written, which gives another time there.
        here.remove("config/site.php");
        there.remove("config/site.php");
        assert_eq!(there, here, "{engine:?}");

        let cells = database_cells(&fixture.new);
        fixture.workspace.done("rewrite new").says("nothing");
        fixture.workspace.done("undo new");
        assert!(!fixture.root("new").exists(), "it was not there before");
        fixture.workspace.done("undo new");
        assert_eq!(database_cells(&fixture.new), cells);
        fixture.workspace.done("undo new --let-go --yes");
        assert!(!fixture.workspace.path("new/.fernweh-htdocs").exists());
    }
}

#[test]
fn a_switch_that_was_broken_off_is_completed_or_taken_back() {
    for within in [false, true] {
        for step in ["switching", "database-switched", "files-switched"] {
            for back in [false, true] {
                let fixture = fixture(Engine::Mariadb);
                let archive = fixture.pack();
                let root = fixture.root("new");
                fs::create_dir_all(&root).unwrap();
                fs::write(root.join("index.php"), "the older page").unwrap();
                let (host, place) = match within {
                    true => (ftp_host(&fixture.workspace, &root, ""), "/"),
                    false => (
                        ftp_host(&fixture.workspace, fixture.workspace.folder(), ""),
                        "/new/htdocs",
                    ),
                };
                fixture.reach_files("new", &host.files("ftp", place), FTP_PASSWORD);
                let line = format!("unpack {archive} new --overwrite");
                fixture.workspace.run_killed_at(&line, step);
                let page = || fs::read_to_string(root.join("index.php")).unwrap();
                if back {
                    fixture.workspace.done("undo new");
                    assert_eq!(page(), "the older page", "{within} {step}");
                    assert!(!root.join("templates").exists());
                } else {
                    fixture.workspace.done(&line);
                    assert_ne!(page(), "the older page", "{within} {step}");
                }
            }
        }
    }
}

#[test]
fn a_host_that_is_not_the_known_one_is_refused_with_its_fingerprint() {
    let fixture = fixture(Engine::Mariadb);
    let host = ssh_host(&fixture.workspace, "");
    fixture.reach_files("old", &host.files(&fixture.root("old")), &with_key(&host));

    fixture.workspace.write(".ssh/known_hosts", "");
    let ran = fixture.workspace.run("survey old").code(3);
    ran.says("is not known").says("SHA256:").says("nothing was changed");

    let other = SshHost::start(&fixture.workspace.path("other-host"), "");
    let key = other.known.split_once(' ').unwrap().1;
    fixture.workspace.write(".ssh/known_hosts", format!("[127.0.0.1]:{} {key}", host.port));
    let ran = fixture.workspace.run("survey old").code(3);
    ran.says("has changed").says("known_hosts, line 1").says("remove that line");
}

#[test]
fn a_login_that_fails_says_what_was_tried_and_what_the_host_takes() {
    let fixture = fixture(Engine::Mariadb);
    let host = ssh_host(&fixture.workspace, "");
    let other = SshHost::start(&fixture.workspace.path("other-host"), "");
    fixture.reach_files("old", &host.files(&fixture.root("old")), &with_key(&other));
    let ran = fixture.workspace.run("survey old").code(3);
    ran.says("cannot log in").says("tried: key").says("publickey");

    // The same by what ~/.ssh/config says about a name.
    let config = format!(
        "Host observatory\n  HostName 127.0.0.1\n  Port {}\n  User {}\n  IdentityFile {}\n",
        host.port,
        host.user,
        host.key.display()
    );
    fixture.workspace.write(".ssh/config", config);
    let text =
        format!("[site.old]\nfiles = \"sftp://observatory{}\"\n", fixture.root("old").display());
    fixture.workspace.write("named.toml", text);
    fixture.workspace.done("-c named.toml pack old --only files -o named.tar");

    // And by way of a jump host.
    let jump = format!(
        "Host dome\n  HostName 127.0.0.1\n  Port {}\n  User {}\n  IdentityFile {}\n\
         Host observatory\n  HostName 127.0.0.1\n  Port {}\n  User {}\n  IdentityFile {}\n  \
         ProxyJump dome\n",
        other.port,
        other.user,
        other.key.display(),
        host.port,
        host.user,
        host.key.display()
    );
    fixture.workspace.write(".ssh/config", jump);
    fixture.workspace.write(".ssh/known_hosts", format!("{}{}", host.known, other.known));
    fixture.workspace.done("-c named.toml pack old --only files -o jumped.tar");
}

#[test]
fn a_host_that_forbids_to_forward_or_to_write_is_told_as_that() {
    let fixture = fixture(Engine::Mariadb);
    let host = ssh_host(&fixture.workspace, "AllowTcpForwarding no\n");
    let more = format!("{}\nthrough = \"{}\"", with_key(&host), host.address());
    fixture.reach_files("old", &host.files(&fixture.root("old")), &more);
    fixture.workspace.run("pack old").code(3).says("the host forbids forwarding");

    let archive = {
        let text = fixture.workspace.read("fernweh.toml");
        fixture.workspace.write("fernweh.toml", text.replace("through = ", "# through = "));
        fixture.pack()
    };
    // A target that is read-only whoever asks: a file where the folder should be made.
    fixture.workspace.write("new", "a file");
    fixture.reach_files("new", &host.files(&fixture.root("new")), &with_key(&host));
    let ran = fixture.workspace.run(&format!("unpack {archive} new")).code(3);
    ran.says("nothing was changed");
    assert_eq!(fixture.workspace.read("new"), "a file");
}

#[test]
fn a_host_that_takes_no_more_bytes_or_has_no_sftp_is_told_as_that() {
    let fixture = fixture(Engine::Mariadb);
    let archive = fixture.pack();
    let server = "/usr/lib/openssh/sftp-server";
    let small = fixture.workspace.path("small-host.sh");
    let script = format!("#!/bin/sh\ntrap '' XFSZ\nulimit -f 1\nexec {server}\n");
    fs::write(&small, script).unwrap();
    fs::set_permissions(&small, fs::Permissions::from_mode(0o755)).unwrap();
    let host = ssh_host(&fixture.workspace, &format!("Subsystem sftp {}\n", small.display()));
    fixture.reach_files("new", &host.files(&fixture.root("new")), &with_key(&host));
    let ran = fixture.workspace.run(&format!("unpack {archive} new")).code(3);
    ran.says("cannot write a file on the host").says("nothing was changed");
    assert!(!fixture.root("new").exists());
    assert!(!fixture.workspace.path("new").exists(), "all is removed, folders on the way too");
    assert!(fixture.database("new").ask("SHOW TABLES").unwrap().is_empty());

    let none =
        SshHost::start(&fixture.workspace.path("no-sftp"), "Subsystem other internal-sftp\n");
    fixture.workspace.write(".ssh/known_hosts", &none.known);
    let text = format!(
        "[site.old]\nfiles = \"{}\"\nkey = \"{}\"\n",
        none.files(&fixture.root("old")),
        none.key.display()
    );
    fixture.workspace.write("none.toml", text);
    let ran = fixture.workspace.run("-c none.toml pack old --only files").code(3);
    ran.says("cannot begin to transfer files over SSH").says("FTP may be");
}

#[test]
fn where_forwarding_is_forbidden_a_copy_hands_on_and_is_removed() {
    let fixture = fixture(Engine::Mariadb);
    fs::create_dir(fixture.workspace.path("room")).unwrap();
    let room = format!("SetEnv TMPDIR={}", fixture.workspace.path("room").display());
    let host = ssh_host(&fixture.workspace, &format!("AllowTcpForwarding no\n{room}\n"));
    let assist = "assist = \"copy-self\"";
    let more = format!("{}\nthrough = \"{}\"\n{assist}", with_key(&host), host.address());
    fixture.reach_files("old", &host.files(&fixture.root("old")), &more);
    // One that a killed run has left an hour ago goes, and others stay.
    for (name, content) in [("fernweh-Ab0Ab0Ab", "fernweh"), ("fernweh-12345678", "another")] {
        fixture.workspace.write(&format!("room/{name}/{content}"), "left");
        let folder = fs::File::open(fixture.workspace.path(&format!("room/{name}"))).unwrap();
        folder.set_modified(std::time::SystemTime::now() - Duration::from_secs(3700)).unwrap();
    }
    fixture.workspace.done("pack old -o copied.tar").says("has copied itself to");
    fs::remove_dir_all(fixture.workspace.path("room/fernweh-12345678")).unwrap();
    fixture.workspace.done("show copied.tar --verify").says("13 tables");
    let left: Vec<_> = fs::read_dir(fixture.workspace.path("room")).unwrap().flatten().collect();
    assert!(left.is_empty(), "{left:?}");

    // A host on which nothing may be started from that folder.
    let noexec = host_without_programs(&fixture.workspace);
    let text = fixture.workspace.read("fernweh.toml");
    let there = text.replace(&host.address(), &noexec.address());
    fixture.workspace.write("fernweh.toml", there);
    fixture.workspace.write(".ssh/known_hosts", format!("{}{}", host.known, noexec.known));
    let key = fs::read(noexec.folder().join("key.pub")).unwrap();
    fs::write(
        noexec.folder().join("key.pub"),
        [key, fs::read(host.public_key()).unwrap()].concat(),
    )
    .unwrap();
    let ran = fixture.workspace.run("pack old -o other.tar").code(3);
    ran.says("Fernweh cannot run on the host").says("no shell here").says("nothing was changed");
}

/// A host whose shell refuses everything.
fn host_without_programs(workspace: &Workspace) -> SshHost {
    let refuse = "ForceCommand echo no shell here; exit 1\nAllowTcpForwarding no\n";
    SshHost::start(&workspace.path("bare-host"), refuse)
}

#[test]
fn files_of_another_host_are_rewritten_and_traced() {
    let fixture = fixture(Engine::Mariadb);
    let host = ssh_host(&fixture.workspace, "");
    fixture.reach_files("old", &host.files(&fixture.root("old")), &with_key(&host));
    let before = files_of(&fixture.root("old"));
    let text = "http://glimmerpoint.example/.well-known/security.txt";
    fixture.workspace.done(&format!("trace old {text}")).says(".well-known/security.txt, line 2");
    let line = "rewrite old --from http://glimmerpoint.example --to https://b.example --only files";
    fixture.workspace.done(&format!("{line} --apply"));
    let changed = fs::read_to_string(fixture.root("old").join(".well-known/security.txt")).unwrap();
    assert!(changed.contains("https://b.example/.well-known"));
    fixture.workspace.done("undo old");
    assert_eq!(contents(files_of(&fixture.root("old"))), contents(before));
}

#[test]
fn a_run_whose_connection_is_cut_goes_on() {
    let fixture = fixture(Engine::Mariadb);
    fs::write(fixture.root("old").join("large.bin"), vec![3; 24 << 20]).unwrap();
    let archive = fixture.pack();
    let host = ssh_host(&fixture.workspace, "");
    fixture.reach_files("new", &host.files(&fixture.root("new")), &with_key(&host));
    let line = format!("unpack {archive} new");
    let ran = fixture.workspace.run_halted_at(&line, "made", || host.cut_connections());
    ran.fine().says("trying again for five minutes");
    let here = contents(unpacked_here(&fixture, archive));
    let mut there = contents(files_of(&fixture.root("new")));
    there.insert("config/site.php".into(), here["config/site.php"].clone());
    assert_eq!(there, here);
    assert!(
        !fixture.workspace.path("new/.fernweh-htdocs").exists() || {
            let names = fs::read_dir(fixture.workspace.path("new/.fernweh-htdocs")).unwrap();
            names.flatten().all(|entry| entry.file_name() == ".htaccess")
        }
    );
}

#[test]
fn a_mariadb_server_without_encryption_is_refused_where_it_is_wanted() {
    let fixture = fixture(Engine::Mariadb);
    let text = fixture.workspace.read("fernweh.toml");
    let wanted = "files = \"old/htdocs\"\nencrypted = true\n";
    fixture.workspace.write("fernweh.toml", text.replacen("files = \"old/htdocs\"\n", wanted, 1));
    let ran = fixture.workspace.run("pack old").code(3);
    ran.says("the server offers no encryption").says("nothing was changed");
}

#[test]
fn a_database_is_reached_with_tls_and_its_certificate_is_checked() {
    let fixture = Fixture::build(PROGRAM, Engine::Postgres);
    let text = fixture.workspace.read("fernweh.toml");
    let encrypted =
        text.replacen("files = \"old/htdocs\"\n", "files = \"old/htdocs\"\nencrypted = true\n", 1);
    fixture.workspace.write("fernweh.toml", encrypted);
    // This server has no certificate: the connection is refused, not made without one.
    let ran = fixture.workspace.run("pack old").code(3);
    ran.says("TLS").says("nothing was changed");

    let authority = Authority::new().unwrap();
    let (certificate, key) = authority.issue("localhost").unwrap();
    let server = shared_server(Server::Postgres).lock().unwrap();
    let mut admin = server.administrator().unwrap();
    for (name, pem) in [("tls.crt", certificate), ("tls.key", key)] {
        // Written by the server itself, which wants to own its key.
        admin
            .run(
                format!(
                    "COPY (SELECT unnest(string_to_array('{pem}', E'\\n'))) \
                     TO PROGRAM 'cat > {name} && chmod 600 {name}'"
                )
                .as_bytes(),
            )
            .unwrap();
    }
    for set in ["ssl_cert_file = 'tls.crt'", "ssl_key_file = 'tls.key'", "ssl = on"] {
        admin.run(format!("ALTER SYSTEM SET {set}").as_bytes()).unwrap();
    }
    admin.run(b"SELECT pg_reload_conf()").unwrap();
    while server.administrator().unwrap().ask("SHOW ssl").unwrap()[0][0].as_deref() != Some("on") {}
    drop(server);
    let text = fixture.workspace.read("fernweh.toml").replace("@127.0.0.1:", "@localhost:");
    fixture.workspace.write("fernweh.toml", text);
    // Nobody vouches for it, and then somebody does.
    fixture.workspace.run("pack old").code(3).says("certificate").says("nothing was changed");
    fixture.workspace.write("authority.pem", &authority.certificate);
    fixture.workspace.done("pack old -o encrypted.tar").says("13 tables");
}

/// One connection reads more than fits on the way while another one of the same host waits for
/// its answer.
#[test]
fn large_tables_are_read_and_changed_at_once_through_ssh() {
    for engine in [Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let host = ssh_host(&fixture.workspace, "");
        let more = format!("{}\nthrough = \"{}\"", with_key(&host), host.address());
        fixture.reach_files("old", &host.files(&fixture.root("old")), &more);
        let rows = match engine {
            Engine::Mariadb => {
                "SELECT seq, concat('http://far.example/', repeat('seen ', 300)) \
                 FROM seq_1_to_10000"
            }
            _ => {
                "SELECT n, 'http://far.example/' || repeat(md5(n::text), 50) \
                 FROM generate_series(1, 10000) n"
            }
        };
        for sql in [
            "CREATE TABLE gp_wide (id int PRIMARY KEY, note text)",
            &format!("INSERT INTO gp_wide {rows}"),
        ] {
            fixture.database("old").run(sql.as_bytes()).unwrap();
        }
        let line = "rewrite old --from http://far.example --to http://near.example --apply";
        fixture.workspace.done(&format!("{line} --only database")).says("10000");
        let left = "SELECT count(*) FROM gp_wide WHERE note LIKE '%far.example%'";
        assert_eq!(fixture.database("old").ask(left).unwrap()[0][0].as_deref(), Some("0"));
        fixture.workspace.done("pack old -o wide.fernweh.tar --only database");
    }
}

#[test]
fn a_socket_of_the_host_is_reached_and_names_in_known_hosts_may_be_hashed() {
    let fixture = fixture(Engine::Mariadb);
    let host = ssh_host(&fixture.workspace, "");
    let hashed = Command::new("ssh-keygen")
        .args(["-q", "-H", "-f"])
        .arg(fixture.workspace.path(".ssh/known_hosts"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    assert!(hashed.unwrap().success());
    assert!(fixture.workspace.read(".ssh/known_hosts").starts_with("|1|"));
    let more = format!("{}\nthrough = \"{}\"", with_key(&host), host.address());
    fixture.reach_files("old", &host.files(&fixture.root("old")), &more);
    let socket = fixture.database("old").ask("SELECT @@socket").unwrap()[0][0].clone().unwrap();
    let text = fixture.workspace.read("fernweh.toml");
    let place = text.lines().find(|line| line.starts_with("database = \"mariadb:")).unwrap();
    let by_socket = format!("{}?socket={socket}\"", place.strip_suffix('"').unwrap());
    fixture.workspace.write("fernweh.toml", text.replacen(place, &by_socket, 1));
    fixture.workspace.done("survey old").says("13 tables");
    let by_socket = fixture.workspace.read("fernweh.toml");
    fixture.workspace.write("fernweh.toml", by_socket.replace(&socket, "/nowhere"));
    fixture.workspace.run("survey old").code(3).says("the socket /nowhere").says("through SSH");

    // Where forwarding to sockets is forbidden, a copy of the program hands on.
    let strict =
        SshHost::start(&fixture.workspace.path("strict-host"), "AllowStreamLocalForwarding no\n");
    fixture.workspace.write(".ssh/known_hosts", &strict.known);
    let there = by_socket
        .replace(&host.address(), &strict.address())
        .replace(&host.key.display().to_string(), &strict.key.display().to_string())
        .replace(&format!(":{}/", host.port), &format!(":{}/", strict.port));
    fixture.workspace.write("fernweh.toml", &there);
    fixture.workspace.run("survey old").code(3).says("forwarding to sockets").says("copy-self");
    let assist = there.replacen("through = ", "assist = \"copy-self\"\nthrough = ", 1);
    fixture.workspace.write("fernweh.toml", assist);
    fixture.workspace.done("survey old").says("13 tables");
}

#[test]
fn files_are_read_and_rewritten_while_connections_break_again_and_again() {
    let fixture = fixture(Engine::Mariadb);
    fs::write(fixture.root("old").join("large.bin"), vec![3; 24 << 20]).unwrap();
    for n in 0..300 {
        fixture.workspace.write(&format!("old/htdocs/many/{n}.txt"), format!("night {n}"));
    }
    let expected = contents(files_of(&fixture.root("old")));
    let host = ssh_host(&fixture.workspace, "");
    fixture.reach_files("old", &host.files(&fixture.root("old")), &with_key(&host));
    let line = "pack old -o cut.tar --only files";
    let cutting = |line: &str| {
        let done = std::sync::atomic::AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                // Each time something new has begun; four times at most, for each step has five.
                for _ in 0..4 {
                    if done.load(std::sync::atomic::Ordering::SeqCst) {
                        return;
                    }
                    std::thread::sleep(Duration::from_millis(300));
                    host.cut_connections();
                }
            });
            let ran = fixture.workspace.run(line);
            done.store(true, std::sync::atomic::Ordering::SeqCst);
            ran
        })
    };
    cutting(line).fine();
    fixture.workspace.done("show cut.tar --verify");
    fixture.workspace.done("unpack cut.tar new --as-is --only files");
    let mut there = contents(files_of(&fixture.root("new")));
    let mut here = expected;
    here.retain(|path, _| !path.starts_with("cache/"));
    // The settings are those of the destination.
    for tree in [&mut here, &mut there] {
        tree.remove("config/site.php");
    }
    assert_eq!(here, there);
    let rewriting = "rewrite old --from http://glimmerpoint.example --to http://third.example --apply --only files";
    cutting(rewriting).fine();
    fixture.workspace.done("undo old");
}
