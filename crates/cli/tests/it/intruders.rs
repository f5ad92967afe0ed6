//! Archives, trees and pages that mean harm, and look as if they did not: their seals are
//! right. Nothing outside the site is made, read or changed.

use super::archives::{Members, forge, read};
use super::{PROGRAM, fixture, one};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Engine, Fixture, Web, Workspace, files_of, shared_server};
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

const STRUCTURE: &str = "database/1-structure.sql.zst";
const AFTERWARDS: &str = "database/3-afterwards.sql.zst";

/// Something behind what a member holds.
fn with(members: &Members, member: &str, more: &str) -> Members {
    let mut changed = members.clone();
    let place = changed.iter_mut().find(|(name, _)| name == member).expect("the member");
    let before = zstd::decode_all(&place.1[..]).expect("a compressed member");
    place.1 = zstd::encode_all(&[&before, more.as_bytes()].concat()[..], 3).expect("compressed");
    changed
}

/// A fixture with an archive, and a table in the site's database that nobody may touch.
fn prepared(engine: Engine) -> (Fixture, Members) {
    let fixture = fixture(engine);
    fixture.pack();
    let members = read(&fixture.workspace.path("site.fernweh.tar"));
    fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
    let mut new = fixture.database("new");
    new.run(b"CREATE TABLE victim (a int)").unwrap();
    new.run(b"INSERT INTO victim VALUES (1)").unwrap();
    (fixture, members)
}

/// What is hidden in which member: refused before anything is made, in a preview as well.
fn all_refused(engine: Engine, hidden: &[(&str, &str)]) {
    let (fixture, members) = prepared(engine);
    let outside = fixture.workspace.path("x.php").display().to_string();
    for (member, sql) in hidden {
        let sql = sql.replace("OUTSIDE", &outside);
        forge(&fixture.workspace.path("forged.tar"), with(&members, member, &sql));
        let before = files_of(&fixture.root("new"));
        for line in [
            "unpack forged.tar new --overwrite --only database --trust",
            "unpack forged.tar new --overwrite --only database --trust --preview",
        ] {
            let ran = fixture.workspace.run(line);
            assert_eq!(ran.code, Some(4), "{line} {sql}\n{}\n{}", ran.out, ran.err);
            assert!(ran.err.contains("nothing was changed"), "{sql}: {}", ran.err);
            assert!(!fixture.workspace.path("x.php").exists(), "{line} {sql}");
            assert_eq!(one(&fixture, "SELECT count(*) FROM victim"), "1", "{line} {sql}");
            if engine == Engine::Sqlite {
                assert!(files_of(&fixture.root("new")) == before, "{line} {sql}");
            }
        }
    }
}

#[test]
fn what_hides_in_statements_of_sqlite_is_refused() {
    all_refused(
        Engine::Sqlite,
        &[
            (
                AFTERWARDS,
                "CREATE TRIGGER g AFTER INSERT ON gp_log BEGIN SELECT 1; END -- x\n; COMMIT; \
                 ATTACH 'OUTSIDE' AS o; CREATE TABLE o.t (a);",
            ),
            (STRUCTURE, "CREATE TABLE [a'] (b); ATTACH 'OUTSIDE' AS o;--';"),
            (AFTERWARDS, "CREATE VIEW [v'] AS SELECT 1; ATTACH 'OUTSIDE' AS o;--';"),
            (STRUCTURE, "PRAGMA [user_version'] = 1; ATTACH 'OUTSIDE' AS o;--';"),
            (AFTERWARDS, "VACUUM INTO 'OUTSIDE';"),
            (STRUCTURE, "CREATE TABLE made AS SELECT 1;"),
        ],
    );
}

