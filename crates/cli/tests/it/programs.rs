//! What runs a site's programs at both ends, as the hosts tell it.

use super::PROGRAM;
use fernweh_testkit::{SshHost, Workspace};
use std::fs;
use std::os::unix::fs::PermissionsExt;

/// A host whose shell finds these programs first.
fn host(workspace: &Workspace, name: &str, programs: &[(&str, &str)]) -> SshHost {
    let bin = workspace.path(&format!("{name}-bin"));
    fs::create_dir(&bin).unwrap();
    for (program, text) in programs {
        fs::write(bin.join(program), format!("#!/bin/sh\n{text}\n")).unwrap();
        fs::set_permissions(bin.join(program), fs::Permissions::from_mode(0o755)).unwrap();
    }
    let path = format!("SetEnv PATH={}:/usr/bin:/bin\n", bin.display());
    SshHost::start(&workspace.path(&format!("{name}-host")), &path)
}

#[test]
fn what_the_new_host_lacks_of_php_and_scheduled_jobs_are_named_before_a_move() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("old/index.php", "<?php echo 'the page';");
    let folder = workspace.path("old");
    let table = format!(
        "echo 'PATH=/bin'\necho '# cron of {0}'\necho '*/5 * * * * php {0}/cron.php --token=abcdef'\n\
         echo '0 1 * * * backup-everything'",
        folder.display()
    );
    let old = host(
        &workspace,
        "old",
        &[
            ("php", "exec /usr/bin/php -d memory_limit=256M -d upload_max_filesize=64M \"$@\""),
            ("crontab", &table),
        ],
    );
    let without =
        [("php", "exec /usr/bin/php -n -d memory_limit=64M -d upload_max_filesize=64M \"$@\"")];
    let new = host(&workspace, "new", &without);
    let silent = SshHost::start(&workspace.path("silent-host"), "ForceCommand internal-sftp\n");
    workspace.write(".ssh/known_hosts", [&*old.known, &new.known, &silent.known].join("\n"));
    let section = |name: &str, host: &SshHost, folder: &str| {
        let (place, key) = (host.files(&workspace.path(folder)), host.key.display());
        format!("[site.{name}]\nfiles = \"{place}\"\nkey = \"{key}\"\ndatabase = \"none\"\n")
    };
    let sections = section("old", &old, "old") + &section("new", &new, "new");
    workspace.write("fernweh.toml", sections + &section("silent", &silent, "silent"));

    let ran = workspace.done("survey old --for new --check programs");
    let ran = ran.says("memory_limit of PHP is 256M at the old host, 64M at the new one");
    let ran = ran.says("extensions of PHP that the new host lacks: ");
    assert!(!ran.out.contains("upload_max_filesize"), "{}", ran.out);
    let ran = ran.says("to do").says("*/5 * * * * php").says("--token=…");
    assert!(!ran.out.contains("backup-everything") && !ran.out.contains("abcdef"), "{}", ran.out);
    let moved = workspace.done("move old new --yes");
    moved.says("--token=…");
    // A host of file transfers alone says nothing, and nothing is said of it.
    let quiet = workspace.done("survey old --for silent --check programs");
    assert!(!quiet.out.contains("PHP"), "{}", quiet.out);
    workspace.done("survey silent --for old --check programs");
}
