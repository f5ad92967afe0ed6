//! The JSON documents: one on standard output, whatever happens, and each as its schema says;
//! another program judges that.

use super::{PROGRAM, fixture};
use fernweh_testkit::{Engine, Workspace};
use std::fs;
use std::path::PathBuf;
use std::process::Command;

fn schema_folder() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema"))
}

/// What Python's validator says of documents, each given with the name of its schema.
const JUDGE: &str = "import json, sys, jsonschema\n\
    for line in open(sys.argv[2]):\n\
    \x20   name, document = json.loads(line)\n\
    \x20   schema = json.load(open(sys.argv[1] + '/' + name + '.json'))\n\
    \x20   jsonschema.Draft202012Validator.check_schema(schema)\n\
    \x20   for error in jsonschema.Draft202012Validator(schema).iter_errors(document):\n\
    \x20       print(name, list(error.path), error.message[:300])\n";

fn judged(documents: &[(&str, serde_json::Value)]) -> String {
    let lines: Vec<String> =
        documents.iter().map(|pair| serde_json::json!([pair.0, pair.1]).to_string()).collect();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("documents");
    fs::write(&file, lines.join("\n")).unwrap();
    let mut judge = Command::new("/usr/bin/python3");
    let told = judge.args(["-c", JUDGE]).arg(schema_folder()).arg(file).output().unwrap();
    let text = [told.stdout, told.stderr].concat();
    String::from_utf8_lossy(&text).into_owned()
}

#[test]
fn the_schemas_of_the_documents_are_those_of_the_program() {
    let all = fernweh::schemas();
    for (name, schema) in &all {
        let written = fs::read_to_string(schema_folder().join(name)).unwrap_or_default();
        let is_same = written == format!("{schema:#}\n");
        assert!(is_same, "docs/schema/{name} is out of date: scripts/documents writes it");
    }
    assert_eq!(fs::read_dir(schema_folder()).unwrap().count(), all.len());
}

#[test]
fn every_document_is_one_document_and_fits_its_schema() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    // Nobody on this machine answers there.
    let toml = fixture.workspace.read("fernweh.toml");
    fixture.workspace.write("ready.toml", toml + "\n[ready]\nresolvers = [\"127.0.0.1:9\"]\n");
    let mut documents = Vec::new();
    for (schema, line) in [
        ("init", "init -c other.toml --from-site old/htdocs --from-url http://a.example"),
        ("sites", "sites"),
        ("survey", "survey old"),
        ("survey-for", "survey old --for new"),
        ("survey-print-config", "survey old --print-config"),
        ("pack", "pack old -o a.tar"),
        ("pack", "pack old --sql a.sql"),
        ("show", "show a.tar --verify"),
        ("unpack", "unpack a.tar new --preview"),
        ("unpack", "unpack a.tar new"),
        ("rewrite", "rewrite new"),
        ("rewrite", "rewrite new --from http://cdn.example --to https://cdn.example --apply"),
        ("rewrite-file", "rewrite a.sql -o b.sql --from old --to new"),
        ("rewrite-try", "rewrite new --try http://glimmerpoint.example/x"),
        ("scan", "scan new --own-only"),
        ("scan", "scan new --own-only --trace"),
        ("trace", "trace new http://cdn.example/moon.png --propose"),
        ("ready", "ready new --from old -c ready.toml"),
        ("ready", "ready new --check leftovers -c ready.toml"),
        ("ready-watch", "ready new --from old --watch --for 0m -c ready.toml"),
        ("ready-steps", "ready new --done transfer -c ready.toml"),
        ("redirects", "redirects new --from old --server nginx"),
        ("redirects-place", "redirects new --from old --place"),
        ("undo", "undo new --preview"),
        ("undo", "undo new"),
        ("undo", "undo new --preview"),
        ("undo", "undo new"),
        ("undo", "undo new --let-go --preview"),
        ("move", "move old new --preview"),
        ("move", "move old new --rehearse --overwrite"),
        ("move", "move old new --overwrite --yes"),
        ("runs", "runs"),
        ("runs", "runs new"),
        ("undo", "undo new --let-go --yes"),
        ("completions", "completions fish"),
        ("error", "survey nobody"),
        ("error", "show missing.tar"),
        ("error", "pack old --nonsense"),
        ("error", "surve old"),
        ("error", "rewrite a.sql -o - --from old --to new"),
        ("error", "demo d"),
        ("error", "undo new --let-go=all --to-run x"),
    ] {
        // Exactly one: what follows it would be no JSON.
        let document = fixture.workspace.run(&format!("{line} --json")).json();
        assert_eq!(document["format"], 1, "{line}");
        documents.push((schema, document));
    }
    assert_eq!(judged(&documents), "");
    // The judge is awake.
    let wrong = [("error", serde_json::json!({ "format": 2, "error": 5 }))];
    assert!(judged(&wrong).contains("error"));
}

#[test]
fn quiet_prints_results_only_where_they_are_the_point() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"a\"\ndatabase = \"none\"\n[site.new]\nfiles = \"b\"\ndatabase = \"none\"\nurl = \"http://new.test\"\n");
    workspace.write("a/x.html", "http://old.test/");
    for (line, speaks) in [
        ("pack old -o a.tar -q", false),
        ("unpack a.tar new --as-is -q", false),
        ("rewrite new --from http://old.test --to http://new.test -q", true),
        ("rewrite new --from http://old.test --to http://new.test --apply -q", false),
        ("undo new -q", false),
        ("undo new --preview -q", true),
        ("move old new --yes --overwrite --no-scan -q", false),
        ("runs -q", true),
        ("survey old -q", true),
        ("show a.tar -q", true),
    ] {
        let ran = workspace.done(line);
        assert_eq!(!ran.out.is_empty(), speaks, "{line}: {}", ran.out);
        assert_eq!(ran.err, "", "{line}");
    }
    // Errors are heard all the same.
    let ran = workspace.run("pack old -o a.tar -q").code(2);
    assert!(ran.err.contains("already there"), "{}", ran.err);
}
