//! The first hour: from nothing to a configuration, and the way back from mistakes.

use super::{PROGRAM, fixture};
use fernweh_testkit::{Engine, Workspace};
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};

#[test]
fn a_first_configuration_is_written_from_what_the_sites_files_say() {
    let fixture = fixture(Engine::Mariadb);
    let line = "init -c first.toml --from-site old/htdocs --from-url http://glimmerpoint.example \
                --to-site new/htdocs --to-url https://www.glimmer-point.example";
    let ran = fixture.workspace.done(line);
    ran.says("the database, in config/site.php").says("fernweh -c first.toml sites");
    let path = fixture.workspace.path("first.toml");
    assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
    let text = fixture.workspace.read("first.toml");
    // The password stays where it is, and each line says what it is for.
    assert!(!text.contains("-secret-"), "{text}");
    assert!(text.contains("url   = \"http://glimmerpoint.example\"   # the address"), "{text}");
    assert!(text.contains("[site.new]") && text.contains("read from the site's own settings"));
    // It can be used as it is.
    fixture.workspace.done("survey old -c first.toml").says("13 tables, 2037 records");
    fixture.workspace.run(line).code(2).says("already there");
    let old = fixture.workspace.done("sites -c first.toml --json --list").json();
    assert_eq!(old["sites"][1]["site"], "old");
    assert_eq!(old["sites"][1]["url"], "http://glimmerpoint.example");
}

#[test]
fn without_a_terminal_init_says_what_it_needs() {
    let workspace = Workspace::new(PROGRAM);
    workspace.run("init").code(2).says("--from-site PLACE");
    workspace.run("init --from-site nowhere").code(2).says("there is no such folder");
    assert!(!workspace.path("fernweh.toml").exists());
    workspace.write("htdocs/index.html", "hello");
    workspace.done("init --from-site htdocs").says("no database settings").says("to do");
    // A path is meant from where it is typed, wherever the configuration lies.
    fs::create_dir(workspace.path("elsewhere")).unwrap();
    workspace.done("init --from-site htdocs -c elsewhere/own.toml");
    workspace.done("survey old -c elsewhere/own.toml").says("1 file");
    // What is not known yet stands there as comments.
    let text = workspace.read("fernweh.toml");
    assert!(text.contains("# [site.new]"), "{text}");
    workspace.done("sites");
}

#[test]
fn what_is_known_of_a_site_can_be_printed_as_its_section() {
    let workspace = Workspace::new(PROGRAM);
    let section = "[site.\"shop.one\"]\n\
                   url               = \"https://shop.test\"\n\
                   files             = \"htdocs\"\n\
                   database          = \"mariadb://keeper@127.0.0.1:3307/shop\"\n\
                   through           = \"ssh://keeper@127.0.0.1:1\"\n\
                   key               = \"~/.ssh/shop\"\n\
                   assist            = \"copy-self\"\n\
                   encrypted         = true\n\
                   tables            = [\"gp_*\", \"shop_*\"]\n\
                   connect-to        = \"127.0.0.1:8443\"\n\
                   login             = \"preview\"\n\
                   authority         = \"own.pem\"\n\
                   trust             = [\"sha256:11\"]\n\
                   final             = false\n\
                   password.database = { env = \"SHOP\" }\n\
                   password.login    = { command = \"echo \\\"x\\\"\" }\n";
    workspace.write(
        "fernweh.toml",
        section.replace("sha256:11", &"sha256:11".replace("11", &"1".repeat(64))),
    );
    workspace.write("htdocs/index.html", "hello");
    let printed = workspace.done("survey shop.one --print-config").out;
    let read = |text: &str| toml::from_str::<toml::Table>(text).unwrap();
    assert_eq!(read(&printed), read(&workspace.read("fernweh.toml")));
    // Under the name that was typed, also without a configuration.
    let bare = Workspace::new(PROGRAM);
    bare.write("htdocs/index.html", "hello");
    bare.done("survey shop --files htdocs --print-config").says("[site.shop]");
}

