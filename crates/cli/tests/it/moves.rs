//! `survey --for`, `move`, what follows it, and who is told.

use super::{PROGRAM, fixture};
use fernweh_demo::host::Authority;
use fernweh_testkit::{
    Engine, FTP_LOGIN, Fixture, FtpHost, SshHost, Workspace, database_cells, files_of,
};
use std::collections::BTreeMap;
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

/// A fixture whose files can be reached on this machine, over SFTP and over FTPS.
struct Hosts {
    ssh: SshHost,
    ftp: FtpHost,
}

impl Hosts {
    fn of(workspace: &Workspace) -> Self {
        let authority = Authority::new().unwrap();
        let (certificate, key) = authority.issue("localhost").unwrap();
        workspace.write("authority.pem", &authority.certificate);
        workspace.write("host.pem", certificate);
        workspace.write("host-key.pem", key);
        workspace.write("ftp-password", FTP_LOGIN.1);
        let (certificate, key) = (workspace.path("host.pem"), workspace.path("host-key.pem"));
        let tls = Some((certificate.as_path(), key.as_path()));
        let ftp = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), tls, "");
        let ssh = SshHost::start(&workspace.path("ssh-host"), "");
        workspace.write(".ssh/known_hosts", &ssh.known);
        Self { ssh, ftp }
    }

    /// Reaches the files of a site by `way`, and its database through SSH or not.
    fn reach(&self, fixture: &Fixture, site: &str, way: &str, through: bool) {
        let mut more = format!("key = \"{}\"\n", self.ssh.key.display());
        if through {
            more.push_str(&format!("through = \"{}\"\n", self.ssh.address()));
        }
        let place = match way {
            "sftp" => self.ssh.files(&fixture.root(site)),
            "ftps" => {
                more.push_str("password.files = { file = \"ftp-password\" }\n");
                self.ftp.files("ftps", &format!("/{site}/htdocs"))
            }
            _ => format!("{site}/htdocs"),
        };
        fixture.reach_files(site, &place, &more);
    }
}

fn contents(tree: BTreeMap<String, String>) -> BTreeMap<String, String> {
    let cut = |text: String| text.splitn(3, ' ').nth(2).unwrap_or_default().to_owned();
    let mut tree: BTreeMap<_, _> = tree.into_iter().map(|(path, text)| (path, cut(text))).collect();
    // FTP knows no links, and the settings name each destination's own database.
    tree.retain(|path, text| !text.starts_with("link to") && path != "pictures/latest.png");
    tree.remove("config/site.php");
    tree
}

#[test]
fn a_site_moves_by_every_pairing_of_ways() {
    let mut expected = None;
    for from in ["local", "sftp", "ftps"] {
        for to in ["local", "sftp", "ftps"] {
            for through in [false, true] {
                let fixture = fixture(Engine::Mariadb);
                let hosts = Hosts::of(&fixture.workspace);
                hosts.reach(&fixture, "old", from, through);
                hosts.reach(&fixture, "new", to, through);
                let ran = fixture.workspace.done("move old new --yes --no-scan");
                ran.says("moved      site old to new").says("fernweh undo new");
                let found =
                    (contents(files_of(&fixture.root("new"))), database_cells(&fixture.new));
                let expected = expected.get_or_insert_with(|| found.clone());
                assert!(*expected == found, "{from} to {to}, through SSH: {through}");
                assert!(
                    !fs::read_to_string(fixture.root("new").join("config/site.php"))
                        .unwrap()
                        .contains(&fixture.workspace.read("old-password"))
                );
            }
        }
    }
}

