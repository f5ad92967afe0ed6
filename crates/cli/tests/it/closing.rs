//! `fernweh close`: an old site leads to the new one, or shows a notice for a while; what comes
//! back with `undo` is the same to the byte.

use super::PROGRAM;
use fernweh_demo::server::free_port;
use fernweh_testkit::{Apache, Issuing, Nginx, PhpFpm, Wanted, Workspace, files_of};
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

/// A workspace with an old site and a new one, which is not there.
fn space() -> Workspace {
    let space = Workspace::new(PROGRAM);
    std::fs::set_permissions(space.folder(), PermissionsExt::from_mode(0o755)).unwrap();
    space.write("site/pictures/dome.txt", "a picture");
    space
}

fn configured(space: &Workspace, place: SocketAddr) {
    space.write(
        "fernweh.toml",
        format!(
            "[site.old]\nurl = \"http://glimmerpoint.example\"\nfiles = \"site\"\ndatabase = \
             \"none\"\nconnect-to = \"{place}\"\n\n[site.new]\nurl = \
             \"https://www.glimmer-point.example\"\n\n[site.same]\nurl = \
             \"https://www.glimmerpoint.example\"\n"
        ),
    );
}

const PAGE: &str = "<p>Observing nights.</p><img src=/pictures/dome.txt alt=''>";

fn apache(more: &str) -> (Workspace, Apache) {
    let space = space();
    space.write("site/index.html", PAGE);
    space.write("site/.htaccess", "# the site's own\nRewriteEngine On\nRewriteRule ^own$ - [G]\n");
    let issuing = Issuing::new(&space.path("certificates"));
    let names = vec!["glimmerpoint.example".to_owned()];
    let both = issuing.issue("site", &Wanted { names, ..Wanted::default() });
    let apache = Apache::start(&space.path("apache"), &space.path("site"), &both, None, more);
    configured(&space, apache.http);
    (space, apache)
}

/// nginx, which reads no rules from a site, and PHP behind it.
fn nginx() -> (Workspace, Nginx, PhpFpm, SocketAddr) {
    let space = space();
    space.write(
        "site/index.php",
        format!(
            "<?php\ndeclare(strict_types=1);\nnamespace Glimmer;\necho '{}';\n",
            PAGE.replace('\'', "")
        ),
    );
    let php = PhpFpm::start(&space.path("php"));
    let place = SocketAddr::from(([127, 0, 0, 1], free_port().unwrap()));
    let root = space.path("site");
    let servers = format!(
        "server {{ listen {place}; root {0}; location / {{ try_files $uri /index.php$is_args$args; \
         }} location ~ \\.php$ {{ fastcgi_pass unix:{1}; fastcgi_param SCRIPT_FILENAME \
         {0}$fastcgi_script_name; fastcgi_param REQUEST_URI $request_uri; fastcgi_param HTTP_HOST \
         $http_host; fastcgi_param REQUEST_METHOD $request_method; }} }}",
        root.display(),
        php.socket.display()
    );
    let nginx = Nginx::start(&space.path("nginx"), &servers, &[place]);
    configured(&space, place);
    (space, nginx, php, place)
}

/// Status, place and text of an answer, as another program sees them.
fn seen(place: SocketAddr, path: &str) -> (String, String, String) {
    let told = Command::new("curl")
        .args(["-s", "-i", "-H", "Host: glimmerpoint.example"])
        .arg(format!("http://{place}{path}"))
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&told.stdout).into_owned();
    let header = |name: &str| {
        let line = text.lines().find(|line| line.to_lowercase().starts_with(name));
        line.and_then(|line| line.split_once(": ")).map_or("", |(_, value)| value).to_owned()
    };
    let status = text.split(' ').nth(1).unwrap_or_default().to_owned();
    (status, header("location"), format!("{} {text}", header("retry-after")))
}

