//! Every command's exit codes, as the table of the guide promises them.

use super::fixture;
use fernweh_testkit::{Engine, Workspace};
use std::fs;

/// The rows of the guide's table: the commands, and which codes they can end with.
fn promised() -> Vec<(String, [bool; 4])> {
    let guide = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide.md");
    let guide = fs::read_to_string(guide).unwrap();
    let table = guide.split("## 14. Exit codes").nth(1).unwrap();
    let rows = table.lines().filter(|line| line.starts_with("| `"));
    let cells = |row: &str| -> Vec<String> {
        row.trim_matches('|').split('|').map(|cell| cell.trim().to_owned()).collect()
    };
    let promise = |row: &str| {
        let cells = cells(row);
        let can = [1, 2, 3, 4].map(|n| !cells[n].is_empty());
        (cells[0].clone(), can)
    };
    rows.map(promise).collect()
}

#[test]
fn each_command_ends_with_the_codes_of_the_guide() {
    let table = promised();
    let seen = std::cell::RefCell::new(Vec::new());
    let ends = |workspace: &Workspace, line: &str, code: i32| {
        let ran = workspace.run(line);
        assert_eq!(ran.code, Some(code), "fernweh {line}\n{}\n{}", ran.out, ran.err);
        seen.borrow_mut().push((line.split(' ').next().unwrap().to_owned(), code));
    };
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let at = |line: &str, code: i32| ends(&fixture.workspace, line, code);

    at("init -c other.toml --from-site old/htdocs --from-url http://glimmerpoint.example", 0);
    at("sites", 0);
    at("survey old", 0);
    at("survey old --for new", 0);
    at("pack old -o site.tar", 0);
    at("show site.tar --verify", 0);
    at("compare old new", 3);
    // Old addresses stay: a bare host name, another port.
    at("unpack site.tar new --preview", 1);
    at("unpack site.tar new", 1);
    at("compare old new --database --files", 0);
    at("unpack site.tar new --overwrite --as-is", 0);
    at("compare old new", 1);
    at("undo new", 0);
    at("rewrite new", 1);
    at("rewrite new --from http://nowhere.example --to http://elsewhere.example", 0);
    at("trace new http://cdn.example/moon.png", 0);
    at("trace new http://cdn.example/none-of-this.png", 1);
    at("scan new --own-only", 1);
    at("move old new --preview --overwrite", 0);
    at("move old new --overwrite --yes", 1);
    // Nobody on this machine answers there.
    let toml = fixture.workspace.read("fernweh.toml");
    let ready = toml + "\n[ready]\nresolvers = [\"127.0.0.1:9\"]\n";
    fixture.workspace.write("ready.toml", ready);
    at("ready new --from old -c ready.toml", 1);
    at("ready new --check leftovers -c ready.toml", 0);
    at("redirects new --from old", 0);
    at("redirects new --from old --place", 1);
    at("undo new", 0);
    at("close old --to new --yes", 3);
    at("runs", 0);
    at("completions bash", 0);

    // A socket cannot be packed, and nobody asked to leave it out.
    let _socket =
        std::os::unix::net::UnixListener::bind(fixture.workspace.path("old/htdocs/s")).unwrap();
    at("pack old -o with-socket.tar", 1);
    // Only the scan is not possible, and that is something to look at.
    let plain = fixture.workspace.read("fernweh.toml");
    let away: Vec<String> = plain.split("[site.new]").map(str::to_owned).collect();
    let port = away[1].split("connect-to = \"127.0.0.1:").nth(1).unwrap();
    let port = port.split('"').next().unwrap();
    let away = format!("{}[site.new]{}", away[0], away[1].replace(port, "9"));
    fixture.workspace.write("fernweh.toml", away);
    at("scan new --own-only", 3);
    at("sites", 0);
    at("rewrite new --from http://nowhere.example --to http://elsewhere.example --apply", 0);
    let moved = fixture.workspace.run("move old new --overwrite --yes --json").code(1).json();
    assert!(moved["not_scanned"].is_string(), "{moved}");

    // What the outside refuses, and what is damaged.
    let mut bytes = fs::read(fixture.workspace.path("site.tar")).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0xff;
    fixture.workspace.write("damaged.tar", bytes);
    at("show damaged.tar --verify", 4);
    at("unpack damaged.tar new --overwrite", 4);
    at("show missing.tar", 3);
    at("unpack missing.tar new", 3);
    fs::remove_dir_all(fixture.workspace.path("old/htdocs")).unwrap();
    let broken = "[site.old]\ndatabase = \"mariadb://u@127.0.0.1:9/d\"\n";
    fixture.workspace.write("broken.toml", broken);
    at("sites -c broken.toml", 3);
    for line in ["survey old", "pack old", "trace old word", "rewrite old", "move old new --yes"] {
        at(line, 3);
    }
    for line in ["survey", "pack --no", "unpack", "rewrite new --only", "undo nobody", "tell"] {
        at(line, 2);
    }

    // The guide promises nothing else, and nothing that was not seen but for what needs more.
    for (command, code) in seen.borrow().iter().filter(|(_, code)| *code != 2) {
        let row = table.iter().find(|(names, _)| names.contains(&format!("`{command}")));
        let (_, can) = row.unwrap_or_else(|| panic!("{command} is not in the guide's table"));
        let column = [0, 1, 3, 4].iter().position(|known| known == code).unwrap();
        assert!(can[column], "fernweh {command} ends with {code}, which the guide does not say");
    }
}
