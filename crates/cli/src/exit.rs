//! How a command ends where nothing went wrong. Errors have codes of their own.

/// Done.
pub const DONE: u8 = 0;
/// Done, and there are findings or differences.
pub const FINDINGS: u8 = 1;
/// Done, and the outside has failed a test.
pub const REFUSED: u8 = 3;
