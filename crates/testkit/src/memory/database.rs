//! Tables in memory.

use super::{Host, World, unknown};
use fernweh_core::finding::Check;
use fernweh_core::record::{Column, Row, Table, Value};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::{Dialect, Modes, Statement};
use fernweh_ports::{
    Applied, Change, Counting, DatabaseEditor, DatabaseSource, DatabaseSwap, DatabaseTarget,
    Direction, Fingerprint, KeyPosition, Overview, Progress, Record, Refreshing, Rejected, Result,
    RowBatch, Scope, Structure, SwapTable, TableInfo, TablesSwap, Trouble,
};
use std::collections::BTreeMap;

/// Tables by name. Each has the columns `id` and `body`.
pub type Tables = BTreeMap<String, Vec<Row>>;

/// Rows of these numbers and texts.
pub fn rows<'a>(rows: impl IntoIterator<Item = (i64, &'a str)>) -> Vec<Row> {
    let row = |(id, body): (i64, &str)| vec![Value::Integer(id), Value::Text(body.into())];
    rows.into_iter().map(row).collect()
}

fn table(name: &str) -> Table {
    let text = Some(ColumnText::Utf8);
    Table {
        name: name.into(),
        columns: vec![
            Column { name: "id".into(), text: None },
            Column { name: "body".into(), text },
        ],
        key: vec!["id".into()],
    }
}

fn overview(tables: &Tables, scope: &dyn Scope) -> Overview {
    let info = |(name, rows): (&String, &Vec<Row>)| TableInfo {
        name: name.clone(),
        rows: rows.len() as u64,
        bytes: 100 * rows.len() as u64,
    };
    Overview {
        dialect: Dialect::Sqlite,
        version: "memory".into(),
        charset: "UTF-8".into(),
        collation: "BINARY".into(),
        tables: tables.iter().filter(|(name, _)| scope.holds(name)).map(info).collect(),
        not_carried: Vec::new(),
        checks: Vec::new(),
        free: None,
    }
}

/// Reads what was live when it began.
pub(super) struct Source {
    host: Host,
    moment: Option<Tables>,
}

impl Source {
    pub fn new(host: Host) -> Self {
        Self { host, moment: None }
    }
}

impl DatabaseSource for Source {
    fn overview(&mut self, scope: &dyn Scope, _: Counting) -> Result<Overview> {
        Ok(overview(&self.host.call("look at the database")?.live.tables, scope))
    }
    fn begin(&mut self) -> Result<Vec<String>> {
        self.moment = Some(self.host.call("begin to read the database")?.live.tables.clone());
        Ok(Vec::new())
    }
    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure> {
        let world = self.host.call("read the structure")?;
        let moment = self.moment.as_ref().unwrap_or(&world.live.tables);
        let tables: Vec<Table> =
            moment.keys().filter(|name| scope.holds(name)).map(|name| table(name)).collect();
        let made = |table: &Table| {
            let sql = format!("CREATE TABLE \"{}\" (\"id\" INTEGER, \"body\" TEXT)", table.name);
            Statement::parse(Dialect::Sqlite, Modes::default(), sql.as_bytes())
                .map_err(|error| Trouble::damaged("a table in memory").because(error))
        };
        let before = tables.iter().map(made).collect::<Result<Vec<_>>>()?;
        Ok(Structure { tables, before, ..Structure::default() })
    }
    fn rows(
        &mut self,
        table: &Table,
        _: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Row) -> Result<()>,
    ) -> Result<()> {
        let moment = self.moment.clone().unwrap_or_default();
        for row in moment.get(&table.name).into_iter().flatten() {
            drop(self.host.call("read a row")?);
            sink(row.clone())?;
        }
        Ok(())
    }
    fn in_order(&mut self, _: &Table) -> Result<bool> {
        Ok(false)
    }
    fn reopen(&mut self) -> Result<()> {
        self.moment = Some(self.host.call("connect again")?.live.tables.clone());
        Ok(())
    }
}

/// Builds tables beside the live ones, and switches by names.
pub(super) struct Target {
    host: Host,
    run: String,
    remove: Vec<String>,
}

impl Target {
    pub fn new(host: Host, run: &str) -> Self {
        Self { host, run: run.into(), remove: Vec::new() }
    }

    fn built(&self) -> String {
        format!("{}/new", self.run)
    }

