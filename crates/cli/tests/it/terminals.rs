//! What somebody at a terminal meets: questions, colors, groups of digits, and ways out.

use super::PROGRAM;
use fernweh_testkit::Workspace;
use std::process::Command;

/// Runs the program on a terminal of its own: each answer is typed once what stands before it was
/// printed. Prints all that was on the terminal, and the exit code.
const TERMINAL: &str = "import json, os, pty, select, sys\n\
    words, answers = sys.argv[2:], json.loads(sys.argv[1])\n\
    child, terminal = pty.fork()\n\
    if child == 0:\n\
    \x20   os.execv(words[0], words)\n\
    seen = b''\n\
    while True:\n\
    \x20   ready, _, _ = select.select([terminal], [], [], 60)\n\
    \x20   if not ready:\n\
    \x20       os.kill(child, 9)\n\
    \x20   try:\n\
    \x20       data = os.read(terminal, 65536)\n\
    \x20   except OSError:\n\
    \x20       data = b''\n\
    \x20   if not data:\n\
    \x20       break\n\
    \x20   seen += data\n\
    \x20   while answers and answers[0][0].encode() in seen:\n\
    \x20       os.write(terminal, answers.pop(0)[1].encode())\n\
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])\n\
    sys.stdout.buffer.write(seen.replace(b'\\r\\n', b'\\n'))\n\
    print(f'[{code}]')\n";

fn at_a_terminal(
    workspace: &Workspace,
    line: &str,
    variables: &[(&str, &str)],
    answers: &[(&str, &str)],
) -> String {
    let mut command = Command::new("python3");
    command.args(["-c", TERMINAL, &serde_json::json!(answers).to_string(), PROGRAM]);
    command.args(line.split_whitespace()).current_dir(workspace.folder()).env_clear();
    let typed = workspace.command("");
    command.envs(typed.get_envs().filter_map(|(name, value)| Some((name, value?))));
    command.env("TERM", "xterm").envs(variables.iter().copied());
    let told = command.output().unwrap();
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    String::from_utf8_lossy(&told.stdout).into_owned()
}

fn kept() -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("fernweh.toml", "[site.new]\nfiles = \"b\"\ndatabase = \"none\"\n");
    workspace.write("a/x.html", "new");
    workspace.write("b/x.html", "old");
    workspace.done("unpack a new --as-is --overwrite");
    workspace
}

#[test]
fn ctrl_c_ends_a_question_without_another_line() {
    let workspace = kept();
    let said = at_a_terminal(&workspace, "undo new --let-go", &[], &[("go on?", "\x03")]);
    assert!(said.contains("interrupted at a question") && said.ends_with("[5]\n"), "{said}");
    // And an answer counts.
    let said = at_a_terminal(&workspace, "undo new --let-go", &[], &[("go on?", "n\n")]);
    assert!(said.contains("you did not agree") && said.ends_with("[5]\n"), "{said}");
    let said = at_a_terminal(&workspace, "undo new --let-go", &[], &[("go on?", "y\n")]);
    assert!(said.contains("given up") && said.ends_with("[0]\n"), "{said}");
}

#[test]
fn a_hidden_password_does_not_leave_the_terminal_hidden() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write(
        "fernweh.toml",
        "[site.far]\nfiles = \"ftp://keeper@127.0.0.1:9/x\"\npassword.files = { ask = true }\n",
    );
    let line = "survey far";
    let said = at_a_terminal(&workspace, line, &[], &[("site far: ", "\x03")]);
    assert!(said.ends_with("[5]\n"), "{said}");
    let said = at_a_terminal(&workspace, line, &[], &[("site far: ", "hunter2\n")]);
    assert!(!said.contains("hunter2") && said.ends_with("[3]\n"), "{said}");
}

#[test]
fn a_configuration_is_written_by_asking() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write(
        "htdocs/config.php",
        "<?php\ndefine('DB_NAME', 'glimmer');\n\
        define('DB_USER', 'keeper');\ndefine('DB_PASSWORD', 'night-sky');\n\
        define('DB_HOST', '127.0.0.1');\ndefine('HOME', 'http://glimmerpoint.example');\n",
    );
    let answers = [
        ("files of the old site?", "\n"),
        ("What is its web address?", "\n"),
        ("files of the new site be?", "new/htdocs\n"),
        ("What will its web address be?", "www.glimmer-point.example\n"),
        ("What will its database be?", "mariadb://glimmer@127.0.0.1/new\n"),
    ];
    let said = at_a_terminal(&workspace, "init", &[], &answers);
    assert!(said.contains("[htdocs]") && said.contains("[http://glimmerpoint.example]"), "{said}");
    assert!(said.contains("the database, in config.php") && said.ends_with("[0]\n"), "{said}");
    let written = workspace.read("fernweh.toml");
    for words in [
        "url   = \"http://glimmerpoint.example\"",
        "files = \"htdocs\"",
        "url      = \"https://www.glimmer-point.example\"",
        "database = \"mariadb://glimmer@127.0.0.1/new\"",
        "password.database = { env = \"NEW_DB_PASSWORD\" }",
    ] {
        assert!(written.contains(words), "{words}: {written}");
    }
    assert!(!written.contains("night-sky"), "{written}");
}

#[test]
fn numbers_and_colors_are_for_people_alone() {
    let workspace = Workspace::new(PROGRAM);
    for number in 0..1_200 {
        workspace.write(&format!("many/{number}.txt"), "x");
    }
    let line = "survey --files many";
    let plain = workspace.done(line).out;
    assert!(plain.contains("1200 files") && !plain.contains('\x1b'), "{plain}");
    let said = at_a_terminal(&workspace, line, &[], &[]);
    assert!(said.contains("1\u{202f}200 files") && said.contains("\x1b[32mpassed"), "{said}");
    let said = at_a_terminal(&workspace, line, &[("NO_COLOR", "1")], &[]);
    assert!(!said.contains("\x1b[32m"), "{said}");
    let said = at_a_terminal(&workspace, line, &[("TERM", "dumb")], &[]);
    assert!(!said.contains('\x1b') && said.contains("1200 files"), "{said}");
    // Nobody knows how wide a pipe is.
    let mut command = workspace.command(line);
    let told = command.env_remove("COLUMNS").output().unwrap();
    let told = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(told.lines().all(|line| line.chars().count() <= 80), "{told}");
}
