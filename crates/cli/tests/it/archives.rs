//! Archives that are damaged, incomplete or hostile.

use super::fixture;
use fernweh_core::digest::sha256;
use fernweh_testkit::{Engine, Fixture, database_cells, files_of};
use std::io::{Cursor, Read};

pub(super) type Members = Vec<(String, Vec<u8>)>;
/// Name, kind, and content or target of a forged entry.
type Forged<'a> = (&'a [u8], tar::EntryType, &'a [u8]);

pub(super) fn read(path: &std::path::Path) -> Members {
    let mut tar = tar::Archive::new(std::fs::File::open(path).unwrap());
    let entries = tar.entries().unwrap().map(|entry| {
        let mut entry = entry.unwrap();
        let name = entry.path().unwrap().to_string_lossy().into_owned();
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).unwrap();
        (name, bytes)
    });
    entries.collect()
}

fn header(name: &[u8], size: usize, kind: tar::EntryType) -> tar::Header {
    let mut header = tar::Header::new_ustar();
    header.set_entry_type(kind);
    header.set_size(size as u64);
    header.set_mode(0o644);
    header.set_mtime(0);
    header.as_ustar_mut().unwrap().name[..name.len()].copy_from_slice(name);
    header.set_cksum();
    header
}

/// Writes members as a forger would: with a seal that fits.
pub(super) fn forge(path: &std::path::Path, mut members: Members) {
    let (_, seal) = members.pop().unwrap();
    let mut seal: serde_json::Value = serde_json::from_slice(&seal).unwrap();
    let sealed = members.iter().map(|(name, bytes)| {
        serde_json::json!({ "name": name, "size": bytes.len(), "sha256": sha256(bytes) })
    });
    seal["members"] = sealed.collect();
    members.push(("seal.json".into(), serde_json::to_vec(&seal).unwrap()));
    let mut tar = tar::Builder::new(std::fs::File::create(path).unwrap());
    for (name, bytes) in members {
        let header = header(name.as_bytes(), bytes.len(), tar::EntryType::Regular);
        tar.append(&header, Cursor::new(bytes)).unwrap();
    }
    tar.finish().unwrap();
}

/// The fixture with an archive, and what must stay untouched.
fn prepared() -> (Fixture, Members) {
    let fixture = fixture(Engine::Sqlite);
    fixture.pack();
    let members = read(&fixture.workspace.path("site.fernweh.tar"));
    fixture.workspace.write("new/htdocs/index.php", "the site that stands");
    (fixture, members)
}

#[track_caller]
fn refused(fixture: &Fixture, archive: &str) {
    let before = files_of(&fixture.workspace.path("new"));
    let ran = fixture.workspace.run(&format!("unpack {archive} new --overwrite"));
    assert_eq!(ran.code, Some(4), "{archive}\n{}\n{}", ran.out, ran.err);
    assert!(ran.err.contains("nothing was changed"), "{}", ran.err);
    assert_eq!(before, files_of(&fixture.workspace.path("new")), "{archive}");
    assert!(
        !fixture.workspace.path("evil").exists() && !fixture.workspace.path("new/evil").exists(),
        "{archive}"
    );
}

#[test]
fn a_truncated_archive_is_refused_wherever_it_breaks_off() {
    let (fixture, _) = prepared();
    let whole = std::fs::read(fixture.workspace.path("site.fernweh.tar")).unwrap();
    for length in [0, 1, 511, 512, 5_000, whole.len() / 2, whole.len() - 2_000] {
        fixture.workspace.write("cut.tar", &whole[..length]);
        refused(&fixture, "cut.tar");
    }
}

#[test]
fn one_flipped_byte_anywhere_that_counts_is_noticed() {
    let (fixture, members) = prepared();
    let whole = std::fs::read(fixture.workspace.path("site.fernweh.tar")).unwrap();
    let mut at = 0;
    for (name, bytes) in &members {
        let start = at + 512;
        at = start + bytes.len().div_ceil(512) * 512;
        if name == "seal.json" {
            continue;
        }
        let mut flipped = whole.clone();
        flipped[start + bytes.len() / 2] ^= 1;
        fixture.workspace.write("flipped.tar", flipped);
        refused(&fixture, "flipped.tar");
        let shown = fixture.workspace.run("show flipped.tar --verify");
        assert!(matches!(shown.code, Some(1 | 4)), "{name}: {}{}", shown.out, shown.err);
    }
}