#[test]
fn the_configuration_is_looked_for_upwards_and_its_absence_is_said() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("htdocs/deep/down/index.html", "hello");
    let below = |line: &str| {
        let mut command = workspace.command(line);
        let told = command.current_dir(workspace.path("htdocs/deep/down")).output().unwrap();
        let text = [told.stdout, told.stderr].concat();
        (told.status.code(), String::from_utf8_lossy(&text).into_owned())
    };
    let (code, said) = below("survey old");
    assert_eq!(code, Some(2));
    assert!(said.contains("no fernweh.toml was found") && said.contains("fernweh init"), "{said}");
    assert!(said.contains("htdocs/deep/down and the folders above it"), "{said}");
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"htdocs\"\ndatabase = \"none\"\n");
    let (code, said) = below("survey old");
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("1 file"), "{said}");
    let (code, said) = below("survey old -c no.toml");
    assert_eq!(code, Some(2), "{said}");
    // A configuration can run commands: another user's above is none of ours.
    let path = workspace.path("fernweh.toml");
    if am_root() {
        // Nobody else can give a file away.
        std::os::unix::fs::chown(&path, Some(65_534), None).unwrap();
        let (code, said) = below("survey old");
        assert_eq!(code, Some(2), "{said}");
        assert!(said.contains("is not yours") && said.contains("-c"), "{said}");
    }
}

fn am_root() -> bool {
    fs::metadata("/proc/self").unwrap().uid() == 0
}

#[test]
fn hints_can_be_pasted_with_the_configuration_that_is_in_use() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("my sites.toml", "[site.old]\nfiles = \"a\"\ndatabase = \"none\"\n[site.new]\nfiles = \"b\"\ndatabase = \"none\"\nurl = \"http://new.test\"\n");
    workspace.write("a/x.html", "http://old.test/ is old");
    let run = |words: &[&str]| {
        let told = workspace.command("").args(words).output().unwrap();
        let text = [told.stdout, told.stderr].concat();
        String::from_utf8_lossy(&text).into_owned()
    };
    let file = "my sites.toml";
    let said = run(&["pack", "old", "-c", file, "-o", "the archive.tar"]);
    assert!(said.contains("fernweh -c 'my sites.toml' show 'the archive.tar' --verify"), "{said}");
    let said = run(&["unpack", "the archive.tar", "new", "-c", file, "--as-is", "--dry-run"]);
    let next = "next       fernweh -c 'my sites.toml' unpack 'the archive.tar' new --as-is\n";
    assert!(said.contains(next), "{said}");
    let said = run(&["unpack", "the archive.tar", "new", "-c", file, "--as-is"]);
    assert!(said.contains("fernweh -c 'my sites.toml' undo new"), "{said}");
    let (from, to) = ("http://old.test", "http://new.test");
    let said = run(&["rewrite", "new", "-c", file, "--from", from, "--to", to, "-n"]);
    let next = "fernweh -c 'my sites.toml' rewrite new --from http://old.test --to http://new.test --apply";
    let said: Vec<&str> = said.split_whitespace().collect();
    assert!(said.join(" ").contains(next), "{said:?}");
    let said = run(&["survey", "nobody", "-c", file]);
    assert!(said.contains("sites in my sites.toml: new, old"), "{said}");
    // A site without a configuration is described again.
    let said = run(&["survey", "--files", "a", "-c", file]);
    assert!(said.contains("pack --files a"), "{said}");
}

#[test]
fn words_from_elsewhere_are_understood_or_answered_with_ours() {
    let workspace = Workspace::new(PROGRAM);
    for (line, words) in [
        ("unpack a.tar new --force", "--overwrite"),
        ("pack old --force", "choose another name with -o"),
        ("pack old --dry-run", "so it needs no trial"),
        ("unpack a.tar new --file x", "--paths PATTERN"),
        ("pack old --continue", "--fresh begins anew"),
        ("move a b --into c", "fernweh move FROM SITE"),
        ("survey a --only room", "--check NAME"),
        ("unpack a.tar new --overwite", "did you mean --overwrite?"),
        ("unpack --on-bad-record sip", "did you mean skip?"),
        ("pack a b", "one word too many"),
        ("pack old --level 30", "it must be a number from 0 to 19"),
        ("move a", "TO is missing"),
        ("unpack a.tar --only", "--only needs a value"),
        ("pack old --sql a --output b", "do not go together"),
        ("nonsense", "there is no command `nonsense`"),
    ] {
        let ran = workspace.run(line).code(2).says(words).says("nothing was changed");
        assert!(!ran.err.contains("'--") && !ran.err.contains("error:"), "{}", ran.err);
        assert!(ran.err.lines().all(|line| line.chars().count() <= 100), "{}", ran.err);
    }
}

