//! Reading a MariaDB or MySQL database at one moment.

use super::describe::{Described, Travel, create_table, describe, list, triggers, views};
use super::{Link, MariadbAddress, quoted};
use fernweh_core::finding::Check;
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::sql::{Dialect, Statement};
use fernweh_ports::{DatabaseSource, Overview, Result, Scope, Structure, TableInfo};
use mysql_async::prelude::Queryable;

/// A database that is read.
pub struct MariadbSource {
    link: Link,
}

impl MariadbSource {
    /// Logs in.
    pub fn open(address: &MariadbAddress) -> Result<Self> {
        Ok(Self { link: Link::open(address)? })
    }
}

pub(super) fn overview(link: &mut Link, scope: &dyn Scope) -> Result<Overview> {
    let version = link.one("SELECT version()")?.unwrap_or_default();
    let product = if version.contains("MariaDB") { "MariaDB" } else { "MySQL" };
    let number = version.split('-').next().unwrap_or_default();
    let charset = link.one("SELECT @@character_set_database")?.unwrap_or_default();
    let collation = link.one("SELECT @@collation_database")?.unwrap_or_default();
    let mut tables = Vec::new();
    let mut not_carried = Vec::new();
    let mut outside_snapshot = Vec::new();
    for listed in list(link)?.into_iter().filter(|listed| scope.holds(&listed.name)) {
        match listed.kind.as_str() {
            "BASE TABLE" => {
                let count = format!("SELECT count(*) FROM {}", quoted(&listed.name));
                let rows = link.one(&count)?.and_then(|n| n.parse().ok()).unwrap_or(0);
                if listed.engine != "InnoDB" {
                    outside_snapshot.push(listed.name.clone());
                }
                tables.push(TableInfo { name: listed.name, rows, bytes: listed.bytes });
            }
            "VIEW" => {}
            other => not_carried.push(format!("{} {}", other.to_lowercase(), listed.name)),
        }
    }
    let routines = link.ask(
        "SELECT lower(routine_type), routine_name FROM information_schema.routines \
         WHERE routine_schema = database() \
         UNION ALL SELECT 'event', event_name FROM information_schema.events \
         WHERE event_schema = database()",
    )?;
    for row in routines {
        let words: Vec<String> = row.into_iter().flatten().collect();
        not_carried.push(words.join(" "));
    }
    let mut checks = vec![Check::passed("every table can be read")];
    if !outside_snapshot.is_empty() {
        checks.push(Check::warned(
            format!(
                "not part of the snapshot, for their storage engine has none: {}",
                outside_snapshot.join(", ")
            ),
            "pack while nobody writes to them",
        ));
    } else {
        checks.push(Check::passed("all tables can be read at one moment"));
    }
    Ok(Overview {
        dialect: Dialect::Mariadb,
        version: format!("{product} {number}"),
        charset,
        collation,
        tables,
        not_carried,
        checks,
        free: None,
    })
}

/// The columns of a table as a `SELECT` needs them.
pub(super) fn select_list(described: &Described) -> String {
    let columns = described.table.columns.iter().zip(&described.travel);
    let columns = columns.map(|(column, travel)| match travel {
        // FLOAT loses digits in the text protocol; DOUBLE does not.
        Travel::Float => format!("CAST({} AS DOUBLE)", quoted(&column.name)),
        Travel::Raw(length) => format!("CAST({} AS BINARY({length}))", quoted(&column.name)),
        _ => quoted(&column.name),
    });
    columns.collect::<Vec<_>>().join(",")
}

pub(super) fn value_of(value: mysql_async::Value, travel: Travel) -> Value {
    match (value, travel) {
        (mysql_async::Value::NULL, _) => Value::Null,
        (mysql_async::Value::Bytes(bytes), Travel::Text) => Value::Text(bytes),
        (mysql_async::Value::Bytes(bytes), Travel::Bytes | Travel::Raw(_)) => Value::Bytes(bytes),
        (mysql_async::Value::Bytes(bytes), _) => Value::Number(bytes),
        (other, _) => Value::Number(other.as_sql(true).into_bytes()),
    }
}

/// Reads all rows of a query, one after the other, in the characters of the columns.
pub(super) fn stream(
    link: &mut Link,
    query: &str,
    travel: &[Travel],
    sink: &mut dyn FnMut(Row) -> Result<()>,
) -> Result<()> {
    link.run("SET character_set_results = NULL")?;
    let Link { runtime, conn, .. } = link;
    let outcome: std::result::Result<Result<()>, mysql_async::Error> = runtime.block_on(async {
        let mut result = conn.query_iter(query.as_bytes().to_vec()).await?;
        while let Some(row) = result.next().await? {
            let values = row.unwrap().into_iter().zip(travel);
            if let Err(stop) =
                sink(values.map(|(value, travel)| value_of(value, *travel)).collect())
            {
                return Ok(Err(stop));
            }
        }
        Ok(Ok(()))
    });
    let sunk = outcome.map_err(|error| link.trouble("cannot read a table", &error))?;
    sunk?;
    link.run("SET character_set_results = utf8mb4")
}

impl DatabaseSource for MariadbSource {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        overview(&mut self.link, scope)
    }

    fn begin(&mut self) -> Result<Vec<String>> {
        self.link.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")?;
        self.link.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")?;
        let listed = list(&mut self.link)?;
        let outside = |table: &&super::describe::Listed| {
            table.kind == "BASE TABLE" && table.engine != "InnoDB"
        };
        Ok(listed.iter().filter(outside).map(|table| table.name.clone()).collect())
    }

    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure> {
        let link = &mut self.link;
        let mut tables = Vec::new();
        let mut before = Vec::new();
        let mut afterwards = Vec::new();
        for listed in list(link)? {
            if listed.kind != "BASE TABLE" || !scope.holds(&listed.name) {
                continue;
            }
            let (sql, keys) = create_table(link, &listed.name)?;
            tables.push(describe(link, &listed.name)?.table);
            before.push(Statement::Table { name: listed.name, at: 0..0, sql });
            afterwards.extend(keys.into_iter().map(|key| Statement::ForeignKey {
                table: key.table,
                name: key.name,
                sql: key.sql,
            }));
        }
        let inside = |name: &str| scope.holds(name);
        for view in views(link)?.into_iter().filter(|view| inside(&view.name)) {
            afterwards.push(Statement::View { name: view.name, sql: view.sql });
        }
        for trigger in triggers(link)?.into_iter().filter(|trigger| inside(&trigger.table)) {
            let (name, table, sql) = (trigger.name, trigger.table, trigger.sql);
            afterwards.push(Statement::Trigger { name, table, sql });
        }
        Ok(Structure { tables, before, afterwards })
    }

    fn rows(&mut self, table: &Table, sink: &mut dyn FnMut(Row) -> Result<()>) -> Result<()> {
        let described = describe(&mut self.link, &table.name)?;
        let keys: Vec<String> = table.key.iter().map(|name| quoted(name)).collect();
        let order = match keys.is_empty() {
            true => String::new(),
            false => format!(" ORDER BY {}", keys.join(",")),
        };
        let query =
            format!("SELECT {} FROM {}{order}", select_list(&described), quoted(&table.name));
        stream(&mut self.link, &query, &described.travel, sink)
    }
}
