//! Writing and reading archives: a plain tar, member by member.

mod begun;
mod bounds;
mod ledger;
mod marks;
mod pieces;
mod reader;
mod unfinished;
mod writer;

pub use begun::{Begun, Mark, Part};
pub(crate) use bounds::{BoundedTar, Extended};
pub(crate) use ledger::Expected;
pub use ledger::Ledger;
pub use pieces::{PieceReader, PieceWriter};
pub use reader::ArchiveReader;
pub use unfinished::{checkpoints_of, partial_of, unfinished_archive};
pub use writer::{ArchiveWriter, Fill, Level};
