//! Records that the destination does not take: named, and left out or adapted only if
//! that was asked for. What is left out is kept as statements in a file of the run.

use fernweh_core::record::Table;
use fernweh_core::sql::{Dialect, write_insert_head, write_row};
use fernweh_ports::{Rejected, Result, RowBatch, Trouble};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

/// What happens to a record that the destination rejects.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnBadRecord {
    /// Unpacking ends, and nothing has changed.
    #[default]
    Stop,
    /// It is left out, and kept in a file.
    Skip,
    /// The destination changes values so that they fit, where it can; otherwise it is left out.
    Adapt,
}

/// A record that was rejected.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct BadRecord {
    /// The table.
    pub table: String,
    /// The record, by its key.
    pub record: String,
    /// Why, in the words of the database.
    pub because: String,
    /// Whether it is in all the same, with a value changed.
    pub adapted: bool,
}

/// The rejected records of a run.
pub struct Rejects {
    folder: PathBuf,
    file: Option<File>,
    left_out: BTreeMap<String, u64>,
    /// The first of them.
    pub shown: Vec<BadRecord>,
    /// How many were adapted.
    pub adapted: u64,
}

/// As many are kept for the report.
const SHOWN: usize = 20;

impl Rejects {
    /// None yet; they would be kept in the run's folder.
    pub fn of_run(folder: &Path) -> Self {
        let (file, left_out, shown) = (None, BTreeMap::new(), Vec::new());
        Self { folder: folder.to_owned(), file, left_out, shown, adapted: 0 }
    }

    /// Those of other tables of the same run, kept in the same file.
    pub fn beside(&self) -> Self {
        Self::of_run(&self.folder)
    }

    /// Adds what was rejected of other tables.
    pub fn absorb(&mut self, other: Self) {
        self.left_out.extend(other.left_out);
        self.shown.extend(other.shown);
        self.shown.truncate(SHOWN);
        self.adapted += other.adapted;
    }

    /// How many records of a table were left out.
    pub fn left_out(&self, table: &str) -> u64 {
        self.left_out.get(table).copied().unwrap_or(0)
    }

    /// How many records were left out.
    pub fn total(&self) -> u64 {
        self.left_out.values().sum()
    }

    /// The file in which they are kept.
    pub fn path(&self) -> PathBuf {
        self.folder.join("left-out.sql")
    }

    /// Deals with what the destination rejected of a portion of `table`.
    pub fn note(
        &mut self,
        dialect: Dialect,
        policy: OnBadRecord,
        table: &Table,
        rows: &RowBatch,
        rejected: &[Rejected],
    ) -> Result<()> {
        for one in rejected {
            let record = table.record_name(&rows.rows[one.row]);
            if policy == OnBadRecord::Stop {
                return Err(Trouble::outside("the destination rejected a record")
                    .at(format!("table {}, {record}", rows.table))
                    .because(&one.because)
                    .hint(
                        "correct it at the source, or skip such records with --on-bad-record \
                         skip; they are kept in a file",
                    ));
            }
            if one.adapted {
                self.adapted += 1;
            } else {
                *self.left_out.entry(rows.table.clone()).or_default() += 1;
                self.keep(dialect, rows, one.row)?;
            }
            if self.shown.len() < SHOWN {
                self.shown.push(BadRecord {
                    table: rows.table.clone(),
                    record,
                    because: one.because.clone(),
                    adapted: one.adapted,
                });
            }
        }
        Ok(())
    }

    fn keep(&mut self, dialect: Dialect, rows: &RowBatch, row: usize) -> Result<()> {
        let path = self.path();
        let wrong = |error| Trouble::file("cannot keep a record that is left out", &path, &error);
        if self.file.is_none() {
            use std::os::unix::fs::OpenOptionsExt;
            let file = File::options().create(true).append(true).mode(0o600).open(&path);
            self.file = Some(file.map_err(wrong)?);
        }
        let mut sql = Vec::new();
        write_insert_head(dialect, &rows.table, &rows.columns, &mut sql);
        write_row(dialect, &rows.rows[row], &mut sql);
        sql.extend_from_slice(b";\n");
        match &mut self.file {
            Some(file) => file.write_all(&sql).map_err(wrong),
            None => Ok(()),
        }
    }
}
