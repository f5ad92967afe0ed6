//! What packing is told, and what it tells.

use crate::archive::{Level, MemberIndex};
use crate::patterns::Patterns;
use fernweh_core::archive::DatabaseLogin;
use fernweh_ports::{LeftOut, Scope};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::Arc;

/// What to pack, and how.
pub struct PackOptions<'a> {
    /// The site's name.
    pub site: String,
    /// Its web address.
    pub url: Option<String>,
    /// Its folder on its host.
    pub root: Option<String>,
    /// The archive to write.
    pub archive: PathBuf,
    /// Paths to leave out.
    pub leave_out: Patterns,
    /// Tables of which only the structure is packed.
    pub without_rows: Patterns,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Whether only some of them were asked for.
    pub some_tables: bool,
    /// The name of the database, or the path of its file.
    pub database_name: String,
    /// Who logs in to its server.
    pub database_login: Option<DatabaseLogin>,
    /// Where the database file lies below the site's folder, if it does.
    pub inside_files: Option<String>,
    /// Take links along that point out of the tree.
    pub outside_links: bool,
    /// Version of the program.
    pub program: String,
    /// How hard it is compressed.
    pub level: Level,
    /// Goes on with an archive that was broken off.
    pub go_on: bool,
    /// Whoever unpacks the archive while it is written.
    pub follower: Option<Arc<MemberIndex>>,
    /// The command that goes on with this one, for people; without it nothing unfinished is
    /// kept.
    pub again: Option<String>,
}

/// What was packed.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct PackReport {
    /// The archive.
    pub archive: String,
    /// Its size in bytes.
    pub size: u64,
    /// The moment of the snapshot (RFC 3339, UTC), if there is a database.
    pub snapshot: Option<String>,
    /// Tables that could not take part in the snapshot.
    pub outside_snapshot: Vec<String>,
    /// When reading the database began anew after a break (RFC 3339, UTC): tables before and
    /// after it are of different moments.
    pub breaks: Vec<String>,
    /// Number of tables.
    pub tables: u64,
    /// Number of records.
    pub records: u64,
    /// Tables packed without their rows.
    pub without_rows: Vec<String>,
    /// Number of files.
    pub files: u64,
    /// Number of folders.
    pub folders: u64,
    /// Number of links.
    pub links: u64,
    /// Bytes of all files.
    pub file_bytes: u64,
    /// Files that hold connection settings.
    pub settings: Vec<String>,
    /// Files and folders left out because a pattern says so.
    pub left_out_as_asked: Vec<String>,
    /// What else was left out, and why.
    pub left_out: Vec<LeftOut>,
    /// Objects of the database that this version does not carry.
    pub not_carried: Vec<String>,
    /// Objects that belong to the site's tables, or are needed by them, and are not among its
    /// tables by their names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_named: Vec<String>,
    /// Files that changed while they were read.
    pub changed: Vec<String>,
    /// Patterns that matched nothing: names that were mistyped, perhaps.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub matched_nothing: Vec<String>,
}

impl PackReport {
    /// Whether all that belongs to the site and was not left out as asked is in the archive as it
    /// was.
    pub fn is_whole(&self) -> bool {
        self.left_out.is_empty()
            && self.not_carried.is_empty()
            && self.not_named.is_empty()
            && self.changed.is_empty()
    }
}
