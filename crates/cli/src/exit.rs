//! How a command ends where nothing went wrong. Errors have codes of their own.

/// Done.
pub const DONE: u8 = 0;
/// Done, and there are findings or differences.
pub const FINDINGS: u8 = 1;
/// The command, its options or the configuration are not right.
pub const USAGE: u8 = 2;
/// Done, and the outside has failed a test.
pub const REFUSED: u8 = 3;
/// Done, and what was looked at is damaged.
pub const DAMAGED: u8 = 4;
/// Interrupted, or not complete; the message says how to go on.
pub const INCOMPLETE: u8 = 5;

/// Done: with something to look at, or without.
pub fn done(something_to_look_at: bool) -> u8 {
    if something_to_look_at { FINDINGS } else { DONE }
}
