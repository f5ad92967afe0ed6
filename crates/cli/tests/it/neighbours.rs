//! Two sites that live side by side: in one folder of a host, in one database.

use super::PROGRAM;
use super::zoo::two_sites;
use fernweh_demo::database::Place;
use fernweh_demo::server::Server;
use fernweh_testkit::{
    FTP_LOGIN, FtpHost, SshHost, Workspace, database_cells, mariadb_client, new_database,
};
use std::fs;

#[test]
fn two_folders_beside_each_other_are_two_places() {
    for way in ["local", "sftp", "ftp"] {
        let workspace = Workspace::new(PROGRAM);
        let (ssh, ftp);
        for (folder, text) in [("one", "the page"), ("two", "another")] {
            workspace.write(&format!("www/{folder}/index.html"), text);
        }
        std::os::unix::fs::symlink("one", workspace.path("www/link")).unwrap();
        let mut more = String::new();
        let place: Box<dyn Fn(&str) -> String> = match way {
            "sftp" => {
                ssh = SshHost::start(&workspace.path("ssh-host"), "");
                workspace.write(".ssh/known_hosts", &ssh.known);
                more = format!("key = \"{}\"", ssh.key.display());
                Box::new(|name| ssh.files(&workspace.path(&format!("www/{name}"))))
            }
            "ftp" => {
                let root = workspace.folder();
                ftp = FtpHost::start(&workspace.path("ftp-host"), root, None, "");
                workspace.write("ftp-password", FTP_LOGIN.1);
                more = "password.files = { file = \"ftp-password\" }".into();
                Box::new(|name| ftp.files("ftp", &format!("/www/{name}")))
            }
            _ => Box::new(|name| format!("www/{name}")),
        };
        for (to, same) in [("two", false), ("three", false), ("link", true)] {
            let section =
                |name: &str, place: String| format!("[site.{name}]\nfiles = \"{place}\"\n{more}\n");
            workspace
                .write("fernweh.toml", section("old", place("one")) + &section("new", place(to)));
            let before = fernweh_testkit::files_of(&workspace.path("www"));
            let ran = workspace.run("survey old --for new");
            assert_eq!(before, fernweh_testkit::files_of(&workspace.path("www")), "{way} {to}");
            match same {
                true => ran.code(3).says("the same folder, by another name"),
                false => ran.fine().says("different folders"),
            };
        }
        workspace.write(
            "fernweh.toml",
            ["old", "new"]
                .map(|name| {
                    let place = place(if name == "old" { "one" } else { "two" });
                    format!("[site.{name}]\nfiles = \"{place}\"\n{more}\n")
                })
                .concat(),
        );
        workspace.done("move old new --yes --overwrite");
        assert_eq!(fs::read_to_string(workspace.path("www/two/index.html")).unwrap(), "the page");
    }
}

const TWO_SITES: &str = "CREATE TABLE gp_nights (id int PRIMARY KEY, note varchar(20)); \
     CREATE TABLE gp_objects (id int PRIMARY KEY); CREATE TABLE gp_log (id int); \
     CREATE TABLE np_nights (id int PRIMARY KEY, note varchar(20)); \
     CREATE TABLE np_objects (id int PRIMARY KEY); CREATE TABLE np_extra (id int); \
     INSERT INTO gp_nights VALUES (1, 'of gp'), (2, 'too'); INSERT INTO np_nights VALUES (1, 'of np');";

/// Two sites in databases of MariaDB, with these tables of theirs.
fn bounded(old: (&Place, &str), new: (&Place, &str)) -> Workspace {
    let workspace = two_sites(old.0, new.0);
    let mut text = workspace.read("fernweh.toml");
    for (name, tables) in [("old", old.1), ("new", new.1)] {
        if !tables.is_empty() {
            let head = format!("[site.{name}]");
            text = text.replace(&head, &format!("{head}\ntables = [\"{tables}\"]"));
        }
    }
    workspace.write("fernweh.toml", text);
    workspace
}

#[test]
fn tables_that_are_not_the_sites_are_not_replaced() {
    let [old, new] = ["beside_old", "beside_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&old, TWO_SITES.into());
    mariadb_client(&new, TWO_SITES.into());
    let workspace = bounded((&old, "gp_*"), (&new, "np_*"));
    workspace.done("pack old -o a.tar");
    let before = database_cells(&new);
    for line in [
        "unpack a.tar new",
        "unpack a.tar new --overwrite",
        "unpack a.tar new --overwrite --exactly",
    ] {
        let refused = workspace.run(line).code(2).says("gp_nights").says("nothing was changed");
        refused.says("none of the tables is one of site new").says("--prefix gp_=");
        assert_eq!(before, database_cells(&new), "{line}");
    }
    workspace.run("survey old --for new").code(3).says("gp_nights");
    // With the site's own names they come in beside the others.
    workspace.done("unpack a.tar new --overwrite --prefix gp_=np_");
    let asked = mariadb_client(
        &new,
        "SELECT note FROM np_nights ORDER BY id; SELECT count(*) FROM gp_nights".into(),
    );
    assert_eq!(asked, "of gp\ntoo\n2\n");
}

#[test]
fn several_sites_in_one_database_are_seen_before_a_move() {
    let [old, new] = ["several_old", "several_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&old, TWO_SITES.into());
    mariadb_client(&new, TWO_SITES.into());
    let workspace = bounded((&old, "gp_*"), (&new, ""));
    let ran = workspace.run("survey old --for new").code(3).says("several groups of tables");
    ran.says("found gp_* (3").says("np_* (3 tables)").says("tables = [\"gp_*\"]");
    workspace.run("move old new --yes --overwrite").code(3).says("several groups of tables");
    // One database, other tables: that is no mistake, but one name for two is.
    let workspace = bounded((&old, "gp_*"), (&old, "np_*"));
    let ran =
        workspace.run("survey old --for new").code(3).says("one database, and different tables");
    ran.says("excludes gp_log");
    let workspace = bounded((&old, "gp_*"), (&old, "gp_n*"));
    workspace.run("survey old --for new").code(3).says("the same database");
}

#[test]
fn the_plan_says_what_is_replaced_and_what_stays() {
    let [old, new] = ["plan_old", "plan_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(
        &old,
        "CREATE TABLE gp_nights (id int); INSERT INTO gp_nights VALUES (1)".into(),
    );
    mariadb_client(
        &new,
        "CREATE TABLE gp_nights (id int); INSERT INTO gp_nights VALUES (1), (2); \
        CREATE TABLE gp_extra (id int); CREATE TABLE gp_more (id int)"
            .into(),
    );
    let workspace = bounded((&old, ""), (&new, ""));
    let ran = workspace.done("move old new --rehearse --overwrite");
    assert!(ran.err.contains("1 table with 2 records"), "{}", ran.err);
    assert!(
        ran.err.contains("stays      2 tables that the source does not have: gp_extra, gp_more"),
        "{}",
        ran.err
    );
}