#[test]
fn what_is_meant_for_one_site_is_not_done_at_another() {
    let workspace = Workspace::new(PROGRAM);
    let sites = "[site.live]\nfiles = \"live\"\ndatabase = \"none\"\n\
                 [site.local]\nfiles = \"local\"\ndatabase = \"none\"\n";
    workspace.write("live/index.html", "hello");
    let after = "command = [\"touch was-here\"]\n";
    workspace.write("fernweh.toml", format!("{sites}[after]\n{after}"));
    let ran = workspace.run("move live local --yes").code(2);
    ran.says("[after] does not say for which site").says("[site.NAME.after]");
    for section in
        [format!("[after]\ninto = [\"live\"]\n{after}"), format!("[site.live.after]\n{after}")]
    {
        workspace.write("fernweh.toml", format!("{sites}{section}"));
        workspace.done("move live local --yes --overwrite --no-scan");
        assert!(!workspace.path("local/was-here").exists(), "{section}");
        workspace.done("move local live --yes --overwrite --no-scan");
        assert!(workspace.path("live/was-here").exists(), "{section}");
        fs::remove_file(workspace.path("live/was-here")).unwrap();
    }
    // A site's own section stands in place of the general one.
    workspace.write("live/a.log", "log");
    let packs = "[pack]\nleave-out = [\"*.html\"]\n[site.live.pack]\nleave-out = [\"*.log\"]\n";
    workspace.write("fernweh.toml", format!("{sites}{packs}"));
    let packed = workspace.done("pack live -o a.tar --json").json();
    assert_eq!(packed["left_out_as_asked"], serde_json::json!(["a.log"]));
    workspace.write("fernweh.toml", format!("{sites}[after]\ninto = [\"liv\"]\n{after}"));
    workspace.run("survey live").code(2).says("names a site `liv`").says("live, local");
}

#[test]
fn dangerous_advice_is_given_only_where_the_public_will_find_the_site() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/index.html", "hello");
    let plan = |new: &str| {
        let old = "[site.old]\nurl = \"http://glimmerpoint.example\"\nfiles = \"old\"\n\
                   database = \"none\"\n";
        workspace.write(
            "fernweh.toml",
            format!("{old}[site.new]\nfiles = \"new\"\ndatabase = \"none\"\n{new}"),
        );
        let said = workspace.done("move old new --preview").out;
        said.contains("take the old site down") && said.contains("permanently")
    };
    assert!(plan("url = \"https://www.glimmer-point.example\"\nfinal = true\n"));
    for never in [
        "url = \"http://localhost:8080\"\nfinal = true\n",
        "url = \"http://10.0.0.7\"\n",
        "url = \"https://www.glimmer-point.example\"\n",
        "url = \"https://staging.glimmer-point.example\"\nfinal = false\n",
    ] {
        assert!(!plan(never), "{never}");
    }
}

