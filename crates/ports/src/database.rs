//! Databases: reading them at one moment, building and switching them, editing cells.

use crate::{CameIn, DatabaseSwap, NewFile, Result, TableMark};
use fernweh_core::archive::LargeRecord;
use fernweh_core::finding::Check;
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::sql::{Dialect, Outside, Statement};
use serde::{Deserialize, Serialize};

/// Which tables belong to the site.
pub trait Scope {
    /// Whether this table does.
    fn holds(&self, table: &str) -> bool;
}

impl<F: Fn(&str) -> bool> Scope for F {
    fn holds(&self, table: &str) -> bool {
        self(table)
    }
}

/// A table as a survey shows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TableInfo {
    /// Its name.
    pub name: String,
    /// Its number of records.
    pub rows: u64,
    /// Its size in bytes, indexes included, as the engine tells.
    pub bytes: u64,
}

/// What a database is and holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Overview {
    /// Whose SQL it speaks.
    pub dialect: Dialect,
    /// Engine and version.
    pub version: String,
    /// The default character set.
    pub charset: String,
    /// The default collation.
    pub collation: String,
    /// The tables of the site, by name.
    pub tables: Vec<TableInfo>,
    /// Objects of kinds that this version does not carry, by kind and name.
    pub not_carried: Vec<String>,
    /// What was tested.
    pub checks: Vec<Check>,
    /// Bytes free where the database lives, if that can be known.
    pub free: Option<u64>,
}

/// The structure of a database.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Structure {
    /// The tables that hold rows.
    pub tables: Vec<Table>,
    /// What rows need: settings of the file, types, sequences, tables.
    pub before: Vec<Statement>,
    /// What needs rows: keys, indexes, views, routines, triggers.
    pub afterwards: Vec<Statement>,
    /// Tables, views, routines and events of the database that are not among these.
    pub outside: Vec<Outside>,
    /// What of these is not said, for people: it belongs to the disk of the host.
    pub not_carried: Vec<String>,
}

/// How well records are counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counting {
    /// One by one, which may read the whole table.
    Exact,
    /// As far as the server knows without reading a large table.
    Rough,
}

impl Counting {
    /// Bytes up to which a table is counted in any case; it takes no time.
    const SMALL: u64 = 16 << 20;

    /// Whether a table of this size is counted one by one.
    pub fn counts(self, bytes: u64) -> bool {
        self == Counting::Exact || bytes <= Self::SMALL
    }
}

/// A database that is read at one moment.
pub trait DatabaseSource: Send {
    /// The largest record of a table, if it has more than so many bytes; `None`, too, for engines
    /// that bound no records.
    fn record_above(&mut self, table: &Table, bytes: u64) -> Result<Option<LargeRecord>> {
        let _ = (table, bytes);
        Ok(None)
    }
    /// What it is and holds.
    fn overview(&mut self, scope: &dyn Scope, counting: Counting) -> Result<Overview>;
    /// Begins to read at one moment; every read until the source is dropped sees that
    /// moment. Gives tables that cannot take part in it.
    fn begin(&mut self) -> Result<Vec<String>>;
    /// The structure, in an order in which it can be created.
    fn structure(&mut self, scope: &dyn Scope) -> Result<Structure>;
    /// Rows of a table, in a stable order where there is one; all, or those behind a key.
    fn rows(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Row) -> Result<()>,
    ) -> Result<()>;
    /// The same rows as lines of text, as an archive of this engine holds them, some at a time;
    /// `false`, and no rows, if the engine has no such lines.
    fn lines(
        &mut self,
        table: &Table,
        behind: Option<&KeyPosition>,
        sink: &mut dyn FnMut(Lines) -> Result<()>,
    ) -> Result<bool> {
        let _ = (table, behind, sink);
        Ok(false)
    }
    /// Whether the rows of a table come in the order of whole numbers that are its key, so
    /// that reading can go on behind one of them.
    fn in_order(&mut self, table: &Table) -> Result<bool>;
    /// Connects anew after the connection was lost; what was one moment is so no longer.
    fn reopen(&mut self) -> Result<()>;
}

/// Rows of a table as lines of text, each with its line break.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lines {
    /// The lines.
    pub text: Vec<u8>,
    /// How many they are.
    pub rows: u64,
    /// The key of the last one, if it is made of whole numbers.
    pub last: Option<KeyPosition>,
}

/// A place among the rows of a table: the whole numbers, in decimal digits, that are the key
/// of a row.
pub type KeyPosition = Vec<String>;

/// How to go: to the new state, or back to the old one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// To the new state.
    Forward,
    /// To the old state.
    Back,
}

/// A mark by which later writing is noticed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Fingerprint {
    /// Records by table.
    pub rows: Vec<(String, u64)>,
    /// Something of the engine that changes whenever something is written.
    pub mark: String,
}

