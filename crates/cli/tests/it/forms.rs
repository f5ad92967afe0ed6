//! Settings of sites in many forms, and sites whose settings nobody finds.

use super::PROGRAM;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{FTP_LOGIN, FtpHost, SshHost, Workspace, new_database, php};
use serde_json::json;

/// A site of a program that has a database on a server; `settings` are written in its folder.
fn site(
    settings: &str,
    text: impl Fn(&str, u16, &str, &str, &str) -> String,
) -> (Workspace, [Place; 2]) {
    let workspace = Workspace::new(PROGRAM);
    let places = ["forms_old", "forms_new"].map(|name| new_database(Server::Mariadb, name));
    let sql = b"CREATE TABLE nights (id int PRIMARY KEY); INSERT INTO nights VALUES (1)";
    Database::open(&places[0]).unwrap().run(sql).unwrap();
    let Place::Mariadb { port, name, user, password, .. } = &places[0] else { panic!() };
    workspace.write(settings, text("127.0.0.1", *port, name, user, password));
    workspace.write("old/index.php", "<?php echo 'nights';");
    let Place::Mariadb { port, name, user, password, .. } = &places[1] else { panic!() };
    workspace.write("new-password", password);
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"new\"\n\
             database = \"mariadb://{user}@127.0.0.1:{port}/{name}\"\n\
             password.database = {{ file = \"new-password\" }}\n"
        ),
    );
    (workspace, places)
}

fn variables(host: &str, port: u16, name: &str, user: &str, password: &str) -> String {
    format!(
        "<?php\n$db_host = '{host}:{port}'; $db_name = '{name}';\n$db_user = '{user}'; \
         $db_pass = '{password}';\n"
    )
}

#[test]
fn a_site_moves_whatever_form_its_settings_have() {
    type Form = fn(&str, u16, &str, &str, &str) -> String;
    let forms: [(&str, Form); 4] = [
        ("config/db.php", |host, port, name, user, password| {
            format!(
                "<?php\nreturn ['db' => ['host' => '{host}', 'port' => {port}, 'dbname' => '{name}',\n \
                 'username' => '{user}', 'password' => '{password}']];\n"
            )
        }),
        (".env", |host, port, name, user, password| {
            format!(
                "APP=x\nDATABASE_URL=\"mysql://{user}:{password}@{host}:{port}/{name}?charset=utf8\"\n"
            )
        }),
        ("config.json", |host, port, name, user, password| {
            json!({"a": [1], "database": {"host": host, "port": port.to_string(), "name": name,
                   "user": user, "password": password}})
            .to_string()
        }),
        ("includes/connect.php", |host, port, name, user, password| {
            format!(
                "<?php $db = new PDO('mysql:host={host};port={port};dbname={name}', '{user}', '{password}');"
            )
        }),
    ];
    for (file, form) in forms {
        let (workspace, places) = site(&format!("old/{file}"), form);
        let survey = workspace.done("survey old --json").json();
        assert_eq!(survey["database"]["tables"][0]["name"], "nights", "{file}");
        workspace.done("pack old -o a.tar").says("1 record");
        let report = workspace.done("unpack a.tar new --json").json();
        assert_eq!(report["settings"], json!([file]));
        let Place::Mariadb { port, name, user, password, .. } = &places[1] else { panic!() };
        assert_eq!(
            workspace.read(&format!("new/{file}")),
            form("127.0.0.1", *port, name, user, password)
        );
    }
}

#[test]
fn half_a_site_is_packed_only_if_that_is_said() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/index.php", "<?php require getenv('SECRETS') . '/db.php';");
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"new\"\n");
    workspace.done("survey old").says("warned").says("index.php");
    let refused = workspace.run("pack old -o a.tar").code(2).says("index.php");
    refused.says("\"none\" if it has none").says("--only files").says("nothing was changed");
    assert!(!workspace.path("a.tar").exists());
    workspace.run("move old new --yes --no-scan").code(2).says("index.php");
    workspace.done("pack old -o a.tar --only files");
    let toml = workspace.read("fernweh.toml");
    let none = toml.replace("files = \"old\"", "files = \"old\"\ndatabase = \"none\"");
    workspace.write("fernweh.toml", none);
    workspace.done("pack old -o b.tar");
    assert!(!workspace.done("survey old").out.contains("warned"));
    // A site of pages alone has no database to be missed.
    std::fs::remove_file(workspace.path("old/index.php")).unwrap();
    workspace.write("old/index.html", "nights");
    workspace.write("fernweh.toml", toml);
    workspace.done("pack old -o c.tar");
}

#[test]
fn what_settings_of_another_host_call_their_own_is_never_this_machine() {
    let (workspace, _places) = site("old/settings.php", variables);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let toml = workspace.read("fernweh.toml");
    let place = host.files(&workspace.path("old"));
    let far = format!("files = \"{place}\"\nkey = \"{}\"", host.key.display());
    workspace.write("fernweh.toml", toml.replace("files = \"old\"", &far));
    // It is reached through that host.
    workspace.done("survey old").says("ssh://root@127.0.0.1").says("nights");
    workspace.done("pack old -o a.tar").says("1 record");

    let ftp = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, "");
    workspace.write("ftp-password", FTP_LOGIN.1);
    let far = format!(
        "files = \"{}\"\npassword.files = {{ file = \"ftp-password\" }}",
        ftp.files("ftp", "/old")
    );
    workspace.write("fernweh.toml", toml.replace("files = \"old\"", &far));
    let refused = workspace.run("pack old -o b.tar").code(2);
    refused.says("settings.php lines 2, 3").says("127.0.0.1").says("through");
}