#[test]
fn what_hides_in_statements_of_mariadb_is_refused() {
    all_refused(
        Engine::Mariadb,
        &[
            (
                STRUCTURE,
                "DELIMITER $$\nCREATE TABLE `evil` (a int); DROP TABLE victim; SELECT 1$$\n",
            ),
            (
                AFTERWARDS,
                "SET sql_mode = 'NO_BACKSLASH_ESCAPES';\nDELIMITER ;;\n\
                 CREATE PROCEDURE p() SELECT '\\'; DROP TABLE victim; -- ';;\n",
            ),
            (STRUCTURE, "CREATE TABLE `evil` (a int) /*M! DATA DIRECTORY='/tmp' */;"),
            (STRUCTURE, "CREATE TABLE `evil` (a int) COMMENT \"a\\\"\" DATA DIRECTORY='/tmp';"),
            (AFTERWARDS, "ALTER TABLE gp_log ALTER COLUMN line SET DEFAULT 'x', ADD COLUMN b int;"),
            (
                AFTERWARDS,
                "ALTER TABLE gp_log ADD CONSTRAINT f FOREIGN KEY (at) REFERENCES gp_articles (id), \
                 RENAME TO other.x;",
            ),
            (STRUCTURE, "CREATE TABLE evil (a int) AS SELECT sleep(300);"),
            (AFTERWARDS, "CREATE FUNCTION f RETURNS STRING SONAME 'evil.so';"),
        ],
    );
}

#[test]
fn what_hides_in_statements_of_postgresql_is_refused() {
    all_refused(
        Engine::Postgres,
        &[
            (STRUCTURE, "CREATE TABLE evil AS SELECT pg_read_file('/etc/passwd');"),
            (STRUCTURE, "CREATE TABLE evil (a text) AS SELECT 1;"),
            (
                AFTERWARDS,
                "ALTER TABLE gp_log ALTER COLUMN line TYPE text USING pg_sleep(300)::text;",
            ),
            (AFTERWARDS, "COMMENT ON ROLE root IS 'x';"),
            (AFTERWARDS, "ALTER TABLE gp_log ADD CONSTRAINT c CHECK (true), OWNER TO root;"),
            (AFTERWARDS, "CREATE VIEW v AS SELECT 1; DROP TABLE victim;"),
        ],
    );
}

#[test]
fn mariadb_takes_one_statement_whatever_the_body_of_a_routine_holds() {
    let (fixture, members) = prepared(Engine::Mariadb);
    // It ends as a body does, so the grammar cannot tell; the server takes no second statement.
    let body = "DELIMITER ;;\nCREATE PROCEDURE p() BEGIN SELECT 1; END; DROP TABLE victim; \
                CREATE PROCEDURE q() BEGIN SELECT 2; END;;\nDELIMITER ;\n";
    forge(&fixture.workspace.path("forged.tar"), with(&members, AFTERWARDS, body));
    let ran = fixture.workspace.run("unpack forged.tar new --overwrite --only database").code(1);
    ran.says("refused").says("procedure p: 1064");
    assert_eq!(one(&fixture, "SELECT count(*) FROM victim"), "1");
    let there =
        "SELECT count(*) FROM information_schema.routines WHERE routine_schema = database()";
    assert_eq!(one(&fixture, there), "0");
}

#[test]
fn events_sleep_until_all_is_in_place_and_wake_as_they_were() {
    let fixture = fixture(Engine::Mariadb);
    let mut old = fixture.database("old");
    for sql in [
        "CREATE EVENT gp_awake ON SCHEDULE EVERY 1 DAY DO DELETE FROM gp_log WHERE at < 0",
        "CREATE EVENT gp_asleep ON SCHEDULE EVERY 1 DAY DISABLE COMMENT 'ENABLE' DO SELECT 1",
    ] {
        old.run(sql.as_bytes()).unwrap();
    }
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new --only database");
    let states = "SELECT group_concat(event_name, ' ', status ORDER BY event_name) \
                  FROM information_schema.events WHERE event_schema = database()";
    assert_eq!(one(&fixture, states), "gp_asleep DISABLED,gp_awake ENABLED");
}

