//! Building tables beside the old ones, under names of Fernweh's own.

use super::describe::{create_table, list, triggers, views};
use super::{Link, MariadbAddress, quoted, switch, text};
use fernweh_core::digest::sha256;
use fernweh_core::record::Row;
use fernweh_core::sql::{Dialect, Statement, write_insert_head, write_row};
use fernweh_ports::{
    DatabaseSwap, DatabaseTarget, Direction, Fingerprint, NamedSql, Overview, Result, Scope,
    SwapObjects, SwapTable, TablesSwap, Trouble, Watch,
};

/// Bytes of one `INSERT`, below the smallest usual packet limit.
const PACKET: usize = 1 << 20;

/// A database whose tables are to be replaced.
pub struct MariadbTarget {
    link: Link,
    run: String,
    tables: Vec<String>,
}

impl MariadbTarget {
    /// Logs in; `run` names what is built.
    pub fn open(address: &MariadbAddress, run: &str) -> Result<Self> {
        let run = sha256(run.as_bytes())[..8].to_owned();
        Ok(Self { link: Link::open(address)?, run, tables: Vec::new() })
    }

    /// The name for the new (`n`) or old (`o`) state of a table.
    fn aside(&self, kind: char, table: &str) -> String {
        format!("_fw{}_{kind}_{}", self.run, &sha256(table.as_bytes())[..16])
    }

    fn send(&mut self, table: &str, sql: &[u8]) -> Result<()> {
        let sent = self.link.try_run(sql);
        sent.map_err(|error| {
            let mut trouble = self.link.trouble("the database does not take a record", &error);
            trouble.place = Some(format!("table {table} of {}", self.link.shown));
            trouble
        })
    }

    /// What hangs on the tables that are there now, and on others that refer to them.
    fn present_objects(
        &mut self,
        replaced: &[String],
        new_views: &[String],
    ) -> Result<SwapObjects> {
        let mut objects = SwapObjects::default();
        for listed in list(&mut self.link)? {
            if listed.kind != "BASE TABLE" {
                continue;
            }
            let is_replaced = replaced.contains(&listed.name);
            let (_, keys) = create_table(&mut self.link, &listed.name)?;
            let refers = |key: &NamedSql| {
                replaced
                    .iter()
                    .any(|name| key.sql.contains(&format!("REFERENCES {} ", quoted(name))))
            };
            objects.foreign_keys.extend(keys.into_iter().filter(|key| is_replaced || refers(key)));
        }
        let hangs = |trigger: &NamedSql| replaced.contains(&trigger.table);
        objects.triggers = triggers(&mut self.link)?.into_iter().filter(hangs).collect();
        let again = |view: &NamedSql| new_views.contains(&view.name);
        objects.views = views(&mut self.link)?.into_iter().filter(again).collect();
        Ok(objects)
    }
}

