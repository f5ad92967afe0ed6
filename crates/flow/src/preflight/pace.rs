//! How fast the connections are, and how long everything will take.

use super::Size;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{FileSwap, FileTarget, Result};
use serde::Serialize;
use std::io::Read;
use std::time::Instant;

/// What was measured: seconds that a part took, and how large the part was.
#[derive(Clone, Copy, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Pace {
    /// Reading records.
    pub rows_read: Option<Sample>,
    /// Reading files.
    pub files_read: Option<Sample>,
    /// Writing small files.
    pub files_written: Option<Sample>,
    /// Writing more of a large file, once it is begun.
    pub bytes_written: Option<Sample>,
}

/// A measurement.
#[derive(Clone, Copy, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Sample {
    /// Pieces: records or files.
    pub pieces: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How long it took.
    pub seconds: f64,
}

/// Seconds that a measurement may take.
pub(super) const LONG_ENOUGH: f64 = 0.7;
/// Bytes after which a measurement ends.
pub(super) const ENOUGH: u64 = 4 << 20;
/// Files that are read at most to measure how fast that goes.
pub(super) const MOST_FILES: usize = 2_000;

fn ratio(all: u64, part: u64) -> f64 {
    all as f64 / part.max(1) as f64
}

impl Sample {
    /// How long so much takes, if it goes on like this.
    fn scaled(&self, pieces: u64, bytes: u64) -> f64 {
        self.seconds * ratio(pieces, self.pieces).max(ratio(bytes, self.bytes))
    }
}

impl Pace {
    /// How long so much will take, in seconds; `None` if nothing was measured. Files are written
    /// while the next ones are read.
    pub fn seconds(&self, size: &Size) -> Option<f64> {
        let mut parts = Vec::new();
        if let Some(rows) = &self.rows_read {
            // Records are written and checked as long as they are read, and indexes built.
            parts.push(3.0 * rows.scaled(size.records, size.database_bytes));
            parts.push(KEYS * rows.scaled(0, size.keyed_later));
        }
        let read = self.files_read.map(|sample| sample.scaled(size.files, size.file_bytes));
        let small = self.files_written.map(|one| one.seconds * ratio(size.files, one.pieces));
        let large = self.bytes_written.map(|one| one.seconds * ratio(size.file_bytes, one.bytes));
        let written = small.map(|small| small + large.unwrap_or(0.0));
        parts.extend(read.into_iter().chain(written).reduce(f64::max));
        (!parts.is_empty()).then(|| 2.0 + parts.iter().sum::<f64>())
    }
}

/// How often as long as reading records it takes to make the keys of a large table.
const KEYS: f64 = 2.0;

/// Writes some files to a place that is being built, small ones together and one or two large
/// ones, and notes how long that took.
pub(super) fn write_files(target: &mut dyn FileTarget, pace: &mut Pace) -> Result<FileSwap> {
    const SMALL: (u64, u64) = (24, 4 << 10);
    // Above the size up to which files are held until they are there.
    const LARGE: [u64; 2] = [(1 << 20) + 1, 4 << 20];
    let mut number = 0;
    let mut put = |target: &mut dyn FileTarget, size: u64| {
        let entry = Entry {
            path: format!("fernweh-test-{number}").into_bytes(),
            kind: EntryKind::File(size),
            mode: 0o644,
            mtime: 0,
            nanos: 0,
            owner: (0, 0),
            extra: Extra::default(),
        };
        number += 1;
        target.put_file(&entry, &mut std::io::repeat(b'.').take(size))
    };
    let began = Instant::now();
    for _ in 0..SMALL.0 {
        put(target, SMALL.1)?;
    }
    let after_small = Instant::now();
    put(target, LARGE[0])?;
    let first = after_small.elapsed().as_secs_f64();
    let mut sample = Sample { pieces: 1, bytes: LARGE[0], seconds: first };
    if first < LONG_ENOUGH {
        let again = Instant::now();
        put(target, LARGE[1])?;
        let second = again.elapsed().as_secs_f64();
        // What both took alike was waiting for answers.
        let bytes = LARGE[1] - LARGE[0];
        sample = Sample { pieces: 1, bytes, seconds: (second - first).max(second / 8.0) };
    }
    let large = after_small.elapsed();
    let swap = target.finish()?;
    let seconds = began.elapsed().saturating_sub(large).as_secs_f64();
    pace.bytes_written = Some(sample);
    pace.files_written = Some(Sample { pieces: SMALL.0, bytes: SMALL.0 * SMALL.1, seconds });
    Ok(swap)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(pieces: u64, bytes: u64, seconds: f64) -> Option<Sample> {
        Some(Sample { pieces, bytes, seconds })
    }

    #[test]
    fn one_large_file_does_not_wait_for_answers_as_often_as_many_small_ones() {
        let pace = Pace {
            files_read: sample(1, 4_000_000, 0.2),
            files_written: sample(24, 98_304, 2.4),
            bytes_written: sample(1, 3_000_000, 0.06),
            ..Pace::default()
        };
        let of = |files, file_bytes| {
            pace.seconds(&Size { files, file_bytes, ..Size::default() }).unwrap()
        };
        // Reading it takes 50 s, writing it 20.1 s meanwhile.
        assert!((of(1, 1_000_000_000) - 52.0).abs() < 0.01);
        // A tenth of a second for each.
        assert!((of(10_000, 10_000) - 2002.0).abs() < 1.0, "{}", of(10_000, 10_000));
        assert_eq!(Pace::default().seconds(&Size::default()), None);
    }

    #[test]
    fn keys_that_are_made_later_take_their_time() {
        let pace = Pace { rows_read: sample(1_000, 1_000_000, 0.1), ..Pace::default() };
        let size = Size { records: 10_000, database_bytes: 10_000_000, ..Size::default() };
        assert!((pace.seconds(&size).unwrap() - 5.0).abs() < 0.01);
        let later = Size { keyed_later: 5_000_000, ..size };
        assert!((pace.seconds(&later).unwrap() - 6.0).abs() < 0.01);
    }
}
