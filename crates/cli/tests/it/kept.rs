//! What is kept of a site, and the runs that keep it.

use super::{PROGRAM, fixture};
use fernweh_testkit::{
    Engine, FTP_LOGIN, Fixture, FtpHost, SshHost, Workspace, database_cells, delaying_relay,
    files_of,
};
use std::fs;
use std::path::PathBuf;
use std::time::Duration;

#[test]
fn two_working_folders_do_not_meet_on_one_site() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new");
        // The same sites, as somebody else has configured them elsewhere.
        let elsewhere = other_folder(&fixture);
        let line = "unpack site.fernweh.tar new --overwrite";
        let ran = fixture.workspace.run_halted_at(line, "checked", || {
            let (code, said) = elsewhere("unpack ../site.fernweh.tar new --overwrite");
            assert_eq!(code, Some(3), "{engine:?}: {said}");
            assert!(said.contains("another run is working on th"), "{engine:?}: {said}");
        });
        ran.fine();
        fixture.workspace.done("undo new");
    }
}

#[test]
fn what_is_kept_is_known_to_other_folders() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        for only in ["", " --only database"] {
            let fixture = fixture(engine);
            fixture.pack();
            fixture.workspace.done(&format!("unpack site.fernweh.tar new{only}"));
            fixture.workspace.done("undo new --let-go --yes");
            let over = format!("unpack site.fernweh.tar new --overwrite{only}");
            fixture.workspace.done(&over);
            let own = fixture.workspace.done("runs new --json").json();
            assert_eq!(own["elsewhere"], serde_json::json!([]), "{engine:?}");
            let run = own["runs"][1]["run"].as_str().unwrap().to_owned();
            // Another folder has no record of it.
            fs::rename(fixture.workspace.path(".fernweh"), fixture.workspace.path("away")).unwrap();
            let told = fixture.workspace.done("runs new").says(&run).says("undo it there; or");
            assert!(told.out.contains("none yet in this folder"), "{}", told.out);
            fixture.workspace.run("undo new").code(2).says(&run);
            fixture.workspace.done("undo new --let-go --yes");
            if only.is_empty() {
                let survey = fixture.workspace.done("survey new --json").json();
                assert!(!survey.to_string().contains("_fw_kept"), "{engine:?}");
            }
            fixture.workspace.done("pack new -o new.tar --only database");
            let _ = fs::remove_dir_all(fixture.workspace.path(".fernweh"));
            fs::rename(fixture.workspace.path("away"), fixture.workspace.path(".fernweh")).unwrap();
            fixture.workspace.done("undo new --let-go --yes").says(&run);
            fs::rename(fixture.workspace.path(".fernweh"), fixture.workspace.path("away")).unwrap();
            let told = fixture.workspace.done("runs new --json").json();
            assert_eq!(told["elsewhere"], serde_json::json!([]), "{engine:?}{only}: it is let go");
        }
    }
}

#[test]
fn undo_goes_back_step_by_step_and_forward_again() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.pack();
        let seeing = || {
            let rows = fixture.database("new").ask("SELECT DISTINCT seeing FROM gp_nights LIMIT 1");
            rows.unwrap()[0][0].clone().unwrap_or_default()
        };
        fixture.workspace.done("unpack site.fernweh.tar new");
        fixture.workspace.done("undo new --let-go --yes");
        for state in ["zero", "one", "two"] {
            super::settled(&fixture, engine);
            let sql = format!("UPDATE gp_nights SET seeing = '{state}'");
            fixture.database("new").run(sql.as_bytes()).unwrap();
            if state != "two" {
                fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
            }
        }
        let rewriting = "rewrite new --from https://www.glimmer-point.example --to https://third.example --apply";
        fixture.workspace.done(rewriting);
        let runs = fixture.workspace.done("runs new --json").json();
        let names: Vec<String> = runs["runs"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|run| run["kept"] == true)
            .map(|run| run["run"].as_str().unwrap().to_owned())
            .collect();
        assert_eq!(names.len(), 3, "{engine:?}: {runs}");
        fixture.workspace.done("undo new").says(&names[2]);
        assert_eq!(seeing(), "two", "{engine:?}");
        // Visitors wrote since the second unpacking, and that is said.
        fixture.workspace.done("undo new").says(&names[1]).says("since then");
        assert_eq!(seeing(), "one", "{engine:?}");
        let ran = fixture.workspace.done("undo new").says(&names[0]);
        assert_eq!(seeing(), "zero", "{engine:?}");
        // Forward again, two steps at once.
        let ran_forward = fixture.workspace.done(&format!("undo new --to-run {}", names[1]));
        ran_forward.says(&names[0]).says(&names[1]);
        assert_eq!(seeing(), "two", "{engine:?}");
        fixture.workspace.done(&format!("undo new --to-run {}", names[2]));
        fixture.workspace.done("trace new https://third.example/").says("gp_");
        // Back to the first, which ends what was taken back when something new is done.
        fixture.workspace.done(&format!("undo new --to-run {}", names[0]));
        assert_eq!(seeing(), "one", "{engine:?}");
        let ran_new = fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        ran_new.says("cannot be redone");
        fixture.workspace.run(&format!("undo new --to-run {}", names[2])).code(2);
        fixture.workspace.done("undo new --let-go=oldest --yes").says(&names[0]);
        fixture.workspace.done("undo new");
        assert_eq!(seeing(), "one", "{engine:?}");
        drop(ran);
    }
}

