//! Logins over SSH: keys, passwords, agents, and what OpenSSH's configuration says of hosts.

use super::PROGRAM;
use fernweh_testkit::{Asking, PasswordHost, SshHost, Workspace};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

#[test]
fn one_logs_in_with_a_password_by_answers_with_an_encrypted_key_and_with_an_agent() {
    let workspace = Workspace::new(PROGRAM);
    let root = workspace.path("site");
    fs::create_dir(&root).unwrap();
    fs::write(root.join("page.html"), "a page").unwrap();
    for (asking, folder) in [(Asking::Password, "password"), (Asking::Questions, "questions")] {
        let host = PasswordHost::start(&workspace.path(folder), asking, "night sky");
        workspace.write(".ssh/known_hosts", &host.known);
        let place = format!("sftp://keeper@127.0.0.1:{}/site", host.port);
        let text = format!(
            "[site.a]\nfiles = \"{place}\"\npassword.files = {{ file = \"ssh-password\" }}\n"
        );
        workspace.write("fernweh.toml", text);
        workspace.write("ssh-password", "wrong");
        let ran = workspace.run("pack a --only files").code(3);
        ran.says("refuses user keeper").says("tried:");
        assert!(host.let_in().is_empty());
        // Inside, this stand-in has nothing to offer.
        workspace.write("ssh-password", "night sky");
        workspace.run("pack a --only files").code(3).says("cannot begin to transfer files");
        assert_eq!(host.let_in(), ["keeper"], "{asking:?}");
    }

    let host = known_host(&workspace);
    let locked = workspace.path("locked");
    fs::copy(&host.key, &locked).unwrap();
    fs::set_permissions(&locked, fs::Permissions::from_mode(0o600)).unwrap();
    let changed = Command::new("ssh-keygen")
        .args(["-q", "-p", "-P", "", "-N", "night sky", "-f"])
        .arg(&locked)
        .status();
    assert!(changed.unwrap().success());
    let site = format!("[site.a]\nfiles = \"{}\"\n", host.files(&root));
    let secret = "password.files = { file = \"ssh-password\" }\n";
    workspace.write("fernweh.toml", format!("{site}key = \"locked\"\n{secret}"));
    workspace.done("pack a --only files -o locked.tar");
    workspace.write("fernweh.toml", format!("{site}key = \"locked\"\n"));
    workspace.run("pack a --only files").code(3).says("it is encrypted");
    workspace.write("fernweh.toml", format!("{site}key = \"no-such-key\"\n"));
    workspace.run("pack a --only files").code(3).says("there is no such file");

    let socket = workspace.path("agent");
    let mut agent = Command::new("ssh-agent")
        .args(["-D", "-a"])
        .arg(&socket)
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    while !socket.exists() {
        assert!(agent.try_wait().unwrap().is_none(), "ssh-agent has ended");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    let add =
        Command::new("ssh-add").arg("-q").arg(&host.key).env("SSH_AUTH_SOCK", &socket).status();
    assert!(add.unwrap().success());
    workspace.write("fernweh.toml", &site);
    let mut command = workspace.command("pack a --only files -o agent.tar");
    let packed = command.env("SSH_AUTH_SOCK", &socket).output().unwrap();
    let _ = agent.kill();
    let _ = agent.wait();
    assert!(packed.status.success(), "{}", String::from_utf8_lossy(&packed.stderr));
    workspace.run("pack a --only files").code(3).says("nothing could be tried");
}

#[test]
fn an_encrypted_key_stands_in_nobodys_way_and_its_passphrase_stays_here() {
    let workspace = Workspace::new(PROGRAM);
    let root = workspace.path("site");
    fs::create_dir(&root).unwrap();
    fs::write(root.join("page.html"), "a page").unwrap();
    let locked = workspace.path("locked");
    let made = Command::new("ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", "other words", "-f"])
        .arg(&locked)
        .status();
    assert!(made.unwrap().success());
    // The password is one of the login; the key is another matter.
    let host = PasswordHost::start(&workspace.path("password"), Asking::Password, "night sky");
    workspace.write(".ssh/known_hosts", &host.known);
    let place = format!("sftp://keeper@127.0.0.1:{}/site", host.port);
    let secret = "password.files = { file = \"ssh-password\" }\n";
    workspace.write(
        "fernweh.toml",
        format!("[site.a]\nfiles = \"{place}\"\nkey = \"locked\"\n{secret}"),
    );
    workspace.write("ssh-password", "night sky");
    workspace.run("pack a --only files").code(3).says("cannot begin to transfer files");
    assert_eq!(host.let_in(), ["keeper"]);
    // The password opens the key: then it is none of the host's business.
    workspace.write("ssh-password", "other words");
    let ran = workspace.run("pack a --only files").code(3);
    assert!(!ran.err.contains("the password,"), "{}", ran.err);
    assert!(!host.asked().iter().any(|word| word == "other words"), "{:?}", host.asked());
}

