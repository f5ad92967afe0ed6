//! The steps of a file tree, in commands of FTP.

use super::FtpAddress;
use super::listing::{Line, Listed, of_facts, of_line, written};
use super::pool::{CONNECTIONS, Connection, Pool, as_bytes, as_text, is_lost, readable};
use crate::remote::{Carries, Doing, FoundKind, Metadata, RemoteEntry, Tree};
use crate::runtime::runtime;
use bytes::{Bytes, BytesMut};
use fernweh_core::limits;
use fernweh_ports::Stamp;
use fernweh_ports::{Result, Trouble};
use std::collections::HashMap;
use std::io::ErrorKind;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use suppaftp::{FtpError, Status};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::sync::mpsc;

/// A host's files.
pub struct FtpTree {
    pool: Pool,
    /// The host lists facts.
    facts: bool,
    /// The host tells the size of a file when it is asked.
    sizes: AtomicBool,
    /// The command that sets times.
    sets_times: Option<&'static str>,
    modes: AtomicBool,
    times: AtomicBool,
    /// Where the links lead that were listed.
    links: Mutex<HashMap<Vec<u8>, Vec<u8>>>,
}

impl FtpTree {
    /// Logs in.
    pub fn open(address: FtpAddress) -> Result<Self> {
        let pool = Pool::new(address)?;
        let features = runtime().block_on(crate::stop::unless_wanted(async {
            let mut connection = pool.connection().await?;
            // A host that does not tell has none.
            let features = connection.ftp.feat().await.unwrap_or_default();
            connection.back();
            Ok(features)
        }))?;
        let has = |name: &str| features.keys().any(|key| key.eq_ignore_ascii_case(name));
        let facts = has("MLST") || has("MLSD");
        let sets_times = match (has("MFMT"), has("MDTM")) {
            (true, _) => Some("MFMT"),
            (false, true) => Some("MDTM"),
            _ => None,
        };
        Ok(Self {
            pool,
            facts,
            sizes: AtomicBool::new(true),
            sets_times,
            modes: AtomicBool::new(true),
            times: AtomicBool::new(sets_times.is_some()),
            links: Mutex::default(),
        })
    }

    fn trouble(&self, what: &str, path: &[u8], error: &FtpError) -> Trouble {
        let place = format!("{}{}", self.pool.shown(), String::from_utf8_lossy(path));
        let trouble = Trouble::outside(what).at(place).because(readable(error));
        let status = match error {
            FtpError::UnexpectedResponse(response) => Some(response.status),
            _ => None,
        };
        if matches!(error, FtpError::ConnectionError(error) if error.kind() == ErrorKind::FileTooLarge)
        {
            return trouble
                .because("its listing does not end")
                .hint("leave this folder out with --leave-out, if it is not the site's");
        }
        match status {
            Some(Status::ExceededStorage | Status::RequestedActionNotTaken) => trouble
                .because(format!("no room left on the host ({})", readable(error)))
                .hint("make room there, or choose another host"),
            Some(Status::FileUnavailable | Status::BadFilename) => {
                trouble.hint("check the path, its owner and its permissions on the host")
            }
            _ if is_lost(error) => trouble
                .because(format!("the connection to the host is lost ({})", readable(error)))
                .hint("type the same command again to go on")
                .lost(true),
            _ => trouble,
        }
    }

