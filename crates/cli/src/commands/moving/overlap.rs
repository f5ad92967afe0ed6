//! Packing and unpacking at the same time: what is packed is unpacked as soon as it is there.

use super::Moving;
use crate::commands::{pack, unpack};
use fernweh_flow::archive::Ledger;
use fernweh_flow::unpack::UnpackReport;
use fernweh_ports::{Result, Trouble, Unit, Watch};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// What became of both.
pub(super) struct Carried {
    /// Seconds of packing.
    pub packing: f64,
    /// What unpacking gave; none if it has to begin anew, now that the archive is complete.
    pub unpacked: Option<Result<UnpackReport>>,
    /// Seconds from the end of packing to that of unpacking.
    pub rest: f64,
}

/// Packs into `archive` and unpacks it at the same time. An error is one of packing, or one
/// of unpacking that has stopped it.
pub(super) fn carry(moving: &Moving<'_>, archive: &Path) -> Result<Carried> {
    let context = moving.context;
    let (packing, unpacking) = (moving.pack_args(archive, false), moving.unpack_args(archive));
    let ledger = Arc::new(Ledger::default());
    let stop = &AtomicBool::new(false);
    let began = Instant::now();
    std::thread::scope(|scope| {
        let followed = GiveUp(ledger.clone());
        let packer = scope.spawn(move || {
            let watch = Beside { of: &context.watch, stop };
            let ledger = Some(followed.0.clone());
            let packed = pack::make_followed(context, &packing, &watch, ledger).map(drop);
            drop(followed);
            (packed, began.elapsed().as_secs_f64())
        });
        let unpacked = unpack::make_following(context, &unpacking, ledger.clone());
        if unpacked.is_err() && !ledger.was_taken_back() {
            stop.store(true, Ordering::Relaxed);
        }
        let (packed, packing) = packer.join().unwrap_or_else(|_| {
            (Err(Trouble::outside("packing ended unexpectedly")), began.elapsed().as_secs_f64())
        });
        match (packed, unpacked) {
            (Ok(()), unpacked) => {
                let anew = unpacked.is_err() && ledger.was_taken_back();
                let rest = began.elapsed().as_secs_f64() - packing;
                Ok(Carried { packing, unpacked: (!anew).then_some(unpacked), rest })
            }
            // What stopped packing says more than that it stopped.
            (Err(stopped), Err(trouble)) if stopped.what == STOPPED => Err(trouble),
            (Err(trouble), _) => Err(trouble),
        }
    })
}

/// Whoever follows does not wait for ever, however packing ends.
struct GiveUp(Arc<Ledger>);

impl Drop for GiveUp {
    fn drop(&mut self) {
        self.0.give_up();
    }
}

const STOPPED: &str = "packing was stopped";

/// Packing says nothing of its progress: what is unpacked says it.
struct Beside<'a> {
    of: &'a dyn Watch,
    stop: &'a AtomicBool,
}

impl Watch for Beside<'_> {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {}
    fn done(&self, _: &str) {}
    fn note(&self, line: &str) {
        self.of.note(line);
    }
    fn stopping(&self) -> bool {
        self.of.stopping() || self.stop.load(Ordering::Relaxed)
    }
    fn reached(&self, step: &str) {
        self.of.reached(step);
    }
    fn go_on(&self) -> Result<()> {
        if self.stop.load(Ordering::Relaxed) {
            return Err(Trouble::interrupted(STOPPED).because("unpacking has failed"));
        }
        self.of.go_on()
    }
}
