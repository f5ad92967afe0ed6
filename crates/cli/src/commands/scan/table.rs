//! The findings of a scan as a table (RFC 4180): a line for each place.

use fernweh_flow::scan::ScanReport;
use fernweh_ports::{Result, Trouble};
use std::io::Read;
use std::path::Path;

const HEAD: [&str; 13] = [
    "severity",
    "code",
    "id",
    "address",
    "cause",
    "detail",
    "occurrences",
    "pages",
    "page",
    "sheet",
    "line",
    "column",
    "element",
];

/// Refuses a table that would replace another file, before any work is done.
pub fn check(path: Option<&Path>) -> Result<()> {
    let Some(path) = path.filter(|path| path.exists()) else { return Ok(()) };
    let mut start = Vec::new();
    if let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(200).read_to_end(&mut start);
    }
    match start.starts_with(HEAD.join(",").as_bytes()) {
        true => Ok(()),
        false => Err(Trouble::already_there("cannot write the table", path)
            .because("a file of this name is there, and it is no table of Fernweh")),
    }
}

/// Writes the table.
pub fn write(path: &Path, report: &ScanReport) -> Result<()> {
    let wrong = |error: csv::Error| {
        let error = std::io::Error::from(error);
        Trouble::file("cannot write the table", path, &error)
    };
    let mut table = csv::Writer::from_path(path).map_err(wrong)?;
    table.write_record(HEAD).map_err(wrong)?;
    for finding in &report.findings {
        let (severity, code) = (finding.severity.name(), finding.code.name());
        let (occurrences, pages) = (finding.occurrences.to_string(), finding.pages.to_string());
        let mut line = |place: [&str; 5]| {
            let of = [
                severity,
                code,
                &finding.id,
                &finding.address,
                &finding.cause,
                &finding.detail,
                &occurrences,
                &pages,
            ];
            // A cell that begins like this is a formula to programs that open such tables.
            let safe = |cell: &str| match cell.starts_with(['=', '+', '-', '@', '\t']) {
                true => format!("'{cell}"),
                false => cell.to_owned(),
            };
            table.write_record(of.into_iter().chain(place).map(safe)).map_err(wrong)
        };
        if finding.places.is_empty() {
            line([""; 5])?;
        }
        for spot in &finding.places {
            let (at, column) = (spot.line.to_string(), spot.column.to_string());
            let sheet = spot.sheet.as_deref().unwrap_or_default();
            line([&spot.page, sheet, &at, &column, &spot.element])?;
        }
    }
    table.flush().map_err(|error| Trouble::file("cannot write the table", path, &error))
}
