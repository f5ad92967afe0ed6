//! A database whose tables are built under other names, and what is known of them until they are
//! switched.

use super::intake::{Intake, Packed};
use super::load::Loader;
use super::{Link, text};
use crate::server::{ServerAddress, Session, aside, short_run};
use fernweh_core::sql::{Modes, SecondaryKey, named_checks, renamed, with_known_collations};
use fernweh_ports::{PacketLimit, Result, Trouble};
use std::collections::{BTreeMap, BTreeSet};

/// Takes the lock of those who build in this database.
/// (Names of locks have 64 characters at most, and names of databases as well.)
pub(super) const LOCK: &str = "SELECT get_lock(concat('fernweh ', sha1(database())), 0)";

/// The keys of built tables that can wait.
#[derive(Default)]
pub(super) struct Waiting {
    /// By table.
    pub keys: BTreeMap<String, Vec<SecondaryKey>>,
    /// Bytes of rows above which the keys of a table wait, once that was asked.
    pub bound: Option<u64>,
    /// The table that takes rows at the moment, and bytes of rows that it took.
    pub filling: (String, u64),
    /// Tables of which it is settled whether their keys wait.
    pub settled: BTreeSet<String>,
}

/// A database whose tables are to be replaced.
pub struct MariadbTarget {
    pub(super) link: Link,
    pub(super) address: ServerAddress,
    pub(super) run: String,
    /// Tables and sequences that are built.
    pub(super) tables: Vec<String>,
    /// The collations of the server.
    pub(super) collations: BTreeSet<String>,
    /// Those of the archive that it does not know, and what took their place.
    pub(super) replaced: BTreeMap<String, Option<String>>,
    /// Tables that go although nothing takes their place.
    pub(super) removed: Vec<String>,
    /// Objects of the archive that the server has refused.
    pub(super) not_created: Vec<String>,
    pub(super) loader: Loader,
    /// The tables from which the rows were packed, if they come into others.
    pub(super) packed: Option<BTreeMap<String, Packed>>,
    /// What of tables was said otherwise than the archive says it.
    pub(super) otherwise: BTreeSet<String>,
    /// How large a record may be, once that was asked.
    pub(super) limit: Option<PacketLimit>,
    /// How the table at hand takes rows.
    pub(super) intake: Option<Intake>,
    /// Keys that wait until the rows are in.
    pub(super) waiting: Waiting,
    /// It only fills tables that another connection has built.
    pub(super) is_second: bool,
}

impl MariadbTarget {
    /// Logs in; `run` names what is built.
    pub fn open(address: &ServerAddress, run: &str) -> Result<Self> {
        Self::of_run(address, short_run(run))
    }

    fn of_run(address: &ServerAddress, run: String) -> Result<Self> {
        let link = Link::open_for_one(address)?;
        let (collations, replaced) = (BTreeSet::new(), BTreeMap::new());
        let (tables, removed, not_created) = (Vec::new(), Vec::new(), Vec::new());
        let (loader, packed, intake, limit) = (Loader::default(), None, None, None);
        Ok(Self {
            link,
            address: address.clone(),
            run,
            tables,
            collations,
            replaced,
            removed,
            not_created,
            otherwise: BTreeSet::new(),
            loader,
            packed,
            intake,
            limit,
            waiting: Waiting::default(),
            is_second: false,
        })
    }

    /// A second connection that fills tables which this one has built.
    pub(super) fn second(&mut self) -> Result<Option<Self>> {
        // How texts are converted on their way into tables that are there is known here alone; and
        // MySQL does not tell how many cores it has.
        if self.packed.is_some() || !self.link.server.is_mariadb() {
            return Ok(None);
        }
        // Left alone, the pool of threads is as large as the host has cores.
        let cores = self.link.try_ask("SELECT @@thread_pool_size").unwrap_or_default();
        let cores = cores.into_iter().flatten().flatten().next().and_then(|n| n.parse().ok());
        if cores.unwrap_or(1) < 2_u32 {
            return Ok(None);
        }
        // Hosts limit connections; whatever the reason, one is enough.
        let Ok(mut second) = Self::of_run(&self.address, self.run.clone()) else {
            return Ok(None);
        };
        second.tables.clone_from(&self.tables);
        second.waiting.keys.clone_from(&self.waiting.keys);
        second.is_second = true;
        second.expect_rows()?;
        Ok(Some(second))
    }