    fn kept(&self) -> String {
        format!("{}/old", self.run)
    }
}

impl DatabaseTarget for Target {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        Ok(overview(&self.host.call("look at the destination")?.live.tables, scope))
    }
    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        let mut world = self.host.call("build the tables")?;
        let made = structure.iter().filter_map(|statement| match statement {
            Statement::Table { name, .. } => Some((name.clone(), Vec::new())),
            _ => None,
        });
        world.tables_aside.insert(self.built(), made.collect());
        Ok(())
    }
    fn write(&mut self, portion: &RowBatch, _: bool) -> Result<Vec<Rejected>> {
        let mut world = self.host.call("write rows")?;
        let built = world.tables_aside.get_mut(&self.built()).ok_or_else(|| unknown("room"))?;
        let rows = built.get_mut(&portion.table).ok_or_else(|| unknown("such table"))?;
        rows.extend_from_slice(&portion.rows);
        Ok(Vec::new())
    }
    fn secure(&mut self) -> Result<()> {
        self.host.call("secure the rows").map(drop)
    }
    fn resume(&mut self, _: &[Statement]) -> Result<bool> {
        let built = self.built();
        Ok(self.host.call("look at what is built")?.tables_aside.contains_key(&built))
    }
    fn incompatibilities(&mut self, _: &Overview, _: &Structure) -> Result<Vec<Check>> {
        Ok(Vec::new())
    }
    fn remove(&mut self, tables: &[String]) {
        self.remove = tables.to_vec();
    }
    fn finish(&mut self, _: &[Statement]) -> Result<DatabaseSwap> {
        let world = self.host.call("finish the tables")?;
        let built = world.tables_aside.get(&self.built()).cloned().unwrap_or_default();
        let there = |name: &String| world.live.tables.contains_key(name);
        let swapped = built.keys().map(|name| SwapTable {
            name: name.clone(),
            aside_new: self.built(),
            aside_old: there(name).then(|| self.kept()),
            gone: false,
        });
        let gone = self.remove.iter().map(|name| SwapTable {
            name: name.clone(),
            aside_new: self.built(),
            aside_old: Some(self.kept()),
            gone: true,
        });
        let tables = swapped.chain(gone).collect();
        Ok(DatabaseSwap::Tables(Box::new(TablesSwap { tables, ..TablesSwap::default() })))
    }
    fn orphans(&mut self, _: &DatabaseSwap) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        let world = self.host.call("count what is built")?;
        let built = world.tables_aside.get(&self.built());
        let count = |name: &String| {
            built.and_then(|built| built.get(name)).map_or(0, |rows| rows.len() as u64)
        };
        Ok(tables.iter().map(|name| (name.clone(), count(name))).collect())
    }
    fn clear(
        &mut self,
        expected: &Fingerprint,
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool> {
        let mut world = self.host.call("clear the tables")?;
        let tables = expected.tables();
        if fingerprint(&world, &tables) != *expected {
            return Ok(false);
        }
        agreed()?;
        tables.iter().for_each(|name| {
            world.live.tables.remove(name);
        });
        Ok(true)
    }
    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>> {
        let DatabaseSwap::Tables(swap) = swap else { return Err(unknown("other switch")) };
        let world = self.host.call("look for the kept tables")?;
        let kept = swap.tables.iter().filter_map(|table| match direction {
            Direction::Back => Some((&table.name, table.aside_old.as_ref()?)),
            Direction::Forward if table.gone => None,
            Direction::Forward => Some((&table.name, &table.aside_new)),
        });
        let is_there = |(name, place): &(&String, &String)| {
            world.tables_aside.get(*place).is_some_and(|tables| tables.contains_key(*name))
        };
        Ok(kept.filter(|one| !is_there(one)).map(|(name, _)| name.clone()).collect())
    }
    fn discard(&mut self) -> Result<()> {
        let built = self.built();
        self.host.call("discard the tables")?.tables_aside.remove(&built);
        Ok(())
    }
    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        _: &dyn Progress,
    ) -> Result<()> {
        let DatabaseSwap::Tables(swap) = swap else { return Err(unknown("other switch")) };
        let mut world = self.host.call("switch the tables")?;
        for SwapTable { name, aside_new, aside_old, gone } in &swap.tables {
            let (comes, goes) = match direction {
                Direction::Forward => (Some(aside_new), aside_old.as_ref()),
                Direction::Back => (aside_old.as_ref(), Some(aside_new)),
            };
            let waits = comes
                .and_then(|place| world.tables_aside.get(place))
                .is_some_and(|tables| tables.contains_key(name));
            let leaves = match (*gone, direction) {
                (true, Direction::Forward) => world.live.tables.contains_key(name),
                (true, Direction::Back) => false,
                // Where nothing comes, what stands there is still the one that goes.
                (false, _) => waits || comes.is_none(),
            };
            if leaves && goes.is_none() && world.live.tables.contains_key(name) {
                return Err(Trouble::outside(format!("a table {name} is there already")));
            }
            let left = if leaves { world.live.tables.remove(name) } else { None };
            if let (Some(rows), Some(place)) = (left, goes) {
                world.tables_aside.entry(place.clone()).or_default().insert(name.clone(), rows);
            }
            if waits && !(*gone && direction == Direction::Forward) {
                let place = comes.cloned().unwrap_or_default();
                let aside = world.tables_aside.get_mut(&place);
                if let Some(rows) = aside.and_then(|tables| tables.remove(name)) {
                    world.live.tables.insert(name.clone(), rows);
                }
            }
        }
        world.tables_aside.retain(|_, tables| !tables.is_empty());
        Ok(())
    }
    fn let_go(&mut self, _: &DatabaseSwap, _: Direction) -> Result<()> {
        let (built, kept) = (self.built(), self.kept());
        let mut world = self.host.call("let the tables go")?;
        world.tables_aside.remove(&built);
        world.tables_aside.remove(&kept);
        Ok(())
    }
    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        let world = self.host.call("take a fingerprint")?;
        Ok(fingerprint(&world, tables))
    }
}

