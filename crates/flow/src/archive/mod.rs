//! Writing and reading archives: a plain tar, member by member.

mod bounds;
mod checkpoints;
mod entries;
mod member_index;
mod partial;
mod pieces;
mod reader;
mod unfinished;
mod writer;

pub(crate) use bounds::BoundedTar;
pub(crate) use entries::{broken_stream, each_entry, link_of};
pub(crate) use member_index::Expected;
pub use member_index::MemberIndex;
pub use partial::{Checkpoint, Partial, TablePart};
#[cfg(test)]
pub(crate) use pieces::append;
pub use pieces::{PieceReader, PieceWriter};
pub use reader::ArchiveReader;
pub use unfinished::{
    Unfinished, checkpoints_of, is_unfinished, partial_of, remove_unfinished, unfinished_archive,
};
pub use writer::{ArchiveWriter, Fill, Level};
