//! The tests in their order, on the real connections of two sites.

use super::{
    NAMES, Preflight, destination_database, destination_files, fit, judge_page, large_records,
    programs, room, source_database, source_files,
};
use crate::pack::is_database;
use crate::patterns::Patterns;
use crate::unpack::refuse_foreign_tables;
use fernweh_core::finding::Check;
use fernweh_ports::{
    FileSource, Halves, Overview, PageRequest, Progress, Result, SiteAccess, Structure, Trouble,
    named,
};

/// What is tested.
pub struct Tests<'a> {
    /// The site that is read.
    pub from: &'a dyn SiteAccess,
    /// The site that will be written.
    pub to: &'a dyn SiteAccess,
    /// Which halves of the source go.
    pub halves: Halves,
    /// Paths of the source that do not go.
    pub leave_out: &'a Patterns,
    /// The test of this name alone.
    pub only: Option<&'a str>,
    /// Runs of this folder on the destination that were broken off.
    pub own_runs: Vec<String>,
    /// Where the files cannot change places at once, their entries may do so one by one.
    pub entry_by_entry: bool,
}

impl Tests<'_> {
    /// Runs the tests.
    pub fn run(&self, progress: &dyn Progress) -> Result<Preflight> {
        if let Some(name) = self.only.filter(|name| !NAMES.contains(name)) {
            return Err(Trouble::usage(format!("there is no test `{name}`"))
                .hint(format!("the tests are: {}", NAMES.join(", "))));
        }
        let mut found = Preflight::default();
        let run = format!("test-{}", std::process::id());
        progress.note("testing both ends\n");
        let mut source = None;
        if self.halves.database {
            source = self.read_database(&mut found);
            self.write_database(&run, source.as_ref(), &mut found);
        }
        if self.halves.files {
            self.files(&run, &mut found);
        }
        if self.wants("programs") && self.halves.files {
            programs(self.from, self.to, &mut found);
        }
        if self.wants("pages") {
            for (site, destination) in [(self.from, false), (self.to, true)] {
                if site.url().is_some() {
                    found.note("pages", page(site, destination).map(|check| vec![check]));
                }
            }
        }
        if self.wants("same-place") && self.halves.database {
            found.add("same-place", same_database(self.from, self.to, source.as_ref()));
        }
        found.checks.retain(|named| self.wants(named.name));
        found.checks.sort_by_key(|named| NAMES.iter().position(|name| *name == named.name));
        found.estimate();
        Ok(found)
    }

    fn wants(&self, name: &str) -> bool {
        self.only.is_none_or(|only| only == name)
    }

    fn wants_any(&self, names: &[&str]) -> bool {
        names.iter().any(|name| self.wants(name))
    }

    fn read_database(&self, found: &mut Preflight) -> Option<(Overview, Structure)> {
        if !self.wants_any(&[
            "source-database",
            "destination-database",
            "fit",
            "room",
            "same-place",
        ]) {
            return None;
        }
        let scope = |table: &str| self.from.holds_table(table);
        let looked = self.from.database().and_then(|opened| match opened {
            Some(mut database) => source_database(&mut *database, &scope, found).map(Some),
            None => Ok(None),
        });
        looked.unwrap_or_else(|trouble| {
            found.note("source-database", Err(trouble));
            None
        })
    }

    fn write_database(
        &self,
        run: &str,
        source: Option<&(Overview, Structure)>,
        found: &mut Preflight,
    ) {
        let name = "destination-database";
        let tested = self.to.targets(run, Halves::DATABASE).and_then(|mut targets| {
            let Some(target) = &mut targets.database else {
                let what = format!("site {} has no database", self.to.name());
                found.add(name, Check::failed(what, "set database in its section"));
                return Ok(());
            };
            if self.wants(name) {
                let coming = |name: &str| {
                    source.is_none_or(|(_, structure)| {
                        structure.tables.iter().any(|table| table.name == name)
                    })
                };
                let there = &mut found.there;
                let tested = destination_database(&mut **target, self.to, &coming, there);
                found.note(name, tested);
            }
            if let Some((overview, structure)) = source {
                if let Some(bound) = target.keys_wait_above()? {
                    let later = overview.tables.iter().filter(|table| table.bytes > bound);
                    found.size.keyed_later = later.map(|table| table.bytes).sum();
                }
                if self.wants("fit") {
                    if self.to.bounds_tables() {
                        found.note("fit", own_tables(structure, self.to));
                    }
                    found.note("fit", fit(&mut **target, overview, structure));
                    let records = large_records(&mut **target, self.from, structure);
                    found.note("fit", records);
                }
                let there = target.overview(&|_: &str| true)?;
                if let Some(free) = there.free {
                    // The new file, and while it is switched a copy of the present one and the
                    // journal of SQLite.
                    let present: u64 = there.tables.iter().map(|table| table.bytes).sum();
                    let needed = found.size.database_bytes + 2 * present;
                    found.add("room", room(needed, Some(free), "the database"));
                }
            }
            Ok(())
        });
        if let Err(trouble) = tested {
            found.note(name, Err(trouble));
        }
    }

    fn files(&self, run: &str, found: &mut Preflight) {
        let mut source = self.from.files().unwrap_or_else(|trouble| {
            found.note("source-files", Err(trouble));
            None
        });
        if self.wants_any(&["source-files", "room", "programs"])
            && let Some(source) = &mut source
        {
            let inside = self.from.inside_files();
            let enter =
                |path: &[u8]| !self.leave_out.hold(path) && !is_database(path, inside.as_deref());
            if let Err(trouble) = source_files(&mut **source, &enter, found) {
                found.note("source-files", Err(trouble));
            }
        }
        if !self.wants_any(&["destination-files", "room", "same-place"]) {
            return;
        }
        let name = "destination-files";
        let tested = self.to.targets(run, Halves::FILES).and_then(|mut targets| {
            let Some(target) = &mut targets.files else {
                let what = format!("site {} has no place for files", self.to.name());
                found.add(name, Check::failed(what, "set files in its section"));
                return Ok(());
            };
            found.add("room", room(found.size.file_bytes, target.free(), "the files"));
            let source = source.as_mut().map(|source| &mut **source as &mut dyn FileSource);
            if self.entry_by_entry {
                target.entry_by_entry();
            }
            destination_files(&mut **target, source, &self.own_runs, found)
        });
        if let Err(trouble) = tested {
            found.note(name, Err(trouble));
        }
    }
}