fn fingerprint(world: &World, tables: &[String]) -> Fingerprint {
    let count = |name: &String| world.live.tables.get(name).map_or(0, |rows| rows.len() as u64);
    let rows = tables.iter().map(|name| (name.clone(), count(name))).collect();
    let marked: Vec<_> = tables.iter().map(|name| world.live.tables.get(name)).collect();
    Fingerprint { rows, mark: format!("{marked:?}") }
}

/// Changes cells of the live tables.
pub(super) struct Editor {
    host: Host,
}

impl Editor {
    pub fn new(host: Host) -> Self {
        Self { host }
    }
}

impl DatabaseEditor for Editor {
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>> {
        let world = self.host.call("list the tables")?;
        let names = world.live.tables.keys().filter(|name| scope.holds(name));
        Ok(names.map(|name| table(name)).collect())
    }
    fn key_columns(&mut self, _: &Table) -> Result<Vec<String>> {
        Ok(vec!["id".into()])
    }
    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied> {
        let rows = self.host.call("read a batch")?.live.tables.get(&table.name).cloned();
        let mut applied = Applied::default();
        for batch in rows.unwrap_or_default().chunks(2) {
            let records: Vec<Record> = batch
                .iter()
                .map(|row| Record { key: vec![row[0].clone()], row: row.clone() })
                .collect();
            let changes = visit(&records)?;
            let done = self.apply(table, &changes)?;
            applied.changed += done.changed;
            applied.refused.extend(done.refused);
        }
        Ok(applied)
    }
    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        if changes.is_empty() {
            return Ok(Applied::default());
        }
        let mut world = self.host.call("change cells")?;
        let mut applied = Applied::default();
        let rows = world.live.tables.entry(table.name.clone()).or_default();
        for change in changes {
            let found = rows.iter_mut().find(|row| row[0] == change.key[0]);
            match found.filter(|row| row[1] == change.old) {
                Some(row) => {
                    row[1] = change.new.clone();
                    applied.changed += 1;
                }
                None => applied.refused.push(fernweh_ports::Refused {
                    place: format!("{}, {}", table.name, change.record),
                    because: "it holds something else now".into(),
                }),
            }
        }
        Ok(applied)
    }
    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        let mut world = self.host.call("refresh the database")?;
        let mut counts = Vec::new();
        for step in steps {
            counts.push(match step {
                Refreshing::Empty { table, condition: None } => {
                    let rows = world.live.tables.get_mut(table);
                    rows.map_or(0, |rows| std::mem::take(rows).len() as u64)
                }
                _ => return Err(Trouble::outside("the database refuses the statement")),
            });
        }
        Ok(counts)
    }
}