    /// Runs one step on a connection, and gives the connection back if it is still good.
    async fn step<T>(
        &self,
        what: &str,
        path: &[u8],
        step: impl AsyncFnOnce(&mut Connection<'_>) -> std::result::Result<T, FtpError>,
    ) -> Result<T> {
        let mut connection = self.pool.connection().await?;
        match step(&mut connection).await {
            Ok(value) => {
                connection.back();
                Ok(value)
            }
            Err(error) => {
                if is_lost(&error) {
                    connection.broken()
                } else {
                    connection.back()
                }
                Err(self.trouble(what, path, &error))
            }
        }
    }

    /// What the host lists and nobody understands may be a file of the site: it is not passed over.
    fn unknown_line(&self, folder: &[u8], text: &str) -> Trouble {
        Trouble::outside("cannot list a folder on the host")
            .at(format!("{}{}", self.pool.shown(), String::from_utf8_lossy(folder)))
            .because(format!("a line of its listing has an unknown form: {text}"))
            .hint("use SFTP if the host offers it, or ask the host for listings by MLSD (RFC 3659)")
    }

    async fn entries(&self, folder: &[u8]) -> Result<Vec<Listed>> {
        let facts = self.facts;
        let path = as_text(folder);
        let lines = self
            .step("cannot list a folder on the host", folder, async |connection| {
                // A folder that is not there is an empty listing for many hosts.
                connection.ftp.cwd(&path).await?;
                let (command, read): (&str, fn(&str) -> Line) = match facts {
                    true => ("MLSD", of_facts),
                    false => ("LIST -a", of_line),
                };
                let wanted = [Status::AboutToSend, Status::AlreadyOpen];
                let (_, mut stream) = connection.ftp.custom_data_command(command, &wanted).await?;
                let mut text = Vec::new();
                let most = (limits::FTP_LISTING * 64) as u64;
                let came = (&mut stream).take(most).read_to_end(&mut text).await;
                came.map_err(FtpError::ConnectionError)?;
                if text.len() as u64 == most {
                    return Err(FtpError::ConnectionError(ErrorKind::FileTooLarge.into()));
                }
                stream.finish().await?;
                let lines = text.split(|byte| *byte == b'\n');
                let lines = lines.map(|line| line.strip_suffix(b"\r").unwrap_or(line));
                Ok(lines.map(|line| read(&as_text(line))).collect::<Vec<_>>())
            })
            .await?;
        let mut listed = Vec::with_capacity(lines.len());
        for line in lines {
            match line {
                Line::Entry(mut entry) => {
                    let path = [folder, b"/", &entry.0.name].concat();
                    if entry.0.mtime.is_none() && matches!(entry.0.kind, FoundKind::File(_)) {
                        entry.0.mtime = self.moment_of(&path).await?;
                    }
                    listed.push(entry);
                }
                Line::Nothing => {}
                Line::Unknown(text) => return Err(self.unknown_line(folder, &text)),
            }
        }
        if let Ok(mut links) = self.links.lock() {
            for (found, link) in &listed {
                if let Some(to) = link {
                    links.insert(
                        [folder.strip_suffix(b"/").unwrap_or(folder), b"/", &found.name].concat(),
                        to.clone(),
                    );
                }
            }
        }
        Ok(listed)
    }

    /// Whether a path is a folder; a path that ends in `/.` is one through links.
    async fn is_folder(&self, path: &[u8]) -> Result<bool> {
        let text =
            as_text(path.strip_suffix(b"/.").filter(|rest| !rest.is_empty()).unwrap_or(path));
        let mut connection = self.pool.connection().await?;
        let entered = connection.ftp.cwd(&text).await;
        match entered {
            Ok(()) => {
                connection.back();
                Ok(true)
            }
            Err(error) if !is_lost(&error) => {
                connection.back();
                Ok(false)
            }
            Err(error) => {
                connection.broken();
                Err(self.trouble("cannot look at a folder", path, &error))
            }
        }
    }

    /// When a file was changed, in universal time (RFC 3659, section 3), if the host says it.
    async fn moment_of(&self, path: &[u8]) -> Result<Option<i64>> {
        self.step("cannot look at a file on the host", path, async |connection| {
            match connection.ftp.mdtm(&as_text(path)).await {
                Ok(moment) => Ok(Some(moment.and_utc().timestamp())),
                Err(FtpError::UnexpectedResponse(_)) => Ok(None),
                Err(error) => Err(error),
            }
        })
        .await
    }

    async fn put_properties(
        &self,
        connection: &mut Connection<'_>,
        path: &str,
        metadata: Metadata,
    ) -> std::result::Result<(), FtpError> {
        let done = [Status::File, Status::CommandOk, Status::RequestedFileActionOk];
        if let (Some(mode), true) = (metadata.mode, self.modes.load(Ordering::Relaxed)) {
            let command = format!("SITE CHMOD {mode:04o} {path}");
            self.unless_unknown(&self.modes, connection.ftp.custom_command(command, &done).await)?;
        }
        if let (Some(time), Some(word), true) =
            (metadata.mtime, self.sets_times, self.times.load(Ordering::Relaxed))
        {
            let command = format!("{word} {} {path}", written(time.max(0)));
            self.unless_unknown(&self.times, connection.ftp.custom_command(command, &done).await)?;
        }
        Ok(())
    }

    /// A property that the host does not know, or refuses, is not asked for again.
    fn unless_unknown<T>(
        &self,
        known: &AtomicBool,
        answer: std::result::Result<T, FtpError>,
    ) -> std::result::Result<(), FtpError> {
        match answer {
            Ok(_) => Ok(()),
            Err(error) if is_lost(&error) => Err(error),
            Err(_) => {
                known.store(false, Ordering::Relaxed);
                Ok(())
            }
        }
    }
}

async fn read_file(
    connection: &mut Connection<'_>,
    path: &str,
    size: u64,
    to: mpsc::Sender<Bytes>,
) -> std::result::Result<(), FtpError> {
    let mut stream = connection.ftp.retr_as_stream(path).await?;
    let mut left = size;
    loop {
        let mut portion = BytesMut::with_capacity(128 << 10);
        let length = stream.read_buf(&mut portion).await.map_err(FtpError::ConnectionError)?;
        if length == 0 {
            break;
        }
        let wanted = usize::try_from(left).unwrap_or(usize::MAX).min(length);
        left -= wanted as u64;
        portion.truncate(wanted);
        let gone = wanted > 0 && to.send(portion.freeze()).await.is_err();
        if gone || wanted < length {
            // Nobody wants the rest: this connection cannot be used further.
            return Err(FtpError::BadResponse);
        }
    }
    stream.finish().await
}

async fn write_file(
    connection: &mut Connection<'_>,
    path: &str,
    at: u64,
    from: &mut mpsc::Receiver<Bytes>,
) -> std::result::Result<u64, FtpError> {
    connection.ftp.resume_transfer(usize::try_from(at).unwrap_or(usize::MAX)).await?;
    let mut stream = connection.ftp.put_with_stream(path).await?;
    let mut sent = 0;
    while let Some(portion) = from.recv().await {
        sent += portion.len() as u64;
        if stream.write_all(&portion).await.is_err() {
            // The reason comes on the other connection.
            break;
        }
    }
    stream.finish().await?;
    Ok(sent)
}

/// What a host answers when it is asked for the size of a file.
enum Told {
    Size(u64),
    /// There is no such file.
    Nothing,
    /// The host does not know the question.
    Unknown,
}

impl Tree for FtpTree {
    fn shown(&self) -> String {
        self.pool.shown()
    }

