//! The steps of a file tree, in requests of SFTP.

use super::client::{Client, Refusal, done, handle, settled};
use super::packet::{Attrs, Reply, kind, open, put_text, status};
use crate::remote::{Carries, Doing, FoundKind, Metadata, RemoteEntry, Tree};
use crate::runtime::runtime;
use crate::ssh::Session;
use bytes::{BufMut, Bytes};
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble};
use std::collections::VecDeque;
use std::sync::Arc;
use tokio::sync::mpsc;

/// Requests that one transfer has under way.
const UNDER_WAY: usize = 16;

/// A host's files.
pub struct SftpTree {
    client: Client,
    shown: String,
}

impl SftpTree {
    /// Begins to transfer files over a login.
    pub fn open(session: Arc<Session>) -> Result<Self> {
        runtime().block_on(Self::begin(session))
    }

    pub(crate) async fn begin(session: Arc<Session>) -> Result<Self> {
        let shown = session.shown().replacen("ssh://", "sftp://", 1);
        let client = Client::begin(session).await?;
        Ok(Self { client, shown })
    }

    fn trouble(&self, what: &str, path: &[u8], refusal: &Refusal) -> Trouble {
        let place = format!("{}{}", self.shown, String::from_utf8_lossy(path));
        let trouble = Trouble::outside(what).at(place);
        match refusal {
            Refusal::Lost => trouble
                .because("the connection to the host is lost")
                .hint("type the same command again to go on")
                .lost(true),
            Refusal::Nonsense => trouble
                .because("the host gave an unexpected answer")
                .hint("try again; if it stays so, the host's SFTP is broken"),
            Refusal::Status(status::NO_SUCH_FILE, _) => {
                trouble.because("there is no such file or folder").hint("check the path")
            }
            Refusal::Status(status::PERMISSION_DENIED, _) => {
                trouble.because("permission denied").hint("check owner and permissions there")
            }
            Refusal::Status(status::UNSUPPORTED, _) => {
                trouble.because("the host's SFTP cannot do this")
            }
            Refusal::Status(_, message) => trouble
                .because(format!("the host says: {message}"))
                .hint("check room and rights on the host's disk"),
        }
    }

    async fn stat(&self, kind: u8, path: &[u8]) -> Result<Option<Attrs>> {
        match self.client.ask_path(kind, path).await {
            Ok(Reply::Attrs(attrs)) => Ok(Some(attrs)),
            Ok(_) => Err(self.trouble("cannot look at a file", path, &Refusal::Nonsense)),
            Err(refusal) if refusal.is(status::NO_SUCH_FILE) => Ok(None),
            Err(refusal) => Err(self.trouble("cannot look at a file", path, &refusal)),
        }
    }

    /// Where an entry of a listing does not say what it is, it is looked at.
    async fn told(&self, folder: &[u8], name: Bytes, attrs: Attrs) -> Result<Option<RemoteEntry>> {
        if attrs.mode.is_some() && attrs.size.is_some() {
            return Ok(Some(found(name.to_vec(), &attrs)));
        }
        let path = [folder, b"/", &name].concat();
        Ok(self.stat(kind::LSTAT, &path).await?.map(|attrs| found(name.to_vec(), &attrs)))
    }

    async fn read_folder(
        &self,
        folder: &[u8],
    ) -> std::result::Result<Vec<(Bytes, Attrs)>, Refusal> {
        let handle = handle(self.client.ask_path(kind::OPENDIR, folder).await)?;
        let mut names = Vec::new();
        let end = loop {
            match self.client.ask(kind::READDIR, |to| put_text(to, &handle)).await {
                Ok(Reply::Names(more)) if more.is_empty() => break Ok(names),
                Ok(Reply::Names(more)) if names.len() < limits::SFTP_LISTING => names.extend(more),
                Ok(_) => break Err(Refusal::Nonsense),
                Err(refusal) if refusal.is(status::EOF) => break Ok(names),
                Err(refusal) => break Err(refusal),
            }
        };
        // Nobody needs to wait for that.
        let _ = self.client.send(kind::CLOSE, |to| put_text(to, &handle)).await;
        end
    }

    async fn read_file(
        &self,
        path: &[u8],
        size: u64,
        to: mpsc::Sender<Bytes>,
    ) -> std::result::Result<(), Refusal> {
        let handle = self.client.open(path, open::READ, &Attrs::default()).await?;
        let read = self.read_portions(&handle, size, to).await;
        let _ = self.client.send(kind::CLOSE, |to| put_text(to, &handle)).await;
        read
    }

