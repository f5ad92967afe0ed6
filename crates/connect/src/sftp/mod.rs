//! File trees over SFTP.
//!
//! The packets are our own: names must stay bytes, many requests must be under way at once,
//! and renaming over a file needs an extension.

mod client;
mod packet;
mod tree;

pub use tree::SftpTree;
