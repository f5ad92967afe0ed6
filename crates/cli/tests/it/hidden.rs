//! Copies that search engines should not find: what is placed in them, whether it works, and that
//! it does not go on to a site that is to be found.

use super::PROGRAM;
use fernweh_testkit::{Apache, Issuing, Wanted, Workspace, files_of};
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

/// A live site and a copy of it on Apache, which has some other files yet.
fn copies(more: &str) -> (Workspace, Apache) {
    let space = Workspace::new(PROGRAM);
    std::fs::set_permissions(space.folder(), PermissionsExt::from_mode(0o755)).unwrap();
    space.write("live/index.html", "<p>Observing nights at http://glimmerpoint.example/.</p>");
    space.write("live/.htaccess", "# the site's own\nOptions -Indexes\n");
    space.write("copy/old.html", "something");
    let issuing = Issuing::new(&space.path("certificates"));
    let names = vec!["copy.glimmer-point.example".to_owned()];
    let both = issuing.issue("site", &Wanted { names, ..Wanted::default() });
    let apache = Apache::start(&space.path("apache"), &space.path("copy"), &both, None, more);
    space.write(
        "fernweh.toml",
        format!(
            "[site.live]\nurl = \"http://glimmerpoint.example\"\nfiles = \"live\"\ndatabase = \
             \"none\"\n\n[site.copy]\nurl = \"http://copy.glimmer-point.example\"\nfiles = \
             \"copy\"\ndatabase = \"none\"\nconnect-to = \"{}\"\nhidden = true\n",
            apache.http
        ),
    );
    (space, apache)
}

/// Whether the copy says that it should not be listed, as another program sees it.
fn is_hidden(apache: &Apache, path: &str) -> bool {
    let told = Command::new("curl")
        .args(["-s", "-i", "-H", "Host: copy.glimmer-point.example"])
        .arg(format!("http://{}{path}", apache.http))
        .output()
        .unwrap();
    String::from_utf8_lossy(&told.stdout).to_lowercase().contains("x-robots-tag: noindex")
}

#[test]
fn a_hidden_copy_says_so_and_its_archive_makes_no_hidden_site() {
    let (space, apache) = copies("");
    let before = files_of(&space.path("copy"));
    assert_eq!(space.run("pack live -o live.tar").code, Some(0));
    let ran = space.run("unpack live.tar copy --overwrite");
    assert!(ran.out.contains("hidden     passed"), "{ran:?}");
    for path in ["/", "/index.html", "/missing"] {
        assert!(is_hidden(&apache, path), "{path}");
    }
    assert!(space.read("copy/.htaccess").ends_with("# the site's own\nOptions -Indexes\n"));
    let hidden = files_of(&space.path("copy"));
    // A second time the same.
    assert!(space.run("unpack live.tar copy --overwrite").out.contains("hidden     passed"));
    assert_eq!(files_of(&space.path("copy")), hidden);
    assert!(space.run("survey copy").out.contains("hidden = true"));
    // What comes from it to a site that is to be found is not hidden there.
    assert_eq!(space.run("pack copy -o copy.tar").code, Some(0));
    let live = files_of(&space.path("live"));
    let back = space.run("unpack copy.tar live --overwrite");
    assert!(!back.out.contains("hidden"), "{back:?}");
    assert_eq!(files_of(&space.path("live")), live);
    // And back to what was there at first.
    for _ in 0..2 {
        assert_eq!(space.run("undo copy").code, Some(0));
    }
    assert_eq!(files_of(&space.path("copy")), before);
}

#[test]
fn a_copy_without_a_rule_file_gets_one_and_a_move_says_so() {
    let (space, apache) = copies("");
    std::fs::remove_file(space.path("live/.htaccess")).unwrap();
    let ran = space.run("move live copy --overwrite --no-scan --yes");
    assert!(ran.out.contains("hidden     passed"), "{ran:?}");
    assert!(ran.err.contains("search engines are kept out of site copy"), "{}", ran.err);
    assert!(is_hidden(&apache, "/"));
    let made = std::fs::metadata(space.path("copy/.htaccess")).unwrap();
    assert_eq!(made.permissions().mode() & 0o777, 0o644);
}

#[test]
fn a_rewriting_hides_the_copy_and_undo_opens_it_to_the_byte() {
    let (space, apache) = copies("");
    std::fs::copy(space.path("live/index.html"), space.path("copy/index.html")).unwrap();
    let before = files_of(&space.path("copy"));
    let ran = space.run("rewrite copy --apply");
    assert!(ran.out.contains("hidden     passed"), "{ran:?}");
    assert!(is_hidden(&apache, "/"));
    assert_eq!(space.run("undo copy").code, Some(0));
    assert_eq!(files_of(&space.path("copy")), before);
    assert!(!is_hidden(&apache, "/"));
}

#[test]
fn a_copy_that_is_not_hidden_is_called_so() {
    let (space, apache) = copies("AllowOverride None");
    assert_eq!(space.run("pack live -o live.tar").code, Some(0));
    let ran = space.run("unpack live.tar copy --overwrite");
    assert_eq!(ran.code, Some(1), "{ran:?}");
    assert!(ran.out.contains("failed   not hidden:"), "{}", ran.out);
    assert!(!is_hidden(&apache, "/"));
}

#[test]
fn the_archive_of_a_closed_site_makes_no_closed_one() {
    let (space, apache) = copies("");
    let toml = space.read("fernweh.toml").replace("hidden = true\n", "");
    space.write("fernweh.toml", toml + "\n[site.next]\nurl = \"https://next.example\"\n");
    assert_eq!(space.run("pack live -o live.tar").code, Some(0));
    assert_eq!(space.run("unpack live.tar copy --overwrite").code, Some(0));
    assert_eq!(space.run("close copy --to next --yes").code, Some(0));
    assert_eq!(space.run("pack copy -o closed.tar").code, Some(0));
    let live = files_of(&space.path("live"));
    assert_eq!(space.run("unpack closed.tar live --overwrite").code, Some(0));
    assert_eq!(files_of(&space.path("live")), live);
    drop(apache);
}
