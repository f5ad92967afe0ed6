//! What happens around the checks: the list of steps, waiting, what earlier looks have left, and
//! what is typed wrong.

use super::super::fixture;
use super::world::{NEW, World, after, before, not_passed, zone_on};
use fernweh_testkit::Engine;
use serde_json::Value;

const DEAD: &str = "\n[ready]\nresolvers = [\"127.0.0.1:9\"]\nsteps = [\"Tell the printers\"]\n";

#[test]
fn steps_are_kept_and_called_by_their_names() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let toml = fixture.workspace.read("fernweh.toml");
    fixture.workspace.write("fernweh.toml", toml + DEAD);
    let step = |report: &Value, name: &str| {
        let steps = report["steps"].as_array().unwrap();
        let found = steps.iter().find(|step| step["step"] == name);
        found.map_or(Value::Null, |step| step["state"].clone())
    };
    let look = || fixture.workspace.run("ready new --from old --check leftovers --json").json();
    assert_eq!(step(&look(), "tell-the-printers"), "open");
    let done = fixture.workspace.run("ready new --done tell-the-printers");
    assert_eq!(done.code, Some(0), "{done:?}");
    assert_eq!(step(&look(), "tell-the-printers"), "done");
    let open = fixture.workspace.run("ready new --open tell-the-printers");
    assert_eq!(open.code, Some(0), "{open:?}");
    assert_eq!(step(&look(), "tell-the-printers"), "open");
    let wrong = fixture.workspace.run("ready new --done tell");
    assert_eq!(wrong.code, Some(2), "{wrong:?}");
    assert!(wrong.err.contains("tell-the-printers"), "{}", wrong.err);
}

#[test]
fn what_earlier_looks_have_left_is_told_with_its_age() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let toml = fixture.workspace.read("fernweh.toml");
    fixture.workspace.write("fernweh.toml", toml + DEAD);
    let look = || {
        let ran = fixture.workspace.run("ready new --from old --check leftovers --json");
        not_passed(&ran.json())
    };
    assert_eq!(look(), ["warned never-scanned"]);
    fixture.workspace.done("pack old -o a.tar");
    fixture.workspace.run("unpack a.tar new");
    fixture.workspace.run("scan new --own-only");
    assert_eq!(look(), ["warned scan-found"]);
    fixture.workspace.run("compare old new --database");
    fixture.workspace.run("rewrite new");
    assert_eq!(look(), ["warned scan-found"]);
    fixture.workspace.run("unpack a.tar new --overwrite");
    assert_eq!(look(), ["warned comparison-outdated", "warned scan-outdated"]);
    // One that was killed is named before everything else.
    fixture.workspace.run_killed_at("unpack a.tar new --overwrite", "switching");
    let found = look();
    assert!(found.contains(&"failed unfinished".to_owned()), "{found:?}");
}

#[test]
fn a_watch_ends_when_the_switch_has_arrived_or_its_time_is_over() {
    let arrived = after("watch-arrived");
    let half = before("watch-half").with(|it| it.zone[1] = Some(zone_on(NEW)));
    let world = World::start(&[arrived.clone(), half.clone()]);
    let space = world.workspace(&arrived);
    let toml = space.read("fernweh.toml");
    space.write(
        "fernweh.toml",
        toml + "\n[tell]\ncommand = \"printenv FERNWEH_SUBJECT >> told.txt; cat >> told.txt\"\n",
    );
    let ran = space.run("ready new --from old --watch --for 1h");
    assert_eq!(ran.code, Some(0), "{ran:?}");
    assert!(ran.out.contains("the switch has arrived"), "{}", ran.out);
    assert!(
        space.read("told.txt").starts_with("Fernweh: arrived: new"),
        "{}",
        space.read("told.txt")
    );
    let space = world.workspace(&half);
    let ran = space.run("ready new --from old --watch --for 0m");
    assert_eq!(ran.code, Some(1), "{ran:?}");
    assert!(ran.out.contains("has not arrived yet"), "{}", ran.out);
    assert!(ran.out.contains("ns1.hosting.example: "), "{}", ran.out);
}

#[test]
fn what_is_typed_wrong_is_said() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let toml = fixture.workspace.read("fernweh.toml");
    for (line, more, words) in [
        ("ready nobody", "", "there is no site `nobody`"),
        ("ready new --from nobody", "", "there is no site `nobody`"),
        ("ready new --check names", "", "names"),
        ("ready new --before --after", "", "do not go together"),
        ("ready new --watch --for 6x", "", "90m, 6h or 2d"),
        (
            "ready new",
            "\n[ready]\nresolvers = [\"nowhere.invalid.\"]\n",
            "not the address of a name server",
        ),
        ("ready new", "\n[ready]\nresolver = []\n", "resolver"),
        ("close old", "", "--to"),
        ("close old --to new", "", "needs confirmation"),
    ] {
        fixture.workspace.write("fernweh.toml", format!("{toml}{more}"));
        let ran = fixture.workspace.run(line);
        assert_eq!(ran.code, Some(2), "{line}: {ran:?}");
        assert!(ran.err.contains(words), "{line}: {}", ran.err);
    }
}
