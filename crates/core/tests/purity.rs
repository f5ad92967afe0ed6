//! The arrows between the crates point one way, and the core stays pure.

use std::collections::BTreeSet;
use std::path::Path;

fn dependencies(crate_folder: &str) -> BTreeSet<String> {
    let path =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(crate_folder).join("Cargo.toml");
    let text = std::fs::read_to_string(path).unwrap();
    let section = text.split("[dependencies]").nth(1).unwrap();
    let section = section.split("\n[").next().unwrap();
    let names = section.lines().filter_map(|line| line.split(['.', ' ']).next());
    names.filter(|name| !name.is_empty()).map(str::to_owned).collect()
}

#[test]
fn the_core_does_no_input_or_output_and_knows_no_clock_and_no_terminal() {
    let allowed = [
        "aho-corasick",
        "base64",
        "cssparser",
        "encoding_rs",
        "hex",
        "htmlize",
        "idna",
        "lol_html",
        "memchr",
        "quick-xml",
        "regex",
        "ring",
        "schemars",
        "serde",
        "serde_json",
        "thiserror",
        "url",
        "x509-parser",
    ];
    let found = dependencies("core");
    let other: Vec<_> = found.iter().filter(|name| !allowed.contains(&name.as_str())).collect();
    assert!(other.is_empty(), "{other:?}");
    let sources = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut folders = vec![sources];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            for word in [
                "std::fs",
                "std::net",
                "std::env",
                "std::process",
                "SystemTime",
                "Instant",
                "println!",
                "async ",
            ] {
                assert!(!text.contains(word), "{} uses {word}", path.display());
            }
        }
    }
}

#[test]
fn no_arrow_points_back_up() {
    let may_use = [
        ("core", &[][..]),
        ("ports", &["core"][..]),
        ("connect", &["core", "ports"]),
        ("flow", &["core", "ports"]),
        ("demo", &["core", "ports", "connect"]),
        ("testkit", &["core", "ports", "connect", "demo"]),
        ("cli", &["core", "ports", "connect", "flow", "demo"]),
    ];
    for (name, allowed) in may_use {
        for dependency in dependencies(name) {
            if let Some(other) = dependency.strip_prefix("fernweh-") {
                assert!(allowed.contains(&other), "{name} uses {other}");
            }
        }
    }
}

/// Only these places of the command line name a connector: what makes sites of a configuration,
/// and what needs a part of one before there is a site.
#[test]
fn no_command_knows_a_connector() {
    let cli = Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/src");
    for folder in ["commands", "commands/moving", "render", "document"] {
        for entry in std::fs::read_dir(cli.join(folder)).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            assert!(!text.contains("fernweh_connect"), "{}", path.display());
            let another = text.lines().find(|line| {
                line.contains("commands::") || line.contains("super::") && line.contains("Args;")
            });
            assert_eq!(another, None, "{} calls another command", path.display());
        }
    }
}
