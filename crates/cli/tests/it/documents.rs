//! What the documents show is what the program prints, and what they say can be typed.

use super::{COMMANDS, PROGRAM, fixture};
use fernweh_testkit::{Engine, Workspace};
use std::fs;
use std::os::unix::fs::symlink;

fn document(path: &str) -> String {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    fs::read_to_string(root.join(path)).unwrap()
}

#[test]
fn the_output_in_the_readme_is_real() {
    let fixture = fixture(Engine::Sqlite);
    fixture.configure("[site.old.pack]\nleave-out = [\"cache/**\", \"*.log\"]\n");
    let line = "pack old -o glimmer.fernweh.tar";
    let mut command = fixture.workspace.command(line);
    let printed = command.env("COLUMNS", "80").output().unwrap().stdout;
    let printed = String::from_utf8(printed).unwrap();
    let readme = document("README.md");
    let shown = readme.split(&format!("$ fernweh {line}\n")).nth(1).unwrap();
    let shown = shown.split("```").next().unwrap();
    // Times and sizes are those of the day on which it was typed.
    let lines = |text: &str| -> Vec<String> {
        let still = |line: &str| {
            let moving = ["packed", "database", "archive"];
            let words = line.split_whitespace();
            let few = if moving.iter().any(|label| line.starts_with(label)) { 1 } else { 99 };
            words.take(few).collect::<Vec<_>>().join(" ")
        };
        text.trim().lines().map(still).collect()
    };
    assert_eq!(lines(shown), lines(&printed), "the README is to be brought up to date:\n{printed}");
}

#[test]
fn the_reference_is_the_one_of_the_program() {
    let is_same = document("docs/reference.md") == fernweh::reference();
    assert!(is_same, "docs/reference.md is out of date: scripts/documents writes it");
}

#[test]
fn every_command_and_option_in_the_documents_exists() {
    let workspace = Workspace::new(PROGRAM);
    let text = document("README.md") + &document("docs/guide.md");
    let all = workspace.run("--help").code(0).out;
    let all = all.split("Commands:").nth(1).unwrap().split("Options:").next().unwrap().to_owned();
    let known: Vec<&str> = all
        .lines()
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(known.len() > 12, "{known:?}");
    let mut checked = 0;
    for part in text.split("fernweh ").skip(1) {
        let line = part.split(['`', '\n', '#', '(']).next().unwrap();
        let Some(command) = line.split_whitespace().next() else { continue };
        if !known.contains(&command) {
            continue;
        }
        let help = workspace.run(&format!("{command} --help")).code(0).out;
        for option in line.split_whitespace().filter(|word| word.starts_with("--")) {
            let option = option.trim_end_matches([',', '.', ';', ':']);
            let option = option.split('=').next().unwrap();
            assert!(help.contains(option), "{command} has no {option}");
            checked += 1;
        }
    }
    assert!(checked > 30, "{checked}");
}

/// The lines of a document that begin with `$ fernweh`, without that.
fn typed(text: &str) -> Vec<String> {
    let lines = text.lines().filter_map(|line| line.trim().strip_prefix("$ fernweh "));
    lines.map(str::to_owned).collect()
}

/// A fixture as the demonstration leaves its folder, with both hosts up.
fn as_after_the_demonstration() -> (fernweh_testkit::Fixture, impl Sized) {
    let mut fixture = fixture(Engine::Sqlite);
    let hosts = fixture.serve();
    fixture.configure("[unpack]\nkeep-states = 0\n");
    fixture.workspace.done("pack old -o glimmer.fernweh.tar");
    fixture.workspace.done("unpack glimmer.fernweh.tar new");
    for host in ["old", "new"] {
        symlink(host, fixture.workspace.path(&format!("{host}-host"))).unwrap();
    }
    (fixture, hosts)
}

#[test]
fn every_example_of_the_documents_works() {
    let (fixture, _hosts) = as_after_the_demonstration();
    let text = document("docs/guide.md") + &document("README.md");
    let mut ran = 0;
    for line in typed(&text) {
        // What a move asks is answered; an archive of the last example gives way to the next.
        let line = if line.starts_with("move") { format!("{line} --yes") } else { line };
        let _ = fs::remove_file(fixture.workspace.path("glimmer.fernweh.tar"));
        let said = fixture.workspace.run(&line);
        assert!(matches!(said.code, Some(0 | 1)), "fernweh {line}\n{}\n{}", said.out, said.err);
        ran += 1;
    }
    assert!(ran > 8, "{ran}");
}