#[test]
fn what_a_planted_note_says_does_nothing_to_a_terminal() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/index.html", "the page");
    workspace.write("new/index.html", "another");
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"new\"\n");
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --overwrite --as-is");
    let beside = workspace.path(".fernweh-new");
    let mut entries = fs::read_dir(&beside).unwrap().map(|entry| entry.unwrap().path());
    let note = entries.find(|path| path.extension().is_some_and(|end| end == "json")).unwrap();
    let planted = serde_json::json!({
        "run": "\u{1b}[2Jgone\r\nnothing was changed", "command": "unpack",
        "started": "2026-11-29T00:00:00Z\u{7}", "by": "keeper\u{202e}@desk\u{1b}]0;title\u{7}",
    });
    fs::write(&note, planted.to_string()).unwrap();
    fs::remove_dir_all(workspace.path(".fernweh")).unwrap();
    let told = workspace.done("runs new");
    let refused = workspace.run("undo new").code(2);
    for printed in [&told.out, &told.err, &refused.out, &refused.err] {
        let raw = printed.chars().find(|c| c.is_control() && *c != '\n' || *c == '\u{202e}');
        assert_eq!(raw, None, "{printed}");
    }
    told.says("[2Jgone");
    refused.says("[2Jgone");
}

/// The files and folders in which states are kept.
fn kept_places(fixture: &Fixture) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in walkdir::WalkDir::new(fixture.workspace.path("")).into_iter().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let kept = name.starts_with("new-2") || name.starts_with("database-2");
        if kept && !entry.path().starts_with(fixture.workspace.path(".fernweh")) {
            found.push(entry.into_path());
        }
    }
    found
}

#[test]
fn undo_refuses_a_state_of_which_somebody_has_removed_a_part() {
    let engines = [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres];
    for (engine, ending) in engines
        .map(|engine| (engine, ""))
        .into_iter()
        .chain([(Engine::SqliteOutside, ".holds"), (Engine::Sqlite, ".holds")])
    {
        let fixture = fixture(engine);
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new");
        fixture.workspace.done("undo new --let-go --yes");
        fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        let now = || (database_cells(&fixture.new), files_of(&fixture.root("new")));
        let before = now();
        match engine {
            Engine::Mariadb | Engine::Postgres => {
                let mut site = fixture.database("new");
                let tables = match engine {
                    Engine::Mariadb => {
                        "SELECT concat('`', table_name, '`') FROM information_schema.tables \
                         WHERE table_schema = database() AND table_name LIKE '\\_fw%\\_o\\_%' LIMIT 1"
                    }
                    _ => {
                        "SELECT format('%I.%I CASCADE', schemaname, tablename) FROM pg_tables \
                         WHERE schemaname LIKE '\\_fw%\\_o\\_%' LIMIT 1"
                    }
                };
                let table = site.ask(tables).unwrap()[0][0].clone().unwrap();
                if engine == Engine::Mariadb {
                    site.run(b"SET foreign_key_checks = 0").unwrap();
                }
                site.run(format!("DROP TABLE {table}").as_bytes()).unwrap();
            }
            _ => {
                let places = kept_places(&fixture);
                let place = places.iter().find(|place| match engine {
                    Engine::Sqlite if ending.is_empty() => place.is_dir(),
                    _ => {
                        let name = place.to_string_lossy();
                        place.is_file() && name.ends_with(".holds") == (ending == ".holds")
                    }
                });
                let place = place.unwrap_or_else(|| panic!("{places:?}"));
                match place.is_dir() {
                    // A clean-up by age takes some files and leaves the rest.
                    true => fs::remove_file(place.join("robots.txt")).unwrap(),
                    false => fs::remove_file(place).unwrap(),
                }
            }
        }
        let refused = fixture.workspace.run("undo new").code(4).says("is missing");
        refused.says("missing:").says("nothing was changed");
        assert_eq!(before, now(), "{engine:?}");
        fixture.workspace.done("undo new --let-go --yes");
        assert_eq!(before, now(), "{engine:?}");
    }
}

