//! Small and closed file systems, in a mount namespace of their own.

use super::fixture;
use fernweh_testkit::{Engine, files_of};

#[test]
fn a_disk_that_is_full_is_told_as_that_and_nothing_is_changed() {
    for engine in [Engine::Sqlite, Engine::Mariadb] {
        let fixture = fixture(engine);
        // Nothing that could be compressed.
        let mut state = 7_u64;
        let mut byte = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 33) as u8
        };
        let noise: Vec<u8> = (0..3 << 20).map(|_| byte()).collect();
        std::fs::write(fixture.root("old").join("large.bin"), noise).unwrap();
        let archive = fixture.pack();
        std::fs::create_dir_all(fixture.workspace.path("new")).unwrap();
        let small =
            "mount -t tmpfs -o size=1m none new && mkdir new/htdocs && echo old >new/htdocs/a";
        let after = "ls -A new new/htdocs; cat new/htdocs/a";
        let line = format!("unpack {archive} new --overwrite");
        let ran = fixture.workspace.run_on_disk(small, &line, after).code(3);
        ran.says("no room").says("nothing was changed").says("new:\nhtdocs\n").says("a\nold");

        // The archive itself does not fit.
        let small = "mount -t tmpfs -o size=1m none new";
        let ran =
            fixture.workspace.run_on_disk(small, "pack old -o new/a.tar --level 0", "ls -A new");
        ran.code(3).says("the disk is full").says("new/a.tar");
        assert!(!fixture.workspace.path("new/a.tar").exists());
    }
}

#[test]
fn a_place_that_cannot_be_written_is_told_as_that_and_nothing_is_changed() {
    let fixture = fixture(Engine::Mariadb);
    let archive = fixture.pack();
    std::fs::create_dir_all(fixture.root("new")).unwrap();
    std::fs::write(fixture.root("new").join("a"), "old").unwrap();
    let before = files_of(&fixture.root("new"));
    let closed = "mount --bind new new && mount -o remount,bind,ro new";
    let line = format!("unpack {archive} new --overwrite");
    let ran = fixture.workspace.run_on_disk(closed, &line, "true").code(3);
    ran.says("read-only").says("nothing was changed");
    assert_eq!(files_of(&fixture.root("new")), before);
    assert!(fixture.database("new").ask("SHOW TABLES").unwrap().is_empty());
    // The tests before a move find it.
    let ran = fixture.workspace.run_on_disk(closed, "survey old --for new", "true").code(3);
    ran.says("failed").says("read-only");
}
