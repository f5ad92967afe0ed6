//! The program; everything it does is in the library beside it.

use std::process::ExitCode;

fn main() -> ExitCode {
    ExitCode::from(fernweh::run(std::env::args_os()))
}
