//! Trying again after a connection was lost: soon at first, then less and less often.

use fernweh_ports::{Progress, Result, Trouble};
use std::time::Duration;

/// Seconds before each attempt; about five minutes in all.
const WAITS: [u64; 14] = match cfg!(test) {
    false => [1, 1, 2, 4, 8, 15, 30, 30, 30, 30, 30, 30, 45, 60],
    true => [0; 14],
};

/// How often a connection may be lost at the same place: a server that falls over what it is
/// given would do so for ever.
pub(crate) const SAME_PLACE: u32 = 5;

/// Tries `connect` until it succeeds or the attempts are used up; `lost` is what happened.
pub(crate) fn reconnect<T>(
    lost: Trouble,
    progress: &dyn Progress,
    connect: &mut dyn FnMut() -> Result<T>,
) -> Result<T> {
    let mut last = lost;
    for seconds in WAITS {
        let unit = if seconds == 1 { "second" } else { "seconds" };
        progress.note(&format!("{last}; trying again in {seconds} {unit}"));
        for _ in 0..seconds * 10 {
            progress.go_on()?;
            std::thread::sleep(Duration::from_millis(100));
        }
        match connect() {
            Ok(made) => return Ok(made),
            Err(trouble) => last = trouble,
        }
    }
    Err(last.lost(true))
}