impl Fingerprint {
    /// The tables.
    pub fn tables(&self) -> Vec<String> {
        self.rows.iter().map(|(table, _)| table.clone()).collect()
    }
}

/// Rows for a table.
#[derive(Clone, Debug, PartialEq)]
pub struct RowBatch {
    /// The table.
    pub table: String,
    /// The columns, in the order of the values.
    pub columns: Vec<String>,
    /// The rows.
    pub rows: Vec<Row>,
}

/// How large a record may be that is sent to a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PacketLimit {
    /// Bytes of a statement.
    pub bytes: u64,
    /// Larger records come in all the same, by bulk loading; programs of the site cannot write
    /// them, and may not be able to read them.
    pub bulk: bool,
}

/// A row that a database does not take as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rejected {
    /// Its place in the portion.
    pub row: usize,
    /// Why, in the words of the database.
    pub because: String,
    /// Whether it is in all the same, with a value changed.
    pub adapted: bool,
}

/// A table that is short of keys.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WaitingKeys {
    /// The table.
    pub table: String,
    /// How many keys.
    pub keys: u64,
}

/// Records in the way of a unique key: earlier ones have the same values.
#[derive(Clone, Debug, PartialEq)]
pub struct InTheWay {
    /// The records.
    pub rows: RowBatch,
    /// Which key, in words.
    pub because: String,
}

