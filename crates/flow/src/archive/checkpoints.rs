//! Notes up to where an unfinished archive is whole. Writing it through to disk takes as long
//! as the disk likes, so a thread of its own does it while the archive grows.

use super::partial::Checkpoint;
use std::fs::File;
use std::io::Write;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;

/// The notes of one archive.
pub(super) struct Checkpoints {
    send: Option<Sender<Vec<Checkpoint>>>,
    thread: Option<JoinHandle<std::io::Result<()>>>,
}

impl Checkpoints {
    /// Notes in `checkpoints` what is written through in `archive`.
    pub fn of(archive: File, checkpoints: File) -> Self {
        let (send, receive) = channel();
        let thread = std::thread::spawn(move || note(&archive, checkpoints, &receive));
        Self { send: Some(send), thread: Some(thread) }
    }

    /// Notes these as soon as all that the archive holds by now is on disk.
    pub fn note(&mut self, checkpoints: Vec<Checkpoint>) -> std::io::Result<()> {
        match &self.send {
            Some(send) if send.send(checkpoints).is_ok() => Ok(()),
            _ => self.close(),
        }
    }

    /// Waits until all is noted.
    pub fn close(&mut self) -> std::io::Result<()> {
        self.send = None;
        let stopped = |_| std::io::Error::other("the thread that notes checkpoints has stopped");
        self.thread.take().map_or(Ok(()), |thread| thread.join().map_err(stopped)?)
    }
}

impl Drop for Checkpoints {
    fn drop(&mut self) {
        // Whoever wants to know whether it went well has closed it.
        let _ = self.close();
    }
}

fn note(
    archive: &File,
    mut file: File,
    receive: &Receiver<Vec<Checkpoint>>,
) -> std::io::Result<()> {
    while let Ok(mut checkpoints) = receive.recv() {
        // What has come in the meantime is written through with it.
        checkpoints.extend(receive.try_iter().flatten());
        archive.sync_data()?;
        let mut lines = Vec::new();
        for checkpoint in checkpoints {
            serde_json::to_writer(&mut lines, &checkpoint)?;
            lines.push(b'\n');
        }
        file.write_all(&lines)?;
    }
    Ok(())
}
