//! No crate holds a circle of modules: among the modules of one folder, what one says of another
//! leads in one direction only, so that each can be read without the ones that use it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

type Module = Vec<String>;

/// The modules of a crate with their text, without comments and without tests.
fn modules(source: &Path) -> BTreeMap<Module, String> {
    let mut found = BTreeMap::new();
    let mut folders = vec![(source.to_owned(), Module::new())];
    while let Some((folder, place)) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_stem().unwrap().to_string_lossy().into_owned();
            if name.ends_with("tests") {
                continue;
            }
            let mut module = place.clone();
            if path.is_dir() {
                module.push(name);
                folders.push((path, module));
            } else if path.extension().is_some_and(|ending| ending == "rs") {
                if !["lib", "main", "mod"].contains(&name.as_str()) {
                    module.push(name);
                }
                found.insert(module, code(&std::fs::read_to_string(path).unwrap()));
            }
        }
    }
    found
}

fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
    text.lines()
        .map(|line| line.split("//").next().unwrap_or_default())
        .collect::<Vec<_>>()
        .join("\n")
}

/// The paths that a list of imports names, as `a::{b, c::d}`.
fn imports(tree: &str, before: &[String], found: &mut Vec<Module>) {
    let (mut depth, mut start) = (0, 0);
    let mut parts = Vec::new();
    for (at, ch) in tree.char_indices() {
        match ch {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&tree[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&tree[start..]);
    for part in parts.iter().map(|part| part.trim()).filter(|part| !part.is_empty()) {
        let (path, inner) = match part.split_once('{') {
            Some((path, inner)) => {
                (path, Some(inner.rsplit_once('}').map_or(inner, |(all, _)| all)))
            }
            None => (part.split(" as ").next().unwrap_or(part), None),
        };
        let mut whole = before.to_vec();
        whole.extend(
            path.split("::").map(str::trim).filter(|name| !name.is_empty()).map(str::to_owned),
        );
        match inner {
            Some(inner) => imports(inner, &whole, found),
            None => found.push(whole),
        }
    }
}

/// What a module names: its imports, and paths within its code.
fn named(text: &str) -> Vec<Module> {
    let mut found = Vec::new();
    let mut rest = text;
    let mut code = String::new();
    while let Some(at) = rest.find("use ") {
        let starts = rest[..at].chars().last().is_none_or(char::is_whitespace);
        code.push_str(&rest[..at]);
        let end = rest[at..].find(';').map_or(rest.len(), |end| at + end);
        match starts {
            true => imports(&rest[at + 4..end], &[], &mut found),
            false => code.push_str(&rest[at..end]),
        }
        rest = &rest[end..];
    }
    code.push_str(rest);
    let is_path = |ch: char| ch.is_alphanumeric() || ch == '_' || ch == ':';
    for word in code.split(|ch| !is_path(ch)).filter(|word| word.contains("::")) {
        found.push(word.split("::").map(str::to_owned).collect());
    }
    found
}

/// The module of the crate to which a path leads from `module`.
fn target(modules: &BTreeMap<Module, String>, module: &Module, path: &[String]) -> Option<Module> {
    let mut place = module.clone();
    let mut rest = path;
    match path.first().map(String::as_str)? {
        "crate" => (place, rest) = (Module::new(), &path[1..]),
        "self" => rest = &path[1..],
        "super" => {
            while let Some(("super", further)) = rest.split_first().map(|(a, b)| (a.as_str(), b)) {
                place.pop();
                rest = further;
            }
        }
        first => {
            let child = [&place[..], &[first.to_owned()]].concat();
            modules.contains_key(&child).then_some(())?;
        }
    }
    for name in rest {
        let child = [&place[..], std::slice::from_ref(name)].concat();
        if !modules.contains_key(&child) {
            break;
        }
        place = child;
    }
    Some(place)
}

/// The edges among the modules of each folder, by the folder.
fn edges(modules: &BTreeMap<Module, String>) -> BTreeMap<Module, BTreeSet<(String, String)>> {
    let mut edges: BTreeMap<Module, BTreeSet<(String, String)>> = BTreeMap::new();
    for (module, text) in modules {
        for path in named(text) {
            let Some(to) = target(modules, module, &path) else { continue };
            let same = module.iter().zip(&to).take_while(|(a, b)| a == b).count();
            if let (Some(from), Some(to)) = (module.get(same), to.get(same)) {
                edges
                    .entry(module[..same].to_vec())
                    .or_default()
                    .insert((from.clone(), to.clone()));
            }
        }
    }
    edges
}

/// A circle, if there is one: what is left when modules that use nothing are taken away.
fn circle(mut edges: BTreeSet<(String, String)>) -> BTreeSet<(String, String)> {
    loop {
        let users: BTreeSet<String> = edges.iter().map(|(from, _)| from.clone()).collect();
        let used: BTreeSet<String> = edges.iter().map(|(_, to)| to.clone()).collect();
        let before = edges.len();
        edges.retain(|(from, to)| users.contains(to) && used.contains(from));
        if edges.len() == before {
            return edges;
        }
    }
}

#[test]
fn no_crate_holds_a_circle_of_modules() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut seen = 0;
    for name in ["core", "ports", "connect", "flow", "demo", "testkit", "cli"] {
        let modules = modules(&crates.join(name).join("src"));
        for (folder, edges) in edges(&modules) {
            seen += edges.len();
            let circle = circle(edges);
            assert!(circle.is_empty(), "{name}, {}: {circle:?}", folder.join("::"));
        }
    }
    assert!(seen > 250, "only {seen} uses were seen: the reader has lost its way");
}

#[test]
fn a_circle_is_seen_however_it_is_written() {
    let module = |name: &str| vec![name.to_owned()];
    let of = |a: &str, b: &str| {
        let modules =
            [(Module::new(), String::new()), (module("a"), a.into()), (module("b"), b.into())];
        !circle(edges(&modules.into()).remove(&Module::new()).unwrap_or_default()).is_empty()
    };
    assert!(of("use crate::b::Thing;", "use super::{x, a::Other};"));
    assert!(of("use super::b;", "fn f() { super::a::g(); }"));
    assert!(of("fn f() { crate::b::g::<u8>(); }", "pub use crate::{a::{self, Other}};"));
    assert!(!of("use crate::b::Thing;", "use std::fs; fn because() {}"));
    assert!(!of("use crate::b::Thing;", "use super::Root;"));
}
