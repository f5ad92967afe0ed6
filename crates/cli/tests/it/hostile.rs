//! Hosts that mean harm: nothing is written where it does not belong, and every run ends.

use super::PROGRAM;
use fernweh_testkit::{Trick, Workspace, hostile_ftp};

fn site(trick: Trick) -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    let port = hostile_ftp(trick);
    workspace.write("pw", "night-sky-7");
    workspace.write(
        "desk/fernweh.toml",
        format!(
            "[site.old]\nfiles = \"ftp://keeper@127.0.0.1:{port}/htdocs\"\n\
             password.files = {{ file = \"../pw\" }}\n\
             [site.new]\nfiles = \"new\"\nurl = \"https://www.glimmer-point.example\"\n"
        ),
    );
    workspace
}

const PACK: &str = "-c desk/fernweh.toml pack old -o desk/a.tar";

/// What lies in the folder, beside what was put there.
fn found(workspace: &Workspace) -> Vec<String> {
    let mut found: Vec<String> = walkdir::WalkDir::new(workspace.folder())
        .into_iter()
        .filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()))
        .collect();
    found.sort();
    found
}

#[test]
fn names_that_lead_elsewhere_are_refused() {
    for name in ["../evil", "/etc/evil", "a/../../evil", "deep/evil"] {
        let workspace = site(Trick::Names(name));
        let before = found(&workspace);
        let ran = workspace.run(PACK).code(4);
        ran.says("lists a name that cannot be a file name").says(name);
        assert_eq!(found(&workspace), before, "{name}: nothing is left behind");
    }
}

#[test]
fn trees_and_listings_that_do_not_end_are_left() {
    let workspace = site(Trick::Deep);
    workspace.run(PACK).code(3).says("never end").says("deep");
    let workspace = site(Trick::Wide);
    workspace.run(PACK).code(3).says("does not end").says("--leave-out");
    assert!(!workspace.path("desk/a.tar").exists());
}

#[test]
fn a_file_of_another_size_than_was_said_is_named() {
    for (said, sent) in [(1000, 10), (10, 1000)] {
        let workspace = site(Trick::Sizes { said, sent });
        let ran = workspace.done(PACK);
        if said > sent {
            ran.says("page.html").says("changed");
        }
        workspace.done("show desk/a.tar --verify").says("the archive is whole");
        workspace.done("-c desk/fernweh.toml unpack desk/a.tar new --as-is");
        let size = std::fs::metadata(workspace.path("desk/new/page.html")).unwrap().len();
        assert_eq!(size, said.min(sent) as u64, "no longer than was said, and nothing made up");
    }
}

#[test]
fn an_upload_that_is_cut_and_said_to_be_complete_is_noticed() {
    let workspace = Workspace::new(PROGRAM);
    let port = hostile_ftp(Trick::Cuts(3 << 20));
    workspace.write("pw", "night-sky-7");
    workspace.write("old/film.bin", vec![7; 12 << 20]);
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \
             \"ftp://keeper@127.0.0.1:{port}/htdocs\"\npassword.files = {{ file = \"pw\" }}\n"
        ),
    );
    workspace.done("pack old -o a.tar");
    let ran = workspace.run("unpack a.tar new").code(3);
    ran.says("12582912 bytes were sent").says("3145728").says("film.bin");
}

#[test]
fn listings_in_other_orders_and_languages_are_read_and_none_is_passed_over() {
    let lines = "insgesamt 8\r\n\
                 -rw-r--r--   1 keeper   site            4 28. Okt 10:00 index.html\r\n\
                 -rw-r--r--   1 keeper   site            4 2026-11-28 10:00 news.html\r\n";
    let workspace = site(Trick::Lines(lines));
    workspace.done(PACK).says("2 files");
    let workspace = site(Trick::Lines("-rw-r--r-- 1 keeper site 4 recently index.html\r\n"));
    let ran = workspace.run(PACK).code(3);
    ran.says("a line of its listing").says("recently index.html").says("SFTP");
    assert!(!workspace.path("desk/a.tar").exists());
}