#[test]
fn the_tests_before_a_move_change_nothing_and_name_what_is_wrong() {
    let fixture = fixture(Engine::Mariadb);
    let hosts = Hosts::of(&fixture.workspace);
    hosts.reach(&fixture, "old", "sftp", false);
    hosts.reach(&fixture, "new", "ftps", true);
    let before = fs::read_to_string(fixture.workspace.path("fernweh.toml")).unwrap();
    let ran = fixture.workspace.done("survey old --for new --json").json();
    let names: Vec<&str> =
        ran["checks"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    for name in
        ["source-database", "source-files", "destination-database", "destination-files", "room"]
    {
        assert!(names.contains(&name), "{names:?}");
    }
    assert_eq!(ran["size"]["files"], 65);
    assert!(ran["seconds"].as_f64().unwrap() > 0.0);
    assert!(fixture.database("new").ask("SHOW TABLES").unwrap().is_empty(), "the test's is gone");
    assert!(!fixture.root("new").exists());
    let said = fixture.workspace.done("survey old --for new").says("they are left out: 1 entry");
    assert!(!said.out.contains("24 entries"), "{}", said.out);

    // The same folder by another way: seen because what is written there is seen here.
    let place = hosts.ftp.files("ftps", "/new/htdocs");
    let same = before.replace(&place, &hosts.ftp.files("ftps", "/old/htdocs"));
    fixture.workspace.write("fernweh.toml", &same);
    let ran = fixture.workspace.run("survey old --for new --check same-place").code(3);
    ran.says("the same folder, by another name").says("failed");
    let ran = fixture.workspace.run("move old new --yes --overwrite").code(3);
    ran.says("the same folder");

    fixture.workspace.write("fernweh.toml", &before);
    fixture.workspace.write("new-password", "wrong");
    let ran = fixture.workspace.run("survey old --for new").code(3);
    ran.says("failed").says("password").says("--check destination-database");
    fixture.workspace.run("survey old --for new --check nonsense").code(2).says("the tests are:");
    assert!(!fixture.root("new").exists());
}

#[test]
fn a_rehearsal_gives_the_numbers_and_touches_nothing() {
    let fixture = fixture(Engine::Mariadb);
    let rehearsed = fixture.workspace.done("move old new --rehearse --json").json();
    assert!(!fixture.root("new").exists());
    assert!(fixture.database("new").ask("SHOW TABLES").unwrap().is_empty());
    let moved = fixture.workspace.done("move old new --yes --no-scan --json").json();
    assert_eq!(rehearsed["unpacked"]["rewriting"], moved["unpacked"]["rewriting"]);

    // Now something is there: it is replaced only if that is said, and comes back.
    fs::write(fixture.root("new").join("only-here.txt"), "only here").unwrap();
    let before = files_of(&fixture.root("new"));
    let ran = fixture.workspace.run("move old new --yes --no-scan").code(2);
    ran.says("is not empty").says("13 tables").says("--overwrite");
    fixture.workspace.done("move old new --yes --no-scan --overwrite");
    assert!(!fixture.root("new").join("only-here.txt").exists());
    fixture.workspace.done("undo new");
    assert_eq!(files_of(&fixture.root("new")), before);
    fixture.workspace.run("move old new").code(2).says("is not empty");
    fixture.workspace.run("move old new --overwrite").code(2).says("--yes");
    fixture.workspace.run("move old old").code(2).says("itself");
}

#[test]
fn a_move_that_was_broken_off_goes_on_where_it_stopped() {
    let reference = fixture(Engine::Mariadb);
    reference.workspace.done("move old new --yes --no-scan");
    let expected = (contents(files_of(&reference.root("new"))), database_cells(&reference.new));
    for step in ["packed", "made", "checked", "switching", "database-switched", "unpacked"] {
        let fixture = fixture(Engine::Mariadb);
        let hosts = Hosts::of(&fixture.workspace);
        hosts.reach(&fixture, "old", "sftp", true);
        hosts.reach(&fixture, "new", "sftp", true);
        let line = "move old new --yes --no-scan";
        let ran = fixture.workspace.run_killed_at(line, step);
        assert_eq!(ran.code, None, "it was to be killed at {step}: {}\n{}", ran.out, ran.err);
        fixture.workspace.done("runs").says("unfinished");
        let ran = fixture.workspace.done(line);
        ran.says("resumed an interrupted run");
        let found = (contents(files_of(&fixture.root("new"))), database_cells(&fixture.new));
        assert!(found == expected, "{step}");
        let runs = fixture.workspace.done("runs").says("packed").out;
        assert!(!runs.contains("unfinished"), "{runs}");
    }
}

#[test]
fn a_move_that_was_taken_back_before_it_ended_begins_anew() {
    let fixture = fixture(Engine::Mariadb);
    fs::create_dir_all(fixture.root("new")).unwrap();
    fs::write(fixture.root("new").join("older.txt"), "older").unwrap();
    let line = "move old new --yes --no-scan --overwrite";
    fixture.workspace.run_killed_at(line, "unpacked");
    assert!(!fixture.root("new").join("older.txt").exists());
    fixture.workspace.done("undo new");
    assert!(fixture.root("new").join("older.txt").exists());
    let ran = fixture.workspace.done(line);
    assert!(!ran.out.contains("gone on"), "{}", ran.out);
    assert!(fixture.root("new").join("templates").exists());
    assert!(!fixture.root("new").join("older.txt").exists());
}

#[test]
fn connections_that_are_cut_at_any_moment_lose_nothing() {
    let reference = fixture(Engine::Mariadb);
    reference.workspace.done("move old new --yes --no-scan");
    let expected = (contents(files_of(&reference.root("new"))), database_cells(&reference.new));
    let fixture = fixture(Engine::Mariadb);
    let hosts = Hosts::of(&fixture.workspace);
    hosts.reach(&fixture, "old", "sftp", true);
    hosts.reach(&fixture, "new", "sftp", true);
    fixture.configure("[unpack]\nkeep-states = 0\n");
    let line = "move old new --yes --no-scan --overwrite";
    for step in ["packed", "made", "built", "checked", "switching", "database-switched"] {
        let ran = fixture.workspace.run_halted_at(line, step, || hosts.ssh.cut_connections());
        if !matches!(ran.code, Some(0 | 1)) {
            assert!([Some(3), Some(5)].contains(&ran.code), "{step}: {}\n{}", ran.out, ran.err);
            fixture.workspace.done(line);
        }
        let found = (contents(files_of(&fixture.root("new"))), database_cells(&fixture.new));
        assert!(found == expected, "{step}");
    }
}

/// Run by `scripts/soak`: every connection is cut at a random moment of a move between two
/// hosts, and the same command goes on.
#[test]
#[ignore = "takes minutes; scripts/soak runs it"]
fn soak_of_cuts() {
    let number = |name: &str, usual: u64| {
        std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
    };
    let (mut seed, rounds) = (number("SOAK_SEED", 1), number("SOAK_ROUNDS", 50));
    let mut random = move || {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed
    };
    for way in ["sftp", "ftps"] {
        let fixture = fixture(Engine::Mariadb);
        fs::write(fixture.root("old").join("large.bin"), vec![5; 20 << 20]).unwrap();
        let hosts = Hosts::of(&fixture.workspace);
        hosts.reach(&fixture, "old", way, true);
        hosts.reach(&fixture, "new", way, true);
        fixture.configure("[unpack]\nkeep-states = 0\n");
        let line = "move old new --yes --no-scan --overwrite";
        let began = Instant::now();
        fixture.workspace.done(line);
        let whole = began.elapsed().as_micros() as u64;
        let expected = (contents(files_of(&fixture.root("new"))), database_cells(&fixture.new));
        let mut ends = BTreeMap::<Option<i32>, u64>::new();
        for round in 0..rounds {
            let mut command = fixture.workspace.command(line);
            let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
            std::thread::sleep(Duration::from_micros(random() % whole));
            hosts.ssh.cut_connections();
            hosts.ftp.cut_connections();
            let ended = child.wait_with_output().unwrap();
            *ends.entry(ended.status.code()).or_default() += 1;
            if !ended.status.success() {
                let said = String::from_utf8_lossy(&ended.stderr).into_owned();
                assert!([Some(3), Some(5)].contains(&ended.status.code()), "{said}");
                fixture.workspace.done(line);
            }
            let found = (contents(files_of(&fixture.root("new"))), database_cells(&fixture.new));
            assert!(found == expected, "{way}, round {round}");
        }
        println!("{way}: {rounds} cuts survived; exit codes of the cut moves {ends:?}");
    }
}

#[test]
fn what_follows_a_move_is_done_reported_and_taken_back_with_it() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let mut fixture = fixture(engine);
        let (_old, _new) = fixture.serve();
        let text = fixture.workspace.read("fernweh.toml");
        let after = "[after]\ninto = [\"new\"]\nempty = [\"gp_log\", { tables = \"gp_comments\", where = \"id > 250\" }]\n\
                     sql = [\"UPDATE gp_members SET homepage = 'moved' WHERE id = 1\"]\n\
                     remove = [\"robots.txt\"]\ncommand = [\"echo refreshed > made.txt\"]\n\
                     request = [\"https://www.glimmer-point.example/visit\", \
                     { url = \"https://www.glimmer-point.example/no-such-page\", status = 200 }]\n\
                     [tell]\ncommand = \"printenv FERNWEH_SUBJECT >> told.txt; cat >> told.txt\"\n";
        fixture.workspace.write("fernweh.toml", format!("{text}{after}"));
        // One request fails, and the scan finds what is built in: done, with findings.
        let ran = fixture.workspace.run("move old new --yes").code(1);
        let ran = ran.says("emptied gp_log: 60 records").says("emptied gp_comments: 50 records");
        let ran = ran.says("removed robots.txt: 1 file").says("ran echo refreshed");
        ran.says("status 404 and not 200").says("scanned");
        let one = |sql: &str| fixture.database("new").ask(sql).unwrap()[0][0].clone().unwrap();
        assert_eq!(one("SELECT count(*) FROM gp_log"), "0");
        assert_eq!(one("SELECT count(*) FROM gp_comments"), "250");
        assert_eq!(one("SELECT homepage FROM gp_members WHERE id = 1"), "moved");
        assert!(!fixture.root("new").join("robots.txt").exists());
        assert_eq!(
            fs::read_to_string(fixture.root("new").join("made.txt")).unwrap(),
            "refreshed\n"
        );
        let told = fixture.workspace.read("told.txt");
        assert!(told.contains("Fernweh: begun: old to new") && told.contains("Fernweh: done"));
        assert!(!told.contains("secret"), "{told}");

        // A step that cannot be taken takes the whole move back.
        let wrong = after.replace("UPDATE gp_members", "UPDATE gp_nothing");
        fixture.workspace.write("fernweh.toml", format!("{text}{wrong}"));
        let files = files_of(&fixture.root("new"));
        let ran = fixture.workspace.run("move old new --yes --overwrite").code(5);
        ran.says("a step of [after] failed").says("gp_nothing").says("old state again");
        assert_eq!(files_of(&fixture.root("new")), files);
        assert_eq!(one("SELECT count(*) FROM gp_comments"), "250");
        assert!(fixture.workspace.read("told.txt").contains("Fernweh: failed"));

        // Typed again, it begins anew: the state that was taken back is not taken for moved.
        fixture.workspace.write("fernweh.toml", format!("{text}{after}"));
        let ran = fixture.workspace.run("move old new --yes --overwrite --no-scan").code(1);
        assert!(!ran.out.contains("gone on"), "{}", ran.out);
        ran.says("unpacked").says("emptied gp_log: 60 records");
        assert!(!fixture.workspace.done("runs").out.contains("unfinished"));
    }
}

