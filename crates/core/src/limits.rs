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
/// The largest manifest or seal that is read (bytes): the seal has one line of about 150
/// bytes for each member, and a member holds 4 to 8 MB.
pub const MANIFEST: u64 = 32 << 20;
/// Bytes of a structure member, decompressed: it is held while the tables are made.
pub const STRUCTURE: u64 = 32 << 20;
/// Statements of a structure.
pub const STRUCTURE_STATEMENTS: usize = 200_000;
/// Bytes of an `INSERT` of an archive beyond which it holds one record alone: packing begins
/// another statement at [`INSERT_STATEMENT`].
pub const INSERT_OF_MANY: usize = 2 * INSERT_STATEMENT;
/// Columns of a table; no engine takes more.
pub const COLUMNS: usize = 32_767;
/// Bytes of a name, or of a link's target, in a tar stream: paths of every system are shorter.
pub const TAR_NAME: u64 = 1 << 20;
/// The greatest number that an archive may state, and the greatest sum of them: JSON numbers
/// are exact up to here (RFC 7493, 2.2), and counting on from it never overflows.
pub const NUMBER: u64 = 1 << 53;
/// Bytes of a line of the index of files: a path, each byte as three.
pub const INDEX_LINE: u64 = 4 << 20;
/// How deep values may lie inside values (serialized in JSON in serialized …).
pub const VALUE_DEPTH: usize = 24;
/// How deep the containers of one serialized or JSON value may nest.
pub const CONTAINER_DEPTH: usize = 400;
/// How deep brackets of a style sheet may lie in each other.
pub const CSS_DEPTH: usize = 64;
/// Addresses that a scan remembers; more are not asked for.
pub const SCAN_ADDRESSES: usize = 500_000;
/// How deep style sheets may import each other.
pub const SCAN_IMPORTS: usize = 8;
/// Bytes of a page that are read by the scanner.
pub const PAGE: usize = 16 << 20;