#[test]
fn members_that_archives_do_not_hold_are_refused() {
    let (fixture, members) = prepared();
    for name in ["../evil", "files/../../evil", "/tmp/evil", "evil", "files/0001.tar"] {
        let mut forged = members.clone();
        forged.insert(1, (name.into(), b"evil".to_vec()));
        forge(&fixture.workspace.path("forged.tar"), forged);
        refused(&fixture, "forged.tar");
    }
    let mut twice = members.clone();
    twice.insert(1, members[0].clone());
    forge(&fixture.workspace.path("forged.tar"), twice);
    refused(&fixture, "forged.tar");
}

/// Puts another stream of files into an archive.
fn with_files(members: &Members, entries: &[Forged<'_>]) -> Members {
    let mut tar = tar::Builder::new(Vec::new());
    for (name, kind, content) in entries {
        let size = if *kind == tar::EntryType::Regular { content.len() } else { 0 };
        let mut header = header(name, size, *kind);
        if *kind != tar::EntryType::Regular {
            header.as_ustar_mut().unwrap().linkname[..content.len()].copy_from_slice(content);
            header.set_cksum();
        }
        tar.append(&header, &content[..size]).unwrap();
    }
    let stream = zstd::encode_all(&tar.into_inner().unwrap()[..], 3).unwrap();
    let replace = |(name, bytes): &(String, Vec<u8>)| match name.as_str() {
        "files/0001.tar.zst" => (name.clone(), stream.clone()),
        _ => (name.clone(), bytes.clone()),
    };
    members.iter().map(replace).collect()
}

#[test]
fn files_that_lead_out_of_the_site_are_refused() {
    use tar::EntryType::{Link, Regular, Symlink};
    let (fixture, members) = prepared();
    let outside = fixture.workspace.folder().to_string_lossy().into_owned();
    let hostile: [&[Forged<'_>]; 8] = [
        &[(b"../evil", Regular, b"x")],
        &[(b"../../evil", Regular, b"x")],
        &[(b"a/../../evil", Regular, b"x")],
        &[(b"/evil", Regular, b"x")],
        &[(b"a", Symlink, outside.as_bytes()), (b"a/evil", Regular, b"x")],
        &[(b"a", Symlink, b"b"), (b"a/evil", Regular, b"x")],
        &[(b"a", Regular, b"x"), (b"a", Regular, b"y")],
        &[(b"a", Link, b"/etc/passwd")],
    ];
    for entries in hostile {
        for more in ["", " --outside-links"] {
            forge(&fixture.workspace.path("forged.tar"), with_files(&members, entries));
            refused(&fixture, &format!("forged.tar{more}"));
        }
    }
}

#[test]
fn a_link_that_points_out_of_the_tree_is_left_out_and_listed() {
    let fixture = fixture(Engine::Sqlite);
    std::os::unix::fs::symlink("/etc/passwd", fixture.root("old").join("outside")).unwrap();
    std::os::unix::fs::symlink("../../x", fixture.root("old").join("pictures/above")).unwrap();
    fixture.workspace.done("survey old").says("a link that points out of the site");
    fixture
        .workspace
        .done("pack old -o a.tar")
        .says("outside: a link that points out of the site, to /etc/passwd");
    fixture.workspace.done("unpack a.tar new");
    assert!(fixture.root("new").join("outside").symlink_metadata().is_err());
    assert!(fixture.root("new").join("pictures/latest.png").symlink_metadata().is_ok());
    fixture.workspace.done("pack old -o b.tar --outside-links");
    fixture
        .workspace
        .done("unpack b.tar new --overwrite")
        .says("outside: a link that points out of the site");
    fixture.workspace.done("unpack b.tar new --overwrite --outside-links");
    let target = std::fs::read_link(fixture.root("new").join("outside")).unwrap();
    assert_eq!(target.to_str(), Some("/etc/passwd"));
}

#[test]
fn sql_that_packing_never_writes_is_refused() {
    let (fixture, members) = prepared();
    for (member, sql) in [
        ("database/1-structure.sql.zst", "ATTACH DATABASE 'evil' AS x;"),
        ("database/1-structure.sql.zst", "CREATE TABLE hidden (a); DROP TABLE gp_log;"),
        ("database/1-structure.sql.zst", "CREATE TABLE not_in_the_manifest (a);"),
        ("database/3-afterwards.sql.zst", "SELECT load_extension('evil');"),
        ("database/2-rows/gp_log/0001.sql.zst", "DELETE FROM gp_articles;"),
        (
            "database/2-rows/gp_log/0001.sql.zst",
            "INSERT INTO \"gp_articles\" (\"id\") VALUES\n(1);",
        ),
        (
            "database/2-rows/gp_log/0001.sql.zst",
            "INSERT INTO \"gp_log\" (\"at\",\"line\") VALUES\n(1, random());",
        ),
        ("database/2-rows/gp_log/0001.sql.zst", "INSERT INTO \"gp_log\" (\"at\") VALUES\n('x');"),
        (
            "database/2-rows/gp_log/0001.sql.zst",
            "INSERT INTO \"gp_log\" (\"at\",\"line\") VALUES\n('x",
        ),
    ] {
        let mut forged = members.clone();
        let place = forged.iter_mut().find(|(name, _)| name == member).unwrap();
        let before = zstd::decode_all(&place.1[..]).unwrap();
        let text =
            [if member.contains("2-rows") { &b""[..] } else { &before }, sql.as_bytes()].concat();
        place.1 = zstd::encode_all(&text[..], 3).unwrap();
        forge(&fixture.workspace.path("forged.tar"), forged);
        refused(&fixture, "forged.tar");
    }
}

#[test]
fn an_archive_that_promises_more_rows_than_it_holds_is_refused() {
    let (fixture, mut members) = prepared();
    let (_, seal) = members.last_mut().unwrap();
    let mut changed: serde_json::Value = serde_json::from_slice(seal).unwrap();
    changed["rows"]["gp_log"] = 61.into();
    *seal = serde_json::to_vec(&changed).unwrap();
    forge(&fixture.workspace.path("forged.tar"), members);
    refused(&fixture, "forged.tar");
}

#[test]
fn an_archive_of_another_engine_is_refused_with_the_reason() {
    let fixture = fixture(Engine::Sqlite);
    fixture.pack();
    let other = super::fixture(Engine::Mariadb);
    std::fs::copy(fixture.workspace.path("site.fernweh.tar"), other.workspace.path("a.tar"))
        .unwrap();
    other
        .workspace
        .run("unpack a.tar new")
        .code(2)
        .says("it comes from SQLite, the site has MariaDB");
    other.workspace.done("unpack a.tar new --only files");
}

#[test]
fn an_archive_is_the_same_whatever_it_is_compressed_with() {
    let fixture = fixture(Engine::Sqlite);
    let mut sizes = Vec::new();
    let mut states = Vec::new();
    for level in [0, 3, 19] {
        fixture.workspace.done(&format!("pack old -o {level}.tar --level {level}"));
        fixture.workspace.done(&format!("show {level}.tar --verify"));
        sizes.push(
            std::fs::metadata(fixture.workspace.path(&format!("{level}.tar"))).unwrap().len(),
        );
        fixture.workspace.done(&format!("unpack {level}.tar new --overwrite"));
        states.push((database_cells(&fixture.new), files_of(&fixture.root("new"))));
    }
    assert!(sizes.is_sorted_by(|a, b| a > b), "{sizes:?}");
    assert!(states.windows(2).all(|pair| pair[0] == pair[1]));
    fixture.workspace.run("pack old --level 20").code(2);
}