#[test]
fn undo_on_another_host_refuses_a_state_that_is_gone() {
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    workspace.write("old/index.html", "the page");
    workspace.write("far/index.html", "another");
    let (place, key) = (host.files(&workspace.path("far")), host.key.display());
    let text =
        format!("[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{place}\"\nkey = \"{key}\"\n");
    workspace.write("fernweh.toml", text);
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --overwrite --as-is");
    let beside = workspace.path(".fernweh-far");
    let mut entries = fs::read_dir(&beside).unwrap().map(|entry| entry.unwrap().path());
    let old = entries.find(|path| path.is_dir()).unwrap();
    fs::remove_dir_all(old).unwrap();
    workspace.run("undo new").code(4).says("is missing").says("nothing was changed");
    assert_eq!(workspace.read("far/index.html"), "the page");
}

#[test]
fn two_machines_do_not_meet_on_one_site_of_another_host() {
    for way in ["sftp", "ftp"] {
        let workspace = Workspace::new(PROGRAM);
        let (ssh, ftp);
        let (place, more) = match way {
            "sftp" => {
                ssh = SshHost::start(&workspace.path("ssh-host"), "");
                workspace.write(".ssh/known_hosts", &ssh.known);
                (ssh.files(&workspace.path("far")), format!("key = \"{}\"", ssh.key.display()))
            }
            _ => {
                let root = workspace.folder();
                ftp = FtpHost::start(&workspace.path("ftp-host"), root, None, "");
                workspace.write("ftp-password", FTP_LOGIN.1);
                let file = workspace.path("ftp-password");
                let password = format!("password.files = {{ file = \"{}\" }}", file.display());
                (ftp.files("ftp", "/far"), password)
            }
        };
        workspace.write("old/index.html", "the page");
        workspace.write("far/index.html", "another");
        let text =
            format!("[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{place}\"\n{more}\n");
        workspace.write("fernweh.toml", &text);
        workspace.done("pack old -o a.tar");
        // The same site, as somebody else has configured it.
        let other = workspace.path("elsewhere");
        fs::create_dir(&other).unwrap();
        fs::write(other.join("fernweh.toml"), text).unwrap();
        let elsewhere = || {
            let mut second = workspace.command("unpack ../a.tar new --overwrite --as-is");
            let ran = second.current_dir(&other).output().unwrap();
            (ran.status.code(), String::from_utf8_lossy(&ran.stderr).into_owned())
        };
        let line = "unpack a.tar new --overwrite --as-is";
        let ran = workspace.run_halted_at(line, "checked", || {
            let (code, said) = elsewhere();
            assert_eq!(code, Some(3), "{way}: {said}");
            assert!(said.contains("another run is working on these files"), "{way}: {said}");
        });
        ran.fine();
        assert!(!workspace.path(".fernweh-far/at-work").exists(), "{way}: it is given back");
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
        assert!(!workspace.path(".fernweh-far").exists(), "{way}");

        // One that was killed keeps others away for ten minutes, and its own folder not at all.
        workspace.run_killed_at(line, "built");
        let (code, said) = elsewhere();
        assert_eq!(code, Some(3), "{way}: {said}");
        workspace.done(line);
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
        workspace.run_killed_at(line, "built");
        let token = fs::File::options()
            .write(true)
            .open(workspace.path(".fernweh-far/at-work/token"))
            .unwrap();
        token.set_modified(std::time::SystemTime::now() - Duration::from_secs(601)).unwrap();
        let (code, said) = elsewhere();
        assert!(matches!(code, Some(0 | 1)), "{way}: {said}");
        assert_eq!(workspace.read("far/index.html"), "the page");
        workspace.run("undo new").code(2).says("was made in another folder");
        workspace.done("undo new --trust");
        assert_eq!(workspace.read("far/index.html"), "another", "{way}");
    }
}

#[test]
fn what_comes_in_from_the_switch_on_is_counted() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        let line = format!("unpack {archive} new --overwrite");
        fixture.workspace.done(&line);
        let ran = fixture.workspace.run_halted_at(&line, "database-switched", || {
            let mut database = fixture.database("new");
            let row = "INSERT INTO gp_sections (id, name, slug) VALUES (9001, 'new', 'new')";
            database.run(row.as_bytes()).expect("a visitor writes");
        });
        ran.fine();
        fixture.workspace.done("undo new").says("since then 1 record came to gp_sections");
    }
}