#[test]
fn what_is_written_is_what_other_programs_read() {
    let document = include_str!("../../../../docs/settings.md");
    let new = "a'b\"c\\d$e#f; <&>";
    let mut judged = 0;
    for block in document.split("\n```").filter(|block| block.contains('\n')) {
        let Some((kind @ ("php" | "json"), text)) = block.split_once('\n') else { continue };
        let found = fernweh_core::settings::find(text.as_bytes());
        let Some(connection) = found
            .first()
            .filter(|one| one.value(fernweh_core::settings::Role::Password) == Some("s3cret"))
        else {
            continue;
        };
        let written =
            fernweh_core::settings::write(text.as_bytes(), &connection.settings, |setting| {
                (setting.role == fernweh_core::settings::Role::Password).then(|| new.to_owned())
            });
        let written = String::from_utf8(written).unwrap();
        // PHP takes the text apart; what it holds is gone through for the new password.
        let script = r#"
            $text = stream_get_contents(STDIN); $found = [];
            if ($argv[1] === 'json') {
                $all = json_decode($text, true, 64, JSON_THROW_ON_ERROR);
                array_walk_recursive($all, function ($v) use (&$found) { $found[] = $v; });
            } else {
                foreach (token_get_all($text, TOKEN_PARSE) as $token) {
                    if (is_array($token) && $token[0] === T_CONSTANT_ENCAPSED_STRING) {
                        $found[] = eval('return ' . $token[1] . ';');
                    }
                }
            }
            $new = $argv[2];
            $forms = [$new, rawurlencode($new), str_replace(';', ';;', $new), '"' . str_replace('"', '""', $new) . '"'];
            foreach ($found as $value) {
                foreach ($forms as $form) { if (is_string($value) && str_contains($value, $form)) { echo 'yes'; exit; } }
            }
            echo 'no: ', $text;
        "#;
        assert_eq!(php(script, &[kind, new], written), "yes");
        judged += 1;
    }
    assert!(judged > 40, "{judged}");
}

#[test]
fn lines_that_still_name_the_old_database_are_listed() {
    let (workspace, places) = site("old/settings.php", variables);
    let Place::Mariadb { name, user, .. } = &places[0] else { panic!() };
    let folder = workspace.path("old").canonicalize().unwrap().display().to_string();
    workspace.write("old/bin/nightly.sh", format!("#!/bin/sh\n# nights\nmysql -u {user} {name}\n"));
    workspace.write("old/bin/where.txt", format!("the site is in {folder}\n"));
    workspace.write("old/index.html", format!("<p>{name} shines over the bay</p>"));
    workspace.done("pack old -o a.tar");
    let ran = workspace.done("unpack a.tar new --json");
    let report = ran.json();
    let lines: Vec<String> = report["still_named"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("{} {} {}", one["file"], one["line"], one["what"]).replace('"', ""))
        .collect();
    assert_eq!(
        lines,
        [
            format!("bin/nightly.sh 3 database {name}"),
            format!("bin/nightly.sh 3 user {user}"),
            format!("bin/where.txt 1 folder {folder}"),
        ]
    );
    workspace.done("undo new --let-go --yes");
    workspace
        .done("unpack a.tar new --overwrite")
        .says("bin/nightly.sh line 3: database")
        .says("things of the old site");
}

#[test]
fn a_socket_is_written_where_the_settings_have_a_place_for_it_and_else_named() {
    for (with, words) in [(true, "settings.php"), (false, "has no setting for a socket")] {
        let form = move |host: &str, port: u16, name: &str, user: &str, password: &str| {
            let socket = if with { "$db_socket = '';\n" } else { "" };
            format!(
                "<?php\n$db_host = '{host}:{port}';\n{socket}$db_name = '{name}';\n\
                 $db_user = '{user}';\n$db_pass = '{password}';\n"
            )
        };
        let (workspace, places) = site("old/settings.php", form);
        let mut new = Database::open(&places[1]).unwrap();
        let socket = new.ask("SELECT @@socket").unwrap()[0][0].clone().unwrap();
        let Place::Mariadb { port, name, .. } = &places[1] else { panic!() };
        let toml = workspace.read("fernweh.toml");
        let by_port = format!("@127.0.0.1:{port}/{name}");
        let by_socket = format!("@localhost/{name}?socket={socket}");
        workspace.write("fernweh.toml", toml.replace(&by_port, &by_socket));
        workspace.done("pack old -o a.tar");
        workspace.done("unpack a.tar new").says(words);
        let written = workspace.read("new/settings.php");
        assert_eq!(written.contains(&format!("$db_socket = '{socket}';")), with, "{written}");
        assert!(written.contains(&format!("$db_name = '{name}';")), "{written}");
    }
}
