//! One file per command: its arguments, and one function that calls one operation and
//! shows its report.

pub mod close;
pub mod compare;
pub mod completions;
pub mod demo;
pub mod forward;
pub mod init;
pub mod manual;
pub mod moving;
pub mod pack;
pub mod ready;
pub mod redirects;
pub mod rewrite;
mod rewrite_file;
pub mod runs;
pub mod scan;
pub mod show;
pub mod sites;
pub mod survey;
pub mod tell;
pub mod trace;
pub mod trial;
pub mod undo;
pub mod unpack;
