//! How a built database takes the place of the old one, and what came in meanwhile: plain data, written
//! to the journal, so that another process can complete a switch or take it back.

use crate::FileSwap;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// How a built database takes the place of the old one. Written to the journal before
/// the switch, so that it can be completed or taken back by another process.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DatabaseSwap {
    /// It lies inside the files and changes places with them.
    WithFiles,
    /// A file changes places with another.
    File(FileSwap),
    /// The content of a file changes places with that of another; the file stays.
    Content(Box<ContentSwap>),
    /// Tables change their names.
    Tables(Box<TablesSwap>),
    /// Objects change their schemas.
    Schemas(SchemasSwap),
}

/// What was noted at a destination about a switch, and is not what this program writes there.
pub fn foreign(what: &str) -> crate::Trouble {
    crate::Trouble::damaged("what is noted at the destination cannot be taken over")
        .because(format!("it does not fit {what}"))
        .hint("somebody may have changed it: undo it where the run was begun")
}

/// A switch of a database file that others have open: its content is exchanged.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ContentSwap {
    /// The file that the site uses.
    pub live: PathBuf,
    /// The file that holds the other state.
    pub side: PathBuf,
    /// Tables and views that are replaced; all others are the same in both states.
    pub replaced: Vec<String>,
    /// Tables that go with the old state.
    pub removed: Vec<String>,
}

/// A switch by schemas: objects built in a schema of Fernweh's own move into that of the
/// site, in one transaction, and what they replace moves out of it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SchemasSwap {
    /// The schemas concerned.
    pub schemas: Vec<SwapSchema>,
    /// Statements that fit what stays to the new objects, and to the old ones again.
    pub refit: Vec<Refit>,
    /// A schema in which the numbers of new large objects are noted; it goes with the switch.
    #[serde(default)]
    pub noted_numbers: Option<String>,
}

/// One schema of a switch.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SwapSchema {
    /// The schema as the site knows it.
    pub name: String,
    /// Where the new objects are built, and later kept after `undo`.
    pub aside_new: String,
    /// Where the old objects are kept.
    pub aside_old: String,
    /// Whether the site's schema was not there before.
    pub made: bool,
    /// The new objects.
    pub new: Vec<ObjectId>,
    /// The old objects that they replace.
    pub old: Vec<ObjectId>,
}

/// An object by the numbers that its server gives it; they outlast a change of schema.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ObjectId {
    /// The catalog in which it stands.
    pub class: u32,
    /// Its number there.
    pub number: u32,
}

/// Something that stays, and refers to what is replaced.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Refit {
    /// What it is, for people.
    pub shown: String,
    /// Taken off before the switch.
    pub take_off: String,
    /// Put back after it; names find the objects in place.
    pub put_back: String,
}

/// A switch by names of tables.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct TablesSwap {
    /// The tables concerned.
    pub tables: Vec<SwapTable>,
    /// What hangs on the old tables.
    pub old: SwapObjects,
    /// What hangs on the new tables.
    pub new: SwapObjects,
}

/// One table of a switch.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SwapTable {
    /// The name under which the site knows it.
    pub name: String,
    /// The name under which the new table is built, and later kept after `undo`.
    pub aside_new: String,
    /// The name under which the old table is kept, if there was one.
    pub aside_old: Option<String>,
    /// Nothing takes its place.
    #[serde(default)]
    pub gone: bool,
}

/// Objects whose names are unique in a database, as statements that create them.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SwapObjects {
    /// Foreign keys.
    pub foreign_keys: Vec<NamedSql>,
    /// Triggers.
    pub triggers: Vec<NamedSql>,
    /// Views.
    pub views: Vec<NamedSql>,
    /// Stored routines; `table` says of which kind.
    #[serde(default)]
    pub routines: Vec<NamedSql>,
    /// Events.
    #[serde(default)]
    pub events: Vec<NamedSql>,
    /// Defaults of columns that need a sequence.
    #[serde(default)]
    pub defaults: Vec<NamedSql>,
}

/// A statement that creates a named object.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NamedSql {
    /// The name of the object.
    pub name: String,
    /// The table it belongs to; the view itself for a view.
    pub table: String,
    /// The statement.
    pub sql: String,
    /// Settings of the session that it needs, as statements.
    #[serde(default)]
    pub modes: Vec<String>,
}

/// A table that is going to be replaced, as it stands while the new state is built.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableMark {
    /// The table.
    pub table: String,
    /// Its records.
    pub rows: u64,
    /// Something of the engine by which it tells later what came in; `None` if it cannot.
    pub mark: Option<String>,
}

/// What came into a table between the beginning of a run and its switch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CameIn {
    /// The table.
    pub table: String,
    /// Records more, or less if negative.
    pub records: i64,
    /// Whether records were changed; `None` if the server cannot tell.
    pub changed: Option<bool>,
}

impl CameIn {
    /// Whether there is anything to say.
    pub fn is_something(&self) -> bool {
        self.records != 0 || self.changed != Some(false)
    }
}
