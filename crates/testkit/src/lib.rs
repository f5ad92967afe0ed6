//! For tests only: hermetic folders, the built program, real servers, and checkers that
//! do not use Fernweh's own reading code.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

mod apache;
mod browser;
mod bulk;
mod check;
mod fixture;
mod hostile_ftp;
mod hosts;
mod issuing;
mod memory;
mod mysql;
mod names;
mod nginx;
mod other_ftp;
mod password_host;
mod php_fpm;
mod program;
mod relay;
mod stage;
mod web;

pub use apache::Apache;
pub use browser::{Browser, Visit};
pub use bulk::bulk_load;
pub use check::{
    Cells, database_cells, files_of, mariadb_client, php, php_finds_different, psql,
    read_and_throw_away,
};
pub use fixture::{Engine, Fixture, new_database, shared_server};
pub use hostile_ftp::{Trick, hostile_ftp};
pub use hosts::{FTP_LOGIN, FtpHost, SshHost};
pub use issuing::{Issuing, Signer, Wanted};
pub use memory::{
    Fault, Faults, Files, Killed, MemorySite, SiteState, Tables, Watcher, killed_or, rows,
};
pub use mysql::{Habits, MysqlMask, Version};
pub use names::{NameWorld, ZoneText};
pub use nginx::Nginx;
pub use other_ftp::{FtpServer, OtherFtp};
pub use password_host::{Asking, PasswordHost};
pub use php_fpm::PhpFpm;
pub use program::{Ran, Workspace};
pub use relay::delaying_relay;
pub use stage::{Reply, Request, Stage, Trickster};
pub use web::{Answer, Asked, Web};
