//! A database whose connection is lost at any moment, and which loses any part of what was
//! not secured.

use super::*;
use fernweh_core::finding::Check;
use fernweh_core::record::{Row, Value};
use fernweh_ports::{
    DatabaseSwap, Direction, Fingerprint, Overview, Rejected, Scope, Silent, Structure,
};
use proptest::prelude::*;
use std::path::Path;

/// What happens at the next call.
#[derive(Clone, Copy, Debug)]
enum Fate {
    Well,
    /// The connection goes; so many of the rows that are not secured stay, and so many of those
    /// that were being written come to be.
    Lost(usize, usize),
}

#[derive(Default)]
struct Unsteady {
    fates: Vec<Fate>,
    rows: BTreeMap<String, Vec<Row>>,
    secured: BTreeMap<String, usize>,
}

impl Unsteady {
    /// Loses the connection, if that is what is to happen.
    fn meets(&mut self, table: Option<(&str, &[Row])>) -> Result<()> {
        let Some(Fate::Lost(stay, come)) = self.fates.pop() else { return Ok(()) };
        if let Some((table, rows)) = table {
            let come = come.min(rows.len());
            self.rows.entry(table.to_owned()).or_default().extend_from_slice(&rows[..come]);
        }
        // A table keeps a beginning of what was written to it.
        for (table, rows) in &mut self.rows {
            let secured = self.secured.get(table).copied().unwrap_or(0);
            rows.truncate((secured + stay).min(rows.len()));
        }
        Err(Trouble::outside("the connection was lost").lost(true))
    }
}

impl DatabaseTarget for Unsteady {
    fn write(&mut self, portion: &RowBatch, _: bool) -> Result<Vec<Rejected>> {
        self.meets(Some((&portion.table, &portion.rows)))?;
        let rows = self.rows.entry(portion.table.clone()).or_default();
        rows.extend_from_slice(&portion.rows);
        Ok(Vec::new())
    }
    fn secure(&mut self) -> Result<()> {
        self.meets(None)?;
        self.secured = self.rows.iter().map(|(name, rows)| (name.clone(), rows.len())).collect();
        Ok(())
    }
    fn resume(&mut self, _: &[Statement]) -> Result<bool> {
        // What a new connection finds is there for good.
        self.secured = self.rows.iter().map(|(name, rows)| (name.clone(), rows.len())).collect();
        Ok(true)
    }
    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        let count = |name: &String| self.rows.get(name).map_or(0, |rows| rows.len() as u64);
        Ok(tables.iter().map(|name| (name.clone(), count(name))).collect())
    }
    fn overview(&mut self, _: &dyn Scope) -> Result<Overview> {
        Err(Trouble::usage("not asked"))
    }
    fn build(&mut self, _: &[Statement]) -> Result<()> {
        Ok(())
    }
    fn incompatibilities(&mut self, _: &Overview, _: &Structure) -> Result<Vec<Check>> {
        Ok(Vec::new())
    }
    fn remove(&mut self, _: &[String]) {}
    fn finish(&mut self, _: &[Statement]) -> Result<DatabaseSwap> {
        Ok(DatabaseSwap::WithFiles)
    }
    fn orphans(&mut self, _: &DatabaseSwap) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
    fn clear(&mut self, _: &Fingerprint, _: &mut dyn FnMut() -> Result<()>) -> Result<bool> {
        Ok(true)
    }
    fn absent(&mut self, _: &DatabaseSwap, _: Direction) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
    fn discard(&mut self) -> Result<()> {
        Ok(())
    }
    fn switch(&mut self, _: &DatabaseSwap, _: Direction, _: &dyn Progress) -> Result<()> {
        Ok(())
    }
    fn let_go(&mut self, _: &DatabaseSwap, _: Direction) -> Result<()> {
        Ok(())
    }
    fn fingerprint(&mut self, _: &[String]) -> Result<Fingerprint> {
        Ok(Fingerprint::default())
    }
}

fn table(name: &str) -> Table {
    Table { name: name.into(), columns: Vec::new(), key: Vec::new() }
}

fn portion(table: &str, numbers: std::ops::Range<i64>) -> RowBatch {
    let rows = numbers.map(|number| vec![Value::Integer(number)]).collect();
    RowBatch { table: table.into(), columns: vec!["n".into()], rows }
}

/// Writes portions of the two tables, `there` rows of the first being there already.
fn written(target: &mut Unsteady, sizes: &[u8], there: u64) -> Result<()> {
    let tables = [table("a"), table("b")];
    let mut rejects = Rejects::of_run(Path::new(""));
    let there = BTreeMap::from([("a".to_owned(), there)]);
    let (dialect, policy) = (Dialect::Sqlite, OnBadRecord::Stop);
    let into = Destination { target, structure: &[], dialect, policy, there };
    let mut writer = Writer::new(into, &mut rejects, &Silent);
    for table in &tables {
        let mut next = 0;
        for size in sizes {
            let end = next + i64::from(*size);
            writer.write(table, portion(&table.name, next..end))?;
            if size % 3 == 0 {
                writer.secure()?;
            }
            next = end;
        }
    }
    writer.secure()
}

fn fate() -> impl Strategy<Value = Fate> {
    prop_oneof![
        3 => Just(Fate::Well),
        1 => (0_usize..30, 0_usize..12).prop_map(|(stay, come)| Fate::Lost(stay, come)),
    ]
}

proptest! {
    #[test]
    fn every_row_arrives_once_and_in_order_whatever_is_lost(
        sizes in prop::collection::vec(1_u8..12, 1..12),
        fates in prop::collection::vec(fate(), 0..30),
        begun in 0_u64..20,
    ) {
        let total: u64 = sizes.iter().map(|size| u64::from(*size)).sum();
        let there = begun.min(total);
        let mut target = Unsteady { fates, ..Unsteady::default() };
        target.rows.insert("a".into(), portion("a", 0..there as i64).rows);
        target.secured.insert("a".into(), there as usize);
        match written(&mut target, &sizes, there) {
            Ok(()) => for name in ["a", "b"] {
                prop_assert_eq!(&target.rows[name], &portion(name, 0..total as i64).rows);
            },
            // Only a connection that is lost again and again ends it.
            Err(trouble) => prop_assert!(trouble.lost, "{}", trouble),
        }
    }
}

#[test]
fn a_server_that_falls_over_what_it_is_given_is_given_up() {
    let mut target = Unsteady { fates: vec![Fate::Lost(0, 0); 100], ..Unsteady::default() };
    let trouble = written(&mut target, &[5], 0).unwrap_err();
    assert!(trouble.lost);
    assert!(target.fates.len() > 80, "{} attempts", 100 - target.fates.len());
}