/// A database that is built beside the old one and takes its place.
pub trait DatabaseTarget: Send {
    /// What is there now.
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview>;
    /// Builds the tables beside the old ones. Nothing that the site sees changes.
    fn build(&mut self, structure: &[Statement]) -> Result<()>;
    /// Adds rows to a table that is being built. Gives those that the database rejects; the
    /// others are in. With `adapt`, values that do not fit are changed by the database itself
    /// where it can do that, and said to be.
    fn write(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>>;
    /// Bytes of rows above which the keys of a table are made when its rows are in; `None` where
    /// that is always so, or never.
    fn keys_wait_above(&mut self) -> Result<Option<u64>> {
        Ok(None)
    }
    /// The tables that are short of keys which wait until the rows are in. Asked when they are.
    fn waiting_keys(&mut self) -> Result<Vec<WaitingKeys>> {
        Ok(Vec::new())
    }
    /// Makes the keys that a table is short of. Where records are in the way of a unique one, gives
    /// some of them; once they are taken out it is to be tried again.
    fn make_keys(&mut self, table: &str) -> Result<Option<InTheWay>> {
        let _ = table;
        Ok(None)
    }
    /// Takes records that were in the way of a key out of a table that is being built.
    fn take_out(&mut self, rows: &RowBatch) -> Result<()> {
        let _ = rows;
        Ok(())
    }
    /// Another connection that adds rows to other tables of those that this one has built, in the same
    /// time; `None` where there is none to be had, or the server has no core to spare for it. It is
    /// gone before anything else is asked of this one.
    fn helper(&mut self) -> Result<Option<Box<dyn DatabaseTarget>>> {
        Ok(None)
    }
    /// Makes sure that what has been written stays, whatever becomes of the connection.
    fn secure(&mut self) -> Result<()>;
    /// Connects anew to what `build` has made, in this run or in one that was broken off;
    /// `false` if it is not all there.
    fn resume(&mut self, structure: &[Statement]) -> Result<bool>;
    /// What of a structure this database cannot take, or takes in another way.
    fn incompatibilities(&mut self, from: &Overview, structure: &Structure) -> Result<Vec<Check>>;
    /// What the login could do beyond the site's own database, in words: with it, a body of an
    /// archive could harm what is not the site's. Empty for a login of the site's own, and
    /// where there is no login.
    fn powers(&mut self) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
    /// What bounds the size of a record, if anything does.
    fn packet_limit(&mut self) -> Result<Option<PacketLimit>> {
        Ok(None)
    }
    /// Only some tables are built: types and routines that are there already are used, not
    /// replaced. Said before `build`.
    fn use_what_is_there(&mut self) {}
    /// The rows come into tables as they are there, and not as they were packed: texts are
    /// converted to the characters of the columns, and a record whose values would be rounded or
    /// cut is rejected. Said before `build`, with the structure from which they were packed.
    fn rows_only(&mut self, packed: &[Statement]) {
        let _ = packed;
    }
    /// These tables go with the old state, although nothing takes their place. Said before
    /// `finish`.
    fn remove(&mut self, tables: &[String]);
    /// The new database as a file that is still to be put among the new files of the site.
    /// Asked after `finish`.
    fn new_file(&mut self) -> Result<Option<NewFile>> {
        Ok(None)
    }
    /// Builds what needs rows, as far as that is possible beside the old state, and plans
    /// the switch.
    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap>;
    /// Objects of the site that the switch puts aside, by kind and name, where they are no tables
    /// and hang on none: views, routines, events, types. Asked after `finish`.
    fn replaces(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        let _ = swap;
        Ok(Vec::new())
    }
    /// Records whose foreign keys lead nowhere once the built tables are in place, in words.
    /// Asked after `finish`.
    fn orphans(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>>;
    /// What was built otherwise than the archive says, in words.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }
    /// Objects of the archive that this database has refused, in words. Asked after `finish`, and
    /// again after `switch`.
    fn not_created(&self) -> Vec<String> {
        Vec::new()
    }
    /// The rows that the built tables hold.
    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>>;
    /// A mark of the tables as they are now that is another after every write, however long it
    /// takes to make it.
    fn exact_mark(&mut self, tables: &[String]) -> Result<Fingerprint> {
        self.fingerprint(tables)
    }
    /// Removes the rows of the tables of the site of which `expected` is the exact mark, so that
    /// there is room for new ones. They are not kept. They are compared and removed under one
    /// lock, as far as the rights allow, and `agreed` is called in between; `false` if they are
    /// not the same any more, and then nothing is removed.
    fn clear(
        &mut self,
        expected: &Fingerprint,
        agreed: &mut dyn FnMut() -> Result<()>,
    ) -> Result<bool>;
    /// Removes what was built and not switched. Safe to call at any time before the switch.
    fn discard(&mut self) -> Result<()>;
    /// Makes the switch; doing it twice is the same as once.
    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        progress: &dyn crate::Progress,
    ) -> Result<()>;
    /// Notes in the database itself that this run keeps a state there, or that it does no more.
    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        let _ = (run, note);
        Ok(())
    }
    /// What was noted there, by whatever folder and machine. It comes from outside.
    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        Ok(Vec::new())
    }
    /// The switch of a run that another folder has made, as this one would have planned it.
    ///
    /// # Errors
    ///
    /// What was noted comes from outside: whatever would touch more than the run has built and
    /// put aside is refused.
    fn adopted(&mut self, swap: &DatabaseSwap) -> Result<DatabaseSwap> {
        let _ = swap;
        Err(crate::foreign("this kind of database"))
    }
    /// Marks of tables of the site that will be replaced; `rows` says how many records each has.
    fn marks(&mut self, rows: &[(String, u64)]) -> Result<Vec<TableMark>> {
        let unmarked = |(table, rows): &(String, u64)| TableMark {
            table: table.clone(),
            rows: *rows,
            mark: None,
        };
        Ok(rows.iter().map(unmarked).collect())
    }
    /// What came into these tables since then. Asked after the switch, when nobody writes into
    /// the old state any more; empty if it is not known at all.
    fn came_in(&mut self, swap: &DatabaseSwap, before: &[TableMark]) -> Result<Vec<CameIn>> {
        let _ = (swap, before);
        Ok(Vec::new())
    }
    /// What of the kept state is not there any more that a switch in this direction would bring
    /// into place, in words.
    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>>;
    /// Bytes that the kept state takes, as far as that can be known without reading it.
    fn kept_bytes(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Option<u64>> {
        let _ = (swap, direction);
        Ok(None)
    }
    /// Gives up what a switch keeps aside.
    fn let_go(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<()>;
    /// A mark of the tables as they are now.
    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint>;
}

/// A row with what identifies it.
#[derive(Clone, Debug, PartialEq)]
pub struct Record {
    /// Values that identify the row to the connector that gave them.
    pub key: Vec<Value>,
    /// The values of the table's columns.
    pub row: Row,
}

/// One cell to change.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// Which row.
    pub key: Vec<Value>,
    /// Which column.
    pub column: String,
    /// What must be there; otherwise the cell is left.
    pub old: Value,
    /// What shall be there.
    pub new: Value,
    /// The record for people.
    pub record: String,
}

/// A cell that was not changed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Refused {
    /// Table, column and record.
    pub place: String,
    /// Why.
    pub because: String,
}

/// What became of changes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Applied {
    /// Cells changed.
    pub changed: u64,
    /// Cells left.
    pub refused: Vec<Refused>,
}

/// A step after a move, in the database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refreshing {
    /// Records go: all of a table, or those of which a condition holds.
    Empty {
        /// The table.
        table: String,
        /// The condition, as it stands behind `WHERE`.
        condition: Option<String>,
    },
    /// A statement of the user.
    Statement(String),
}

/// A live database whose cells are changed.
pub trait DatabaseEditor: Send {
    /// The tables that can be edited.
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>>;
    /// The columns whose values identify a row, in the order of a record's key; a name that
    /// is no column of the table stands for something that never changes.
    fn key_columns(&mut self, table: &Table) -> Result<Vec<String>>;
    /// Goes through all rows of a table in portions; the changes that `visit` gives for a
    /// portion are made in one transaction.
    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied>;
    /// Makes changes in one transaction.
    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied>;
    /// Takes steps in one transaction: all, or none; gives the number of records of each.
    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>>;
}
