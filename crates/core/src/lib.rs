//! The computation of Fernweh: bytes and values in, bytes and values out.
//!
//! Nothing here opens a file or a connection, reads the clock or knows about
//! a terminal, so that everything can be tested on its own. The other crates
//! bring the data and carry the results away.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

pub mod address;
pub mod archive;
pub mod attributes;
pub mod certificate;
pub mod digest;
pub mod entries;
pub mod finding;
pub mod fit;
pub mod limits;
pub mod notice;
pub mod page;
pub mod placed;
pub mod programs;
pub mod record;
pub mod redirects;
pub mod rewrite;
pub mod settings;
pub mod sql;
pub mod trace;
