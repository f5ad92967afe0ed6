//! Reading a MariaDB or MySQL database at one moment.

use super::describe::{Described, Travel, describe_with_history, list, with_history};
use super::objects::{create_table, events, routines, sequence, triggers, views};
use super::rights;
use super::{Link, quoted, text};
use crate::server::{ServerAddress, Session};
use fernweh_core::archive::LargeRecord;
use fernweh_core::finding::Check;
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::sql::{Dialect, ObjectKind, Outside, Statement, used, without_host_options};
use fernweh_ports::{
    Counting, DatabaseSource, KeyPosition, NamedSql, Overview, Result, Scope, Structure, TableInfo,
};
use mysql_async::prelude::Queryable;

/// A database that is read.
pub struct MariadbSource {
    link: Link,
    address: ServerAddress,
}

impl MariadbSource {
    /// Logs in.
    pub fn open(address: &ServerAddress) -> Result<Self> {
        Ok(Self { link: Link::open(address)?, address: address.clone() })
    }
}

pub(super) fn overview(link: &mut Link, scope: &dyn Scope, counting: Counting) -> Result<Overview> {
    let version = link.server.shown();
    let charset = link.one("SELECT @@character_set_database")?.unwrap_or_default();
    let collation = link.one("SELECT @@collation_database")?.unwrap_or_default();
    let mut tables = Vec::new();
    let mut not_carried = Vec::new();
    let mut outside_snapshot = Vec::new();
    for listed in list(link)?.into_iter().filter(|listed| scope.holds(&listed.name)) {
        match listed.kind.as_str() {
            "VIEW" | "SEQUENCE" => {}
            _ if listed.is_table() => {
                let rows = match counting.counts(listed.bytes) {
                    true => {
                        let history = with_history(link, &listed.name)?;
                        let table = quoted(&listed.name);
                        link.number(&format!("SELECT count(*) FROM {table}{history}"))?
                    }
                    false => listed.rows,
                };
                if listed.engine != "InnoDB" {
                    outside_snapshot.push(listed.name.clone());
                }
                tables.push(TableInfo { name: listed.name, rows, bytes: listed.bytes });
            }
            _ if listed.is_merge() => not_carried.push(format!("merge table {}", listed.name)),
            other => not_carried.push(format!("{} {}", other.to_lowercase(), listed.name)),
        }
    }
    for hidden in [views(link)?, triggers(link)?, routines(link)?, events(link)?] {
        not_carried.extend(hidden.hidden);
    }
    let mut checks = vec![Check::passed("every table can be read")];
    if !outside_snapshot.is_empty() {
        checks.push(Check::warned(
            format!(
                "not part of the snapshot, because of their storage engine: {}",
                outside_snapshot.join(", ")
            ),
            "pack while nobody writes to them",
        ));
    } else {
        checks.push(Check::passed("all tables can be read at one moment"));
    }
    checks.extend(rights::checks(link)?);
    Ok(Overview {
        dialect: Dialect::Mariadb,
        version,
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
        Travel::Float => format!("{} * 1e0", quoted(&column.name)),
        Travel::Raw(length) => format!("CAST({} AS BINARY({length}))", quoted(&column.name)),
        _ => quoted(&column.name),
    });
    columns.collect::<Vec<_>>().join(",")
}