#[test]
fn an_old_site_leads_to_the_new_one_and_comes_back_to_the_byte() {
    let (space, apache) = apache("");
    let before = files_of(&space.path("site"));
    let refused = space.run("close old --to new");
    assert_eq!(refused.code, Some(2), "{refused:?}");
    assert_eq!(files_of(&space.path("site")), before);
    let ran = space.run("close old --to new --yes");
    assert_eq!(ran.code, Some(0), "{ran:?}");
    assert!(ran.out.contains("by .htaccess") && !ran.out.contains("failed"), "{}", ran.out);
    for path in ["/", "/index.html", "/own", "/pictures/dome.txt", "/a%20b/?x=1&y=%2F"] {
        let (status, location, _) = seen(apache.http, path);
        assert_eq!(status, "301", "{path}");
        assert_eq!(location, format!("https://www.glimmer-point.example{path}"));
    }
    // Closed a second time it is as closed as before, and one step takes it back.
    let closed = files_of(&space.path("site"));
    let again = space.run("close old --to new --yes");
    assert_eq!(again.code, Some(0), "{again:?}");
    assert_eq!(files_of(&space.path("site")), closed);
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
    assert_eq!(seen(apache.http, "/").0, "200");
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(files_of(&space.path("site")), closed);
}

#[test]
fn where_no_rule_file_is_read_a_program_answers_and_says_what_it_does_not_cover() {
    let (space, _nginx, _php, place) = nginx();
    let before = files_of(&space.path("site"));
    let ran = space.run("close old --to new --yes");
    // A plain file is the web server's own.
    assert_eq!(ran.code, Some(1), "{ran:?}");
    assert!(ran.out.contains("by index.php"), "{}", ran.out);
    assert!(
        ran.out.contains("failed   http://glimmerpoint.example/pictures/dome.txt → 200"),
        "{}",
        ran.out
    );
    for path in ["/", "/nights?x=1&y=%2F"] {
        let (status, location, _) = seen(place, path);
        assert_eq!(
            (status.as_str(), location),
            ("301", format!("https://www.glimmer-point.example{path}"))
        );
    }
    assert!(!space.path("site/.htaccess").exists());
    // What did not work is no step to take back.
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
    let runs = space.run("runs").out;
    assert_eq!(runs.matches("-close-old-").count(), 1, "{runs}");
}

#[test]
fn a_notice_is_shown_and_ends_by_itself() {
    let (space, apache) = apache("");
    let before = files_of(&space.path("site"));
    let ran = space.run("close old --page --for 30m --yes");
    assert_eq!(ran.code, Some(0), "{ran:?}");
    for path in ["/", "/own", "/pictures/dome.txt"] {
        let (status, _, text) = seen(apache.http, path);
        assert_eq!(status, "503", "{path}");
        assert!(text.starts_with("120 ") && text.contains("being moved"), "{text}");
    }
    // Half an hour later: the moment stands in the file, by the clock of the server.
    let rules = space.read("site/.htaccess");
    let until = rules.split("%{TIME} <").nth(1).unwrap()[..14].to_owned();
    space.write("site/.htaccess", rules.replace(&until, "20200101000000"));
    assert_eq!(seen(apache.http, "/").0, "200");
    assert_eq!(seen(apache.http, "/own").0, "410");
    assert!(!seen(apache.http, "/").2.contains("Retry-After"));
    space.write("site/.htaccess", rules);
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
}

#[test]
fn a_notice_by_a_program_ends_by_itself_too() {
    let (space, _nginx, _php, place) = nginx();
    let before = files_of(&space.path("site"));
    let ran = space.run("close old --page --for 30m --yes");
    assert_eq!(ran.code, Some(1), "{ran:?}");
    let (status, _, text) = seen(place, "/nights");
    assert!(status == "503" && text.starts_with("120 "), "{status} {text}");
    let program = space.read("site/index.php");
    let until = program.split("time() < ").nth(1).unwrap()[..10].to_owned();
    // PHP may remember the program for a moment; under another name it cannot.
    space.write("site/later.php", program.replace(&until, "1600000000"));
    let (status, _, text) = seen(place, "/later.php");
    assert!(status == "200" && text.contains("Observing nights"), "{status} {text}");
    std::fs::remove_file(space.path("site/later.php")).unwrap();
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(files_of(&space.path("site")), before);
}