    /// Takes the lock of those who build in this database. A process of this run that is gone may
    /// hold it: its statement goes on for as long as that takes, and nobody waits for it.
    pub(super) fn hold(&mut self) -> Result<()> {
        if self.link.one(LOCK)?.as_deref() == Some("1") {
            return Ok(());
        }
        // What has been begun is taken back before the lock is free.
        let wait = if self.end_abandoned()? { 60 } else { 0 };
        self.link.lock(&LOCK.replace(", 0)", &format!(", {wait})")), "1")
    }

    /// Ends statements of this run over other connections; tells whether there were any.
    pub(super) fn end_abandoned(&mut self) -> Result<bool> {
        let abandoned = self.link.ask(&format!(
            "SELECT id FROM information_schema.processlist \
             WHERE db = database() AND id <> connection_id() AND instr(info, {}) > 0",
            text(&format!("_fw{}_", self.run))
        ))?;
        let abandoned: Vec<String> = abandoned.into_iter().flatten().flatten().collect();
        for id in &abandoned {
            // It may have ended by itself.
            let _ = self.link.try_run(format!("KILL {id}"));
        }
        Ok(!abandoned.is_empty())
    }

    /// The session in which rows are written.
    pub(super) fn expect_rows(&mut self) -> Result<()> {
        // Former states of rows, and records that break a check, come as they are, where the
        // server knows these settings.
        let _ = self.link.try_run("SET SESSION check_constraint_checks = 0");
        let _ = self.link.try_run("SET SESSION system_versioning_insert_history = 1");
        // From here on literals are bytes in the character sets of their columns.
        self.link.run("SET NAMES binary")
    }

    pub(super) fn learn_collations(&mut self) -> Result<()> {
        let mut names =
            self.link.ask("SELECT collation_name FROM information_schema.collations")?;
        // Newer servers list collations of several character sets under one short name.
        names.extend(
            self.link
                .ask(
                    "SELECT full_collation_name \
                     FROM information_schema.collation_character_set_applicability",
                )
                .unwrap_or_default(),
        );
        self.collations = names
            .into_iter()
            .filter_map(|row| Some(row.into_iter().next()??.to_ascii_lowercase()))
            .collect();
        Ok(())
    }

    pub(super) fn with_collations(&mut self, modes: Modes, sql: &str) -> String {
        with_known_collations(sql, modes, &self.collations, &mut self.replaced)
    }

    /// A statement that creates a table, as this server would say it; what it says otherwise than
    /// the archive is noted.
    pub(super) fn in_words_of_server(&mut self, table: &str, sql: &str) -> Result<String> {
        let sql = self.with_collations(Modes::default(), sql);
        let mut notes = Vec::new();
        let mut sql = self.link.server.table(&sql, &mut notes);
        // From here on names of checks are those of a whole database.
        if self.link.server.is_mysql_from((8, 0, 16)) {
            for (name, range) in named_checks(&sql).into_iter().rev() {
                let own = name.strip_prefix(table).and_then(|rest| rest.strip_prefix("_chk_"));
                // A name of the server's own follows the table.
                let follows = own.is_some_and(|n| n.bytes().all(|byte| byte.is_ascii_digit()));
                if follows || self.is_name_of_check(&name)? {
                    sql.replace_range(range, "");
                    if !follows {
                        notes.push(format!(
                            "check {name} got a name from the server: its own is taken"
                        ));
                    }
                }
            }
        }
        self.otherwise.extend(notes.into_iter().map(|note| format!("table {table}: {note}")));
        Ok(sql)
    }

    fn is_name_of_check(&mut self, name: &str) -> Result<bool> {
        let found = self.link.number::<u64>(&format!(
            "SELECT count(*) FROM information_schema.table_constraints \
             WHERE constraint_schema = database() AND constraint_type = 'CHECK' \
             AND constraint_name = {}",
            text(name)
        ))?;
        Ok(found > 0)
    }

    /// Makes a sequence aside, or sets it.
    pub(super) fn sequence(&mut self, name: &str, sql: &str) -> Result<()> {
        let aside = self.aside('n', name);
        let unreadable = || Trouble::damaged(format!("sequence {name} cannot be read"));
        let sql = renamed(sql, &aside).ok_or_else(unreadable)?;
        self.link.run(sql)
    }

    /// The name for the new (`n`) or old (`o`) state of a table.
    pub(super) fn aside(&self, kind: char, table: &str) -> String {
        aside(&self.run, kind, table)
    }
}
