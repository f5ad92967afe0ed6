//! PostgreSQL: how it is installed into a folder and started. It refuses to run as root;
//! a root user starts it as the user that its package has made.

use super::{ADMIN_PASSWORD, Failure, program};
use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// A program of the newest version that is installed.
pub(super) fn find(name: &str) -> Option<PathBuf> {
    let versions = std::fs::read_dir("/usr/lib/postgresql").ok()?;
    let mut found: Vec<PathBuf> = versions
        .filter_map(|entry| Some(entry.ok()?.path().join("bin").join(name)))
        .filter(|path| path.is_file())
        .collect();
    found.sort();
    found.pop().or_else(|| program(&[name]))
}

/// User and group to run as, if this is root.
fn other_user() -> Option<(u32, u32)> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let own = status.lines().find_map(|line| line.strip_prefix("Uid:"))?;
    if own.split_whitespace().next() != Some("0") {
        return None;
    }
    let users = std::fs::read_to_string("/etc/passwd").ok()?;
    let line = users.lines().find(|line| line.starts_with("postgres:"))?;
    let mut fields = line.split(':').skip(2).map(str::parse);
    Some((fields.next()?.ok()?, fields.next()?.ok()?))
}

fn command(name: &str) -> Result<Command, Failure> {
    let mut command = Command::new(find(name).ok_or_else(|| format!("no {name}"))?);
    if let Some((user, group)) = other_user() {
        command.uid(user).gid(group);
    }
    command.current_dir("/").stdin(Stdio::null());
    Ok(command)
}

/// Makes the data of a new server.
pub(super) fn install(folder: &Path) -> Result<(), Failure> {
    let secret = folder.join("secret");
    std::fs::write(&secret, ADMIN_PASSWORD)?;
    if let Some((user, group)) = other_user() {
        chown(folder, Some(user), Some(group))?;
        chown(&secret, Some(user), Some(group))?;
    }
    let made = command("initdb")?
        .args(["--username=root", "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8"])
        .args(["--no-sync", "-D"])
        .arg(folder.join("data"))
        .arg(format!("--pwfile={}", secret.display()))
        .output()?;
    std::fs::remove_file(secret)?;
    match made.status.success() {
        true => Ok(()),
        false => Err(String::from_utf8_lossy(&made.stderr).into_owned().into()),
    }
}

/// Starts it.
pub(super) fn spawn(folder: &Path, port: u16) -> Result<Child, Failure> {
    let log = std::fs::File::create(folder.join("log"))?;
    let child = command("postgres")?
        .arg("-D")
        .arg(folder.join("data"))
        .args(["-p", &port.to_string(), "-c", "listen_addresses=127.0.0.1", "-c"])
        .arg(format!("unix_socket_directories={}", folder.display()))
        .args(["-c", "fsync=off", "-c", "shared_buffers=64MB", "-c", "max_connections=60"])
        .arg("-c")
        .arg(format!("external_pid_file={}", folder.join("pid").display()))
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()?;
    Ok(child)
}
