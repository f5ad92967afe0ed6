//! Files of other hosts over FTP, with TLS and without, on servers of several habits.

use super::fixture;
use super::hosts::{contents, unpacked_here, whole_seconds, without_links};
use fernweh_demo::host::Authority;
use fernweh_testkit::{Engine, FTP_LOGIN, FtpHost, FtpServer, OtherFtp, Workspace, files_of};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

pub(super) const FTP_PASSWORD: &str = "password.files = { file = \"ftp-password\" }";

pub(super) fn ftp_host(workspace: &Workspace, root: &Path, more: &str) -> FtpHost {
    workspace.write("ftp-password", FTP_LOGIN.1);
    FtpHost::start(&workspace.path("ftp-host"), root, None, more)
}

#[test]
fn a_site_moves_over_ftp_with_and_without_tls_and_facts() {
    let authority = Authority::new().unwrap();
    for (scheme, more) in [("ftps", ""), ("ftp", ""), ("ftp", "FactsAdvertise off\n")] {
        let fixture = fixture(Engine::Mariadb);
        let (certificate, key) = authority.issue("localhost").unwrap();
        fixture.workspace.write("authority.pem", &authority.certificate);
        fixture.workspace.write("host.pem", certificate);
        fixture.workspace.write("host-key.pem", key);
        let (certificate, key) =
            (fixture.workspace.path("host.pem"), fixture.workspace.path("host-key.pem"));
        let tls = (scheme == "ftps").then_some((certificate.as_path(), key.as_path()));
        fixture.workspace.write("ftp-password", FTP_LOGIN.1);
        let folder = fixture.workspace.path("ftp-host");
        let host = FtpHost::start(&folder, fixture.workspace.folder(), tls, more);
        fixture.reach_files("old", &host.files(scheme, "/old/htdocs"), FTP_PASSWORD);
        fixture.reach_files("new", &host.files(scheme, "/new/htdocs"), FTP_PASSWORD);

        let archive = fixture.pack();
        let ran = fixture.workspace.done(&format!("unpack {archive} new"));
        if !more.is_empty() {
            // With facts, this host shows a link as what it leads to.
            ran.says("links; they are left out");
        }

        let here = contents(without_links(unpacked_here(&fixture, archive)));
        let mut there = contents(files_of(&fixture.root("new")));
        there.insert("config/site.php".into(), here["config/site.php"].clone());
        assert_eq!(there, here, "{scheme} {more}");
        let about = fs::metadata(fixture.root("new").join("bin/nightly.sh")).unwrap();
        assert_eq!(about.permissions().mode() & 0o777, 0o755, "{scheme} {more}");

        fixture.workspace.done("undo new");
        assert!(!fixture.root("new").exists(), "it was not there before");
    }
}

#[test]
fn where_a_login_sees_the_site_alone_its_entries_change_places_one_by_one() {
    let fixture = fixture(Engine::Mariadb);
    let archive = fixture.pack();
    let root = fixture.root("new");
    fs::create_dir_all(root.join("pictures")).unwrap();
    fs::write(root.join("pictures/older.png"), "older").unwrap();
    fs::write(root.join("index.php"), "the older page").unwrap();
    fs::write(root.join("only-here.txt"), "only here").unwrap();
    let before = files_of(&root);
    let host = ftp_host(&fixture.workspace, &root, "");
    fixture.reach_files("new", &host.files("ftp", "/"), FTP_PASSWORD);

    let ran = fixture.workspace.run(&format!("unpack {archive} new")).code(2);
    ran.says("3 entries");
    let ran = fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
    ran.says("does not serve that folder");
    let work = root.join(".fernweh-work");
    assert_eq!(fs::read_to_string(work.join(".htaccess")).unwrap(), "Require all denied\n");
    assert!(!root.join("only-here.txt").exists());
    let visible = |tree: BTreeMap<String, String>| {
        let mut tree = contents(tree);
        tree.retain(|path, _| !path.starts_with(".fernweh-work"));
        tree
    };
    let after = visible(files_of(&root));
    assert!(after.len() > 50);

    // The folder in which states are kept is no part of the site.
    fixture.workspace.done("pack new -o again.tar --only files");
    let names = fixture.workspace.done("show again.tar --verify").out;
    assert!(!names.contains("fernweh-work"));

    fixture.workspace.done("undo new");
    assert_eq!(visible(files_of(&root)), contents(before));
    fixture.workspace.done("undo new");
    assert_eq!(visible(files_of(&root)), after);
    fixture.workspace.done("undo new --let-go --yes");
    assert!(!work.exists());
}

