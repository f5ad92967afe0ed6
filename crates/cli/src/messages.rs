//! What is said beside the result, on standard error and in the log.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether only errors are wanted.
static QUIET: AtomicBool = AtomicBool::new(false);

/// Says whether only errors are wanted, for everything that is said from now on.
pub fn only_errors(quiet: bool) {
    QUIET.store(quiet, Ordering::Relaxed);
}

/// Says something that is no error.
pub fn say(text: &str) {
    if !QUIET.load(Ordering::Relaxed) {
        always(text);
    }
}

/// Says something even if only errors are wanted.
pub fn always(text: &str) {
    crate::log::add(text);
    let _ = std::io::Write::write_all(&mut std::io::stderr().lock(), text.as_bytes());
}

/// Whether a stream leads to a terminal that understands more than lines.
pub fn is_lively(stream: &impl IsTerminal) -> bool {
    stream.is_terminal() && std::env::var_os("TERM").is_none_or(|term| term != "dumb")
}