#[test]
fn word_goes_by_mail() {
    use std::io::{BufRead, BufReader, Write};
    let workspace = Workspace::new(PROGRAM);
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    // A mail server of the fewest words: it takes one message.
    let server = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
        stream.write_all(b"220 mail.glimmer.example\r\n").unwrap();
        let (mut message, mut in_data) = (String::new(), false);
        while let Some(Ok(line)) = lines.next() {
            message.push_str(&format!("{line}\n"));
            let answer = match (in_data, line.as_str()) {
                (true, ".") => "250 taken",
                (true, _) => continue,
                (false, "DATA") => "354 go on",
                (false, "QUIT") => "221 bye",
                _ => "250 mail.glimmer.example",
            };
            in_data = answer.starts_with("354");
            stream.write_all(format!("{answer}\r\n").as_bytes()).unwrap();
            if answer.starts_with("221") {
                break;
            }
        }
        message
    });
    workspace.write(
        "fernweh.toml",
        format!(
            "[tell]\nto = [\"keeper@glimmer.example\"]\nfrom = \"fernweh@glimmer.example\"\n\
             server = \"smtp://127.0.0.1:{port}\"\n"
        ),
    );
    workspace.done("tell --test").says("keeper@glimmer.example by mail");
    let message = server.join().unwrap();
    assert!(message.contains("RCPT TO:<keeper@glimmer.example>"), "{message}");
    assert!(message.contains("Subject: Fernweh: a test"), "{message}");
    workspace.run("tell --test").code(3).says("cannot send mail").says("tell --test");
}

