//! Two databases, object by object and record by record.

use super::CompareOptions;
use super::matching::{Matching, Side, TableDifferences};
use crate::report::TableReport;
use fernweh_core::record::{Row, Table, Value, is_of_engine};
use fernweh_core::rewrite::Rewriter;
use fernweh_core::sql::{Dialect, Statement, is_same_structure, with_modes};
use fernweh_ports::{
    Counting, DatabaseSource, Progress, Result, SiteAccess, Structure, Trouble, Unit, counted,
};
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};

/// Records that are handed over together.
const PORTION: usize = 256;
/// Portions that wait between a reader and the comparison.
const AHEAD: usize = 8;

/// An object that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Object {
    /// Its kind and name.
    pub object: String,
    /// `missing`: only the first site has it; `extra`: only the second; `changed`.
    pub what: &'static str,
}

/// What differs between two databases.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct DatabaseDifferences {
    /// Tables that are not read at one moment, with their site: what is written meanwhile may show.
    pub not_at_one_moment: Vec<String>,
    /// Tables that both have.
    pub tables: u64,
    /// Records of the first site that were compared.
    pub records: u64,
    /// Objects that differ.
    pub objects: Vec<Object>,
    /// Tables whose records differ.
    pub differing: Vec<TableDifferences>,
    /// Tables that were only counted, since their records differ by nature: name, and records of both.
    pub set_apart: Vec<(String, u64, u64)>,
}

impl DatabaseDifferences {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.objects.is_empty() && self.differing.is_empty()
    }
}

type Half<'a> = (&'a dyn SiteAccess, Box<dyn DatabaseSource>);

pub(super) fn compare(
    (from, mut one): Half<'_>,
    (to, mut other): Half<'_>,
    options: &CompareOptions<'_>,
    progress: &dyn Progress,
) -> Result<DatabaseDifferences> {
    let scopes = (|table: &str| from.holds_table(table), |table: &str| to.holds_table(table));
    let overviews =
        (one.overview(&scopes.0, Counting::Rough)?, other.overview(&scopes.1, Counting::Rough)?);
    if overviews.0.dialect != overviews.1.dialect {
        return Err(Trouble::usage("the two databases are of different engines")
            .because(format!("{} and {}", overviews.0.version, overviews.1.version))
            .hint("compare the files and the pages"));
    }
    let moving = [(from.name(), one.begin()?), (to.name(), other.begin()?)];
    let structures = (one.structure(&scopes.0)?, other.structure(&scopes.1)?);
    let mut report = DatabaseDifferences::default();
    for (site, tables) in moving {
        report.not_at_one_moment.extend(tables.into_iter().map(|table| format!("{site}: {table}")));
    }
    let dialect = overviews.0.dialect;
    if options.structure {
        let every = |structure: &Structure| {
            let all: Vec<_> =
                structure.before.iter().chain(&structure.afterwards).cloned().collect();
            named(dialect, &all)
        };
        let firsts = options.part.statements(dialect, &every(&structures.0), &[])?;
        let seconds = every(&structures.1);
        report.objects = objects(dialect, &firsts, &seconds, options.rewriter);
    }
    let rows: BTreeMap<&str, u64> =
        overviews.1.tables.iter().map(|table| (table.name.as_str(), table.rows)).collect();
    let total = overviews.0.tables.iter().map(|table| table.rows).sum();
    progress.stage("records", Some(total), Unit::Records);
    for table in &structures.0.tables {
        let name = options.part.renamed(dialect, &table.name);
        let Some(twin) = structures.1.tables.iter().find(|twin| twin.name == name) else {
            continue;
        };
        report.tables += u64::from(!is_of_engine(&table.name));
        if options.without_rows.hold(table.name.as_bytes()) {
            let of = |all: &[fernweh_ports::TableInfo]| {
                all.iter().find(|it| it.name == table.name).map_or(0, |it| it.rows)
            };
            let there = rows.get(twin.name.as_str()).copied().unwrap_or_default();
            report.set_apart.push((table.name.clone(), of(&overviews.0.tables), there));
            continue;
        }
        if !options.records {
            continue;
        }
        let found = records(&mut *one, &mut *other, table, twin, options, progress)?;
        report.records += found.same + found.changed + found.missing;
        if !found.is_empty() {
            report.differing.push(found);
        }
    }
    progress.done(&counted(report.records, "record", "records"));
    Ok(report)
}