    async fn read_portions(
        &self,
        handle: &Bytes,
        size: u64,
        to: mpsc::Sender<Bytes>,
    ) -> std::result::Result<(), Refusal> {
        let portion = self.client.portions.0 as u64;
        let ask = |at: u64, length: u64| {
            self.client.send(kind::READ, move |to| {
                put_text(to, handle);
                to.put_u64(at);
                to.put_u32(length as u32);
            })
        };
        let mut under_way = VecDeque::new();
        let mut next = 0;
        while next < size || !under_way.is_empty() {
            while next < size && under_way.len() < UNDER_WAY {
                let length = portion.min(size - next);
                under_way.push_back((next, length, ask(next, length).await?));
                next += length;
            }
            let Some((at, length, awaited)) = under_way.pop_front() else { break };
            match settled(awaited).await {
                Ok(Reply::Data(data)) if data.is_empty() || data.len() as u64 > length => {
                    return Err(Refusal::Nonsense);
                }
                Ok(Reply::Data(data)) => {
                    let came = data.len() as u64;
                    if came < length {
                        // Less than asked: the rest comes next.
                        let rest = ask(at + came, length - came).await?;
                        under_way.push_front((at + came, length - came, rest));
                    }
                    if to.send(data).await.is_err() {
                        return Ok(());
                    }
                }
                // The file has become shorter.
                Err(refusal) if refusal.is(status::EOF) => return Ok(()),
                Err(refusal) => return Err(refusal),
                Ok(_) => return Err(Refusal::Nonsense),
            }
        }
        Ok(())
    }

    async fn write_file(
        &self,
        path: &[u8],
        at: u64,
        mut from: mpsc::Receiver<Bytes>,
        metadata: Metadata,
    ) -> std::result::Result<(), Refusal> {
        let how = if at == 0 { open::WRITE | open::CREATE | open::EXCLUSIVE } else { open::WRITE };
        let private = Attrs { mode: Some(0o600), ..Attrs::default() };
        let handle = self.client.open(path, how, &private).await?;
        let mut under_way = VecDeque::new();
        let mut next = at;
        while let Some(mut data) = from.recv().await {
            while !data.is_empty() {
                let portion = data.split_to(data.len().min(self.client.portions.1));
                let length = portion.len() as u64;
                let sent = self
                    .client
                    .send(kind::WRITE, |to| {
                        to.reserve(portion.len() + handle.len() + 16);
                        put_text(to, &handle);
                        to.put_u64(next);
                        put_text(to, &portion);
                    })
                    .await?;
                next += length;
                under_way.push_back(sent);
                if under_way.len() >= UNDER_WAY
                    && let Some(first) = under_way.pop_front()
                {
                    done(settled(first).await)?;
                }
            }
        }
        let attrs = attrs(metadata);
        if attrs != Attrs::default() {
            let dressed = self.client.send(kind::FSETSTAT, |to| {
                put_text(to, &handle);
                attrs.put(to);
            });
            under_way.push_back(dressed.await?);
        }
        under_way.push_back(self.client.send(kind::CLOSE, |to| put_text(to, &handle)).await?);
        for awaited in under_way {
            done(settled(awaited).await)?;
        }
        Ok(())
    }

    /// A host whose disk is full says nothing but that it failed.
    async fn write_trouble(&self, path: &[u8], refusal: &Refusal) -> Trouble {
        let trouble = self.trouble("cannot write a file on the host", path, refusal);
        let folder =
            path.iter().rposition(|byte| *byte == b'/').map_or(path, |at| &path[..at.max(1)]);
        let full = refusal.is(status::FAILURE)
            && matches!(self.free(folder).await, Ok(Some(free)) if free < 1 << 20);
        match full {
            true => {
                let mut full = trouble.because("no room left on the host's disk");
                full.hint = Some("make room there, or choose another host".into());
                full
            }
            false => trouble,
        }
    }

    fn step<'a>(
        &'a self,
        what: &'static str,
        path: &'a [u8],
        step: impl Future<Output = std::result::Result<(), Refusal>> + Send + 'a,
    ) -> Doing<'a, ()> {
        Box::pin(async move { step.await.map_err(|refusal| self.trouble(what, path, &refusal)) })
    }
}

fn attrs(metadata: Metadata) -> Attrs {
    let times = metadata.mtime.map(|time| {
        let time = u32::try_from(time.max(0)).unwrap_or(u32::MAX);
        (time, time)
    });
    Attrs { mode: metadata.mode, times, ..Attrs::default() }
}

fn found(name: Vec<u8>, attrs: &Attrs) -> RemoteEntry {
    let kind = match attrs.mode.unwrap_or(0) & 0o170000 {
        0o040000 => FoundKind::Folder,
        0o100000 | 0 => FoundKind::File(attrs.size.unwrap_or(0)),
        0o120000 => FoundKind::Link,
        _ => FoundKind::Other,
    };
    let owner = attrs.owner.map_or((0, 0), |(user, group)| (user.into(), group.into()));
    let mtime = attrs.times.map(|(_, change)| change.into());
    RemoteEntry { name, kind, mode: attrs.mode.map(|mode| mode & 0o7777), mtime, owner }
}

impl Tree for SftpTree {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn connections(&self) -> usize {
        32
    }

