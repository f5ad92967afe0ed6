//! Fernweh on the other host, where forwarding is forbidden and a shell is not: it copies
//! itself into a private folder, hands connections on there, and is removed.

use super::TunnelEnd;
use crate::remote::{FoundKind, Metadata, Tree};
use crate::sftp::SftpTree;
use crate::ssh::Session;
use fernweh_ports::{Result, Trouble};
use std::path::Path;
use std::sync::Arc;
use tokio::sync::mpsc;

/// A copy of this program on another host.
pub(super) struct Copied {
    /// Its folder there.
    pub folder: String,
}

/// Removes copies of this login's that are an hour old and of which no program runs.
const SWEEP: &str = "for d in \"${TMPDIR:-/tmp}\"/fernweh-????????; do \
     [ -O \"$d\" ] && [ -f \"$d/fernweh\" ] && [ ! -L \"$d\" ] || continue; \
     [ -n \"$(find \"$d\" -maxdepth 0 -mmin +60)\" ] || continue; used=; \
     for p in /proc/[0-9]*/exe; do case \"$(readlink \"$p\" 2>/dev/null)\" in \"$d\"/*) used=1;; esac; done; \
     [ -n \"$used\" ] || rm -rf \"$d\"; done";

impl Copied {
    /// Copies the program at `own` to the host, and lets it say that it runs there.
    pub async fn make(session: &Arc<Session>, own: &Path) -> Result<Self> {
        let cannot =
            || Trouble::outside("Fernweh cannot run on the host").at(session.shown().to_owned());
        // What a run that was killed has left goes now.
        let _ = session.ran(SWEEP).await;
        let made =
            session.ran("umask 077 && mktemp -d \"${TMPDIR:-/tmp}/fernweh-XXXXXXXX\"").await?;
        let folder = made.printed.trim().to_owned();
        if made.status != Some(0) || !folder.starts_with('/') {
            return Err(cannot()
                .because(format!("no folder can be created there: {}", made.printed.trim()))
                .hint("ask the host whether this login has a shell and room in /tmp"));
        }
        let copied = Self { folder };
        match copied.fill(session, own).await {
            Ok(()) => Ok(copied),
            Err(trouble) => {
                copied.remove(session).await;
                Err(trouble)
            }
        }
    }

    async fn fill(&self, session: &Arc<Session>, own: &Path) -> Result<()> {
        let cannot = |because: String| {
            Trouble::outside("Fernweh cannot run on the host")
                .at(session.shown().to_owned())
                .because(because)
                .hint(
                    "the host may have another processor, or forbid programs there; ask it whether \
                     its database can be reached from outside",
                )
        };
        let tree = SftpTree::begin(session.clone()).await?;
        let program = format!("{}/fernweh", self.folder).into_bytes();
        let own = tokio::fs::File::open(own).await.map_err(|error| cannot(error.to_string()))?;
        let (to, from) = mpsc::channel(8);
        let reading = async move {
            use tokio::io::AsyncReadExt;
            let mut own = own;
            loop {
                let mut portion = bytes::BytesMut::with_capacity(256 << 10);
                match own.read_buf(&mut portion).await {
                    Ok(length) if length > 0 => {
                        if to.send(portion.freeze()).await.is_err() {
                            break;
                        }
                    }
                    _ => break,
                }
            }
        };
        let metadata = Metadata { mode: Some(0o700), mtime: None };
        let (written, ()) = tokio::join!(tree.store(&program, 0, from, metadata), reading);
        written?;
        let said = session.ran(&format!("'{}/fernweh' --version", self.folder)).await?;
        match said.status == Some(0) && said.printed.starts_with("fernweh ") {
            true => Ok(()),
            false => Err(cannot(format!("it says there: {}", said.printed.trim()))),
        }
    }

    /// The command that hands one connection on.
    pub fn command(&self, end: &TunnelEnd) -> String {
        let to = match end {
            TunnelEnd::Tcp(host, port) => format!("{host}:{port}"),
            TunnelEnd::Socket(path) => path.clone(),
        };
        // No host or socket has a zero byte in its name.
        format!("'{}/fernweh' forward {}", self.folder, shlex::try_quote(&to).unwrap_or_default())
    }

    /// Takes it away again.
    pub async fn remove(&self, session: &Arc<Session>) {
        let Ok(tree) = SftpTree::begin(session.clone()).await else { return };
        let folder = self.folder.as_bytes().to_vec();
        let _ = crate::remote::remove_all(&tree, folder, FoundKind::Folder).await;
    }
}