#[test]
fn every_run_is_listed_and_a_log_keeps_what_was_printed() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"a\"\ndatabase = \"none\"\n[site.new]\nfiles = \"b\"\ndatabase = \"none\"\nurl = \"http://new.test\"\n[log]\nfile = \"all.log\"\n");
    workspace.write("a/x.html", "http://old.test/");
    workspace.done("pack old -o a.tar -q --log other.log");
    workspace.done("unpack a.tar new --as-is");
    workspace.done("rewrite new --from http://old.test --to http://new.test");
    workspace.run("survey nobody").code(2);
    let listed = workspace.done("runs").says("pack old").says("unpack new").says("rewrite new");
    listed.says("1 address would be rewritten").says("UTC");
    let commands = |json: &serde_json::Value| -> Vec<String> {
        let runs = json["runs"].as_array().unwrap();
        runs.iter().map(|run| run["command"].as_str().unwrap().to_owned()).collect()
    };
    let json = workspace.done("runs --json").json();
    assert_eq!(commands(&json), ["pack", "unpack", "rewrite"]);
    assert!(json["runs"][0]["started"].as_str().unwrap().ends_with('Z'));
    // Times are those of the place, with the name of its zone.
    let mut elsewhere = workspace.command("runs");
    let told = elsewhere.env("TZ", "Asia/Kolkata").output().unwrap();
    assert!(String::from_utf8_lossy(&told.stdout).contains(" IST"), "{told:?}");
    workspace.run("runs --discard nothing").code(2);
    let log = workspace.read("all.log");
    assert_eq!(log.matches("$ fernweh runs --discard nothing").count(), 1, "{log}");
    for words in ["$ fernweh unpack a.tar new --as-is", "unpacked", "there is no site `nobody`"] {
        assert!(log.contains(words), "{words}: {log}");
    }
    let stamped =
        |line: &str| line.len() > 26 && line.as_bytes()[4] == b'-' && &line[19..21] == " +";
    assert!(log.lines().all(stamped), "{log}");
    // Quiet is quiet on the terminal only.
    let other = workspace.read("other.log");
    assert!(other.contains("packed") && other.contains("$ fernweh pack old"), "{other}");
    assert_eq!(fs::metadata(workspace.path("all.log")).unwrap().mode() & 0o777, 0o600);
}

#[test]
fn giving_up_kept_states_says_what_goes_and_asks() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("fernweh.toml", "[site.new]\nfiles = \"b\"\ndatabase = \"none\"\n");
    workspace.write("a/x.html", "new");
    workspace.write("b/x.html", "old");
    workspace.done("unpack a new --as-is --overwrite");
    let ran = workspace.run("undo new --let-go").code(2).says("add --yes").says("gives up");
    ran.says("the state kept by").says("cannot go back");
    workspace.done("undo new --let-go --preview").says("would give up");
    workspace.done("undo new --preview").says("would take back");
    assert_eq!(workspace.read("b/x.html"), "new", "a preview changes nothing");
    workspace.done("undo new");
    assert_eq!(workspace.read("b/x.html"), "old", "and what is kept is still there");
    workspace.done("undo new --let-go -y").says("given up");
}

#[test]
fn the_demonstration_removes_only_what_it_has_made() {
    let workspace = Workspace::new(PROGRAM);
    workspace.done("demo d --build-only");
    workspace.write("d/mine.txt", "a thesis");
    workspace.run("demo d --build-only").code(2).says("mine.txt").says("empty folder");
    assert_eq!(workspace.read("d/mine.txt"), "a thesis");
    fs::remove_file(workspace.path("d/mine.txt")).unwrap();
    workspace.done("demo d --build-only");
    workspace.write("e/mine.txt", "another");
    workspace.run("demo e --build-only").code(2).says("was not made by an earlier");
    let mut folder = fs::metadata(workspace.path("d")).unwrap().permissions();
    folder.set_mode(0o755);
    workspace.run("pack --files d -o nowhere/at/all.tar").code(3).says("no such file or folder");
    assert!(!workspace.path("nowhere").exists(), "no folder is made for a mistyped name");
}

#[test]
fn nothing_of_a_foreign_file_is_repeated() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("secrets.txt", "keeper:hunter2:1000:1000\nroot:x:0:0\n");
    workspace.write("fernweh.toml", "[site.new]\nfiles = \"b\"\ndatabase = \"sqlite:b.db\"\n");
    for line in [
        "show secrets.txt",
        "unpack secrets.txt new",
        "survey x -c secrets.txt",
        "trace new --findings secrets.txt",
    ] {
        let ran = workspace.run(line);
        assert!(ran.code != Some(0), "{line}");
        let said = format!("{}{}", ran.out, ran.err);
        assert!(!said.contains("hunter2") && !said.contains("keeper"), "{line}: {said}");
        assert!(!said.contains("os error"), "{said}");
    }
}