    fn carries(&self) -> Carries {
        Carries { links: true, modes: true, times: true, exact_times: true }
    }

    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>> {
        Box::pin(async move {
            let names = self.read_folder(folder).await.map_err(|refusal| {
                self.trouble("cannot list a folder on the host", folder, &refusal)
            })?;
            let mut entries = Vec::with_capacity(names.len());
            for (name, attrs) in names {
                entries.extend(self.told(folder, name, attrs).await?);
            }
            Ok(entries)
        })
    }

    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        Box::pin(async move {
            Ok(self.stat(kind::LSTAT, path).await?.map(|attrs| found(Vec::new(), &attrs)))
        })
    }

    fn fetch<'a>(&'a self, path: &'a [u8], size: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        self.step("cannot read a file on the host", path, self.read_file(path, size, to))
    }

    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        from: mpsc::Receiver<Bytes>,
        metadata: Metadata,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            match self.write_file(path, at, from, metadata).await {
                Ok(()) => Ok(()),
                Err(refusal) => Err(self.write_trouble(path, &refusal).await),
            }
        })
    }

    fn set_metadata<'a>(&'a self, path: &'a [u8], metadata: Metadata) -> Doing<'a, ()> {
        let step = self.client.tell(kind::SETSTAT, move |to| {
            put_text(to, path);
            attrs(metadata).put(to);
        });
        self.step("cannot set the properties of an entry on the host", path, step)
    }

    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            let made = self.client.tell(kind::MKDIR, |to| {
                put_text(to, path);
                Attrs { mode: Some(0o700), ..Attrs::default() }.put(to);
            });
            match made.await {
                Ok(()) => Ok(()),
                Err(refusal) => Err(self.write_trouble(path, &refusal).await),
            }
        })
    }

    fn make_link<'a>(
        &'a self,
        path: &'a [u8],
        target: &'a [u8],
        mtime: Option<i64>,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            // OpenSSH takes the two the other way round than the draft says, and the others
            // have followed it; the look afterwards tells.
            let made = self.client.tell(kind::SYMLINK, |to| {
                put_text(to, target);
                put_text(to, path);
            });
            made.await.map_err(|refusal| {
                self.trouble("cannot make a link on the host", path, &refusal)
            })?;
            match self.read_link(path).await {
                Ok(there) if there == target => {}
                Err(trouble) if trouble.lost => return Err(trouble),
                _ => {
                    let what = "cannot make a link on the host";
                    return Err(self.trouble(what, path, &Refusal::Nonsense));
                }
            }
            let extension = "lsetstat@openssh.com";
            if mtime.is_some() && self.client.has(extension) {
                // The time of a link is worth no failure.
                let fill = |to: &mut bytes::BytesMut| {
                    put_text(to, path);
                    attrs(Metadata { mode: None, mtime }).put(to);
                };
                let _ = self.client.extended(extension, fill).await;
            }
            Ok(())
        })
    }

    fn read_link<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move {
            match self.client.ask_path(kind::READLINK, path).await {
                Ok(Reply::Names(names)) if names.len() == 1 => Ok(names[0].0.to_vec()),
                Ok(_) => Err(self.trouble("cannot read a link", path, &Refusal::Nonsense)),
                Err(refusal) => Err(self.trouble("cannot read a link", path, &refusal)),
            }
        })
    }

    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], over: bool) -> Doing<'a, ()> {
        let extension = "posix-rename@openssh.com";
        self.step("cannot rename an entry on the host", from, async move {
            let fill = |packet: &mut bytes::BytesMut| {
                put_text(packet, from);
                put_text(packet, to);
            };
            if over && self.client.has(extension) {
                return done(self.client.extended(extension, fill).await);
            }
            match self.client.tell(kind::RENAME, fill).await {
                Err(refusal) if over && refusal.is(status::FAILURE) => {
                    // Without the extension there is a moment without the file.
                    self.client.tell(kind::REMOVE, |packet| put_text(packet, to)).await?;
                    self.client.tell(kind::RENAME, fill).await
                }
                other => other,
            }
        })
    }

    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        let step = self.client.tell(kind::REMOVE, move |to| put_text(to, path));
        self.step("cannot remove a file on the host", path, step)
    }

    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        let step = self.client.tell(kind::RMDIR, move |to| put_text(to, path));
        self.step("cannot remove a folder on the host", path, step)
    }

    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move {
            match self.client.ask_path(kind::REALPATH, path).await {
                Ok(Reply::Names(names)) if names.len() == 1 => Ok(names[0].0.to_vec()),
                Ok(_) => Err(self.trouble("cannot find a folder", path, &Refusal::Nonsense)),
                Err(refusal) => Err(self.trouble("cannot find a folder", path, &refusal)),
            }
        })
    }

    fn free<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<u64>> {
        Box::pin(async move {
            let extension = "statvfs@openssh.com";
            if !self.client.has(extension) {
                return Ok(None);
            }
            let answer = self.client.extended(extension, |to| put_text(to, path)).await;
            let Ok(Reply::Extended(mut numbers)) = answer else { return Ok(None) };
            let mut next = || super::packet::take_u64(&mut numbers).unwrap_or(0);
            // Block size, fragment size, blocks, free, available.
            let (_, fragment, _, _, available) = (next(), next(), next(), next(), next());
            Ok(Some(available.saturating_mul(fragment)))
        })
    }
}
