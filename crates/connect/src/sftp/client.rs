//! Requests and answers over one SFTP channel; many may be on their way at once.

use super::packet::{Attrs, Reply, kind, put_text, read_version, status};
use crate::ssh::Session;
use bytes::{BufMut, Bytes, BytesMut};
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble};
use russh::client::Msg;
use russh::{ChannelMsg, ChannelReadHalf, ChannelWriteHalf};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use tokio::sync::{mpsc, oneshot};

/// Why a request was not fulfilled.
#[derive(Clone, Debug)]
pub(super) enum Refusal {
    /// The host says so, with code and message.
    Status(u32, String),
    /// The connection is gone.
    Lost,
    /// The host answers what was not asked.
    Nonsense,
}

impl Refusal {
    pub fn is(&self, wanted: u32) -> bool {
        matches!(self, Self::Status(code, _) if *code == wanted)
    }
}

type Answer = std::result::Result<Reply, Refusal>;
type Pending = Arc<Mutex<Option<HashMap<u32, oneshot::Sender<Reply>>>>>;

/// One channel.
pub(super) struct Client {
    queue: mpsc::Sender<Bytes>,
    pending: Pending,
    next: AtomicU32,
    extensions: Vec<String>,
    /// The most bytes that one request reads, and that one writes.
    pub portions: (usize, usize),
    _session: Arc<Session>,
}

impl Client {
    /// Begins to speak SFTP over a login.
    pub async fn begin(session: Arc<Session>) -> Result<Self> {
        let channel = session.sftp().await?;
        let (mut reading, writing) = channel.split();
        let mut incoming = BytesMut::new();
        let mut hello = BytesMut::new();
        hello.put_u32(5);
        hello.put_u8(kind::INIT);
        hello.put_u32(3);
        let strange = |because: String| {
            Trouble::outside("the host does not speak SFTP as it should")
                .at(session.shown().to_owned())
                .because(because)
                .hint(
                    "log in with sftp on a terminal and check what it prints; a greeting \
                       printed by the shell disturbs it",
                )
        };
        writing.data_bytes(hello.freeze()).await.map_err(|error| strange(error.to_string()))?;
        let first = loop {
            match next_packet(&mut incoming) {
                Ok(Some(packet)) => break packet,
                Err(()) => {
                    let begin = String::from_utf8_lossy(&incoming[..incoming.len().min(60)]);
                    return Err(strange(format!("it says: {begin}")));
                }
                Ok(None) => {}
            }
            if !more(&mut reading, &mut incoming).await {
                return Err(strange("it ended the connection".into()));
            }
        };
        let (_, extensions) =
            read_version(first).ok_or_else(|| strange("its first packet is another".into()))?;
        let pending: Pending = Arc::new(Mutex::new(Some(HashMap::new())));
        let (queue, outgoing) = mpsc::channel(64);
        tokio::spawn(read_all(reading, incoming, pending.clone()));
        tokio::spawn(write_all(writing, outgoing, pending.clone()));
        let mut client = Self {
            queue,
            pending,
            next: AtomicU32::new(1),
            extensions,
            // What every host takes.
            portions: (32 << 10, 32 << 10),
            _session: session,
        };
        client.learn_limits().await;
        Ok(client)
    }

    /// `limits@openssh.com`: how much one request may read and write.
    async fn learn_limits(&mut self) {
        if !self.has("limits@openssh.com") {
            return;
        }
        if let Ok(Reply::Extended(mut limits)) = self.extended("limits@openssh.com", |_| {}).await {
            let mut four = [0; 4];
            for limit in &mut four {
                *limit = super::packet::take_u64(&mut limits).unwrap_or(0);
            }
            let usable = |limit: u64| match limit {
                0 => 32 << 10,
                limit => usize::try_from(limit).unwrap_or(usize::MAX).clamp(4 << 10, 255 << 10),
            };
            self.portions = (usable(four[1]), usable(four[2]));
        }
    }

    /// Whether the host knows an extension.
    pub fn has(&self, extension: &str) -> bool {
        self.extensions.iter().any(|known| known == extension)
    }

