//! What could fail when the tables have changed places is tried before, on what is built.
//!
//! Keys, triggers and defaults of the new tables come after the switch, since their names are
//! taken until then. Here each is looked at, or made under another name and taken away again.

use super::afterwards::key_parts;
use super::build::MariadbTarget;
use super::{quoted, switch, text};
use crate::server::{Session, is_aside};
use fernweh_core::sql::{moved_trigger, sequences_in};
use fernweh_ports::{NamedSql, Result, SwapObjects, Trouble};

impl MariadbTarget {
    /// Refuses a switch that could not be completed. `staying` are keys of tables that stay and
    /// refer to tables that are replaced.
    pub(super) fn foresee(
        &mut self,
        new: &SwapObjects,
        staying: &[NamedSql],
        replaced: &[String],
    ) -> Result<()> {
        self.key_names_are_free(&new.foreign_keys, replaced)?;
        for key in staying {
            self.key_fits(key)?;
        }
        for default in &new.defaults {
            self.sequences_are_there(default)?;
        }
        for trigger in &new.triggers {
            self.trigger_is_allowed(trigger)?;
        }
        Ok(())
    }

    fn refuse(&self, what: String, because: String, hint: &str) -> Trouble {
        Trouble::outside(what).at(self.link.shown.clone()).because(because).hint(hint)
    }

    /// Names of keys are unique in a database.
    fn key_names_are_free(&mut self, keys: &[NamedSql], replaced: &[String]) -> Result<()> {
        let taken = self.link.ask(
            "SELECT constraint_name, table_name FROM information_schema.table_constraints \
             WHERE constraint_schema = database() AND constraint_type = 'FOREIGN KEY'",
        )?;
        for row in taken {
            let mut cells = row.into_iter().flatten();
            let (Some(name), Some(table)) = (cells.next(), cells.next()) else { continue };
            let same = |key: &&NamedSql| key.name.eq_ignore_ascii_case(&name);
            if replaced.contains(&table) || is_aside(&table) {
                continue;
            }
            if let Some(key) = keys.iter().find(same).filter(|key| key.table != table) {
                return Err(self.refuse(
                    format!("foreign key {name} of table {} cannot be made", key.table),
                    format!("table {table}, which stays, has a key of this name"),
                    "rename the key of the table that stays, or include that table",
                ));
            }
        }
        Ok(())
    }

    /// A key of a table that stays needs columns of the same kind in the new table, and an index.
    fn key_fits(&mut self, key: &NamedSql) -> Result<()> {
        let Some((columns, parent, others)) = key_parts(&key.sql) else { return Ok(()) };
        if !self.tables.contains(&parent) {
            // It goes, and the key leads nowhere: that is said as an orphan.
            return Ok(());
        }
        let built = self.aside('n', &parent);
        for (column, other) in columns.iter().zip(&others) {
            let (here, there) = (self.kind_of(&key.table, column)?, self.kind_of(&built, other)?);
            if here != there {
                return Err(self.refuse(
                    format!("table {parent} cannot be replaced"),
                    format!(
                        "foreign key {} of table {}, which stays, refers to its column {other} as \
                         {}; in the new table it is {}",
                        key.name,
                        key.table,
                        here.unwrap_or_else(|| "missing".into()),
                        there.unwrap_or_else(|| "missing".into()),
                    ),
                    "drop that key, or include its table",
                ));
            }
        }
        let first = others.first().map(|name| name.trim_matches('`').replace("``", "`"));
        let indexed: u64 = self.link.number(&format!(
            "SELECT count(*) FROM information_schema.statistics WHERE table_schema = database() \
             AND table_name = {} AND seq_in_index = 1 AND column_name = {}",
            text(&built),
            text(&first.unwrap_or_default())
        ))?;
        if indexed == 0 {
            return Err(self.refuse(
                format!("table {parent} cannot be replaced"),
                format!(
                    "foreign key {} of table {}, which stays, needs an index on {} that the new \
                     table does not have",
                    key.name,
                    key.table,
                    others.join(", ")
                ),
                "drop that key, or include its table",
            ));
        }
        Ok(())
    }

    /// What two columns of a key must have in common.
    fn kind_of(&mut self, table: &str, column: &str) -> Result<Option<String>> {
        let column = column.trim_matches('`').replace("``", "`");
        // Lengths of texts and the width that is shown may differ; signs and collations may not.
        self.link.one(&format!(
            "SELECT concat(data_type, if(column_type LIKE '%unsigned%', ' unsigned', ''), \
             ifnull(concat(' ', collation_name), ''), \
             if(data_type = 'decimal', concat(' ', numeric_precision, ',', numeric_scale), '')) \
             FROM information_schema.columns WHERE table_schema = database() \
             AND table_name = {} AND column_name = {}",
            text(table),
            text(&column)
        ))
    }

    fn sequences_are_there(&mut self, default: &NamedSql) -> Result<()> {
        for name in sequences_in(&default.sql) {
            if !self.tables.contains(&name) && !switch::exists(&mut self.link, &name)? {
                return Err(self.refuse(
                    format!("column {} of table {} has no default", default.name, default.table),
                    format!("it takes numbers from sequence {name}, which is not included"),
                    "include the sequence with --tables, or set tables of both sites so that it \
                     belongs to them",
                ));
            }
        }
        Ok(())
    }

    /// Some servers let only administrators make triggers (error 1419).
    fn trigger_is_allowed(&mut self, trigger: &NamedSql) -> Result<()> {
        let (name, table) = (format!("_fw{}_trial", self.run), self.aside('n', &trigger.table));
        let Some(sql) = moved_trigger(&trigger.sql, &name, &table) else { return Ok(()) };
        let tried = NamedSql { sql, ..trigger.clone() };
        switch::in_modes(&mut self.link, &tried).map_err(|error| {
            self.link
                .trouble(&format!("the database refuses trigger {}", trigger.name), &error)
                .hint(
                    "ask the host for the right to make triggers, or drop the trigger at the \
                     source before packing",
                )
        })?;
        self.link.run(format!("DROP TRIGGER {}", quoted(&name)))
    }
}
