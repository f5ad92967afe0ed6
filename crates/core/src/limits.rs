//! The bounds of every growing buffer, in one place.
//!
//! Archives, pages and scripts come from outside: nothing is allocated from a
//! length that they declare, and nothing grows beyond these figures.

/// Bytes of row text after which a block of rows is closed (before compression).
pub const ROW_BLOCK: usize = 4 << 20;
/// Bytes of one `INSERT` statement after which the next one is begun. Well below
/// the smallest usual packet limit of database clients (16 MB).
pub const INSERT_STATEMENT: usize = 512 << 10;
/// The largest SQL statement that is read from an archive (bytes). One record of
/// 64 MB written as hexadecimal digits still fits.
pub const STATEMENT: usize = 192 << 20;
/// The largest member of an archive that is read into memory (bytes, compressed).
pub const MEMBER: u64 = 256 << 20;
/// Bytes of the file stream after which a piece is closed (before compression).
pub const FILE_PIECE: usize = 8 << 20;
/// Files up to this size (bytes) are read as text and rewritten; larger ones are
/// searched only.
pub const TEXT_FILE: u64 = 16 << 20;
/// Files up to this size (bytes) are looked into for connection settings.
pub const SETTINGS_FILE: u64 = 64 << 10;
/// The largest manifest or seal that is read (bytes).
pub const MANIFEST: u64 = 64 << 20;
/// How deep values may lie inside values (serialized in JSON in serialized …).
pub const VALUE_DEPTH: usize = 24;
/// How deep the containers of one serialized or JSON value may nest.
pub const CONTAINER_DEPTH: usize = 400;
/// Bytes of a page that are read by the scanner.
pub const PAGE: usize = 16 << 20;