    fn connections(&self) -> usize {
        CONNECTIONS
    }

    fn carries(&self) -> Carries {
        let (modes, times) =
            (self.modes.load(Ordering::Relaxed), self.times.load(Ordering::Relaxed));
        Carries { links: false, modes, times, exact_times: self.facts }
    }

    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>> {
        Box::pin(async move {
            Ok(self.entries(folder).await?.into_iter().map(|(found, _)| found).collect())
        })
    }

    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        Box::pin(async move {
            let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
            if name.is_empty() || name == b"." {
                let folder = self.is_folder(path).await?;
                let kind = FoundKind::Folder;
                let owner = (0, 0);
                return Ok(folder.then_some(RemoteEntry {
                    name: Vec::new(),
                    kind,
                    mode: None,
                    mtime: None,
                    owner,
                }));
            }
            let parent = &path[..path.len() - name.len() - 1];
            let parent = if parent.is_empty() { b"/" } else { parent };
            if !self.is_folder(parent).await? {
                return Ok(None);
            }
            Ok(self
                .entries(parent)
                .await?
                .into_iter()
                .map(|(found, _)| found)
                .find(|found| found.name == name))
        })
    }

    fn fetch<'a>(&'a self, path: &'a [u8], size: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        Box::pin(async move {
            let mut connection = self.pool.connection().await?;
            match read_file(&mut connection, &as_text(path), size, to).await {
                Ok(()) => connection.back(),
                Err(FtpError::BadResponse) => connection.broken(),
                Err(error) => {
                    if is_lost(&error) {
                        connection.broken()
                    } else {
                        connection.back()
                    }
                    return Err(self.trouble("cannot read a file on the host", path, &error));
                }
            }
            Ok(())
        })
    }

    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        mut from: mpsc::Receiver<Bytes>,
        metadata: Metadata,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            let sent = self
                .step("cannot write a file on the host", path, async |connection| {
                    let name = as_text(path);
                    let sent = write_file(connection, &name, at, &mut from).await?;
                    self.put_properties(connection, &name, metadata).await?;
                    Ok(sent)
                })
                .await?;
            // Some hosts say that all is well when the disk is full or a limit was met.
            match self.stamp(path).await? {
                Some(there) if there.size == at + sent => Ok(()),
                there => Err(Trouble::outside("cannot write a file on the host")
                    .at(format!("{}{}", self.pool.shown(), String::from_utf8_lossy(path)))
                    .because(format!(
                        "{} bytes were sent, and the host has {}",
                        at + sent,
                        there.map_or(0, |there| there.size)
                    ))
                    .hint("check whether the host has room, and whether it limits file sizes")),
            }
        })
    }

    fn stamp<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<Stamp>> {
        Box::pin(async move {
            if !self.sizes.load(Ordering::Relaxed) {
                return Ok(self.look(path).await?.and_then(|found| found.stamp()));
            }
            let name = as_text(path);
            let told =
                self.step("cannot look at a file on the host", path, async |connection| {
                    match connection.ftp.size(&name).await {
                        Ok(size) => Ok(Told::Size(size as u64)),
                        Err(FtpError::UnexpectedResponse(answer)) => Ok(match answer.status {
                            Status::FileUnavailable => Told::Nothing,
                            _ => Told::Unknown,
                        }),
                        Err(error) => Err(error),
                    }
                })
                .await?;
            match told {
                Told::Nothing => Ok(None),
                Told::Unknown => {
                    self.sizes.store(false, Ordering::Relaxed);
                    Ok(self.look(path).await?.and_then(|found| found.stamp()))
                }
                Told::Size(size) => {
                    let mtime = if self.facts { self.moment_of(path).await? } else { None };
                    let mtime = mtime.map(|seconds| (seconds, 0));
                    Ok(Some(Stamp { size, mtime, change: None }))
                }
            }
        })
    }

    fn set_metadata<'a>(&'a self, path: &'a [u8], metadata: Metadata) -> Doing<'a, ()> {
        Box::pin(async move {
            self.step(
                "cannot set the properties of an entry on the host",
                path,
                async |connection| self.put_properties(connection, &as_text(path), metadata).await,
            )
            .await
        })
    }

    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.step("cannot make a folder on the host", path, async |connection| {
                let made = [Status::PathCreated, Status::RequestedFileActionOk];
                connection
                    .ftp
                    .custom_command(format!("MKD {}", as_text(path)), &made)
                    .await
                    .map(drop)
            })
            .await
        })
    }

    fn make_link<'a>(
        &'a self,
        path: &'a [u8],
        _target: &'a [u8],
        _mtime: Option<i64>,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            Err(Trouble::outside("FTP cannot make links")
                .at(String::from_utf8_lossy(path).into_owned()))
        })
    }

    fn read_link<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move {
            let known = self.links.lock().ok().and_then(|links| links.get(path).cloned());
            known.ok_or_else(|| {
                Trouble::outside("FTP does not say where this link leads")
                    .at(String::from_utf8_lossy(path).into_owned())
            })
        })
    }

    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], _over: bool) -> Doing<'a, ()> {
        Box::pin(async move {
            self.step("cannot rename an entry on the host", from, async |connection| {
                connection.ftp.rename(as_text(from), as_text(to)).await
            })
            .await
        })
    }

    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.step("cannot remove a file on the host", path, async |connection| {
                connection.ftp.rm(as_text(path)).await
            })
            .await
        })
    }

    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.step("cannot remove a folder on the host", path, async |connection| {
                connection.ftp.rmdir(as_text(path)).await
            })
            .await
        })
    }

    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move {
            self.step("cannot find a folder", path, async |connection| {
                Ok(as_bytes(&connection.ftp.pwd().await?))
            })
            .await
        })
    }

    fn free<'a>(&'a self, _path: &'a [u8]) -> Doing<'a, Option<u64>> {
        Box::pin(async { Ok(None) })
    }
}