#[test]
fn what_openssh_reads_of_a_host_is_read_here_too() {
    let workspace = Workspace::new(PROGRAM);
    let root = workspace.path("site");
    fs::create_dir(&root).unwrap();
    fs::write(root.join("page.html"), "a page").unwrap();
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    // Another list of known hosts, with a pattern; a key by a token; a command on the way.
    let key = host.known.split_whitespace().skip(1).collect::<Vec<_>>().join(" ");
    let list = format!("[*.glimmer.example]:{} {key}\n", host.port);
    workspace.write("lists/hosts", &list);
    fs::create_dir_all(workspace.path("keys")).unwrap();
    fs::copy(&host.key, workspace.path("keys/web7.glimmer.example-keeper")).unwrap();
    fs::set_permissions(
        workspace.path("keys/web7.glimmer.example-keeper"),
        fs::Permissions::from_mode(0o600),
    )
    .unwrap();
    let folder = workspace.folder().display().to_string();
    let config = format!(
        "Host web7\n  HostName web7.glimmer.example\n  Port {port}\n  User {user}\n  \
         IdentityFile {folder}/keys/%h-keeper\n  IdentitiesOnly yes\n  \
         UserKnownHostsFile {folder}/lists/hosts\n  ProxyCommand {folder}/way %h %p\n",
        port = host.port,
        user = host.user,
    );
    workspace.write(".ssh/config", &config);
    let way = format!(
        "#!/bin/sh\n[ \"$1\" = web7.glimmer.example ] || exit 1\nexec python3 {folder}/way.py \"$2\"\n"
    );
    workspace.write("way", way);
    fs::set_permissions(workspace.path("way"), fs::Permissions::from_mode(0o755)).unwrap();
    workspace.write(
        "way.py",
        "import os, socket, sys, threading\n\
         s = socket.create_connection(('127.0.0.1', int(sys.argv[1])))\n\
         def there():\n    while True:\n        data = os.read(0, 65536)\n        if not data: break\n        s.sendall(data)\n    s.shutdown(socket.SHUT_WR)\n\
         threading.Thread(target=there, daemon=True).start()\n\
         while True:\n    data = s.recv(65536)\n    if not data: break\n    os.write(1, data)\n",
    );
    workspace
        .write("fernweh.toml", format!("[site.a]\nfiles = \"sftp://web7{}\"\n", root.display()));
    workspace.done("pack a --only files -o a.tar").says("1 file");
    // The same key, revoked.
    workspace.write("lists/hosts", format!("{list}@revoked * {key}\n"));
    workspace.run("pack a --only files").code(3).says("is revoked").says("line 2");
    // Not known there: the host is named as it was typed.
    workspace.write("lists/hosts", "");
    workspace.run("pack a --only files").code(3).says("the host web7 is not known");
}

/// A host that is known.
fn known_host(workspace: &Workspace) -> SshHost {
    let host = SshHost::start(&workspace.path("ssh-host"), "");
    workspace.write(".ssh/known_hosts", &host.known);
    host
}