#[test]
fn a_statement_without_end_ends_when_the_user_says_so() {
    let (fixture, members) = prepared(Engine::Postgres);
    let endless = "CREATE MATERIALIZED VIEW gp_endless AS WITH RECURSIVE n(x) AS \
                   (SELECT 1 UNION ALL SELECT x FROM n) SELECT count(*) FROM n WITH NO DATA;\n\
                   REFRESH MATERIALIZED VIEW gp_endless;\n";
    forge(&fixture.workspace.path("forged.tar"), with(&members, AFTERWARDS, endless));
    let mut command =
        fixture.workspace.command("unpack forged.tar new --overwrite --only database");
    command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut watcher = fixture.database("new");
    let running = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'REFRESH%' \
                   AND state = 'active'";
    while watcher.ask(running).unwrap()[0][0].as_deref() == Some("0") {
        assert!(child.try_wait().unwrap().is_none(), "it ended by itself");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let id = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &id]).status().unwrap().success());
    let ended = child.wait_with_output().unwrap();
    assert_eq!(ended.status.code(), Some(5), "{}", String::from_utf8_lossy(&ended.stderr));
    assert_eq!(watcher.ask(running).unwrap()[0][0].as_deref(), Some("0"));
}

/// The administrator's login in the configuration, in place of the new site's own.
pub(super) fn with_administrator(fixture: &Fixture, kind: Server) {
    let server = shared_server(kind).lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    let name = match &fixture.new {
        Place::Mariadb { name, .. } | Place::Postgres { name, .. } => name.clone(),
        Place::Sqlite(_) => unreachable!("a server"),
    };
    let (Place::Mariadb { user, password, .. } | Place::Postgres { user, password, .. }) =
        server.administrator_of(&name)
    else {
        unreachable!("a server")
    };
    let own = match &fixture.new {
        Place::Mariadb { user, .. } | Place::Postgres { user, .. } => user.clone(),
        Place::Sqlite(_) => unreachable!("a server"),
    };
    let text = fixture.workspace.read("fernweh.toml");
    fixture
        .workspace
        .write("fernweh.toml", text.replace(&format!("//{own}@"), &format!("//{user}@")));
    fixture.workspace.write("new-password", password);
}

#[test]
fn bodies_from_elsewhere_do_not_run_with_rights_beyond_the_site() {
    for (engine, kind, bodies, powers) in [
        (Engine::Mariadb, Server::Mariadb, "view gp_shown", "ALL PRIVILEGES on every database"),
        (Engine::Postgres, Server::Postgres, "view gp_shown", "superuser"),
    ] {
        let elsewhere = fixture(engine);
        let view = b"CREATE VIEW gp_shown AS SELECT 1 AS a";
        let plain =
            elsewhere.workspace.run("pack old -o plain.tar --tables gp_log --only database");
        assert!(matches!(plain.code, Some(0 | 1)), "{}", plain.err);
        elsewhere.database("old").run(view).unwrap();
        elsewhere.pack();
        elsewhere.workspace.done("show site.fernweh.tar").says("runs").says(bodies);
        let here = fixture(engine);
        for name in ["site.fernweh.tar", "plain.tar"] {
            fs::copy(elsewhere.workspace.path(name), here.workspace.path(name)).unwrap();
        }
        // A login of the site's own: nothing is asked.
        here.workspace.done("unpack site.fernweh.tar new --only database");
        here.configure("[unpack]\nkeep-states = 0\n");
        with_administrator(&here, kind);
        for more in ["", " --preview"] {
            let line = format!("unpack site.fernweh.tar new --overwrite --only database{more}");
            let ran = here.workspace.run(&line).code(2);
            let ran = ran.says("rights beyond this site").says(bodies).says(powers);
            ran.says("--trust").says("nothing was changed");
        }
        // Without bodies nothing is asked; nor where the user says so, or packed it here.
        here.workspace.done("unpack plain.tar new --overwrite --only database");
        here.workspace.done("unpack site.fernweh.tar new --overwrite --only database --trust");
        here.database("old").run(view).unwrap();
        here.workspace.done("pack old -o own.tar --only database");
        here.workspace.done("unpack own.tar new --overwrite --only database");
    }
}

