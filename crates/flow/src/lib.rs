//! The operations. Each reads like a recipe: options in, report out.
//!
//! They know the traits of `fernweh-ports`, never a concrete connector. The journal of
//! every changing run, and what it keeps safe, lives in `.fernweh/` on this machine.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

pub mod archive;
pub mod compare;
pub mod effect;
mod identity;
pub mod incoming;
pub mod journal;
pub mod looks;
pub mod noted;
pub mod notice;
pub mod outcome;
mod overlap;
pub mod pack;
pub mod patterns;
pub mod preflight;
pub mod ready;
pub mod refresh;
pub mod report;
mod retry;
pub mod rewrite;
pub mod rewrite_file;
pub mod run;
pub mod runs;
pub mod scan;
mod scope;
pub mod script;
pub mod show;
mod stream;
pub mod survey;
pub mod trace;
pub mod undo;
pub mod unpack;
mod verify;

/// The moment, as archives and journals write it (RFC 3339, UTC, seconds).
pub fn now() -> String {
    let second = jiff::Timestamp::now().as_second();
    jiff::Timestamp::from_second(second).map_or_else(|_| String::new(), |at| at.to_string())
}