#[test]
fn an_ftp_login_or_certificate_that_is_refused_is_told_as_that() {
    let fixture = fixture(Engine::Mariadb);
    let host = ftp_host(&fixture.workspace, fixture.workspace.folder(), "");
    fixture.reach_files("old", &host.files("ftp", "/old/htdocs"), FTP_PASSWORD);
    fixture.workspace.write("ftp-password", "wrong");
    let ran = fixture.workspace.run("pack old").code(3);
    ran.says("refuses user keeper").says("password.files").says("nothing was changed");

    let authority = Authority::new().unwrap();
    let (certificate, key) = authority.issue("localhost").unwrap();
    fixture.workspace.write("host.pem", certificate);
    fixture.workspace.write("host-key.pem", key);
    let (certificate, key) =
        (fixture.workspace.path("host.pem"), fixture.workspace.path("host-key.pem"));
    let folder = fixture.workspace.path("ftps-host");
    let host = FtpHost::start(&folder, fixture.workspace.folder(), Some((&certificate, &key)), "");
    let text = fixture.workspace.read("fernweh.toml");
    let line = text.lines().find(|line| line.starts_with("files = \"ftp:")).unwrap();
    let secure = format!("files = \"{}\"", host.files("ftps", "/old/htdocs"));
    fixture.workspace.write("fernweh.toml", text.replace(line, &secure));
    fixture.workspace.write("ftp-password", FTP_LOGIN.1);
    fixture.workspace.run("pack old").code(3).says("certificate").says("authority");
}

#[test]
fn ftp_servers_of_other_habits_carry_a_site_and_say_what_they_do_not() {
    for kind in [FtpServer::Vsftpd, FtpServer::Pure] {
        let fixture = fixture(Engine::Mariadb);
        let root = fixture.root("old");
        fs::write(root.join("with space & ümlaut.txt"), "x").unwrap();
        fs::write(root.join("large.bin"), vec![7; 3 << 20]).unwrap();
        fs::create_dir_all(root.join("deep/er/est")).unwrap();
        fs::write(root.join("deep/er/est/.hidden"), "y").unwrap();
        // What both ways are to be, as it is made on this machine alone.
        let here = contents(without_links(unpacked_here(&fixture, fixture.pack())));
        let folder = fixture.workspace.path("other-ftp");
        let host = OtherFtp::start(kind, &folder, fixture.workspace.folder());
        fixture.workspace.write("ftp-password", host.password);
        for name in ["old", "new"] {
            let place = host.files(&format!("/{name}/htdocs"));
            fixture.reach_files(name, &place, FTP_PASSWORD);
        }
        fixture.workspace.done("survey old --for new");
        let archive = "by-ftp.tar";
        fixture.workspace.done(&format!("pack old -o {archive}"));
        fixture.workspace.done(&format!("unpack {archive} new"));
        let mut there = contents(files_of(&fixture.root("new")));
        there.insert("config/site.php".into(), here["config/site.php"].clone());
        assert_eq!(there, here, "{kind:?}");
        let before = whole_seconds(files_of(&fixture.root("new")));
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        fixture.workspace.done("undo new");
        assert_eq!(before, whole_seconds(files_of(&fixture.root("new"))), "{kind:?}");
    }
}