#[test]
fn a_planted_link_is_never_written_through() {
    let fixture = fixture(Engine::Sqlite);
    fixture.workspace.write("outside", "untouched");
    let outside = fixture.workspace.path("outside");
    let page = fixture.root("old").join("index.php");
    fs::write(&page, "<a href=\"http://glimmerpoint.example/x\">").unwrap();
    symlink(&outside, fixture.root("old").join(".fernweh-index.php")).unwrap();
    fixture.workspace.done(
        "rewrite old --from http://glimmerpoint.example --to https://observatory.test --apply",
    );
    assert_eq!(fs::read_to_string(&page).unwrap(), "<a href=\"https://observatory.test/x\">");
    assert_eq!(fixture.workspace.read("outside"), "untouched");
    // A link in the place of our own folder beside the site.
    fixture.pack();
    fs::create_dir_all(fixture.workspace.path("other")).unwrap();
    fs::set_permissions(fixture.workspace.path("other"), fs::Permissions::from_mode(0o755))
        .unwrap();
    fs::create_dir_all(fixture.workspace.path("new")).unwrap();
    symlink(fixture.workspace.path("other"), fixture.workspace.path("new/.fernweh-htdocs"))
        .unwrap();
    let ran = fixture.workspace.run("unpack site.fernweh.tar new").code(3);
    ran.says("the name of Fernweh's own folder").says("nothing was changed");
    let mode = fs::metadata(fixture.workspace.path("other")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o755);
    assert_eq!(fs::read_dir(fixture.workspace.path("other")).unwrap().count(), 0);
}

#[test]
fn what_is_left_of_an_archive_does_not_become_a_web_folder() {
    let (fixture, members) = prepared(Engine::Sqlite);
    let before = files_of(&fixture.root("new"));
    let mut tar = tar::Builder::new(fs::File::create(fixture.workspace.path("left.tar")).unwrap());
    for (name, bytes) in members.iter().filter(|(name, _)| name != "fernweh.json") {
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        tar.append_data(&mut header, name, &bytes[..]).unwrap();
    }
    tar.finish().unwrap();
    for (name, bytes) in &members {
        fixture.workspace.write(&format!("folder/{name}"), bytes);
    }
    for source in ["left.tar", "folder"] {
        let line = format!("unpack {source} new --overwrite --as-is --only files");
        let ran = fixture.workspace.run(&line).code(4);
        ran.says("the remains of an archive").says("nothing was changed");
        assert!(files_of(&fixture.root("new")) == before, "{source}");
    }
}

#[test]
fn what_is_built_and_kept_beside_the_site_is_for_its_owner_alone() {
    let fixture = fixture(Engine::SqliteOutside);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    let others = |path: &std::path::Path| fs::metadata(path).unwrap().permissions().mode() & 0o077;
    let workshop = fixture.workspace.path("new/private/.fernweh-glimmer.db");
    fixture.workspace.run_halted_at("unpack site.fernweh.tar new --overwrite", "built", || {
        assert_eq!(others(&workshop), 0);
        for entry in fs::read_dir(&workshop).unwrap() {
            let entry = entry.unwrap();
            if entry.file_name().to_string_lossy().starts_with("database-") {
                assert_eq!(others(&entry.path()), 0, "{}", entry.path().display());
            }
        }
    });
    assert_eq!(others(&workshop), 0);
    assert_eq!(others(&fixture.workspace.path("new/.fernweh-htdocs")), 0);
}

