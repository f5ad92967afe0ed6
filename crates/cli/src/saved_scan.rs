//! What an earlier scan has found, as `scan --json` printed it.

use fernweh_core::finding::Finding;
use fernweh_ports::{Result, Trouble, TroubleKind};
use serde::Deserialize;
use std::path::Path;

/// What matters here of a saved scan.
#[derive(Deserialize)]
pub struct SavedScan {
    /// Its findings.
    pub findings: Vec<Finding>,
}

/// Reads the document that `scan --json` has printed; `-` is standard input.
pub fn saved(path: &Path) -> Result<SavedScan> {
    let read = match path.as_os_str() == "-" {
        true => std::io::read_to_string(std::io::stdin()),
        false => std::fs::read_to_string(path),
    };
    let text = read.map_err(|error| {
        let mut trouble = Trouble::file("cannot read the saved scan", path, &error);
        trouble.kind = TroubleKind::Usage;
        trouble
    })?;
    serde_json::from_str(&text).map_err(|_| {
        Trouble::usage("this file is not a saved scan")
            .at(path.display().to_string())
            .because("it is not the JSON document that scan prints")
            .hint("make one with: fernweh scan SITE --json > scan.json")
    })
}
