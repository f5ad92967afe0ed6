//! Certificates that nobody vouches for, as rented hosts show them: named by their SHA-256.

use super::zoo::two_sites;
use super::{PROGRAM, fixture};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::{
    Engine, FTP_LOGIN, FtpHost, Habits, MysqlMask, SshHost, Version, Workspace, new_database,
};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A certificate as a server makes it of itself: an authority (CA:TRUE) without other names.
fn self_made(folder: &Path) -> (PathBuf, PathBuf) {
    std::fs::create_dir_all(folder).unwrap();
    let [certificate, key] = ["tls.crt", "tls.key"].map(|name| folder.join(name));
    let made = Command::new("openssl")
        .args([
            "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "3650", "-subj", "/CN=Auto",
        ])
        .arg("-out")
        .arg(&certificate)
        .arg("-keyout")
        .arg(&key)
        .output()
        .unwrap();
    assert!(made.status.success(), "{made:?}");
    std::fs::set_permissions(&key, std::fs::Permissions::from_mode(0o644)).unwrap();
    (certificate, key)
}

/// Its digest, as OpenSSL tells it.
fn digest(certificate: &Path) -> String {
    let told = Command::new("openssl")
        .args(["x509", "-noout", "-fingerprint", "-sha256", "-in"])
        .arg(certificate)
        .output()
        .unwrap();
    let told = String::from_utf8(told.stdout).unwrap();
    told.trim().split_once('=').unwrap().1.to_owned()
}

/// A server with a certificate of its own, two databases whose users need encryption, and the
/// digest.
fn own_server() -> (tempfile::TempDir, PrivateServer, [Place; 2], String) {
    let folder = tempfile::Builder::new().prefix("fw").tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let (certificate, key) = self_made(&folder.path().join("s"));
    let [shown, key] = [certificate.display(), key.display()];
    let settings = format!("[mysqld]\nssl-cert={shown}\nssl-key={key}\n");
    std::fs::write(folder.path().join("s/my.cnf"), settings).unwrap();
    let server = PrivateServer::start(Server::Mariadb, &folder.path().join("s")).unwrap();
    let places = ["old", "new"].map(|name| {
        let user = format!("u_{name}");
        let place = server.make_database(name, &user, "a-secret").unwrap();
        let made = b"CREATE TABLE nights (id int PRIMARY KEY, note text)";
        Database::open(&place).unwrap().run(made).unwrap();
        let only = format!("ALTER USER '{user}'@'%' REQUIRE SSL");
        server.administrator().unwrap().run(only.as_bytes()).unwrap();
        place
    });
    (folder, server, places, digest(&certificate))
}

/// The configuration with further lines for both sites.
fn with(workspace: &Workspace, plain: &str, lines: &str) {
    let text = ["[site.old]\n", "[site.new]\n"]
        .iter()
        .fold(plain.to_owned(), |text, head| text.replace(head, &format!("{head}{lines}\n")));
    workspace.write("fernweh.toml", text);
}

#[test]
fn a_database_whose_certificate_is_its_own_is_reached_when_that_is_named() {
    let (_folder, server, places, digest) = own_server();
    let workspace = two_sites(&places[0], &places[1]);
    let plain = workspace.read("fernweh.toml");
    workspace.run("survey old").code(3);
    with(&workspace, &plain, "encrypted = true");
    let hexadecimal = digest.replace(':', "").to_lowercase();
    let refused = workspace.run("survey old").code(3).says("certificate");
    refused.says(&hexadecimal[..20]).says("trust = \"sha256:");
    with(&workspace, &plain, &format!("encrypted = true\ntrust = \"sha256:{}\"", "ab".repeat(32)));
    workspace.run("survey old").code(3).says("certificate");
    with(&workspace, &plain, "encrypted = true\ntrust = \"sha1:ab\"");
    workspace.run("survey old").code(2).says("is not the fingerprint of a certificate");
    let trust =
        format!("encrypted = true\ntrust = [\"sha256:{hexadecimal}\", \"sha256:{digest}\"]");
    with(&workspace, &plain, &trust);
    workspace.done("survey old --for new");
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is --overwrite");
    workspace.done("undo new");

    // The same through a login of the host, over which the server sees plain TCP.
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let way = format!("through = \"{}\"\nkey = \"{}\"", host.address(), host.key.display());
    with(&workspace, &plain, &format!("{trust}\n{way}"));
    workspace.done("pack old -o b.tar");
    workspace.done("unpack b.tar new --as-is --overwrite");
    workspace.done("rewrite new --from http://old.example --to http://new.example --apply");
    with(&workspace, &plain, &format!("encrypted = true\n{way}"));
    workspace.run("survey old").code(3).says("certificate").says(&hexadecimal[..20]);
    drop(server);
}

