//! A site in memory, with faults on demand: operations are tested on it in process.
//!
//! Every call of a connector is counted, and a fault can be set on any of them: the connection
//! is lost, the disk is full, a right is refused, somebody writes in between, or the program is
//! killed. What is built, live and kept are values that a test can compare.

mod database;
mod faults;
mod files;
mod watcher;

pub use database::{Tables, rows};
pub use faults::{Fault, Faults, Killed, killed_or};
pub use files::Files;
pub use watcher::Watcher;

use database::{Editor, Source, Target};
use fernweh_core::address::WebAddress;
use fernweh_core::digest::sha256;
use fernweh_core::settings::Setting;
use fernweh_ports::{
    CommandOutput, DatabaseSource, Editors, Fetching, FileSource, Halves, HostAddress, PageRequest,
    PageResponse, PageSource, Result, SiteAccess, Targets, Trouble,
};
use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// What stands in a place: live, or aside under a name.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SiteState {
    /// The database.
    pub tables: Tables,
    /// The files.
    pub files: Files,
}

/// Everything of a site's host.
#[derive(Debug, Default)]
pub(crate) struct World {
    pub live: SiteState,
    /// Tables that are built or kept, by the name of the place.
    pub tables_aside: BTreeMap<String, Tables>,
    /// Trees that are built or kept, by the name of the place.
    pub files_aside: BTreeMap<String, Files>,
    /// Number of the tree that is live: it tells which of two trees is where.
    pub tree: u64,
    /// Numbers of the trees that stand aside.
    pub trees_aside: BTreeMap<String, u64>,
    /// The paths of parts that were put in place, by the name of the place.
    pub parts: BTreeMap<String, Vec<Vec<u8>>>,
    /// The number that was given last.
    pub last_tree: u64,
}

/// The host of a site; cheap to clone.
#[derive(Clone, Default)]
pub(crate) struct Host {
    world: Arc<Mutex<World>>,
    faults: Arc<Faults>,
}

impl Host {
    fn world(&self) -> MutexGuard<'_, World> {
        // A kill unwinds; what was done until then is done.
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One call of a connector: counts it, and lets happen what is to happen.
    fn call(&self, name: &'static str) -> Result<MutexGuard<'_, World>> {
        if let Some(write) = self.faults.meet(name)? {
            write(&mut self.world().live);
        }
        Ok(self.world())
    }
}

/// A site in memory.
pub struct MemorySite {
    name: String,
    url: Option<WebAddress>,
    host: Host,
    /// Whether its host computes digests of files.
    has_shell: bool,
    /// Where its host is.
    at: Option<HostAddress>,
}

impl MemorySite {
    /// An empty site with an address.
    pub fn new(name: &str, url: &str) -> Self {
        let url = WebAddress::parse(url).ok();
        Self { name: name.into(), url, host: Host::default(), has_shell: false, at: None }
    }

    /// Lets its host compute digests of files.
    pub fn give_shell(&mut self) {
        self.has_shell = true;
    }

    /// Says where its host is.
    pub fn stand_at(&mut self, ip: IpAddr) {
        self.at = Some(HostAddress::usual(ip));
    }

    /// What is live.
    pub fn live(&self) -> SiteState {
        self.host.world().live.clone()
    }

    /// Changes what is live, as visitors do.
    pub fn write(&self, change: impl FnOnce(&mut SiteState)) {
        change(&mut self.host.world().live);
    }

    /// Names of the places where something is built or kept.
    pub fn aside(&self) -> Vec<String> {
        let world = self.host.world();
        world.tables_aside.keys().chain(world.files_aside.keys()).cloned().collect()
    }

    /// The faults of its connectors.
    pub fn faults(&self) -> &Faults {
        &self.host.faults
    }
}

impl SiteAccess for MemorySite {
    fn name(&self) -> &str {
        &self.name
    }
    fn url(&self) -> Option<&WebAddress> {
        self.url.as_ref()
    }
    fn has(&self) -> Halves {
        Halves::BOTH
    }
    fn host_address(&self) -> Result<Option<HostAddress>> {
        Ok(self.at)
    }
    fn holds_table(&self, _: &str) -> bool {
        true
    }
    fn bounds_tables(&self) -> bool {
        true
    }
    fn database_name(&self) -> String {
        self.name.clone()
    }
    fn database_identity(&self) -> Option<String> {
        Some(self.name.clone())
    }
    fn inside_files(&self) -> Option<String> {
        None
    }
    fn folder_on_host(&self) -> Option<String> {
        None
    }
    fn names_host(&self) -> bool {
        false
    }
    fn has_login(&self) -> bool {
        false
    }
    fn setting(&self, _: &Setting, _: &[Setting]) -> Result<Option<String>> {
        Ok(None)
    }
    fn database(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        drop(self.host.call("open the database")?);
        Ok(Some(Box::new(Source::new(self.host.clone()))))
    }
    fn files(&self) -> Result<Option<Box<dyn FileSource>>> {
        drop(self.host.call("open the files")?);
        Ok(Some(Box::new(files::Source::new(self.host.clone()))))
    }
    fn targets(&self, run: &str, halves: Halves) -> Result<Targets> {
        drop(self.host.call("open the targets")?);
        let mut targets = Targets::default();
        if halves.database {
            targets.database = Some(Box::new(Target::new(self.host.clone(), run)));
        }
        if halves.files {
            targets.files = Some(Box::new(files::Target::new(self.host.clone(), run)));
        }
        Ok(targets)
    }
    fn editors(&self, halves: Halves) -> Result<Editors> {
        drop(self.host.call("open the editors")?);
        let mut editors = Editors::default();
        if halves.database {
            editors.database = Some(Box::new(Editor::new(self.host.clone())));
        }
        if halves.files {
            editors.files = Some(Box::new(files::Source::new(self.host.clone())));
            editors.editor = Some(Box::new(files::Editor::new(self.host.clone())));
        }
        Ok(editors)
    }
    fn pages(&self) -> Result<Box<dyn PageSource>> {
        Ok(Box::new(Pages(self.host.clone())))
    }
    fn ask_host(&self, _: &str) -> Option<String> {
        Some(String::new())
    }

    fn digests(&self, paths: &[&[u8]]) -> Option<HashMap<Vec<u8>, String>> {
        let world = self.host.call("digest files").ok().filter(|_| self.has_shell)?;
        let digest = |path: &&[u8]| Some((path.to_vec(), sha256(world.live.files.0.get(*path)?)));
        Some(paths.iter().filter_map(digest).collect())
    }

    fn run_command(&self, command: &str) -> Result<CommandOutput> {
        drop(self.host.call("run a command")?);
        Ok(CommandOutput { succeeded: true, printed: format!("{command}: done") })
    }
}

/// The files of the site as pages: a web server that knows no programs.
struct Pages(Host);

impl PageSource for Pages {
    fn begin(&self, request: PageRequest, done: Fetching) {
        let path = request.url.splitn(4, '/').nth(3).unwrap_or_default();
        let path = if path.is_empty() { "index.html" } else { path };
        let world = self.0.world();
        let answer = match world.live.files.content(path) {
            Some(body) => PageResponse {
                status: 200,
                media_type: "text/html".into(),
                body: body.to_vec(),
                ..PageResponse::default()
            },
            None => PageResponse { status: 404, ..PageResponse::default() },
        };
        drop(world);
        done(Ok(answer));
    }
}

/// What does not belong to a site in memory.
fn unknown(what: &str) -> Trouble {
    Trouble::usage(format!("a site in memory has no {what}"))
}
