//! A site as an operation sees it: what it is called, what belongs to it, and its parts, each
//! opened when it is first needed.
//!
//! An operation knows no connector and no configuration: it asks a [`SiteAccess`]. The command
//! line implements it from `fernweh.toml`; tests implement it in memory, with faults on demand.

use crate::{
    CertificateSource, DatabaseEditor, DatabaseSource, DatabaseTarget, FileEditor, FileSource,
    FileTarget, NewFile, PageSource, Result,
};
use fernweh_core::address::WebAddress;
use fernweh_core::archive::DatabaseLogin;
use fernweh_core::settings::Setting;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};

/// Which halves of a site take part: its database, its files, or both.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct Halves {
    /// The database takes part.
    pub database: bool,
    /// The files take part.
    pub files: bool,
}

impl Halves {
    /// Both.
    pub const BOTH: Self = Self { database: true, files: true };
    /// The database alone.
    pub const DATABASE: Self = Self { database: true, files: false };
    /// The files alone.
    pub const FILES: Self = Self { database: false, files: true };

    /// Those that are in both.
    pub fn and(self, other: Self) -> Self {
        Self { database: self.database && other.database, files: self.files && other.files }
    }

    /// Whether neither takes part.
    pub fn is_empty(self) -> bool {
        !self.database && !self.files
    }
}

/// The targets of a run: where its new state is built and switched.
#[derive(Default)]
pub struct Targets {
    /// The database.
    pub database: Option<Box<dyn DatabaseTarget>>,
    /// The files.
    pub files: Option<Box<dyn FileTarget>>,
    /// The database as it is, for reading; opened by an operation that keeps its structure.
    pub own: Option<Box<dyn DatabaseSource>>,
    /// A database that lies among the files, where the files alone are replaced.
    pub keeper: Option<Box<dyn Keeper>>,
}

/// Carries a database over that lies among files which are replaced.
pub trait Keeper: Send {
    /// Where it cannot stay the file that it is: the database as it is at this moment, as a file
    /// that is to be put into the new state of the files.
    fn keep(&mut self) -> Result<Option<NewFile>> {
        Ok(None)
    }
    /// Keeps everybody from writing to it, until `release` or until this is dropped.
    fn hold(&mut self) -> Result<()> {
        Ok(())
    }
    /// Lets others write again.
    fn release(&mut self) {}
}

/// The parts of a site that are changed in place.
#[derive(Default)]
pub struct Editors {
    /// The database.
    pub database: Option<Box<dyn DatabaseEditor>>,
    /// The files, for reading.
    pub files: Option<Box<dyn FileSource>>,
    /// The files, for writing.
    pub editor: Option<Box<dyn FileEditor>>,
}

/// What a command that ran on a site's host has left.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CommandOutput {
    /// Whether it ended well.
    pub succeeded: bool,
    /// What it printed, errors included.
    pub printed: String,
}

/// Where the host of a site is, whatever its name leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HostAddress {
    /// Where `http:` addresses are asked.
    pub http: SocketAddr,
    /// Where `https:` addresses are asked.
    pub https: SocketAddr,
}

impl HostAddress {
    /// The host with the usual ports.
    pub fn usual(ip: IpAddr) -> Self {
        Self { http: SocketAddr::new(ip, 80), https: SocketAddr::new(ip, 443) }
    }
}

/// All that an operation knows of a site.
///
/// What is opened is opened when it is asked for, and each login is made once; a secret is
/// fetched when it is first needed, and once.
pub trait SiteAccess: Sync {
    /// Its name in the configuration.
    fn name(&self) -> &str;
    /// Its web address.
    fn url(&self) -> Option<&WebAddress>;
    /// Its web address, where nothing can be done without one.
    fn needed_url(&self) -> Result<&WebAddress> {
        let name = self.name();
        self.url().ok_or_else(|| {
            crate::Trouble::usage(format!("site {name} has no url"))
                .hint(format!("set url in [site.{name}]"))
        })
    }
    /// Which halves it has.
    fn has(&self) -> Halves;
    /// Whether a table is the site's.
    fn holds_table(&self, table: &str) -> bool;
    /// Whether the configuration says which tables are the site's.
    fn bounds_tables(&self) -> bool;
    /// The name of its database, or the path of its file; empty without a database.
    fn database_name(&self) -> String;
    /// The socket at which its database server is reached, if it is reached by one.
    fn database_socket(&self) -> Option<String> {
        None
    }
    /// Who logs in to its database server, if it has one.
    fn database_login(&self) -> Option<DatabaseLogin> {
        None
    }
    /// What is the same for two sites with one database, whatever they call it.
    fn database_identity(&self) -> Option<String>;
    /// Where the database file lies below the site's folder, if it does.
    fn inside_files(&self) -> Option<String>;
    /// The site's folder as its own host names it, where that is known.
    fn folder_on_host(&self) -> Option<String>;
    /// Whether its host is named beside its domain, so that pages are asked of that host.
    fn names_host(&self) -> bool;
    /// Where its host is: as configured, or where its files are.
    fn host_address(&self) -> Result<Option<HostAddress>> {
        Ok(None)
    }
    /// Whether this is a copy that search engines are kept out of.
    fn is_hidden(&self) -> bool {
        false
    }
    /// Whether a login for HTTP is configured.
    fn has_login(&self) -> bool;
    /// The new value of a connection setting of this site, among all of its file; `None`
    /// leaves it as it is.
    fn setting(&self, setting: &Setting, all: &[Setting]) -> Result<Option<String>>;
    /// The database, for reading.
    fn database(&self) -> Result<Option<Box<dyn DatabaseSource>>>;
    /// The files, for reading.
    fn files(&self) -> Result<Option<Box<dyn FileSource>>>;
    /// The targets of a run, for these halves of the site.
    fn targets(&self, run: &str, halves: Halves) -> Result<Targets>;
    /// The parts that are changed in place, for these halves of the site.
    fn editors(&self, halves: Halves) -> Result<Editors>;
    /// Where its pages are fetched.
    fn pages(&self) -> Result<Box<dyn PageSource>>;
    /// Where pages of these hosts are fetched from one host, whatever their names lead to.
    /// `judged` says whether certificates are; where they are not, no login is sent.
    fn pages_at(
        &self,
        place: HostAddress,
        hosts: &[String],
        judged: bool,
    ) -> Result<Box<dyn PageSource>> {
        let _ = (place, hosts, judged);
        self.pages()
    }
    /// Who fetches the certificates of its servers.
    fn certificates(&self) -> Result<Box<dyn CertificateSource>> {
        Err(crate::Trouble::usage("certificates are not fetched here"))
    }
    /// What a shell of the site's host prints, if there is one that answers.
    fn ask_host(&self, command: &str) -> Option<String> {
        let _ = command;
        None
    }
    /// SHA-256 of files below the site's folder, by their paths, where its host computes them
    /// itself. Files may be left out.
    fn digests(&self, paths: &[&[u8]]) -> Option<HashMap<Vec<u8>, String>> {
        let _ = paths;
        None
    }
    /// Runs a command on the site's host, in its folder.
    fn run_command(&self, command: &str) -> Result<CommandOutput>;
}