/// What the first page of a site answers.
pub fn page_of(site: &dyn SiteAccess) -> Result<Check> {
    let mut check = page(site, false)?;
    // There is no other site beside it.
    check.what = check.what.replacen("the source's page ", "", 1);
    Ok(check)
}

fn page(site: &dyn SiteAccess, destination: bool) -> Result<Check> {
    let url = site.url().map(|url| format!("{url}/")).unwrap_or_default();
    let request = PageRequest { url: url.clone(), body: Some(64 << 10), texts_only: false };
    let answer = site.pages()?.fetch(&request);
    Ok(judge_page(&url, &answer, site.has_login(), destination, site.names_host()))
}

/// Whether what comes in is what the destination's configuration names.
fn own_tables(structure: &Structure, to: &dyn SiteAccess) -> Result<Vec<Check>> {
    let own = |table: &str| to.holds_table(table);
    let names: Vec<String> = structure.tables.iter().map(|table| table.name.clone()).collect();
    refuse_foreign_tables(&names, &own, to.name())?;
    let foreign: Vec<String> = names.into_iter().filter(|name| !own(name)).collect();
    if foreign.is_empty() {
        return Ok(Vec::new());
    }
    Ok(vec![Check::warned(
        format!("tables in [site.{}] excludes {}", to.name(), named(&foreign, 6)),
        "they will not be moved",
    )])
}

/// Two databases of one name on one server are one; two sites may live in it, each with tables of
/// its own.
fn same_database(
    from: &dyn SiteAccess,
    to: &dyn SiteAccess,
    source: Option<&(Overview, Structure)>,
) -> Check {
    let (one, other) = (from.database_identity(), to.database_identity());
    if one.is_none() || one != other {
        return Check::passed("source and destination are different databases");
    }
    let apart = from.bounds_tables()
        && to.bounds_tables()
        && source.is_some_and(|(_, structure)| {
            !structure.tables.iter().any(|table| to.holds_table(&table.name))
        });
    match apart {
        true => Check::passed("source and destination are one database, and different tables"),
        false => Check::failed(
            "source and destination are the same database, by another name",
            "check database of both sites; two sites in one database need different tables",
        ),
    }
}
