//! The outside world behind the traits of `fernweh-ports`: databases, files, pages.
//!
//! Each connector knows its own dialect and limits; none knows another.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

pub mod certificate;
pub mod ftp;
pub mod http;
pub mod local;
pub mod mail;
pub mod mariadb;
pub mod names;
mod part;
pub mod postgres;
mod present;
pub mod remote;
mod runtime;
pub mod server;
pub mod sftp;
pub mod sqlite;
pub mod ssh;
pub mod stop;
pub mod tls;
pub mod tunnel;
pub mod word;