#[test]
fn what_a_mail_server_answers_is_not_repeated() {
    use std::io::{BufRead, BufReader, Write};
    let workspace = Workspace::new(PROGRAM);
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    // One that says the password back, with something for the terminal.
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
        stream.write_all(b"220 mail.glimmer.example\r\n").unwrap();
        while let Some(Ok(line)) = lines.next() {
            let answer = match line.starts_with("EHLO") {
                true => "250-mail.glimmer.example\r\n250 AUTH PLAIN".to_owned(),
                false => format!("535 \u{1b}[2Jyou said night-sky-7, {line}"),
            };
            let _ = stream.write_all(format!("{answer}\r\n").as_bytes());
        }
    });
    workspace.write("pw", "night-sky-7");
    workspace.write(
        "fernweh.toml",
        format!(
            "[tell]\nto = [\"keeper@glimmer.example\"]\nfrom = \"fernweh@glimmer.example\"\n\
             server = \"smtp://keeper@127.0.0.1:{port}\"\npassword = {{ file = \"pw\" }}\n"
        ),
    );
    let ran = workspace.run("tell --test").code(3);
    let ran = ran.says("the mail server answers 535, it refuses user or password");
    let told = format!("{}{}", ran.out, ran.err);
    assert!(!told.contains("you said") && !told.contains("night-sky-7"), "{told}");
}

