//! Hosts that accept connections and say nothing.

use super::PROGRAM;
use fernweh_testkit::Workspace;
use std::net::TcpListener;
use std::process::{Command, Stdio};
use std::time::Duration;

/// A host that accepts everybody and says nothing to anybody; it stands as long as this is held.
fn silent_host() -> (TcpListener, u16) {
    // Connections wait in its queue, which accepts them.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    (listener, port)
}

#[test]
fn a_host_that_says_nothing_is_left_and_named() {
    let (_listener, port) = silent_host();
    let places = [
        ("database", format!("mariadb://keeper@127.0.0.1:{port}/glimmer")),
        ("database", format!("postgres://keeper@127.0.0.1:{port}/glimmer")),
        ("files", format!("sftp://keeper@127.0.0.1:{port}/htdocs")),
        ("files", format!("ftp://keeper@127.0.0.1:{port}/htdocs")),
        ("files", format!("ftps://keeper@127.0.0.1:{port}/htdocs")),
    ];
    std::thread::scope(|scope| {
        for (key, place) in &places {
            scope.spawn(move || {
                let workspace = Workspace::new(PROGRAM);
                workspace.write("password", "secret");
                workspace.write(
                    "fernweh.toml",
                    format!(
                        "[site.far]\n{key} = \"{place}\"\npassword.{key} = {{ file = \"password\" }}\n"
                    ),
                );
                let ran = workspace.run("survey far").code(3);
                assert!(ran.err.contains("nothing") || ran.err.contains("answer"), "{}", ran.err);
                assert!(ran.err.contains(&port.to_string()), "{}", ran.err);
            });
        }
    });
}

#[test]
fn whoever_waits_for_a_silent_host_can_stop() {
    let (_listener, port) = silent_host();
    for (key, scheme) in [
        ("database", "mariadb"),
        ("database", "postgres"),
        ("files", "sftp"),
        ("files", "ftp"),
        ("files", "ftps"),
    ] {
        let workspace = Workspace::new(PROGRAM);
        workspace.write("password", "secret");
        let place = format!("{scheme}://keeper@127.0.0.1:{port}/glimmer");
        workspace.write(
            "fernweh.toml",
            format!(
                "[site.far]\n{key} = \"{place}\"\npassword.{key} = {{ file = \"password\" }}\n"
            ),
        );
        let mut command = workspace.command("survey far");
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        // Once it is connected it waits.
        let connected = || {
            let table = std::fs::read_to_string("/proc/net/tcp").unwrap();
            let to = format!("0100007F:{port:04X} 01 ");
            table.lines().filter(|line| line.contains(&to)).count()
        };
        while connected() == 0 {
            std::thread::sleep(Duration::from_millis(10));
        }
        let sent = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        assert!(sent.success());
        let ended = child.wait_with_output().unwrap();
        assert_eq!(ended.status.code(), Some(5), "{scheme}");
        let said = String::from_utf8_lossy(&ended.stderr).into_owned();
        assert!(said.contains("stopping …") && said.contains("interrupted"), "{scheme}: {said}");
    }
}