/// Statements as an archive would hold them: read from their text, so that they know the names of
/// what they make.
fn named(dialect: Dialect, statements: &[Statement]) -> Vec<Statement> {
    let each = with_modes(statements).map(|(modes, statement)| {
        let read = statement.sql().map(|sql| Statement::parse(dialect, modes, sql.as_bytes()));
        read.and_then(std::result::Result::ok).unwrap_or_else(|| statement.clone())
    });
    each.collect()
}

/// Objects by name; what the rules change in their texts is applied before.
fn objects(
    dialect: Dialect,
    one: &[Statement],
    other: &[Statement],
    rewriter: &Rewriter,
) -> Vec<Object> {
    let named = |all: &[Statement], rewriter: Option<&Rewriter>| {
        let mut found: BTreeMap<String, String> = BTreeMap::new();
        for statement in all {
            let Some(sql) = statement.sql() else { continue };
            let mut text = unquoted(&sql.split_whitespace().collect::<Vec<_>>().join(" "));
            if let Some(rewriter) = rewriter {
                let new = rewriter.look(text.as_bytes()).apply(text.as_bytes());
                text = String::from_utf8_lossy(&new).into_owned();
            }
            found.insert(label(statement, &text), text);
        }
        found
    };
    let (one, other) = (named(one, Some(rewriter)), named(other, None));
    let missing = one.keys().filter(|name| !other.contains_key(*name)).map(|it| (it, "missing"));
    let extra = other.keys().filter(|name| !one.contains_key(*name)).map(|it| (it, "extra"));
    let differs =
        |text: &str, it: &str| !is_same_structure(dialect, text.as_bytes(), it.as_bytes());
    let changed =
        one.iter().filter(|(name, text)| other.get(*name).is_some_and(|it| differs(text, it)));
    let all = missing.chain(extra).chain(changed.map(|(name, _)| (name, "changed")));
    all.map(|(object, what)| Object { object: object.clone(), what }).collect()
}

/// A statement without the quotes around names that need none.
fn unquoted(text: &str) -> String {
    let plain = |name: &str| {
        name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
            && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
    };
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once('"') {
        out.push_str(before);
        match behind.split_once('"').filter(|(name, _)| plain(name)) {
            Some((name, behind)) => {
                out.push_str(name);
                rest = behind;
            }
            None => {
                out.push('"');
                rest = behind;
            }
        }
    }
    out + rest
}

fn label(statement: &Statement, text: &str) -> String {
    match statement {
        Statement::Table { name, .. } => format!("table {name}"),
        Statement::Index { name, table, .. } => format!("index {name} of {table}"),
        Statement::View { name, .. } => format!("view {name}"),
        Statement::Trigger { name, table, .. } => format!("trigger {name} of {table}"),
        Statement::ForeignKey { name, table, .. } => format!("foreign key {name} of {table}"),
        _ => text.chars().take(70).collect(),
    }
}

type Portion = Result<Vec<Row>>;

fn next_of(queue: &Mutex<Receiver<Portion>>) -> Option<Portion> {
    queue.lock().unwrap_or_else(PoisonError::into_inner).recv().ok()
}

