//! Packing and unpacking at the same time: what is packed is unpacked as soon as it is there.

use super::{Pack, Surroundings, Unpack};
use crate::archive::{ArchiveReader, MemberIndex};
use crate::incoming::Incoming;
use crate::unpack::UnpackReport;
use fernweh_ports::{Failpoints, Progress, Result, SiteAccess, Trouble, Unit};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// What became of both.
pub(super) struct Carried {
    /// Seconds of packing.
    pub packing: f64,
    /// What unpacking gave; `None` if it has to begin anew, now that the archive is complete.
    pub unpacked: Option<Result<UnpackReport>>,
    /// Seconds from the end of packing to that of unpacking.
    pub rest: f64,
}

/// Packs `from` and unpacks it into `to` at the same time. An error is one of packing, or one
/// of unpacking that has stopped it.
pub(super) fn carry(
    (pack, from): (&Pack, &dyn SiteAccess),
    (unpack, to): (&Unpack, &dyn SiteAccess),
    around: Surroundings<'_>,
) -> Result<Carried> {
    let member_index = Arc::new(MemberIndex::default());
    let (stop, stopped) = (&AtomicBool::new(false), &AtomicBool::new(false));
    let began = Instant::now();
    std::thread::scope(|scope| {
        let followed = GiveUp(member_index.clone());
        let packer = scope.spawn(move || {
            let progress = Beside { of: around.progress, stop, stopped };
            let around = Surroundings { progress: &progress, ..around };
            let packed = pack.run_followed(from, around, Some(followed.0.clone())).map(drop);
            drop(followed);
            (packed, began.elapsed().as_secs_f64())
        });
        let unpacked = ArchiveReader::follow(&pack.archive, member_index.clone())
            .and_then(|archive| unpack.run(to, &Incoming::own(archive), around));
        if unpacked.is_err() && !member_index.was_taken_back() {
            stop.store(true, Ordering::Relaxed);
        }
        let (packed, packing) = packer.join().unwrap_or_else(|_| {
            (Err(Trouble::outside("packing ended unexpectedly")), began.elapsed().as_secs_f64())
        });
        match (packed, unpacked) {
            (Ok(()), unpacked) => {
                let anew = unpacked.is_err() && member_index.was_taken_back();
                let rest = began.elapsed().as_secs_f64() - packing;
                Ok(Carried { packing, unpacked: (!anew).then_some(unpacked), rest })
            }
            // What stopped packing says more than that it stopped.
            (Err(_), Err(trouble)) if stopped.load(Ordering::Relaxed) => Err(trouble),
            (Err(trouble), _) => Err(trouble),
        }
    })
}

/// Whoever follows does not wait for ever, however packing ends.
struct GiveUp(Arc<MemberIndex>);

impl Drop for GiveUp {
    fn drop(&mut self) {
        self.0.give_up();
    }
}

/// Packing says nothing of its progress: what is unpacked says it.
struct Beside<'a> {
    of: &'a dyn Progress,
    /// Unpacking has failed: packing is to end.
    stop: &'a AtomicBool,
    /// Packing was told so.
    stopped: &'a AtomicBool,
}

impl Beside<'_> {
    fn is_stopped(&self) -> bool {
        let stop = self.stop.load(Ordering::Relaxed);
        if stop {
            self.stopped.store(true, Ordering::Relaxed);
        }
        stop
    }
}

impl Failpoints for Beside<'_> {
    fn reached(&self, step: &str) {
        self.of.reached(step);
    }
}

impl Progress for Beside<'_> {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {}
    fn done(&self, _: &str) {}
    fn note(&self, line: &str) {
        self.of.note(line);
    }
    fn stopping(&self) -> bool {
        self.of.stopping() || self.is_stopped()
    }
    fn go_on(&self) -> Result<()> {
        if self.is_stopped() {
            return Err(Trouble::interrupted("packing was stopped").because("unpacking has failed"));
        }
        self.of.go_on()
    }
}
