//! Writing and reading archives: a plain tar, member by member.

mod pieces;
mod reader;
mod writer;

pub use pieces::{PieceReader, PieceWriter};
pub use reader::ArchiveReader;
pub use writer::ArchiveWriter;
