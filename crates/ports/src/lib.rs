//! What the operations need from the outside world, as small traits of plain data.
//!
//! An operation knows these traits only; the connectors implement them. A new
//! engine or protocol is a new implementation, and nothing else changes.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod certificates;
mod database;
mod files;
mod names;
mod pages;
mod pipe;
mod progress;
mod site;
mod swap;
mod trouble;
mod words;

pub use certificates::{CertificateSource, ShownCertificate};
pub use database::{
    Applied, Change, Counting, DatabaseEditor, DatabaseSource, DatabaseTarget, Direction,
    Fingerprint, InTheWay, KeyPosition, Lines, Overview, PacketLimit, Record, Refreshing, Refused,
    Rejected, RowBatch, Scope, Structure, TableInfo, WaitingKeys,
};
pub use files::{
    Amount, Counts, FileEditor, FileId, FileSource, FileSwap, FileTarget, Held, LeftOut, NewFile,
    OpenFile, Probe, SETTLED, Stamp, WholeFile, in_turn, read_whole,
};
pub use names::{
    NameAnswer, NameProblem, NameRecord, NameServer, NameSource, NameStatus, NameWay, RecordData,
    RecordKind,
};
pub use pages::{
    Fetched, Fetching, PageProblem, PageRequest, PageResponse, PageSource, holds_addresses,
};
pub use pipe::{Inlet, Outlet, pipe};
pub use progress::{Failpoints, Progress, Silent, Unit};
pub use site::{CommandOutput, Editors, Halves, HostAddress, Keeper, SiteAccess, Targets};
pub use swap::{
    CameIn, ContentSwap, DatabaseSwap, NamedSql, ObjectId, Refit, SchemasSwap, SwapObjects,
    SwapSchema, SwapTable, TableMark, TablesSwap, foreign,
};
pub use trouble::{Result, Told, Trouble, TroubleKind, plain, without_address};
pub use words::{
    count, counted, group_digits, grouped, is_unsafe, named, natural, shown, size, size_of,
};
