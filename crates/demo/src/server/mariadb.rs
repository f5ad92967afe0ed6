//! MariaDB: how it is installed into a folder and started.

use super::{Failure, program};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// Makes the data of a new server.
pub(super) fn install(folder: &Path) -> Result<(), Failure> {
    let install = program(&["mariadb-install-db"]).ok_or("no mariadb-install-db")?;
    let temporary = temporary(folder)?;
    let made = Command::new(install)
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"])
        .arg(format!("--datadir={}", folder.join("data").display()))
        .arg(temporary)
        .args(owner())
        .output()?;
    match made.status.success() {
        true => Ok(()),
        false => Err(String::from_utf8_lossy(&made.stderr).into_owned().into()),
    }
}

/// Its folder of temporary tables. A server that starts clears it: no two may share one.
fn temporary(folder: &Path) -> Result<String, Failure> {
    let temporary = folder.join("tmp");
    std::fs::create_dir_all(&temporary)?;
    Ok(format!("--tmpdir={}", temporary.display()))
}

/// A server that is started by root must be told to stay root. What the environment says of the
/// user may be another's.
fn owner() -> Option<&'static str> {
    let own = std::fs::metadata("/proc/self").ok()?;
    (own.uid() == 0).then_some("--user=root")
}

/// Starts it.
pub(super) fn spawn(folder: &Path, port: u16) -> Result<Child, Failure> {
    let server = program(&["mariadbd"]).ok_or("no mariadbd")?;
    let log = std::fs::File::create(folder.join("log"))?;
    // Settings that only hold from the start stand in a file in its folder.
    let settings = folder.join("my.cnf");
    let settings = match settings.exists() {
        true => format!("--defaults-file={}", settings.display()),
        false => "--no-defaults".into(),
    };
    let child = Command::new(server)
        .arg(settings)
        .arg(format!("--datadir={}", folder.join("data").display()))
        .arg(format!("--socket={}", folder.join("s").display()))
        .arg(format!("--pid-file={}", folder.join("pid").display()))
        .arg(temporary(folder)?)
        .arg(format!("--port={port}"))
        .args(["--bind-address=127.0.0.1", "--skip-name-resolve", "--innodb-buffer-pool-size=64M"])
        .args(["--innodb-flush-log-at-trx-commit=2", "--performance-schema=OFF"])
        // A table that leaves the cache loses the time of its last change.
        .arg("--table-definition-cache=8000")
        .args(owner())
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()?;
    Ok(child)
}