impl DatabaseTarget for MariadbTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        super::source::overview(&mut self.link, scope)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        let lock = self.link.one("SELECT get_lock(concat('fernweh ', database()), 0)")?;
        if lock.as_deref() != Some("1") {
            return Err(Trouble::outside("another run is at work on this database")
                .at(self.link.shown.clone())
                .because("it holds the lock that Fernweh takes while it builds")
                .hint("wait until it has ended; fernweh runs lists what runs here"));
        }
        for statement in structure {
            let Statement::Table { name, at, sql } = statement else { continue };
            let built = quoted(&self.aside('n', name));
            let sql = format!("{}{built}{}", &sql[..at.start], &sql[at.end..]);
            self.link.run(format!("DROP TABLE IF EXISTS {built}"))?;
            self.link.try_run(&sql).map_err(|error| {
                self.link.trouble(&format!("the database does not take table {name}"), &error)
            })?;
            self.tables.push(name.clone());
        }
        // From here on literals are bytes in the character sets of their columns.
        self.link.run("SET NAMES binary")
    }

    fn write(&mut self, table: &str, columns: &[String], rows: &[Row]) -> Result<()> {
        let built = self.aside('n', table);
        let mut sql = Vec::new();
        for row in rows {
            if sql.is_empty() {
                write_insert_head(Dialect::Mariadb, &built, columns, &mut sql);
            } else {
                sql.extend_from_slice(b",\n");
            }
            write_row(Dialect::Mariadb, row, &mut sql);
            if sql.len() > PACKET {
                self.send(table, &sql)?;
                sql.clear();
            }
        }
        if sql.is_empty() { Ok(()) } else { self.send(table, &sql) }
    }

    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        let mut found = Vec::new();
        for name in tables {
            let query = format!("SELECT count(*) FROM {}", quoted(&self.aside('n', name)));
            let count = self.link.one(&query)?.and_then(|n| n.parse().ok()).unwrap_or(0);
            found.push((name.clone(), count));
        }
        Ok(found)
    }

    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap> {
        self.link.run("SET NAMES utf8mb4")?;
        let mut new = SwapObjects::default();
        for statement in afterwards {
            let object = |name: &String, table: &String, sql: &String| NamedSql {
                name: name.clone(),
                table: table.clone(),
                sql: sql.clone(),
            };
            match statement {
                Statement::ForeignKey { table, name, sql } => {
                    new.foreign_keys.push(object(name, table, sql));
                }
                Statement::Trigger { name, table, sql } => {
                    new.triggers.push(object(name, table, sql));
                }
                Statement::View { name, sql } => new.views.push(object(name, name, sql)),
                _ => {}
            }
        }
        let there: Vec<String> = list(&mut self.link)?.into_iter().map(|t| t.name).collect();
        let replaced: Vec<String> =
            self.tables.iter().filter(|name| there.contains(name)).cloned().collect();
        let new_views: Vec<String> = new.views.iter().map(|view| view.name.clone()).collect();
        let old = self.present_objects(&replaced, &new_views)?;
        // Keys of tables that stay must point at the new tables afterwards.
        let staying = old.foreign_keys.iter().filter(|key| !replaced.contains(&key.table));
        new.foreign_keys.extend(staying.cloned().collect::<Vec<_>>());
        let tables = self.tables.iter().map(|name| SwapTable {
            name: name.clone(),
            aside_new: self.aside('n', name),
            aside_old: there.contains(name).then(|| self.aside('o', name)),
        });
        Ok(DatabaseSwap::Tables(TablesSwap { tables: tables.collect(), old, new }))
    }

    fn discard(&mut self) -> Result<()> {
        let ours = format!("_fw{}_n_", self.run);
        let rows = self.link.ask(&format!(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database() \
             AND left(table_name, {}) = {}",
            ours.len(),
            text(&ours)
        ))?;
        for name in rows.into_iter().filter_map(|row| row.into_iter().next()?) {
            self.link.run(format!("DROP TABLE IF EXISTS {}", quoted(&name)))?;
        }
        Ok(())
    }

    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        watch: &dyn Watch,
    ) -> Result<()> {
        match swap {
            DatabaseSwap::Tables(swap) => switch::switch(&mut self.link, swap, direction, watch),
            _ => Ok(()),
        }
    }

    fn let_go(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<()> {
        let DatabaseSwap::Tables(swap) = swap else { return Ok(()) };
        for table in &swap.tables {
            let aside = match direction {
                Direction::Forward => table.aside_old.as_ref(),
                Direction::Back => Some(&table.aside_new),
            };
            if let Some(aside) = aside {
                self.link.run(format!("DROP TABLE IF EXISTS {}", quoted(aside)))?;
            }
        }
        Ok(())
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        let mut found = Fingerprint::default();
        for listed in list(&mut self.link)? {
            if listed.kind == "BASE TABLE" && tables.contains(&listed.name) {
                let query = format!("SELECT count(*) FROM {}", quoted(&listed.name));
                let count = self.link.one(&query)?.and_then(|n| n.parse().ok()).unwrap_or(0);
                found.rows.push((listed.name, count));
            }
        }
        let names: Vec<String> = found.rows.iter().map(|(name, _)| quoted(name)).collect();
        if !names.is_empty() {
            let sums = self.link.ask(&format!("CHECKSUM TABLE {}", names.join(",")))?;
            let sums: Vec<String> =
                sums.into_iter().filter_map(|row| row.into_iter().nth(1)?).collect();
            found.mark = sha256(sums.join(" ").as_bytes());
        }
        Ok(found)
    }
}