    /// Sends a request; the answer can be awaited later.
    pub async fn send(
        &self,
        kind: u8,
        fill: impl FnOnce(&mut BytesMut),
    ) -> std::result::Result<oneshot::Receiver<Reply>, Refusal> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let mut packet = BytesMut::with_capacity(64);
        packet.put_u32(0);
        packet.put_u8(kind);
        packet.put_u32(number);
        fill(&mut packet);
        let length = packet.len() as u32 - 4;
        packet[..4].copy_from_slice(&length.to_be_bytes());
        let (answer, awaited) = oneshot::channel();
        match self.pending.lock() {
            Ok(mut pending) => match &mut *pending {
                Some(pending) => pending.insert(number, answer),
                None => return Err(Refusal::Lost),
            },
            Err(_) => return Err(Refusal::Lost),
        };
        self.queue.send(packet.freeze()).await.map_err(|_| Refusal::Lost)?;
        Ok(awaited)
    }

    /// Sends a request and awaits the answer.
    pub async fn ask(&self, kind: u8, fill: impl FnOnce(&mut BytesMut)) -> Answer {
        settled(self.send(kind, fill).await?).await
    }

    /// A request about a path.
    pub async fn ask_path(&self, kind: u8, path: &[u8]) -> Answer {
        self.ask(kind, |to| put_text(to, path)).await
    }

    /// A request that is answered by a status alone.
    pub async fn tell(
        &self,
        kind: u8,
        fill: impl FnOnce(&mut BytesMut),
    ) -> std::result::Result<(), Refusal> {
        done(self.ask(kind, fill).await)
    }

    /// A request of an extension.
    pub async fn extended(&self, name: &str, fill: impl FnOnce(&mut BytesMut)) -> Answer {
        self.ask(kind::EXTENDED, |to| {
            put_text(to, name.as_bytes());
            fill(to);
        })
        .await
    }

    /// Opens a file.
    pub async fn open(
        &self,
        path: &[u8],
        how: u32,
        attrs: &Attrs,
    ) -> std::result::Result<Bytes, Refusal> {
        let answer = self
            .ask(kind::OPEN, |to| {
                put_text(to, path);
                to.put_u32(how);
                attrs.put(to);
            })
            .await;
        handle(answer)
    }
}

/// The answer that is awaited.
pub(super) async fn settled(awaited: oneshot::Receiver<Reply>) -> Answer {
    match awaited.await {
        Ok(Reply::Status { code, message }) if code != status::OK => {
            Err(Refusal::Status(code, message))
        }
        Ok(reply) => Ok(reply),
        Err(_) => Err(Refusal::Lost),
    }
}

/// An answer that says that something was done.
pub(super) fn done(answer: Answer) -> std::result::Result<(), Refusal> {
    match answer? {
        Reply::Status { .. } => Ok(()),
        _ => Err(Refusal::Nonsense),
    }
}

/// An answer that gives a handle.
pub(super) fn handle(answer: Answer) -> std::result::Result<Bytes, Refusal> {
    match answer? {
        Reply::Handle(handle) => Ok(handle),
        _ => Err(Refusal::Nonsense),
    }
}

/// A whole packet, if there is one; an error if its length is absurd.
fn next_packet(incoming: &mut BytesMut) -> std::result::Result<Option<Bytes>, ()> {
    let Some(length) = incoming.first_chunk::<4>() else { return Ok(None) };
    let length = u32::from_be_bytes(*length) as usize;
    if length == 0 || length > limits::SFTP_PACKET {
        return Err(());
    }
    if incoming.len() < 4 + length {
        return Ok(None);
    }
    let mut packet = incoming.split_to(4 + length);
    Ok(Some(packet.split_off(4).freeze()))
}

async fn more(reading: &mut ChannelReadHalf, incoming: &mut BytesMut) -> bool {
    loop {
        match reading.wait().await {
            Some(ChannelMsg::Data { data }) => {
                incoming.extend_from_slice(&data);
                return true;
            }
            None | Some(ChannelMsg::Eof | ChannelMsg::Close) => return false,
            Some(_) => {}
        }
    }
}

async fn read_all(mut reading: ChannelReadHalf, mut incoming: BytesMut, pending: Pending) {
    'reading: loop {
        loop {
            let Ok(packet) = next_packet(&mut incoming) else { break 'reading };
            let Some(packet) = packet else { break };
            let Some((number, reply)) = Reply::read(packet) else { break 'reading };
            let asked = pending.lock().ok().and_then(|mut p| p.as_mut()?.remove(&number));
            match asked {
                Some(asked) => drop(asked.send(reply)),
                // Nobody has asked that.
                None => break 'reading,
            }
        }
        if !more(&mut reading, &mut incoming).await {
            break;
        }
    }
    give_up(&pending);
}

async fn write_all(
    writing: ChannelWriteHalf<Msg>,
    mut outgoing: mpsc::Receiver<Bytes>,
    pending: Pending,
) {
    while let Some(packet) = outgoing.recv().await {
        if writing.data_bytes(packet).await.is_err() {
            break;
        }
    }
    give_up(&pending);
    let _ = writing.close().await;
}

/// Everybody who waits learns that the connection is gone.
fn give_up(pending: &Pending) {
    if let Ok(mut pending) = pending.lock() {
        *pending = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_are_cut_whatever_the_portions_in_which_they_come() {
        let mut stream = BytesMut::new();
        for text in [&b"one"[..], b"second", b"3"] {
            put_text(&mut stream, text);
        }
        for step in 1..=stream.len() {
            let mut incoming = BytesMut::new();
            let mut found = Vec::new();
            for portion in stream.chunks(step) {
                incoming.extend_from_slice(portion);
                while let Some(packet) = next_packet(&mut incoming).unwrap() {
                    found.push(packet.to_vec());
                }
            }
            assert_eq!(found, [b"one".to_vec(), b"second".to_vec(), b"3".to_vec()]);
        }
    }

    #[test]
    fn an_absurd_length_is_no_packet() {
        assert!(next_packet(&mut BytesMut::from(&b"Welcome to this host"[..])).is_err());
        assert!(next_packet(&mut BytesMut::from(&[0, 0, 0, 0][..])).is_err());
    }
}
