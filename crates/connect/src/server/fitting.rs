//! Records that a server would take with other values, without a word.

use fernweh_core::fit::Fit;
use fernweh_core::record::{Row, Value};
use fernweh_ports::{Rejected, Result, RowBatch};

/// What a column can hold, by its place in a batch.
pub(crate) type Fits = Vec<(usize, Fit)>;

/// Writes a batch: what fits as it is; the others are rejected, or, with `adapt`, changed by
/// the server.
pub(crate) fn write_fitting(
    rows: &RowBatch,
    fits: &[(usize, Fit)],
    adapt: bool,
    write: &mut dyn FnMut(&RowBatch) -> Result<Vec<Rejected>>,
) -> Result<Vec<Rejected>> {
    let changed: Vec<Rejected> = rows
        .rows
        .iter()
        .enumerate()
        .filter_map(|(row, values)| {
            let because = would_change(&rows.columns, values, fits)?;
            Some(Rejected { row, because, adapted: adapt })
        })
        .collect();
    if changed.is_empty() {
        return write(rows);
    }
    let is_changed = |row: &usize| changed.iter().any(|one| one.row == *row);
    let (odd, even): (Vec<usize>, Vec<usize>) = (0..rows.rows.len()).partition(is_changed);
    let mut rejected = some_of(rows, &even, write)?;
    let refused = if adapt { some_of(rows, &odd, write)? } else { Vec::new() };
    // What the server says of a record comes before what it would have changed in silence.
    rejected.extend(changed.into_iter().filter(|one| !refused.iter().any(|r| r.row == one.row)));
    rejected.extend(refused);
    rejected.sort_by_key(|one| one.row);
    Ok(rejected)
}

/// Writes some rows of a batch; what is rejected is named by its place among all.
fn some_of(
    rows: &RowBatch,
    places: &[usize],
    write: &mut dyn FnMut(&RowBatch) -> Result<Vec<Rejected>>,
) -> Result<Vec<Rejected>> {
    if places.is_empty() {
        return Ok(Vec::new());
    }
    let some = RowBatch {
        table: rows.table.clone(),
        columns: rows.columns.clone(),
        rows: places.iter().map(|place| rows.rows[*place].clone()).collect(),
    };
    let rejected = write(&some)?;
    Ok(rejected.into_iter().map(|one| Rejected { row: places[one.row], ..one }).collect())
}

/// Why a row would not be the same, in words.
fn would_change(columns: &[String], row: &Row, fits: &[(usize, Fit)]) -> Option<String> {
    fits.iter().find_map(|(column, fit)| {
        let value = row.get(*column)?;
        let (Value::Number(bytes) | Value::Text(bytes)) = value else { return None };
        let because = || {
            format!("column {} holds {fit}; {} would be changed", columns[*column], value.shown())
        };
        (!fit.takes(bytes)).then(because)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rejected_rows_keep_their_places() {
        let number = |text: &str| vec![Value::Number(text.into())];
        let rows = RowBatch {
            table: "t".into(),
            columns: vec!["n".into()],
            rows: ["1.5", "2", "no", "3.25", "4"].map(number).into(),
        };
        let mut written = Vec::new();
        let mut write = |batch: &RowBatch| {
            written.extend(batch.rows.iter().map(|row| row[0].shown()));
            let no = batch.rows.iter().position(|row| row[0].shown() == "no");
            let because = "no number".to_owned();
            Ok(no.map(|row| Rejected { row, because, adapted: false }).into_iter().collect())
        };
        let fits = [(0, Fit::Whole)];
        let rejected = write_fitting(&rows, &fits, false, &mut write).unwrap();
        assert_eq!(rejected.iter().map(|one| one.row).collect::<Vec<_>>(), [0, 2, 3]);
        assert_eq!(rejected[2].because, "column n holds whole numbers; 3.25 would be changed");
        let rejected = write_fitting(&rows, &fits, true, &mut write).unwrap();
        let adapted: Vec<_> = rejected.iter().map(|one| (one.row, one.adapted)).collect();
        assert_eq!(adapted, [(0, true), (2, false), (3, true)]);
        assert_eq!(written, ["2", "no", "4", "2", "no", "4", "1.5", "3.25"]);
    }
}
