//! Hosts that mean harm: nothing is written where it does not belong, and every run ends.

use super::PROGRAM;
use fernweh_testkit::{Scene, Trick, hostile_ftp};

fn site(trick: Trick) -> Scene {
    let scene = Scene::new(PROGRAM);
    let port = hostile_ftp(trick);
    scene.write("pw", "night-sky-7");
    scene.write(
        "desk/fernweh.toml",
        format!(
            "[site.old]\nfiles = \"ftp://keeper@127.0.0.1:{port}/htdocs\"\n\
             password.files = {{ file = \"../pw\" }}\n\
             [site.new]\nfiles = \"new\"\nurl = \"https://www.glimmer-point.example\"\n"
        ),
    );
    scene
}

const PACK: &str = "-c desk/fernweh.toml pack old -o desk/a.tar";

/// What lies in the folder, beside what was put there.
fn found(scene: &Scene) -> Vec<String> {
    let mut found: Vec<String> = walkdir::WalkDir::new(scene.folder())
        .into_iter()
        .filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()))
        .collect();
    found.sort();
    found
}

#[test]
fn names_that_lead_elsewhere_are_refused() {
    for name in ["../evil", "/etc/evil", "a/../../evil", "deep/evil"] {
        let scene = site(Trick::Names(name));
        let before = found(&scene);
        let ran = scene.run(PACK).code(4);
        ran.says("lists a name that is no name of a file").says(name);
        assert_eq!(found(&scene), before, "{name}: nothing is left behind");
    }
}

#[test]
fn trees_and_listings_that_do_not_end_are_left() {
    let scene = site(Trick::Deep);
    scene.run(PACK).code(3).says("do not end").says("deep");
    let scene = site(Trick::Wide);
    scene.run(PACK).code(3).says("does not end").says("--leave-out");
    assert!(!scene.path("desk/a.tar").exists());
}

#[test]
fn a_file_of_another_size_than_was_said_is_named() {
    for (said, sent) in [(1000, 10), (10, 1000)] {
        let scene = site(Trick::Sizes { said, sent });
        let ran = scene.done(PACK);
        if said > sent {
            ran.says("page.html").says("changed");
        }
        scene.done("show desk/a.tar --verify").says("the archive is whole");
        scene.done("-c desk/fernweh.toml unpack desk/a.tar new --as-is");
        let size = std::fs::metadata(scene.path("desk/new/page.html")).unwrap().len();
        assert_eq!(size, said as u64, "as long as was said");
    }
}
