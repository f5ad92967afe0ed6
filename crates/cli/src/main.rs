//! The program; everything it does is in the library beside it.

use std::process::ExitCode;

/// Rows are made on one thread and given up on another, by the million. The usual allocator of
/// Linux grows and shrinks by single pages then, and lets the two wait for each other.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    ExitCode::from(fernweh::run(std::env::args_os()))
}