#[test]
fn what_is_kept_must_not_come_from_the_web_server() {
    for closed in [false, true] {
        let fixture = fixture(Engine::Sqlite);
        let folder = fixture.workspace.path("new");
        let web = Web::start(move |path| {
            let hidden = closed && path.contains("/.");
            let text = fs::read_to_string(folder.join(path.trim_start_matches('/'))).ok();
            text.filter(|_| !hidden).map(|text| ("text/plain", text))
        });
        let text = fixture.workspace.read("fernweh.toml");
        let address = format!("http://127.0.0.1:{}/htdocs", web.port);
        let text = text.replace("https://www.glimmer-point.example", &address);
        let text = text.replace("connect-to = \"127.0.0.1:9\"\n", "");
        fixture.workspace.write("fernweh.toml", text);
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new");
        let ran = fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        let told = format!("{}{}", ran.out, ran.err);
        assert_eq!(told.contains("hands out what Fernweh keeps"), !closed, "{told}");
        let probes = web.asked().iter().filter(|asked| asked.path.contains("/probe-")).count();
        assert_eq!(probes, 1);
        let left = fs::read_dir(fixture.workspace.path("new/.fernweh-htdocs")).unwrap().flatten();
        assert!(!left.into_iter().any(|e| e.file_name().to_string_lossy().contains("probe")));
    }
}

#[test]
fn damaged_headers_of_a_tar_are_damage_and_not_the_disk() {
    let fixture = fixture(Engine::Sqlite);
    let mut tar = tar::Builder::new(Vec::new());
    for name in ["a", "b"] {
        let mut header = tar::Header::new_ustar();
        header.set_size(3);
        tar.append_data(&mut header, name, &b"abc"[..]).unwrap();
    }
    let whole = tar.into_inner().unwrap();
    for place in [1024 + 124, 1024 + 148, 1024 + 100] {
        let mut damaged = whole.clone();
        damaged[place..place + 4].copy_from_slice(b"zzzz");
        fixture.workspace.write("damaged.tar", damaged);
        let ran = fixture.workspace.run("unpack damaged.tar new --as-is --only files").code(4);
        ran.says("nothing was changed");
    }
}

#[test]
fn a_path_of_many_folders_is_unpacked_folder_by_folder() {
    let fixture = fixture(Engine::Sqlite);
    let mut tar = tar::Builder::new(Vec::new());
    let path = format!("{}file", "d/".repeat(800));
    let mut header = tar::Header::new_ustar();
    header.set_size(3);
    header.set_mode(0o644);
    tar.append_data(&mut header, &path, &b"abc"[..]).unwrap();
    fixture.workspace.write("deep.tar", tar.into_inner().unwrap());
    fixture.workspace.done("unpack deep.tar new --as-is --only files");
    assert_eq!(fs::read(fixture.root("new").join(&path)).unwrap(), b"abc");
}

/// Bytes of memory that no forged archive may make the program take.
const MEMORY: u64 = 200 << 20;

#[test]
fn small_archives_do_not_become_large() {
    let (fixture, members) = prepared(Engine::Sqlite);
    let bomb = |begin: &str, unit: &str, times: usize| {
        let mut encoder = zstd::Encoder::new(Vec::new(), 3).unwrap();
        std::io::Write::write_all(&mut encoder, begin.as_bytes()).unwrap();
        let many = unit.repeat((1 << 20) / unit.len());
        for _ in 0..times {
            std::io::Write::write_all(&mut encoder, many.as_bytes()).unwrap();
        }
        encoder.finish().unwrap()
    };
    let mut long_name = tar::Header::new_ustar();
    long_name.set_entry_type(tar::EntryType::XHeader);
    long_name.set_size(3 << 30);
    long_name.set_cksum();
    let long_name = String::from_utf8_lossy(long_name.as_bytes()).into_owned();
    let rows = "database/2-rows/gp_log/0001.sql.zst";
    let insert = "INSERT INTO \"gp_log\" (\"at\",\"line\") VALUES\n(1,'x')";
    for (what, member, content) in [
        ("an index", "files/index.zst", bomb("", "1 0 a\n", 400)),
        ("a line of an index", "files/index.zst", bomb("1 0 ", "aaaaaaaa", 400)),
        ("a name", "files/0001.tar.zst", bomb(&long_name, "\0\0\0\0", 400)),
        ("a structure", STRUCTURE, bomb("", "CREATE TABLE t (a);\n", 400)),
        ("a comment", STRUCTURE, bomb("/*", "        ", 400)),
        ("settings", STRUCTURE, bomb("", "PRAGMA user_version = 1;\n", 400)),
        ("rows in a statement", rows, bomb(insert, ",(1,'x')", 400)),
        ("statements of rows", rows, bomb("", &format!("{insert};\n"), 400)),
        ("columns", rows, bomb("INSERT INTO \"gp_log\" (a", ",a", 400)),
    ] {
        let mut forged = members.clone();
        forged.iter_mut().find(|(name, _)| name == member).expect("the member").1 = content;
        forge(&fixture.workspace.path("forged.tar"), forged);
        let small = fs::metadata(fixture.workspace.path("forged.tar")).unwrap().len();
        assert!(small < 2 << 20, "{what}: {small}");
        let before = files_of(&fixture.root("new"));
        let (ran, memory) = fixture.workspace.run_measured("unpack forged.tar new --overwrite");
        assert_eq!(ran.code, Some(4), "{what}\n{}\n{}", ran.out, ran.err);
        assert!(memory < MEMORY, "{what} takes {} MB", memory >> 20);
        assert!(files_of(&fixture.root("new")) == before, "{what}");
    }
}

