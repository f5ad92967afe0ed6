//! Completions and manual pages, asked of the programs that use them.

use super::PROGRAM;
use fernweh_testkit::Workspace;
use std::fs;
use std::path::Path;
use std::process::Command;

#[test]
fn bash_completes_commands_options_and_the_names_of_sites() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write(
        "fernweh.toml",
        "[site.live]\nfiles = \"a\"\n[site.local]\nfiles = \"b\"\n[site.staging]\nfiles = \"c\"\n",
    );
    let script = workspace.done("completions bash").out;
    workspace.write("fernweh.bash", script);
    let folder = Path::new(PROGRAM).parent().unwrap();
    // What the shell offers for a line whose last word is being typed.
    let offered = |line: &str| {
        let words: Vec<&str> = line.split(' ').collect();
        let script = format!(
            "source ./fernweh.bash; COMP_WORDS=({}); COMP_CWORD={}; COMP_TYPE=9; \
             $(complete -p fernweh | sed 's/.*-F \\([^ ]*\\).*/\\1/') fernweh '{}'; \
             printf '%s\\n' \"${{COMPREPLY[@]}}\"",
            line.replace("  ", " ''").trim_end().to_owned()
                + if line.ends_with(' ') { " ''" } else { "" },
            words.len() - 1,
            words[words.len() - 1],
        );
        let path = format!("{}:/usr/bin:/bin", folder.display());
        let told = Command::new("bash")
            .args(["-c", &script])
            .current_dir(workspace.folder())
            .env_clear()
            .env("PATH", path)
            .env("HOME", workspace.folder())
            .output()
            .unwrap();
        assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
        String::from_utf8_lossy(&told.stdout).lines().map(str::to_owned).collect::<Vec<_>>()
    };
    assert!(offered("fernweh sur").contains(&"survey".to_owned()));
    assert!(offered("fernweh move --reh").contains(&"--rehearse".to_owned()));
    let sites = offered("fernweh move l");
    assert!(sites.contains(&"live".to_owned()) && sites.contains(&"local".to_owned()), "{sites:?}");
    assert!(!sites.contains(&"staging".to_owned()));
    assert_eq!(offered("fernweh unpack a.tar new --only f"), ["files"]);
}

#[test]
fn the_scripts_for_other_shells_name_the_program() {
    let workspace = Workspace::new(PROGRAM);
    for shell in ["zsh", "fish"] {
        let script = workspace.done(&format!("completions {shell}")).out;
        assert!(script.contains("fernweh") && script.contains("FERNWEH_COMPLETE"), "{script}");
    }
    workspace.run("completions csh").code(2).says("it takes bash, zsh, fish");
}

#[test]
fn there_is_a_manual_page_for_every_command() {
    let folder = tempfile::tempdir().unwrap();
    fernweh::manual_pages(folder.path()).unwrap();
    let names: Vec<String> = fs::read_dir(folder.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    for command in ["", "-init", "-survey", "-pack", "-move", "-undo", "-completions"] {
        assert!(names.contains(&format!("fernweh{command}.1")), "{command}: {names:?}");
    }
    assert!(!names.iter().any(|name| name.contains("forward")), "{names:?}");
    let page = fs::read_to_string(folder.path().join("fernweh-move.1")).unwrap();
    assert!(page.starts_with(".ie") || page.contains(".TH"), "{page}");
    assert!(page.contains("rehearse") && page.contains("Moves a site"), "{page}");
}
