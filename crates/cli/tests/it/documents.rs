//! What the documents show is what the program prints.

use super::fixture;
use fernweh_testkit::Engine;

fn document(path: &str) -> String {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    std::fs::read_to_string(root.join(path)).unwrap()
}

#[test]
fn the_output_in_the_readme_is_real() {
    let fixture = fixture(Engine::Sqlite);
    fixture.configure(
        "[[rule]]\nfrom = \"/home/keeper/htdocs\"\nto = \"/srv/www/glimmer\"\ninto = [\"new\"]\n",
    );
    fixture.workspace.done("pack old -o glimmer.fernweh.tar --leave-out *.log");
    let printed = fixture.workspace.done("unpack glimmer.fernweh.tar new").out;
    let readme = document("README.md");
    let shown = readme.split("$ fernweh unpack glimmer.fernweh.tar new\n\n").nth(1).unwrap();
    let shown = shown.split("```").next().unwrap();
    // The first line says how long it took.
    let rest = |text: &str| text.split_once('\n').unwrap().1.to_owned();
    assert_eq!(rest(shown), rest(&printed), "the README is to be brought up to date:\n{printed}");
}

#[test]
fn every_command_and_option_in_the_documents_exists() {
    let workspace = fernweh_testkit::Workspace::new(super::PROGRAM);
    let text = document("README.md") + &document("docs/guide.md");
    let mut checked = 0;
    for part in text.split("fernweh ").skip(1) {
        let line = part.split(['`', '\n', '#', '(']).next().unwrap();
        let Some(command) = line.split_whitespace().next() else { continue };
        let known = [
            "survey", "pack", "show", "unpack", "rewrite", "scan", "trace", "move", "undo", "runs",
            "tell", "demo",
        ];
        if !known.contains(&command) {
            continue;
        }
        let help = workspace.run(&format!("{command} --help")).code(0).out;
        for option in line.split_whitespace().filter(|word| word.starts_with("--")) {
            let option = option.trim_end_matches([',', '.', ';', ':']);
            assert!(help.contains(option), "{command} has no {option}");
            checked += 1;
        }
    }
    assert!(checked > 10, "{checked}");
}