#[test]
fn texts_of_foreign_files_are_not_repeated() {
    let fixture = fixture(Engine::Sqlite);
    fixture.workspace.write("secrets", "root:x:0:0:root:/root:/bin/bash\n".repeat(100));
    for line in ["unpack secrets new", "show secrets", "survey old -c secrets"] {
        let ran = fixture.workspace.run(line);
        assert!(matches!(ran.code, Some(2 | 4)), "{line}: {}", ran.err);
        assert!(!format!("{}{}", ran.out, ran.err).contains("root"), "{line}: {}", ran.err);
    }
}

#[test]
fn devices_and_pipes_are_no_configuration_and_no_password() {
    let workspace = Workspace::new(PROGRAM);
    let made = std::process::Command::new("mkfifo").arg(workspace.path("pipe")).status().unwrap();
    assert!(made.success());
    for path in ["pipe", "/dev/zero"] {
        let ran = workspace.run(&format!("survey old -c {path}")).code(2);
        ran.says("it is a device, a pipe or a folder");
        workspace.write(
            "fernweh.toml",
            format!(
                "[site.old]\ndatabase = \"mariadb://u@127.0.0.1:9/d\"\n\
                 password.database = {{ file = \"{path}\" }}\n"
            ),
        );
        workspace.run("survey old").says("it is a device, a pipe or a folder");
    }
    let fixture = fixture(Engine::Mariadb);
    let password = fixture.workspace.path("old-password");
    fs::set_permissions(&password, fs::Permissions::from_mode(0o644)).unwrap();
    fixture.workspace.done("survey old").says("others can read the password").says("chmod 600");
    fs::set_permissions(&password, fs::Permissions::from_mode(0o600)).unwrap();
    let ran = fixture.workspace.done("survey old");
    assert!(!ran.err.contains("others can read"), "{}", ran.err);
}

/// A name with everything that does something to a terminal.
const EVIL: &str = "a\u{1b}]0;evil\u{7}\u{1b}[2J\u{9b}31m\u{202e}b\nFORGED c";

/// Whether nothing of it was printed raw.
#[track_caller]
fn nothing_raw(line: &str, out: &str) {
    for raw in ["\u{1b}]", "\u{1b}[2J", "\u{7}", "\u{9b}", "\u{202e}"] {
        assert!(!out.contains(raw), "{line} prints {raw:?}:\n{}", out.escape_debug());
    }
    let forged = out.lines().any(|line| line.trim_start().starts_with("FORGED"));
    assert!(!forged, "{line} prints a forged line:\n{out}");
}