#[test]
fn a_move_that_is_not_begun_is_told_and_steps_that_cannot_be_taken_are_found_before() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/index.html", "the page");
    workspace.write("new/index.html", "another");
    let host = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, "");
    workspace.write("ftp-password", fernweh_testkit::FTP_LOGIN.1);
    let sites = format!(
        "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{}\"\npassword.files = {{ file = \
         \"ftp-password\" }}\n[tell]\ncommand = \"printenv FERNWEH_SUBJECT >> told.txt\"\n",
        host.files("ftp", "/new")
    );
    let after = "[after]\ninto = [\"new\"]\nempty = [\"gp_log\"]\ncommand = [\"echo\"]\n\
                 request = [\"http://glimmerpoint.example/\"]\n";
    workspace.write("fernweh.toml", format!("{sites}{after}"));
    let ran = workspace.run("move old new --yes --overwrite").code(3);
    let ran = ran.says("[after] has steps for a database").says("no shell answers on the host");
    ran.says("requests, and there is no web address");
    assert_eq!(workspace.read("new/index.html"), "another");
    let told = || workspace.read("told.txt");
    assert_eq!(told(), "Fernweh: not begun, a test failed: old to new\n");

    // Nobody is there to agree.
    workspace.write("fernweh.toml", &sites);
    workspace.run("move old new --overwrite").code(2).says("--yes");
    assert!(told().ends_with("Fernweh: not begun: old to new\n"), "{}", told());

    // What could not be scanned is not done without more.
    let text = sites.replace("[site.new]\n", "[site.new]\nurl = \"http://127.0.0.1:9\"\n");
    workspace.write("fernweh.toml", text);
    let ran = workspace.run("move old new --yes --overwrite").code(1).says("not possible");
    drop(ran);
    assert!(told().ends_with("and there is something to look at: old to new\n"), "{}", told());
    assert_eq!(workspace.read("new/index.html"), "the page");
}
