//! The bounds of every growing buffer, in one place.
//!
//! Archives, pages and scripts come from outside: nothing is allocated from a
//! length that they declare, and nothing grows beyond these figures.

/// Bytes of row text after which a block of rows is closed (before compression).
pub const ROW_BLOCK: usize = 4 << 20;
/// Bytes of one `INSERT` statement after which the next one is begun. Well below
/// the smallest usual packet limit of database clients (16 MB).
pub const INSERT_STATEMENT: usize = 512 << 10;
/// The largest record that is packed, and so the largest that is unpacked (bytes, as its values
/// are held).
pub const RECORD: usize = 512 << 20;
/// The largest SQL statement that is read from outside (bytes), unless an archive's member is
/// large enough to hold more.
pub const STATEMENT: usize = 192 << 20;
/// The largest SQL statement at all (bytes): a record of [`RECORD`] as hexadecimal digits, or
/// with every byte escaped.
pub const LARGEST_STATEMENT: usize = 2 * RECORD + (64 << 20);
/// How many bytes of a statement beyond [`STATEMENT`] a member may hold for each of its own: a
/// few bytes that are well compressed must not become gigabytes. Packing fills members up that
/// would be smaller.
pub const EXPANSION: usize = 64;
/// The largest member of an archive that is read into memory (bytes, compressed).
pub const MEMBER: u64 = (RECORD + (64 << 20)) as u64;
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
/// Bytes of the attributes of an entry, names and values: with its path they are an extended
/// header, which has the bound above.
pub const ATTRIBUTES: usize = 512 << 10;
/// Files of several names that are known again by packing; one more is packed as two.
pub const LINKED_FILES: usize = 500_000;
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
/// Bytes of a statement that are looked at for settings; one that sets modes is short.
pub const SQL_ASSIGNMENT: usize = 64 << 10;
/// Bytes that wait in a queue at most, unless one piece alone is larger.
pub const PIPE: usize = 3 << 20;
/// The most entries that a folder may list over FTP: its whole listing is one answer.
pub const FTP_LISTING: usize = 500_000;
/// Bytes that may be on their way to us in one channel; what a connection with 40 ms of
/// delay needs for 200 MB a second.
pub const SSH_WINDOW: u32 = 8 << 20;
/// Bytes of rows that one of several readers hands over together, unless one row alone is larger.
pub const READER_ROWS: usize = 512 << 10;
/// Bytes of rows that are edited together, unless one row alone is larger.
pub const EDITED_ROWS: usize = 1 << 20;
/// The largest packet that is taken from a host (bytes). Data comes in smaller ones; a
/// listing may be larger.
pub const SFTP_PACKET: usize = 4 << 20;
/// The most entries that a folder may list over SFTP.
pub const SFTP_LISTING: usize = 2_000_000;
/// Bytes of a file that go to a host, or come from it, at a time.
pub const TRANSFER: usize = 256 << 10;
/// How many entries a tree on another host may have.
pub const TREE_ENTRIES: usize = 10_000_000;
/// Files up to this size (bytes) are fetched before they are asked for.
pub const FETCHED_AHEAD_FILE: u64 = 512 << 10;
/// Bytes of files that are fetched and not yet asked for.
pub const FETCHED_AHEAD: u64 = 8 << 20;
/// Files up to this size (bytes) are held whole while they are packed, so that one that changes
/// meanwhile can be read again.
pub const HELD_FILE: u64 = 8 << 20;
/// Files above this size (bytes) are written portion by portion; smaller ones are held whole.
pub const WRITTEN_WHOLE: u64 = 1 << 20;
/// Bytes of a file that may have been under way when a transfer broke off: they are written
/// again.
pub const RESUMED_UPLOAD: u64 = 8 << 20;
/// Kilobytes (of 1024 bytes) of small files that are on their way to a host at once.
pub const WRITTEN_KIB: u32 = 16 << 10;
/// Bytes of rows that are kept until they are secured, about.
pub const UNSECURED_ROWS: usize = 16 << 20;
/// Bytes of a script or a file of text that are rewritten at a time.
pub const REWRITTEN_PORTION: usize = 1 << 18;
/// Bytes of rows that are handed over together: on a long way to the destination, few large
/// portions wait less than many small ones.
pub const ROWS_PORTION: usize = 1 << 20;
/// Bytes of a large file that are searched at a time.
pub const SEARCHED_PORTION: usize = 1 << 20;
/// No name that is looked for is longer (RFC 1035: a label has 63 bytes; words have more).
pub const SEARCHED_NAME: usize = 1 << 10;
/// Bytes of an archive, before compression, that are worth a checkpoint.
pub const CHECKPOINT: usize = 16 << 20;
/// Blocks of rows above this size (bytes) hold a very large record, and are compressed at once.
pub const ROWS_COMPRESSED_AT_ONCE: usize = 24 << 20;
/// Bytes of a row above which the seal names it: no server is known that takes less.
pub const NAMED_ROW: usize = 512 << 10;
/// Bytes of a row (as it is held) above which it is compressed while it is written.
pub const LARGE_ROW: usize = 12 << 20;
/// Files with hits whose numbers a report gives one by one; those of all further ones are added
/// up.
pub const LISTED_FILES: usize = 10_000;
/// Bytes of the largest configuration, or file of a password.
pub const PLAIN_FILE: u64 = 4 << 20;
/// Files above this size (bytes) are taken from what was built before a break; smaller ones,
/// settings among them, are written anew.
pub const TAKEN_OVER: u64 = 64 << 10;
/// Bytes of the list of a part's entries that lies on another host: more is not written there, and
/// not read back.
pub const PART_LIST: u64 = 128 << 20;
/// How deep the folders of a site may lie.
pub const TREE_DEPTH: usize = 200;
/// Bytes of one `INSERT` that is sent to a server, below the smallest usual packet limit.
pub const WRITTEN_INSERT: usize = 1 << 20;
/// Style sheets that a scan reads in any case.
pub const SCAN_SHEETS: usize = 200;
/// How long an interrupted scan can be gone on with.
pub const SCAN_KEPT: std::time::Duration = std::time::Duration::from_secs(24 * 60 * 60);
/// Places that a scan shows of one finding; all are counted.
pub const SCAN_PLACES: usize = 50;
/// Different findings that a scan shows; all are counted.
pub const SCAN_FINDINGS: usize = 20_000;
/// Links to places in pages that a scan checks.
pub const SCAN_FRAGMENTS: usize = 200_000;
/// Bytes of the rows of a script that wait until a block is full, over all tables.
pub const SCRIPT_ROWS: usize = 8 * ROW_BLOCK;
/// Places that are kept of one text that is traced; all are counted.
pub const TRACED_PLACES: usize = 100;
/// Rows that go from the reader of a live table to the one that changes it together, at most.
pub const EDITED_TOGETHER: usize = 500;
/// Archives whose digests are remembered; older ones are forgotten.
pub const REMEMBERED_ARCHIVES: usize = 1000;

/// Packings, scans and previews that a folder lists: some years of weekly ones.
pub const REMEMBERED_LOOKS: usize = 500;
/// Cuts that are tried before a value is given up.
pub const MENDING_TRIES: usize = 20_000;

/// Bytes of a SQLite database whose tables are read once more at the beginning and at the end of
/// unpacking, to say what came in meanwhile: a second or two at most.
pub const DIGESTED_DATABASE: i64 = 128 << 20;

/// Bytes of a file that is uploaded which are held, the last ones, so that they can be sent again after
/// the connection was lost: what may be under way, and [`RESUMED_UPLOAD`].
pub const HELD_UPLOAD: usize = 24 << 20;

/// Bytes of a note at a destination that says what a run keeps there, and how it is taken back: a
/// line for each table, and the text of its keys and triggers.
pub const KEPT_NOTE: u64 = 4 << 20;