#[test]
fn tests_that_are_killed_keep_nobody_away() {
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    // A long way: there is time to be killed on it.
    let far = delaying_relay(host.port, Duration::from_millis(20));
    let known = host.known.replace(&host.port.to_string(), &far.to_string());
    workspace.write(".ssh/known_hosts", known);
    workspace.write("old/index.html", "the page");
    let (place, key) = (workspace.path("far"), host.key.display());
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"sftp://{}@127.0.0.1:{far}{}\"\n\
             key = \"{key}\"\n",
            host.user,
            place.display()
        ),
    );
    fs::create_dir(&place).unwrap();
    let tested = || {
        let workshop = fs::read_dir(workspace.path(".fernweh-far")).into_iter().flatten();
        let names = workshop.flatten().map(|entry| entry.file_name());
        names.filter(|name| name.to_string_lossy().starts_with("new-test-")).count()
    };
    let mut child = workspace.command("survey old --for new").spawn().unwrap();
    while tested() == 0 {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it was killed");
        std::thread::yield_now();
    }
    child.kill().unwrap();
    child.wait().unwrap();
    workspace.done("survey old --for new");
    // Nor does a run of this folder that was killed, whatever is typed next.
    workspace.run_killed_at("move old new --yes", "built");
    workspace.done("survey old --for new");
    workspace.done("move old new --yes --overwrite");
    assert_eq!(workspace.read("far/index.html"), "the page");
}

/// The same sites as another folder knows them; what was typed there comes back.
fn other_folder(fixture: &Fixture) -> impl Fn(&str) -> (Option<i32>, String) {
    let other = fixture.workspace.path("elsewhere");
    fs::create_dir(&other).unwrap();
    let text = fixture.workspace.read("fernweh.toml");
    let text = text.replace("\"new/", "\"../new/").replace("\"new-", "\"../new-");
    let text = text.replace("sqlite:new", "sqlite:../new").replace("\"old/", "\"../old/");
    fs::write(other.join("fernweh.toml"), text.replace("\"old-", "\"../old-")).unwrap();
    move |line| {
        let ran = fixture.workspace.command(line).current_dir(&other).output().unwrap();
        let said = [ran.stdout, ran.stderr].concat();
        (ran.status.code(), String::from_utf8_lossy(&said).into_owned())
    }
}

#[test]
fn another_folder_takes_back_what_was_done() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        for only in ["", " --only database", " --tables gp_nights"] {
            let fixture = fixture(engine);
            fixture.pack();
            let elsewhere = other_folder(&fixture);
            let state = || (database_cells(&fixture.new), files_of(&fixture.root("new")));
            fixture.workspace.done("unpack site.fernweh.tar new");
            fixture.workspace.done("undo new --let-go --yes");
            fixture.database("new").run(b"UPDATE gp_nights SET seeing = 'before'").unwrap();
            let before = state();
            let over = format!("unpack site.fernweh.tar new --overwrite{only}");
            fixture.workspace.done(&over);
            let after = state();
            let run = fixture.workspace.done("runs new --json").json()["runs"][1]["run"].clone();
            let run = run.as_str().unwrap();

            let (code, said) = elsewhere("undo new");
            assert_eq!(code, Some(2), "{engine:?}{only}: {said}");
            assert!(said.contains(run) && said.contains("fernweh undo new --trust"), "{said}");
            assert_eq!(after, state(), "{engine:?}{only}: refused means unchanged");
            let (code, said) = elsewhere("undo new --trust");
            assert!(matches!(code, Some(0 | 1)), "{engine:?}{only}: {said}");
            assert_eq!(before, state(), "{engine:?}{only}: {said}");
            // It is a run of that folder now, and goes forward and back there.
            let (code, said) = elsewhere("undo new");
            assert!(matches!(code, Some(0 | 1)), "{engine:?}{only}: {said}");
            assert_eq!(after, state(), "{engine:?}{only}: {said}");
            let told = fixture.workspace.run("undo new").code(2).says("was taken over by");
            assert!(told.err.contains("elsewhere"), "{}", told.err);
            assert_eq!(after, state(), "{engine:?}{only}");
            fixture.workspace.done("runs new").says("taken over").says("--trust");
            // And it can be handed back.
            fixture.workspace.done("undo new --trust");
            assert_eq!(before, state(), "{engine:?}{only}");
            let (code, said) = elsewhere("undo new --let-go --yes");
            assert!(matches!(code, Some(0 | 1)), "{engine:?}{only}: {said}");
            assert!(said.contains("nothing was kept"), "{engine:?}{only}: {said}");
            fixture.workspace.done("undo new");
            assert_eq!(after, state(), "{engine:?}{only}");
        }
    }
}