#[test]
fn a_postgres_server_is_reached_encrypted_through_its_host() {
    let folder = tempfile::Builder::new().prefix("fw").tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let server = PrivateServer::start(Server::Postgres, &folder.path().join("s")).unwrap();
    let (certificate, key) = self_made(&folder.path().join("c"));
    let mut admin = server.administrator().unwrap();
    for (name, from) in [("tls.crt", &certificate), ("tls.key", &key)] {
        // Written by the server itself, which wants to own its key.
        let program = format!("cat {} > {name} && chmod 600 {name}", from.display());
        admin.run(format!("COPY (SELECT 1) TO PROGRAM '{program}'").as_bytes()).unwrap();
    }
    for set in ["ssl_cert_file = 'tls.crt'", "ssl_key_file = 'tls.key'", "ssl = on"] {
        admin.run(format!("ALTER SYSTEM SET {set}").as_bytes()).unwrap();
    }
    admin.run(b"SELECT pg_reload_conf()").unwrap();
    while server.administrator().unwrap().ask("SHOW ssl").unwrap()[0][0].as_deref() != Some("on") {}
    let places = ["old", "new"].map(|name| {
        let place = server.make_database(name, &format!("u_{name}"), "a-secret").unwrap();
        let made = b"CREATE TABLE nights (id int PRIMARY KEY, note text)";
        Database::open(&place).unwrap().run(made).unwrap();
        place
    });
    let workspace = two_sites(&places[0], &places[1]);
    let plain = workspace.read("fernweh.toml");
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let way = format!("through = \"{}\"\nkey = \"{}\"", host.address(), host.key.display());
    with(&workspace, &plain, &format!("encrypted = true\n{way}"));
    let digest = digest(&certificate);
    let hexadecimal = digest.replace(':', "").to_lowercase();
    workspace.run("survey old").code(3).says("certificate").says(&hexadecimal[..20]);
    with(&workspace, &plain, &format!("encrypted = true\ntrust = \"sha256:{digest}\"\n{way}"));
    workspace.done("survey old --for new");
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is --overwrite");
    drop(server);
}

#[test]
fn a_login_through_a_host_is_that_of_tcp_where_the_server_sees_tcp() {
    let places = ["seen_old", "seen_new"].map(|name| new_database(Server::Mariadb, name));
    let Place::Mariadb { port, .. } = places[0] else { unreachable!() };
    let mask = MysqlMask::before(port, Version::V84, Habits::default());
    let workspace = two_sites(&places[0], &places[1]);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let way = format!("through = \"{}\"\nkey = \"{}\"", host.address(), host.key.display());
    let plain =
        workspace.read("fernweh.toml").replace(&format!(":{port}/"), &format!(":{}/", mask.port));
    with(&workspace, &plain, &way);
    workspace.done("survey old --for new");
    assert_eq!(mask.logins(), (2, 2), "in full once each, with the server's key");
}

#[test]
fn files_and_pages_are_reached_by_the_digest_of_a_certificate() {
    let workspace = Workspace::new(PROGRAM);
    let (certificate, key) = self_made(&workspace.path("made"));
    let folder = workspace.path("ftps-host");
    let host = FtpHost::start(&folder, workspace.folder(), Some((&certificate, &key)), "");
    workspace.write("old/index.html", "the page");
    workspace.write("ftp-password", FTP_LOGIN.1);
    let section = format!(
        "[site.old]\nfiles = \"{}\"\ndatabase = \"none\"\npassword.files = {{ file = \"ftp-password\" }}\n",
        host.files("ftps", "/old")
    );
    let digest = digest(&certificate);
    workspace.write("fernweh.toml", &section);
    let hexadecimal = digest.replace(':', "").to_lowercase();
    workspace.run("pack old").code(3).says("certificate").says(&hexadecimal[..20]);
    workspace.write("fernweh.toml", format!("{section}trust = \"sha256:{digest}\"\n"));
    workspace.done("pack old -o a.tar").says("1 file");

    // A page: the failing command prints what is to be named.
    let mut fixture = fixture(Engine::Sqlite);
    let hosts = fixture.serve();
    fixture.workspace.done(&format!("unpack {} new", fixture.pack()));
    let text = fixture.workspace.read("fernweh.toml");
    let (before, after) = text.split_once("[site.new]").unwrap();
    let bare = after.replace("authority = \"authority.pem\"", "");
    fixture.workspace.write("fernweh.toml", format!("{before}[site.new]{bare}"));
    let refused = fixture.workspace.run("scan new --own-only");
    let printed = format!("{}{}", refused.out, refused.err).replace(['\n', ' '], "");
    let digest = &printed.split_once("sha256:").expect("a digest").1[..64];
    let pinned =
        after.replace("authority = \"authority.pem\"", &format!("trust = \"sha256:{digest}\""));
    fixture.workspace.write("fernweh.toml", format!("{before}[site.new]{pinned}"));
    fixture.workspace.run("scan new --own-only").code(1).says("pages");
    drop(hosts);
}

#[test]
fn a_host_that_encrypts_from_the_first_byte_is_reached() {
    let workspace = Workspace::new(PROGRAM);
    let (certificate, key) = self_made(&workspace.path("made"));
    let folder = workspace.path("ftps-host");
    let tls = Some((certificate.as_path(), key.as_path()));
    let host = FtpHost::start(&folder, workspace.folder(), tls, "TLSOptions UseImplicitSSL\n");
    workspace.write("old/index.html", "the page");
    workspace.write("ftp-password", FTP_LOGIN.1);
    let section = |name: &str| {
        format!(
            "[site.{name}]\nfiles = \"{}\"\ndatabase = \"none\"\ntrust = \"sha256:{}\"\n\
             password.files = {{ file = \"ftp-password\" }}\n",
            host.files("ftps", &format!("/{name}")),
            digest(&certificate)
        )
    };
    workspace.write("fernweh.toml", section("old") + &section("new"));
    workspace.done("pack old -o a.tar").says("1 file");
    workspace.done("unpack a.tar new --as-is");
    assert_eq!(workspace.read("new/index.html"), "the page");
}