#[test]
fn every_example_of_the_help_works() {
    let (fixture, _hosts) = as_after_the_demonstration();
    fixture.workspace.done("pack old --sql glimmer.sql");
    fixture.workspace.done("pack old --sql old.sql");
    let gzip = |name: &str| {
        let path = fixture.workspace.path(name);
        assert!(std::process::Command::new("gzip").arg(path).status().unwrap().success());
    };
    gzip("glimmer.sql");
    gzip("old.sql");
    let mut ran = 0;
    for command in [
        "init", "sites", "survey", "pack", "show", "unpack", "rewrite", "scan", "trace", "move",
        "undo", "runs",
    ] {
        let help = fixture.workspace.run(&format!("{command} --help")).code(0).out;
        let examples = help.lines().filter_map(|line| line.strip_prefix("  fernweh "));
        let examples: Vec<String> = examples.map(str::to_owned).collect();
        assert!(!examples.is_empty(), "the help of {command} has examples");
        for line in examples {
            if line == "init" {
                // It would ask.
                continue;
            }
            // What it would ask is answered, what is there is replaced, and no other host is asked.
            let more = match line.split(' ').next() {
                Some("move") => " --yes",
                Some("undo") if line.contains("let-go") => " --yes",
                Some("unpack") if !line.contains("--overwrite") => " --overwrite",
                Some("scan") if line == "scan new" => " --own-only",
                _ => "",
            };
            // As a shell would run it: quotes, redirections and all.
            let line = line.replace("fernweh ", &format!("{PROGRAM} "));
            let script = format!("{PROGRAM} {line}{more}");
            let mut shell = fixture.workspace.command("");
            let mut shell_command = std::process::Command::new("sh");
            shell_command.args(["-c", &script]).current_dir(fixture.workspace.folder()).env_clear();
            let typed = std::mem::replace(&mut shell, std::process::Command::new("true"));
            shell_command.envs(typed.get_envs().filter_map(|(name, value)| Some((name, value?))));
            let told = shell_command.stdin(std::process::Stdio::null()).output().unwrap();
            let said = String::from_utf8_lossy(&[told.stdout, told.stderr].concat()).into_owned();
            assert!(matches!(told.status.code(), Some(0 | 1)), "{script}\n{said}");
            let _ = fs::remove_file(fixture.workspace.path("glimmer.sql"));
            ran += 1;
        }
    }
    assert!(ran > 20, "{ran}");
}

#[test]
fn help_fits_eighty_columns_and_options_stand_where_they_belong() {
    let workspace = Workspace::new(PROGRAM);
    for command in COMMANDS {
        let help = workspace.run(&format!("{command} --help")).code(0).out;
        for line in help.lines().filter(|line| !line.starts_with("  fernweh ")) {
            assert!(line.chars().count() <= 80, "{command}: {line}");
        }
        // What describes a site without a configuration is three options, and nothing else.
        if let Some(without) = help.split("Without a configuration:").nth(1) {
            let without = without.split("\n\n").next().unwrap();
            let options = without.lines().filter(|line| line.trim().starts_with("--")).count();
            assert_eq!(options, 3, "{command}: {without}");
        }
        let first = help.lines().next().unwrap();
        assert!(first.ends_with('.') || command.is_empty(), "{command}: {first}");
    }
}

#[test]
fn every_message_of_the_troubleshooting_is_one_of_the_program() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut sources = String::new();
    for entry in walkdir::WalkDir::new(root).into_iter().flatten() {
        let path = entry.path().display().to_string();
        if path.ends_with(".rs") && path.contains("/src/") {
            sources.push_str(&fs::read_to_string(&path).unwrap());
        }
    }
    // Long texts are broken over lines.
    let sources = regex::Regex::new(r"\\\n\s*").unwrap().replace_all(&sources, "").into_owned();
    let guide = document("docs/guide.md");
    let table = guide.split("## 15. Troubleshooting").nth(1).unwrap();
    let table = table.split("\n## ").next().unwrap();
    let mut checked = 0;
    for row in table.lines().filter(|line| line.starts_with("| ") && !line.contains("| what it")) {
        let message = row.trim_matches('|').split(" | ").next().unwrap().trim();
        let parts = message.split('…').map(|part| part.trim().trim_matches('`').trim());
        let longest = parts.max_by_key(|part| part.len()).unwrap();
        assert!(sources.contains(longest), "no message says “{longest}”");
        checked += 1;
    }
    assert!(checked > 12, "{checked}");
}
