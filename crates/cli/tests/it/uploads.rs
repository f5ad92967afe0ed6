//! Large files on their way to hosts whose connections break.

use super::PROGRAM;
use fernweh_testkit::{FTP_LOGIN, FtpHost, SshHost, Workspace, delaying_relay};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A file in which no stretch is like another.
fn film(workspace: &Workspace, megabytes: u64) -> PathBuf {
    let bytes: Vec<u8> = (0..megabytes << 17)
        .flat_map(|n| n.wrapping_mul(0x9E37_79B9_7F4A_7C15).to_le_bytes())
        .collect();
    workspace.write("old/film.bin", bytes);
    workspace.path("old/film.bin")
}

/// Bytes of what is built of the film by now.
fn arrived(workspace: &Workspace) -> u64 {
    let runs = fs::read_dir(workspace.path(".fernweh-far")).into_iter().flatten().flatten();
    let films = runs.map(|run| run.path().join("film.bin"));
    films.filter_map(|film| fs::metadata(film).ok()).map(|film| film.len()).max().unwrap_or(0)
}

/// Unpacks while the connections are cut three times; the file has to arrive as it was.
fn cut_three_times(workspace: &Workspace, film: &Path, cut: &dyn Fn()) {
    workspace.done("pack old -o a.tar --level 0");
    let mut child = workspace.command("unpack a.tar new --as-is").spawn().unwrap();
    for megabytes in [12, 30, 42] {
        while arrived(workspace) < megabytes << 20 {
            assert!(child.try_wait().unwrap().is_none(), "it ended before {megabytes} MB");
            std::thread::sleep(Duration::from_millis(2));
        }
        cut();
    }
    assert!(child.wait().unwrap().success());
    let there = fs::read(workspace.path("far/film.bin")).unwrap();
    assert!(there == fs::read(film).unwrap(), "the film is another");
}

#[test]
fn a_large_upload_over_sftp_goes_on_whenever_the_connection_is_cut() {
    let workspace = Workspace::new(PROGRAM);
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    // On a long way there is time to cut it.
    let far = delaying_relay(host.port, Duration::from_millis(40));
    let known = host.known.replace(&host.port.to_string(), &far.to_string());
    workspace.write(".ssh/known_hosts", known);
    let place = format!("sftp://{}@127.0.0.1:{far}{}", host.user, workspace.path("far").display());
    let key = host.key.display();
    workspace.write(
        "fernweh.toml",
        format!("[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{place}\"\nkey = \"{key}\"\n"),
    );
    let film = film(&workspace, 60);
    cut_three_times(&workspace, &film, &|| host.cut_connections());
}

#[test]
fn a_large_upload_over_ftp_goes_on_whenever_the_connection_is_cut() {
    let workspace = Workspace::new(PROGRAM);
    // 20 MB a second.
    let slow = "TransferRate STOR 20000\n";
    let host = FtpHost::start(&workspace.path("ftp-host"), workspace.folder(), None, slow);
    workspace.write("ftp-password", FTP_LOGIN.1);
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.old]\nfiles = \"old\"\n[site.new]\nfiles = \"{}\"\npassword.files = {{ file = \
             \"ftp-password\" }}\n",
            host.files("ftp", "/far")
        ),
    );
    let film = film(&workspace, 60);
    cut_three_times(&workspace, &film, &|| host.cut_connections());
}