/// The records of one table, both sides at once.
fn records(
    one: &mut dyn DatabaseSource,
    other: &mut dyn DatabaseSource,
    table: &Table,
    twin: &Table,
    options: &CompareOptions<'_>,
    progress: &dyn Progress,
) -> Result<TableDifferences> {
    // Columns of another order, or that only one side has, are a difference of the structure: these
    // are compared with nothing.
    let place = |name: &str| twin.columns.iter().position(|column| column.name == name);
    let places: Vec<Option<usize>> =
        table.columns.iter().map(|column| place(&column.name)).collect();
    let places = &places;
    let mut matching = Matching::new(table);
    let (send_raw, raw) = sync_channel::<Portion>(AHEAD);
    let (send_one, firsts) = sync_channel(AHEAD);
    let (send_other, seconds) = sync_channel(AHEAD);
    // Whoever takes portions holds the queue: once nobody does any more, its reader ends.
    let raw = Arc::new(Mutex::new(raw));
    let follow_rules = |raw: Arc<Mutex<Receiver<Portion>>>, to: SyncSender<Portion>| {
        let mut rules = TableReport::new(options.rewriter, table);
        while let Some(mut portion) = next_of(&raw) {
            for row in portion.iter_mut().flatten() {
                rules.row(table, row);
                options.part.change_values(table, std::slice::from_mut(row));
                let alone = row.iter_mut().zip(places).filter(|(_, place)| place.is_none());
                alone.for_each(|(value, _)| *value = Value::Null);
            }
            if to.send(portion).is_err() {
                return;
            }
        }
    };
    std::thread::scope(|scope| {
        scope.spawn(move || read(one, table, &send_raw, &mut |_| {}));
        // Rewriting costs more than reading; records find each other in whatever order they come.
        for _ in 0..std::thread::available_parallelism().map_or(1, usize::from) {
            let (raw, to) = (raw.clone(), send_one.clone());
            scope.spawn(|| follow_rules(raw, to));
        }
        drop((raw, send_one));
        scope.spawn(move || {
            read(other, twin, &send_other, &mut |row| {
                let mut take = |place: usize| std::mem::replace(&mut row[place], Value::Null);
                let ordered = places.iter().map(|place| place.map_or(Value::Null, &mut take));
                *row = ordered.collect();
            });
        });
        meet([firsts, seconds], &mut matching, progress)
    })?;
    Ok(matching.finish())
}

/// Reads the records of one side, some at a time, as long as somebody takes them.
fn read(
    source: &mut dyn DatabaseSource,
    table: &Table,
    to: &SyncSender<Portion>,
    prepare: &mut dyn FnMut(&mut Row),
) {
    let mut portion = Vec::with_capacity(PORTION);
    let gone = || Trouble::interrupted("the comparison has ended");
    let read = source.rows(table, None, &mut |mut row| {
        prepare(&mut row);
        portion.push(row);
        if portion.len() == PORTION {
            let full = std::mem::replace(&mut portion, Vec::with_capacity(PORTION));
            return to.send(Ok(full)).map_err(|_| gone());
        }
        Ok(())
    });
    let last = read.map(|()| portion);
    let _ = to.send(last);
}

/// Takes portions of both sides in turn, so that none runs far ahead. Where this ends early, nobody
/// takes any more, and those who read end, too.
fn meet(
    sides: [Receiver<Portion>; 2],
    matching: &mut Matching<'_>,
    progress: &dyn Progress,
) -> Result<()> {
    let mut open = [true, true];
    while open[0] || open[1] {
        progress.go_on()?;
        for (number, side) in [Side::First, Side::Second].into_iter().enumerate() {
            if !open[number] {
                continue;
            }
            let Ok(portion) = sides[number].recv() else {
                open[number] = false;
                continue;
            };
            let portion = portion?;
            if side == Side::First {
                progress.advance(portion.len() as u64);
            }
            for row in portion {
                matching.take(side, row);
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_names_that_need_quotes_keep_them() {
        let text = "CREATE INDEX \"a_1\" ON \"Odd Name\" (\"b\", \"Ü\") WHERE c = '\"'";
        let expected = "CREATE INDEX a_1 ON \"Odd Name\" (b, \"Ü\") WHERE c = '\"'";
        assert_eq!(unquoted(text), expected);
        assert_eq!(unquoted("a \"b"), "a \"b");
    }

    #[test]
    fn where_a_counter_stands_is_no_difference_of_the_structure() {
        let table = |counter: u64, kind: &str| {
            let sql = format!(
                "CREATE TABLE `a` (`id` {kind} NOT NULL AUTO_INCREMENT, PRIMARY KEY (`id`)) ENGINE=InnoDB AUTO_INCREMENT={counter}"
            );
            let modes = fernweh_core::sql::Modes::default();
            vec![Statement::parse(Dialect::Mariadb, modes, sql.as_bytes()).unwrap()]
        };
        let rules = Rewriter::new(Vec::new()).unwrap();
        let between = |a: &[Statement], b: &[Statement]| objects(Dialect::Mariadb, a, b, &rules);
        assert_eq!(between(&table(7, "int"), &table(12, "int")), []);
        assert_eq!(between(&table(7, "int"), &table(7, "bigint")).len(), 1);
    }
}
