//! What files have beyond their content: further names, attributes, access lists, holes, times.

use super::PROGRAM;
use fernweh_testkit::{SshHost, Workspace};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::Command;

const FLAGS: rustix::fs::XattrFlags = rustix::fs::XattrFlags::empty();

fn note_of(path: &Path) -> String {
    let mut value = [0_u8; 100];
    let length = rustix::fs::getxattr(path, "user.note", &mut value[..]).unwrap_or(0);
    String::from_utf8_lossy(&value[..length]).into_owned()
}

fn shell(folder: &Path, script: &str) {
    let ran = Command::new("sh").args(["-ec", script]).current_dir(folder).output().unwrap();
    assert!(ran.status.success(), "{script}: {}", String::from_utf8_lossy(&ran.stderr));
}

/// A site with a file of three names and one that carries a note.
fn site() -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/pictures/comet.jpg", "a comet over the bay");
    let first = workspace.path("old/pictures/comet.jpg");
    fs::hard_link(&first, workspace.path("old/pictures/newest.jpg")).unwrap();
    workspace.write("old/z.html", "<a href='http://glimmerpoint.example/'>home</a>");
    fs::hard_link(&first, workspace.path("old/zz.jpg")).unwrap();
    rustix::fs::setxattr(&first, "user.note", b"by the keeper", FLAGS).unwrap();
    rustix::fs::setxattr(workspace.path("old/pictures"), "user.note", b"folder", FLAGS).unwrap();
    workspace.write(
        "fernweh.toml",
        "[site.old]\nurl = \"http://glimmerpoint.example\"\nfiles = \"old\"\n\
         [site.new]\nurl = \"https://www.glimmer-point.example\"\nfiles = \"new\"\n",
    );
    workspace
}

#[track_caller]
fn is_as_it_was(new: &Path) {
    let found = |path: &str| fs::metadata(new.join(path)).unwrap();
    let first = found("pictures/comet.jpg");
    assert_eq!(first.nlink(), 3);
    assert_eq!(first.ino(), found("pictures/newest.jpg").ino());
    assert_eq!(first.ino(), found("zz.jpg").ino());
    assert_eq!(note_of(&new.join("zz.jpg")), "by the keeper");
    assert_eq!(note_of(&new.join("pictures")), "folder");
    assert_eq!(fs::read(new.join("zz.jpg")).unwrap(), b"a comet over the bay");
}

#[test]
fn names_and_attributes_come_along_also_with_the_usual_tools() {
    let workspace = site();
    let report = workspace.done("pack old -o a.tar --json").json();
    assert_eq!((report["files"].as_u64(), report["links"].as_u64()), (Some(2), Some(2)));
    assert_eq!(report["left_out"], serde_json::json!([]));
    workspace.done("show a.tar --verify");
    workspace.done("unpack a.tar new");
    is_as_it_was(&workspace.path("new"));
    // What was rewritten is newer than what was packed; the rest is as old as it was.
    let time = |path: &str| fs::metadata(workspace.path(path)).unwrap().modified().unwrap();
    assert!(time("new/z.html") > time("old/z.html"));
    assert_eq!(time("new/zz.jpg"), time("old/zz.jpg"));
    // tar reads it, and what tar writes is read.
    let script = "mkdir t u && tar -xOf a.tar --wildcards 'files/*.tar.zst' | zstd -dcq \
                  | tar -x --xattrs -C t && tar -cf b.tar --format=pax --xattrs -C t .";
    shell(&workspace.path(""), script);
    is_as_it_was(&workspace.path("t"));
    workspace.done("unpack b.tar new --overwrite --as-is");
    is_as_it_was(&workspace.path("new"));
    // What is carried over stays one file, too.
    workspace.done("undo new");
    workspace.write("c/d.html", "a page");
    shell(&workspace.path("c"), "tar -cf ../c.tar .");
    workspace.write(
        "fernweh.toml",
        workspace.read("fernweh.toml") + "[unpack]\nkeep = [\"pictures/**\", \"zz.jpg\"]\n",
    );
    workspace.done("unpack c.tar new --overwrite --as-is");
    is_as_it_was(&workspace.path("new"));
}

#[test]
fn a_further_name_alone_is_a_file() {
    let workspace = site();
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --paths pictures/newest.jpg --paths zz.jpg");
    let found = |path: &str| fs::metadata(workspace.path(path)).unwrap();
    assert_eq!(found("new/pictures/newest.jpg").ino(), found("new/zz.jpg").ino());
    assert_eq!(fs::read(workspace.path("new/zz.jpg")).unwrap(), b"a comet over the bay");
    assert!(!workspace.path("new/pictures/comet.jpg").exists());
    // One whose first name is left out comes with its content.
    workspace.done("pack old -o b.tar --leave-out pictures/**");
    workspace.done("unpack b.tar new --overwrite --as-is");
    assert_eq!(found("new/zz.jpg").nlink(), 1);
}

#[test]
fn where_a_host_knows_no_further_names_each_is_a_file() {
    let workspace = site();
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    let far = format!(
        "files = \"{}\"\nkey = \"{}\"",
        host.files(&workspace.path("far")),
        host.key.display()
    );
    workspace
        .write("fernweh.toml", workspace.read("fernweh.toml").replace("files = \"new\"", &far));
    workspace.done("pack old -o a.tar");
    workspace
        .done("unpack a.tar new")
        .says("cannot carry hard links; each name becomes a file of its own")
        .says("cannot carry extended attributes and access lists; they are");
    for name in ["pictures/comet.jpg", "pictures/newest.jpg", "zz.jpg"] {
        assert_eq!(fs::read(workspace.path("far").join(name)).unwrap(), b"a comet over the bay");
    }
}
