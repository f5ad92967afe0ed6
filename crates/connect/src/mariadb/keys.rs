//! Keys of large tables, which are made when the rows are in.
//!
//! As long as the keys of a table fit the memory of the server, they are filled with the rows. From
//! a size on that the server's own settings suggest they would be read and written page by page, so
//! they are taken off there and made at once at the end, which sorts them. Whether a key is there is
//! asked of the server alone: a run that goes on needs to know nothing else.

use super::build::MariadbTarget;
use super::describe::describe;
use super::load::parameter;
use super::source::{select_list, stream};
use super::{Link, code, quoted, text};
use crate::server::Session;
use fernweh_core::limits;
use fernweh_core::record::{Table, Value, weight_of};
use fernweh_core::sql::{SecondaryKey, secondary_keys};
use fernweh_ports::{InTheWay, Result, RowBatch, Trouble, WaitingKeys};
use mysql_async::Params;
use mysql_async::prelude::Queryable;
use std::collections::BTreeSet;

/// Records in the way of a key that are dealt with together.
const TOGETHER: usize = 500;

/// One value twice, in the words of the server.
const DUPLICATE: [u16; 3] = [1062, 1586, 1859];

impl MariadbTarget {
    /// Notes which keys of a table can wait; `sql` is the statement that makes it on this server.
    pub(super) fn note_keys(&mut self, table: &str, sql: &str) {
        self.waiting.keys.insert(table.to_owned(), secondary_keys(sql));
    }

    /// Bytes of rows above which the keys of a table wait: by then they take so much of the memory
    /// in which the server holds pages that the next pages push them out.
    pub(super) fn key_bound(&mut self) -> Result<u64> {
        match self.waiting.bound {
            Some(bound) => Ok(bound),
            None => {
                let pool: u64 = self.link.number("SELECT @@innodb_buffer_pool_size")?;
                Ok(*self.waiting.bound.insert(pool / 2))
            }
        }
    }

    /// Takes the keys off a table that is about to outgrow the server's memory.
    pub(super) fn make_way(&mut self, rows: &RowBatch) -> Result<()> {
        let keys = self.waiting.keys.get(&rows.table);
        if self.waiting.settled.contains(&rows.table) || keys.is_none_or(Vec::is_empty) {
            return Ok(());
        }
        let filling = &mut self.waiting.filling;
        if filling.0 != rows.table {
            *filling = (rows.table.clone(), 0);
        }
        filling.1 += weight_of(&rows.rows) as u64;
        if filling.1 <= self.key_bound()? {
            return Ok(());
        }
        self.waiting.settled.insert(rows.table.clone());
        let there = self.keys_there(&rows.table)?;
        let keys = self.waiting.keys.get(&rows.table).into_iter().flatten();
        let drops: Vec<String> = keys
            .filter(|key| there.contains(&key.name))
            .map(|key| format!("DROP KEY {}", quoted(&key.name)))
            .collect();
        if drops.is_empty() {
            return Ok(());
        }
        self.loader.end(&mut self.link)?;
        self.link.run("SET NAMES utf8mb4")?;
        let table = quoted(&self.aside('n', &rows.table));
        match self.link.try_run(format!("ALTER TABLE {table} {}", drops.join(", "))) {
            Err(error) if Link::is_lost(&error) => {
                return Err(self.link.trouble("the keys cannot be removed", &error));
            }
            // Where a server forbids it the keys are filled with the rows, as slow as that is.
            _ => {}
        }
        self.link.run("SET NAMES binary")
    }

    /// The names of the keys that a built table has.
    fn keys_there(&mut self, table: &str) -> Result<BTreeSet<String>> {
        let built = self.aside('n', table);
        let names = self.link.ask(&format!(
            "SELECT DISTINCT index_name FROM information_schema.statistics \
             WHERE table_schema = database() AND table_name = {}",
            text(&built)
        ))?;
        Ok(names.into_iter().filter_map(|row| row.into_iter().next()?).collect())
    }

    fn missing(&mut self, table: &str) -> Result<Vec<SecondaryKey>> {
        let there = self.keys_there(table)?;
        let keys = self.waiting.keys.get(table).into_iter().flatten();
        Ok(keys.filter(|key| !there.contains(&key.name)).cloned().collect())
    }

    /// The tables that are short of keys.
    pub(super) fn short_of_keys(&mut self) -> Result<Vec<WaitingKeys>> {
        self.loader.end(&mut self.link)?;
        let tables: Vec<String> = self.waiting.keys.keys().cloned().collect();
        let mut found = Vec::new();
        for table in tables {
            let keys = self.missing(&table)?.len() as u64;
            if keys > 0 {
                found.push(WaitingKeys { table, keys });
            }
        }
        Ok(found)
    }

