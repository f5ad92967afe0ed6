//! Every help text, every kind of error and every report, as they are read: a change of wording
//! shows in `snapshots/`. Times, places and numbers of this machine are replaced.

use super::{COMMANDS, PROGRAM, fixture};
use fernweh_testkit::{Engine, Ran, Workspace};
use regex::Regex;
use std::fs;

/// What differs from one run and machine to the next.
fn without_chance(workspace: &Workspace, text: &str) -> String {
    let mut text = text.replace(&workspace.folder().display().to_string(), "[folder]");
    for (pattern, word) in [
        (r"\d{4}-\d\d-\d\d-\d{6}-([a-z-]+)-[0-9a-f]{10}", "[when]-$1-[run]"),
        (r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "[moment]"),
        (r"old-\d{4}-\d\d-\d\d-\d{4}", "old-[when]"),
        (r" +(less than 0\.1 s|under 1 s|\d+\.\d s|\d+ min)\b", " [time]"),
        (r"\d+(\.\d)? [kMGT]B free", "[room] free"),
        (r"127\.0\.0\.1:\d{2,5}", "127.0.0.1:[port]"),
        (r"SQLite 3\.\d+\.\d+", "SQLite [version]"),
        (
            r"PHP \d+\.\d+\.\d+ at the old host, \d+\.\d+\.\d+",
            "PHP [version] at the old host, [version]",
        ),
        (r"\.tar, \d+ kB", ".tar, [size]"),
        (r"\d+ kB, unpacked at", "[size], unpacked at"),
        (r"sha256:[0-9a-f:]+", "sha256:[print]"),
    ] {
        text = Regex::new(pattern).unwrap().replace_all(&text, word).into_owned();
    }
    text
}

/// One command and all that it says.
fn told(workspace: &Workspace, line: &str) -> String {
    let mut command = workspace.command(line);
    let ran = command.env("COLUMNS", "120").output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let ran = Ran { code: ran.status.code(), out: text(&ran.stdout), err: text(&ran.stderr) };
    let said = format!("{}{}", ran.err, ran.out);
    let said = without_chance(workspace, &said);
    format!("$ fernweh {line}\n{}\n[{}]\n\n", said.trim_end(), ran.code.unwrap_or(-1))
}

#[test]
fn the_help_of_every_command() {
    let workspace = Workspace::new(PROGRAM);
    let mut all = String::new();
    for command in COMMANDS {
        let ran = workspace.run(format!("{command} --help").trim()).code(0);
        all.push_str(&format!("$ fernweh {command} --help\n{}\n", ran.out));
    }
    insta::assert_snapshot!("help", all);
}

#[test]
fn every_kind_of_error() {
    let workspace = Workspace::new(PROGRAM);
    let mut all = String::new();
    for line in [
        "surve old",
        "survey",
        "survey old",
        "move old",
        "pack a b",
        "pack old --level 30",
        "unpack a.tar new --force",
        "unpack a.tar --only all",
        "show missing.tar",
        "init",
        "sites",
        "tell --test",
        "pack --files nowhere",
        "show .",
        "rewrite --files . --from old.example --to http://new.example",
        "rewrite --files . --from http://a.example",
        "scan http://nowhere.invalid",
    ] {
        all.push_str(&told(&workspace, line));
    }
    // Mistakes in the configuration, each alone.
    for text in [
        "[site.a]\nurll = \"http://a.example\"\n",
        "[site.a]\naddress = \"192.0.2.1\"\n",
        "[site.a]\ntables = \"gp_*\"\n",
        "[site.a]\nurl = \"a.example\"\n",
        "[site.a]\nfiles = \"keeper@a.example:/htdocs\"\n",
        "[site.a]\nfiles = \"gopher://a.example/x\"\n",
        "[site.a]\ndatabase = \"glimmer\"\n",
        "[site.a]\nfiles = \".\"\nthrough = \"keeper@a.example\"\ndatabase = \"mariadb://u@localhost/d\"\n",
        "[site.a]\ndatabase = \"mariadb://u:hidden@h/d\"\n",
        "[site.a]\npassword.database = \"hidden\"\n",
        "[site.a]\nfiles = \"sftp://nowhere.invalid/x\"\npassword.files = { env = \"NOT_SET\" }\n",
        "[site.a]\ndatabase = \"mariadb://u@nowhere.invalid/d\"\n",
        "[site.a]\ndatabase = \"postgres://u@127.0.0.1:9/d\"\n",
        "[site.a]\ndatabase = \"sqlite:missing.db\"\n",
        "[site.a]\nlogin = \"x\"\n",
        "[site.\"a b\"]\nfiles = \".\"\n",
        "[after]\nremove = [\"cache/**\"]\n[site.a]\nfiles = \".\"\n",
        "[site.a\n",
    ] {
        workspace.write("fernweh.toml", text);
        all.push_str(&format!("--- {}\n", text.replace('\n', "\n    ").trim_end()));
        all.push_str(&told(&workspace, "survey a"));
    }
    insta::assert_snapshot!("errors", all);
}

#[test]
fn every_report() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    fs::remove_file(fixture.workspace.path("old/htdocs/notes.log")).unwrap();
    let mut all = String::new();
    let mut say = |line: &str| all.push_str(&told(&fixture.workspace, line));
    say("init -c first.toml --from-site old/htdocs --from-url http://glimmerpoint.example");
    say("sites");
    say("survey old");
    say("survey old --print-config");
    say("survey old --for new");
    say("pack old -o glimmer.tar");
    say("show glimmer.tar --verify");
    say("unpack glimmer.tar new --preview");
    say("unpack glimmer.tar new");
    say("rewrite new");
    say("rewrite new --from http://cdn.example --to https://cdn.example");
    say("rewrite new --from http://cdn.example --to https://cdn.example --apply");
    say(
        "rewrite new --from http://cdn.example --to https://cdn.example --try http://cdn.example/x",
    );
    say("trace new http://cdn.example/moon.png --propose");
    say("trace new http://cdn.example/none.png");
    say("scan new --own-only");
    say("undo new --preview");
    say("undo new");
    say("undo new --let-go --preview");
    say("undo new --let-go --yes");
    say("move old new --preview");
    say("move old new --overwrite --yes --no-scan");
    say("runs");
    say("pack old --sql glimmer.sql");
    say("rewrite glimmer.sql -o new.sql --from old --to new");
    let first = fixture.workspace.read("first.toml");
    all.push_str(&format!("first.toml\n{}", without_chance(&fixture.workspace, &first)));
    insta::assert_snapshot!("reports", all);
}