#[test]
fn a_change_of_another_folder_goes_first() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.pack();
        let elsewhere = other_folder(&fixture);
        fixture.workspace.done("unpack site.fernweh.tar new");
        fixture.workspace.done("undo new --let-go --yes");
        let state = || database_cells(&fixture.new);
        let mark = |state: &str| {
            let sql = format!("UPDATE gp_nights SET seeing = '{state}'");
            fixture.database("new").run(sql.as_bytes()).unwrap();
        };
        mark("zero");
        let zero = state();
        fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        mark("one");
        let one = state();
        let (code, said) = elsewhere("unpack ../site.fernweh.tar new --overwrite");
        assert!(matches!(code, Some(0 | 1)), "{engine:?}: {said}");
        mark("two");
        let two = state();
        // Turned under it, the first change would bring a mixture into place.
        fixture.workspace.run("undo new").code(2).says("was made in another folder");
        assert_eq!(two, state(), "{engine:?}");
        fixture.workspace.done("undo new --trust");
        assert_eq!(one, state(), "{engine:?}");
        fixture.workspace.done("undo new");
        assert_eq!(zero, state(), "{engine:?}");
    }
}

#[test]
fn a_note_that_was_changed_is_not_taken_over() {
    type Change = fn(&mut serde_json::Value);
    let anywhere: [Change; 3] = [
        |note| note["record"][0]["run"] = "../../elsewhere".into(),
        |note| note["record"][1]["step"] = "let-go".into(),
        |note| note["record"][0]["command"] = "rewrite".into(),
    ];
    let in_files: [Change; 2] = [
        |note| note["record"][1]["plan"]["files"]["side"] = "/srv/other/new-x".into(),
        |note| note["record"][1]["plan"]["files"]["resident"] = "../../other".into(),
    ];
    let in_tables: [Change; 4] = [
        |note| note["record"][1]["plan"]["database"]["tables"]["tables"][0]["name"] = "x".into(),
        |note| {
            let tables = &mut note["record"][1]["plan"]["database"]["tables"]["tables"];
            tables[0]["aside-old"] = "other".into();
            tables[0]["aside_old"] = "other".into();
        },
        |note| {
            let old = &mut note["record"][1]["plan"]["database"]["tables"]["old"];
            old["triggers"][0]["sql"] = "DROP TABLE gp_nights".into();
        },
        |note| {
            let old = &mut note["record"][1]["plan"]["database"]["tables"]["old"];
            let sql = old["foreign_keys"][0]["sql"].as_str().unwrap();
            old["foreign_keys"][0]["sql"] = format!("{sql}; DROP TABLE gp_nights").into();
        },
    ];
    let in_schemas: [Change; 1] = [|note| {
        let schemas = &mut note["record"][1]["plan"]["database"]["schemas"]["schemas"];
        schemas[0]["aside_old"] = "pg_catalog".into();
    }];
    for (engine, more) in [
        (Engine::Sqlite, in_files.as_slice()),
        (Engine::Mariadb, in_tables.as_slice()),
        (Engine::Postgres, in_schemas.as_slice()),
    ] {
        let fixture = fixture(engine);
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new");
        fixture.workspace.done("undo new --let-go --yes");
        fixture.database("new").run(b"UPDATE gp_nights SET seeing = 'before'").unwrap();
        fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        let beside = walkdir::WalkDir::new(fixture.workspace.path(""));
        let note = beside.into_iter().flatten().map(walkdir::DirEntry::into_path).find(|path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            name.starts_with("kept-2") && name.ends_with(".json")
        });
        let note = note.unwrap();
        let written = fs::read_to_string(&note).unwrap();
        fs::remove_dir_all(fixture.workspace.path(".fernweh")).unwrap();
        let state = || (database_cells(&fixture.new), files_of(&fixture.root("new")));
        let before = state();
        for (number, change) in anywhere.iter().chain(more).enumerate() {
            let mut planted: serde_json::Value = serde_json::from_str(&written).unwrap();
            change(&mut planted);
            assert_ne!(planted.to_string(), written, "{engine:?} {number}");
            fs::write(&note, planted.to_string()).unwrap();
            let refused = fixture.workspace.run("undo new --trust").code(4);
            refused.says("cannot be taken over").says("nothing was changed");
            assert_eq!(before, state(), "{engine:?} {number}");
        }
        fs::write(&note, &written).unwrap();
        fixture.workspace.done("undo new --trust");
        assert_ne!(before, state(), "{engine:?}");
    }
}