#[test]
fn nothing_from_outside_reaches_the_terminal_raw() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let mut fixture = fixture(engine);
        let quoted = match engine {
            Engine::Mariadb => format!("`gp_{EVIL}`"),
            _ => format!("\"gp_{EVIL}\""),
        };
        let mut old = fixture.database("old");
        for sql in [
            format!("CREATE TABLE {quoted} (id int PRIMARY KEY, {quoted} varchar(200))"),
            format!("INSERT INTO {quoted} VALUES (1, 'http://glimmerpoint.example/{EVIL}')"),
            format!(
                "INSERT INTO {quoted} VALUES (2, 's:9:\"http://glimmerpoint.example/{EVIL}\";')"
            ),
            format!("CREATE VIEW {} AS SELECT 1 AS a", quoted.replacen("gp_", "gp_v_", 1)),
        ] {
            old.run(sql.as_bytes()).unwrap_or_else(|error| panic!("{sql}: {error}"));
        }
        let root = fixture.root("old");
        fs::write(root.join(format!("{EVIL}.html")), "http://glimmerpoint.example/x").unwrap();
        fs::write(
            root.join("evil.html"),
            format!("<a href=\"http://glimmerpoint.example/no/{EVIL}\">x</a><img src=\"{EVIL}\">"),
        )
        .unwrap();
        symlink(format!("/outside/{EVIL}"), root.join(format!("link-{EVIL}"))).unwrap();
        let _hosts = fixture.serve();
        fixture
            .configure("[[rule]]\nfrom = \"http://never.example\"\nto = \"https://never.test\"\n");
        for line in [
            "survey old -v",
            "survey old --for new",
            "pack old -o a.tar",
            "show a.tar --verify",
            "unpack a.tar new --preview",
            "unpack a.tar new --tables nothing",
            "unpack a.tar new",
            "unpack a.tar new --overwrite --report r.html",
            "rewrite new --from http://cdn.example --to https://cdn.example",
            "rewrite old --from http://glimmerpoint.example --to https://x.test --report s.html",
            "trace old http://glimmerpoint.example",
            "scan old --own-only --report t.html",
            "runs -v",
            "undo new",
            "pack old --sql s.sql",
            "unpack s.sql new --overwrite --as-is --preview",
            "survey new",
        ] {
            for more in ["", " --color always", " --json"] {
                let writes =
                    ["-o a.tar", "--report", "--sql"].iter().any(|part| line.contains(part));
                if writes && !more.is_empty() {
                    continue;
                }
                let line = format!("{line}{more}");
                let ran = fixture.workspace.run(&line);
                let code = ran.code;
                assert!(matches!(code, Some(0..=5)), "{line}: {code:?}\n{}\n{}", ran.out, ran.err);
                if std::env::var_os("SHOW").is_some() {
                    println!("$ {line} ({code:?})\n{}{}", ran.out, ran.err);
                }
                nothing_raw(&line, &ran.out);
                nothing_raw(&line, &ran.err);
            }
        }
        for page in ["r.html", "s.html", "t.html"] {
            nothing_raw(page, &fixture.workspace.read(page));
        }
    }
    // An argument comes from a list of names, perhaps.
    let workspace = Workspace::new(PROGRAM);
    for words in [["survey", EVIL], ["show", EVIL], ["nothing", EVIL], ["pack", EVIL]] {
        let ran = workspace.command("").args(words).output().unwrap();
        nothing_raw(words[0], &String::from_utf8_lossy(&ran.stderr));
    }
}

#[test]
fn a_database_of_the_administrator_is_opened_by_tests_alone() {
    // The helper above must really give other rights.
    let fixture = fixture(Engine::Mariadb);
    with_administrator(&fixture, Server::Mariadb);
    let server = shared_server(Server::Mariadb).lock().unwrap_or_else(|p| p.into_inner());
    let Place::Mariadb { name, .. } = &fixture.new else { unreachable!("a server") };
    let asked = Database::open(&server.administrator_of(name)).unwrap().ask("SELECT user()");
    assert!(asked.unwrap()[0][0].as_deref().unwrap().starts_with("root@"));
}