#[test]
fn what_cannot_be_closed_is_left_as_it_was() {
    let (space, _apache) = apache("AllowOverride None");
    let before = files_of(&space.path("site"));
    let ran = space.run("close old --to new --yes");
    assert_eq!(ran.code, Some(3), "{ran:?}");
    assert!(ran.err.contains("neither .htaccess nor index.php"), "{}", ran.err);
    assert_eq!(files_of(&space.path("site")), before);
    assert!(!space.run("runs").out.contains("close"));
    // Where nobody answers, nobody could see it.
    let toml = space.read("fernweh.toml");
    space.write(
        "fernweh.toml",
        toml.replace("connect-to = \"127.0.0.1:", "connect-to = \"127.0.0.9:"),
    );
    let silent = space.run("close old --to new --yes");
    assert_eq!(silent.code, Some(3), "{silent:?}");
    assert!(silent.err.contains("does not answer"), "{}", silent.err);
    // With one name for both hosts visitors would go round in circles.
    let same = space.run("close old --to same --yes");
    assert_eq!(same.code, Some(2), "{same:?}");
    assert!(same.err.contains("cannot lead to itself"), "{}", same.err);
}

/// An old site on Apache, and a new place for it on this machine.
fn moving(more: &str) -> (Workspace, Apache) {
    let (space, apache) = apache(more);
    let toml = space.read("fernweh.toml").replace(
        "url = \"https://www.glimmer-point.example\"\n",
        "url = \"https://www.glimmer-point.example\"\nfiles = \"new\"\ndatabase = \"none\"\n",
    );
    space.write("fernweh.toml", toml);
    (space, apache)
}

const QUIET: &str = "move old new --quiet-source --overwrite --no-scan --yes";

#[test]
fn a_quiet_source_is_closed_while_it_is_packed_and_open_afterwards() {
    let (space, apache) = moving("");
    let before = files_of(&space.path("site"));
    let ran = space.run_halted_at(QUIET, "built", || {
        assert_eq!(seen(apache.http, "/").0, "503");
        assert_eq!(seen(apache.http, "/pictures/dome.txt").0, "503");
    });
    assert_eq!(ran.code, Some(0), "{ran:?}");
    assert!(ran.err.contains("site old shows a notice"), "{}", ran.err);
    assert_eq!(seen(apache.http, "/").0, "200");
    assert_eq!(files_of(&space.path("site")), before);
    // The notice did not travel.
    assert_eq!(space.read("new/.htaccess"), space.read("site/.htaccess"));
    assert!(!space.run("runs").out.contains("-close-"));
}

#[test]
fn a_quiet_source_is_open_again_where_the_move_fails_or_is_killed() {
    let (space, apache) = moving("");
    let before = files_of(&space.path("site"));
    // The destination is not empty, and nobody said that it may be replaced.
    space.write("new/there.txt", "something");
    let refused = space.run("move old new --quiet-source --no-scan --yes");
    assert_eq!(refused.code, Some(2), "{refused:?}");
    assert_eq!(files_of(&space.path("site")), before);
    let killed = space.run_killed_at(QUIET, "built");
    assert_eq!(killed.code, None);
    // Nobody is there to open it; the notice ends by itself, or with the same command.
    assert_eq!(seen(apache.http, "/").0, "503");
    let again = space.run(QUIET);
    assert_eq!(again.code, Some(0), "{again:?}");
    assert_eq!(seen(apache.http, "/").0, "200");
    assert_eq!(files_of(&space.path("site")), before);
    assert!(!space.run("runs").out.contains("-close-"));
}

#[test]
fn a_source_that_cannot_be_quiet_is_not_moved() {
    let (space, _apache) = moving("AllowOverride None");
    let before = files_of(&space.path("site"));
    let ran = space.run(QUIET);
    assert_eq!(ran.code, Some(3), "{ran:?}");
    assert!(ran.err.contains("cannot be kept from writing"), "{}", ran.err);
    assert_eq!(files_of(&space.path("site")), before);
    assert!(!space.path("new").exists());
}

#[test]
fn a_site_whose_program_gave_way_is_not_packed_without_it() {
    let (space, _nginx, _php, _) = nginx();
    assert_eq!(space.run("close old --to new --yes").code, Some(1));
    let ran = space.run("pack old -o old.tar");
    assert_eq!(ran.code, Some(2), "{ran:?}");
    assert!(ran.err.contains("is closed by Fernweh"), "{}", ran.err);
    assert_eq!(space.run("undo old").code, Some(0));
    assert_eq!(space.run("pack old -o old.tar").code, Some(0));
}