pub(super) fn value_of(value: mysql_async::Value, travel: Travel) -> Value {
    match (value, travel) {
        (mysql_async::Value::NULL, _) => Value::Null,
        (mysql_async::Value::Bytes(bytes), Travel::Text | Travel::Json) => Value::Text(bytes),
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

/// The rows behind a key, so that an index finds them: `a > 1 OR a = 1 AND (b > 2)`.
fn is_behind(keys: &[String], place: &[String]) -> String {
    match (keys, place) {
        ([key], [number]) => format!("{key} > {number}"),
        ([key, keys @ ..], [number, place @ ..]) => {
            format!("{key} > {number} OR {key} = {number} AND ({})", is_behind(keys, place))
        }
        _ => "TRUE".into(),
    }
}

fn object(kind: ObjectKind, name: &str, sql: String) -> Statement {
    Statement::Object { kind, name: name.to_owned(), table: None, sql }
}

/// Settings of the session that what follows needs, unless they hold already.
fn in_mode(statements: &mut Vec<Statement>, now: &mut Vec<String>, modes: &[String]) {
    for sql in modes.iter().filter(|sql| !now.contains(sql)) {
        let (name, value) = (String::new(), String::new());
        statements.push(Statement::Mode { name, value, sql: sql.clone() });
    }
    // A later setting of the same variable replaces an earlier one.
    let variable = |sql: &String| sql.split(" = ").next().unwrap_or_default().to_owned();
    now.retain(|sql| !modes.iter().any(|mode| variable(mode) == variable(sql)));
    now.extend(modes.iter().cloned());
}

/// The routines that are chosen by their names, and those that what is chosen uses, in their
/// order; and the others.
fn needed<'a>(
    routines: Vec<NamedSql>,
    inside: &dyn Fn(&str) -> bool,
    runs: impl Iterator<Item = &'a NamedSql>,
) -> (Vec<NamedSql>, Vec<NamedSql>) {
    let chosen = routines.iter().filter(|one| inside(&one.name)).map(|one| one.sql.as_str());
    let texts = runs.map(|one| one.sql.as_str()).chain(chosen).collect();
    let all: Vec<(&str, &str)> =
        routines.iter().map(|one| (one.name.as_str(), one.sql.as_str())).collect();
    let taken = used(texts, &all).into_iter().zip(&routines);
    let taken: Vec<bool> = taken.map(|(used, one)| used || inside(&one.name)).collect();
    let mut taken = taken.into_iter();
    routines.into_iter().partition(|_| taken.next().unwrap_or(false))
}

fn outside(one: NamedSql) -> Outside {
    // A view belongs to itself, a routine to its kind.
    let kind = match one.table == one.name {
        true if one.sql.contains(" EVENT ") => "event".to_owned(),
        true => "view".to_owned(),
        false => one.table.to_lowercase(),
    };
    Outside { kind, name: one.name, sql: one.sql }
}

impl DatabaseSource for MariadbSource {
    fn reopen(&mut self) -> Result<()> {
        self.link = Link::open(&self.address)?;
        Ok(())
    }

    fn record_above(&mut self, table: &Table, bytes: u64) -> Result<Option<LargeRecord>> {
        // Sizes of tables are guesses, and old ones; types are known.
        let long: u64 = self.link.number(&format!(
            "SELECT count(*) FROM information_schema.columns WHERE table_schema = database() \
             AND table_name = {} AND data_type NOT IN ('text', 'blob') \
             AND ifnull(character_octet_length, 4294967295) > 65535 AND data_type RLIKE \
             'text|blob|json|char|binary|geometry|point|line|polygon|collection'",
            text(&table.name)
        ))?;
        if long == 0 {
            return Ok(None);
        }
        let sizes: Vec<String> = table
            .columns
            .iter()
            .map(|column| format!("ifnull(octet_length({}), 0)", quoted(&column.name)))
            .collect();
        let keys: Vec<String> =
            table.key.iter().map(|name| format!(", {}", quoted(name))).collect();
        let question = format!(
            "SELECT {} AS fw_bytes{} FROM {} ORDER BY 1 DESC LIMIT 1",
            sizes.join(" + "),
            keys.concat(),
            quoted(&table.name)
        );
        let found = self.link.ask(&question)?;
        let Some(row) = found.first() else { return Ok(None) };
        let size: u64 = self.link.parsed(&question, row[0].as_deref())?;
        let key = table.key.iter().zip(&row[1..]);
        let shown: Vec<String> = key
            .map(|(name, value)| format!("{name} {}", value.as_deref().unwrap_or("NULL")))
            .collect();
        let record = if shown.is_empty() { "a record".into() } else { shown.join(", ") };
        Ok((size > bytes).then_some(LargeRecord { record, bytes: size }))
    }

    fn overview(&mut self, scope: &dyn Scope, counting: Counting) -> Result<Overview> {
        overview(&mut self.link, scope, counting)
    }

    fn begin(&mut self) -> Result<Vec<String>> {
        self.link.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")?;
        self.link.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")?;
        let listed = list(&mut self.link)?;
        let outside =
            |table: &&super::describe::Listed| table.is_table() && table.engine != "InnoDB";
        Ok(listed.iter().filter(outside).map(|table| table.name.clone()).collect())
    }

    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure> {
        let link = &mut self.link;
        let mut structure = Structure::default();
        let (mut positions, mut keys) = (Vec::new(), Vec::new());
        let inside = |name: &str| scope.holds(name);
        let listed = list(link)?;
        for one in listed.iter().filter(|one| one.kind == "SEQUENCE" && inside(&one.name)) {
            let (sql, position) = sequence(link, &one.name)?;
            structure.before.push(object(ObjectKind::Sequence, &one.name, sql));
            positions.push(object(ObjectKind::Sequence, &one.name, position));
        }
        for one in listed.iter().filter(|one| one.is_table() && inside(&one.name)) {
            let created = create_table(link, &one.name)?;
            let (sql, left_out) = without_host_options(&created.sql);
            let of_table = |what: &str| format!("of table {} {what}", one.name);
            structure.not_carried.extend(left_out.into_iter().map(of_table));
            structure.tables.push(describe_with_history(link, &one.name)?.table);
            let name = one.name.clone();
            structure.before.push(Statement::Table { name, at: 0..0, sql });
            for default in created.defaults {
                let (name, table, sql) = (default.name, Some(default.table), default.sql);
                positions.push(Statement::Object { kind: ObjectKind::Property, name, table, sql });
            }
            keys.extend(created.foreign_keys.into_iter().map(|key| Statement::ForeignKey {
                table: key.table,
                name: key.name,
                sql: key.sql,
            }));
        }
        let after = &mut structure.afterwards;
        after.extend(positions);
        after.extend(keys);
        let mut modes = Vec::new();
        let (views, triggers, events) =
            (views(link)?.found, triggers(link)?.found, events(link)?.found);
        let runs = views.iter().chain(&events).filter(|one| inside(&one.name));
        let runs = runs.chain(triggers.iter().filter(|one| inside(&one.table)));
        let (routines, others) = needed(routines(link)?.found, &inside, runs);
        structure.outside = others.into_iter().map(outside).collect();
        let not_chosen = |one: &&NamedSql| !inside(&one.name);
        structure
            .outside
            .extend(views.iter().chain(&events).filter(not_chosen).cloned().map(outside));
        structure.outside.extend(
            listed.iter().filter(|one| one.is_table() && !inside(&one.name)).map(|one| Outside {
                kind: "table".into(),
                name: one.name.clone(),
                sql: String::new(),
            }),
        );
        for routine in routines {
            in_mode(after, &mut modes, &routine.modes);
            after.push(object(ObjectKind::Routine, &routine.name, routine.sql));
        }
        for view in views.into_iter().filter(|view| inside(&view.name)) {
            in_mode(after, &mut modes, &view.modes);
            after.push(Statement::View { name: view.name, sql: view.sql });
        }
        for trigger in triggers.into_iter().filter(|one| inside(&one.table)) {
            in_mode(after, &mut modes, &trigger.modes);
            let (name, table, sql) = (trigger.name, trigger.table, trigger.sql);
            after.push(Statement::Trigger { name, table, sql });
        }
        for event in events.into_iter().filter(|one| inside(&one.name)) {
            in_mode(after, &mut modes, &event.modes);
            after.push(object(ObjectKind::Event, &event.name, event.sql));
        }
        Ok(structure)
    }

    fn in_order(&mut self, table: &Table) -> Result<bool> {
        let whole = self.link.one(&format!(
            "SELECT count(*) FROM information_schema.columns c \
             JOIN information_schema.statistics s USING (table_schema, table_name, column_name) \
             WHERE c.table_schema = database() AND c.table_name = {} AND index_name = 'PRIMARY' \
             AND data_type IN ('tinyint', 'smallint', 'mediumint', 'int', 'bigint')",
            text(&table.name)
        ))?;
        // Former states have the key of the present one.
        let one_state = with_history(&mut self.link, &table.name)?.is_empty();
        let whole = whole.and_then(|n| n.parse().ok()) == Some(table.key.len());
        Ok(whole && one_state && !table.key.is_empty())
    }

    fn rows(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Row) -> Result<()>,
    ) -> Result<()> {
        let described = describe_with_history(&mut self.link, &table.name)?;
        let history = with_history(&mut self.link, &table.name)?;
        let keys: Vec<String> = table.key.iter().map(|name| quoted(name)).collect();
        let order = match keys.is_empty() {
            true => String::new(),
            false => format!(" ORDER BY {}", keys.join(",")),
        };
        let columns = select_list(&described);
        let behind = behind.map(|place| format!(" WHERE {}", is_behind(&keys, place)));
        let behind = behind.unwrap_or_default();
        let name = quoted(&table.name);
        let query = format!("SELECT {columns} FROM {name}{history}{behind}{order}");
        stream(&mut self.link, &query, &described.travel, sink)
    }
}
