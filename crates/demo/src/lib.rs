//! The sample site, the Glimmer Point Observatory, and the stand-in hosts that serve it.
//!
//! Everything in it is invented. The site carries one of every difficulty that Fernweh
//! is made for, and a few deliberate faults, listed in [`faults`], by which the tests
//! know what a scan must find.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

pub mod database;
pub mod faults;
pub mod host;
pub mod names;
pub mod server;
pub mod site;

/// The address of the site on its old host.
pub const OLD_URL: &str = "http://glimmerpoint.example";
/// The address of the site on its new host.
pub const NEW_URL: &str = "https://www.glimmer-point.example";
