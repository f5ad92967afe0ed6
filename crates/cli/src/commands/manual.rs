//! `fernweh manual`: what a package installs beside the program.

use crate::exit::DONE;
use crate::manual::manual_pages;
use clap::{Args, Command};
use fernweh_ports::{Result, Trouble};
use std::path::PathBuf;

/// Writes a manual page for each command into a folder.
#[derive(Debug, Args)]
pub struct ManualArgs {
    /// The folder
    pub folder: PathBuf,
}

/// Runs the command.
pub fn run(args: &ManualArgs, all: Command) -> Result<u8> {
    manual_pages(all, &args.folder)
        .map_err(|error| Trouble::file("cannot write the manual", &args.folder, &error))?;
    Ok(DONE)
}