    /// Makes the keys that a table is short of; gives records that are in the way of one.
    pub(super) fn add_keys(&mut self, table: &str) -> Result<Option<InTheWay>> {
        self.link.run("SET NAMES utf8mb4")?;
        let missing = self.missing(table)?;
        if missing.is_empty() {
            return Ok(None);
        }
        let mut refused = match self.add(table, &missing, "") {
            Ok(()) => return Ok(None),
            Err(error) => error,
        };
        if !Link::is_lost(&refused) && !DUPLICATE.contains(&code(&refused)) {
            // One at a time takes less temporary room, and a copy of the table takes none.
            for key in &missing {
                let one = std::slice::from_ref(key);
                let added = self.add(table, one, "").or_else(|error| match code(&error) {
                    code if code == 0 || DUPLICATE.contains(&code) => Err(error),
                    _ => self.add(table, one, ", ALGORITHM=COPY"),
                });
                if let Err(error) = added {
                    refused = error;
                    break;
                }
            }
            if self.missing(table)?.is_empty() {
                return Ok(None);
            }
        }
        if DUPLICATE.contains(&code(&refused)) {
            for key in &missing {
                if let Some(found) = self.in_the_way(table, key)? {
                    return Ok(Some(found));
                }
            }
        }
        let what = format!("the keys of table {table} cannot be created");
        Err(self.link.trouble(&what, &refused))
    }

    fn add(
        &mut self,
        table: &str,
        keys: &[SecondaryKey],
        how: &str,
    ) -> std::result::Result<(), mysql_async::Error> {
        let adds: Vec<String> = keys.iter().map(|key| format!("ADD {}", key.sql)).collect();
        let table = quoted(&self.aside('n', table));
        self.link.try_run(format!("ALTER TABLE {table} {}{how}", adds.join(", ")))
    }

    /// Records whose values of a unique key an earlier record has already.
    fn in_the_way(&mut self, table: &str, key: &SecondaryKey) -> Result<Option<InTheWay>> {
        let Some(parts) = &key.unique else { return Ok(None) };
        let built = self.aside('n', table);
        let described = describe(&mut self.link, &built)?;
        let Table { columns, key: primary, .. } = &described.table;
        let query = duplicates(&quoted(&built), parts, primary, &select_list(&described));
        let travel: Vec<_> =
            [super::describe::Travel::Number].into_iter().chain(described.travel.clone()).collect();
        let (mut rows, mut weight, mut left) = (Vec::new(), 0, 0_u64);
        stream(&mut self.link, &query, &travel, &mut |mut row| {
            let count = row.remove(0);
            // The first of those that are alike stays.
            if left == 0 {
                left = number(&count);
            } else if weight < limits::ROWS_PORTION {
                weight += weight_of(std::slice::from_ref(&row));
                rows.push(row);
            }
            left = left.saturating_sub(1);
            Ok(())
        })?;
        let columns = columns.iter().map(|column| column.name.clone()).collect();
        let rows = RowBatch { table: table.to_owned(), columns, rows };
        let because = format!("key {} takes a value once, and an earlier record has it", key.name);
        Ok((!rows.rows.is_empty()).then_some(InTheWay { rows, because }))
    }

    /// Takes records out of a built table, each by its primary key.
    pub(super) fn remove_rows(&mut self, rows: &RowBatch) -> Result<()> {
        let built = self.aside('n', &rows.table);
        let key = describe(&mut self.link, &built)?.table.key;
        let places: Vec<usize> = key
            .iter()
            .filter_map(|name| rows.columns.iter().position(|column| column == name))
            .collect();
        let conditions: Vec<String> =
            key.iter().map(|name| format!("{} = ?", quoted(name))).collect();
        let sql = format!("DELETE FROM {} WHERE {}", quoted(&built), conditions.join(" AND "));
        // Values are compared as the bytes that they are.
        self.link.run("SET NAMES binary")?;
        // All of them, or none if the connection is lost.
        self.link.run("START TRANSACTION")?;
        for row in &rows.rows {
            let values = places.iter().map(|place| parameter(&row[*place])).collect();
            let Link { runtime, conn, .. } = &mut self.link;
            let sent = runtime.block_on(conn.exec_drop(&sql, Params::Positional(values)));
            let what = "a record cannot be left out";
            sent.map_err(|error| self.link.trouble(what, &error))?;
            if self.link.conn.affected_rows() != 1 {
                return Err(Trouble::outside(what)
                    .at(format!("table {} of {}", rows.table, self.link.shown))
                    .because("its primary key finds no record, or several")
                    .hint("correct the record at the source, and pack again"));
            }
        }
        self.link.run("COMMIT")
    }
}

fn number(value: &Value) -> u64 {
    match value {
        Value::Number(digits) => String::from_utf8_lossy(digits).parse().unwrap_or(0),
        _ => 0,
    }
}

/// The records that are alike in all parts of a key, those that are alike together, each with how
/// many they are.
fn duplicates(table: &str, parts: &[String], primary: &[String], columns: &str) -> String {
    let numbered = || parts.iter().enumerate();
    let named: Vec<String> = numbered().map(|(n, part)| format!("{part} AS fw_{n}")).collect();
    let filled: Vec<String> = parts.iter().map(|part| format!("{part} IS NOT NULL")).collect();
    let groups: Vec<String> = numbered().map(|(n, _)| format!("fw_{n}")).collect();
    let same: Vec<String> = numbered().map(|(n, part)| format!("{part} = fw_{n}")).collect();
    let order: Vec<String> =
        groups.iter().cloned().chain(primary.iter().map(|name| quoted(name))).collect();
    format!(
        "SELECT fw_count, {columns} FROM {table} JOIN (SELECT {}, count(*) AS fw_count FROM \
         {table} \
         WHERE {} GROUP BY {} HAVING count(*) > 1 LIMIT {TOGETHER}) AS fw_alike ON {} ORDER BY {}",
        named.join(", "),
        filled.join(" AND "),
        groups.join(", "),
        same.join(" AND "),
        order.join(", ")
    )
}
