//! Whether a site can move to another place, tested by doing: reading a little, writing a
//! little, and looking at what the web server answers. Everything that is made is removed.

mod both;
mod pace;
mod page;

pub use both::{Tests, page_of};
pub use pace::{Pace, Sample};
pub use page::{Answer, judge_page};

use crate::pack;
use crate::stream;
use crate::unpack::refuse_several_groups;
use fernweh_core::entries::EntryList;
use fernweh_core::finding::{Check, Verdict};
use fernweh_core::limits;
use fernweh_core::programs::{Php, QUESTION, SCHEDULE, differences, scheduled};
use fernweh_core::record::{EntryKind, Table};
use fernweh_core::sql::{Dialect, Modes, Statement, write_structure};
use fernweh_ports::{
    Counting, Counts, DatabaseSource, DatabaseTarget, FileSource, FileTarget, Overview, Result,
    Scope, SiteAccess, Structure, TableInfo, Trouble, counted, in_turn, size,
};
use pace::{ENOUGH, LONG_ENOUGH, MOST_FILES};
use serde::Serialize;
use std::collections::HashSet;
use std::io::Read;
use std::time::Instant;

/// A test with the name by which it can be repeated alone.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
pub struct Named {
    /// Its name.
    pub name: &'static str,
    /// How it ended.
    #[serde(flatten)]
    pub check: Check,
}

/// The names of the tests, in their order.
pub const NAMES: [&str; 9] = [
    "source-database",
    "source-files",
    "destination-database",
    "destination-files",
    "fit",
    "room",
    "programs",
    "pages",
    "same-place",
];

/// What the tests have found out.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Preflight {
    /// The tests.
    pub checks: Vec<Named>,
    /// What goes.
    pub size: Size,
    /// What is at the destination.
    pub there: There,
    /// How fast, measured on the real connections.
    pub pace: Pace,
    /// How long it will take, in seconds, if that could be measured.
    pub seconds: Option<f64>,
    /// What only people can do, as far as it was seen.
    pub to_do: Vec<String>,
    /// What the files of the source have that not every host carries.
    #[serde(skip)]
    pub counts: Counts,
    /// Whether files of the source are programs of PHP.
    #[serde(skip)]
    pub has_php: bool,
}

/// How much goes.
#[derive(Clone, Copy, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Size {
    /// Tables.
    pub tables: u64,
    /// Records.
    pub records: u64,
    /// Bytes of the database, as the engine tells.
    pub database_bytes: u64,
    /// Bytes of tables whose keys are made when the rows are in.
    pub keyed_later: u64,
    /// Files.
    pub files: u64,
    /// Bytes of the files.
    pub file_bytes: u64,
}

/// What is at the destination, and would be replaced.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct There {
    /// Tables that the source has, too.
    pub tables: u64,
    /// Their records.
    pub records: u64,
    /// Tables that stay.
    pub staying: Vec<String>,
    /// Entries at the top of the site's folder.
    pub entries: u64,
}

impl There {
    /// Whether nothing is there.
    pub fn is_empty(&self) -> bool {
        self.tables + self.entries == 0
    }
}

impl Preflight {
    /// Notes how a test ended.
    pub fn add(&mut self, name: &'static str, check: Check) {
        self.checks.push(Named { name, check });
    }

    /// Notes the outcome of a test that may have met trouble.
    pub fn note(&mut self, name: &'static str, outcome: Result<Vec<Check>>) {
        match outcome {
            Ok(checks) => checks.into_iter().for_each(|check| self.add(name, check)),
            Err(trouble) => self.add(name, failed(&trouble)),
        }
    }

    /// Whether a test failed.
    pub fn has_failed(&self) -> bool {
        self.checks.iter().any(|named| named.check.verdict == Verdict::Failed)
    }

    /// Reckons how long the whole will take.
    pub fn estimate(&mut self) {
        self.seconds = self.pace.seconds(&self.size);
    }
}

/// Trouble as the outcome of a test.
pub fn failed(trouble: &Trouble) -> Check {
    let place = trouble.place.as_ref().map(|place| format!(" ({place})")).unwrap_or_default();
    let hint = trouble.hint.clone().unwrap_or_else(|| "check the log of the other side".into());
    Check::failed(format!("{trouble}{place}"), hint)
}

/// Reads a little of the source's database.
pub fn source_database(
    source: &mut dyn DatabaseSource,
    scope: &dyn Scope,
    found: &mut Preflight,
) -> Result<(Overview, Structure)> {
    let overview = source.overview(scope, Counting::Exact)?;
    let unsure = source.begin()?;
    let structure = source.structure(scope)?;
    found.size.tables = overview.tables.len() as u64;
    found.size.records = overview.tables.iter().map(|table| table.rows).sum();
    found.size.database_bytes = overview.tables.iter().map(|table| table.bytes).sum();
    let largest = overview.tables.iter().max_by_key(|table| table.bytes);
    let of = |info: &TableInfo| structure.tables.iter().find(|table| table.name == info.name);
    if let Some((info, table)) = largest.and_then(|info| Some((info, of(info)?))) {
        let (mut sample, all) = read_some_rows(source, table)?;
        if all {
            // What the engine counts holds room that is free, and keys.
            sample.bytes = sample.bytes.max(info.bytes);
        }
        found.pace.rows_read = Some(sample);
    }
    let name = "source-database";
    found.add(
        name,
        Check::passed(format!(
            "the database can be read: {}, {}",
            counted(found.size.tables, "table", "tables"),
            counted(found.size.records, "record", "records")
        )),
    );
    for check in overview.checks.iter().filter(|check| check.verdict != Verdict::Passed) {
        found.add(name, check.clone());
    }
    if !unsure.is_empty() {
        found.add(
            name,
            Check::warned(
                format!("tables that cannot be read at the same moment: {}", unsure.join(", ")),
                "make sure that nobody writes to the site while it is packed",
            ),
        );
    }
    Ok((overview, structure))
}

/// Reads records for a moment; tells whether these were all.
fn read_some_rows(source: &mut dyn DatabaseSource, table: &Table) -> Result<(Sample, bool)> {
    let began = Instant::now();
    let (mut sample, mut full) = (Sample::default(), false);
    let enough = source.rows(table, None, &mut |row| {
        sample.pieces += 1;
        sample.bytes += row.iter().map(|value| value.weight() as u64).sum::<u64>();
        let done = sample.bytes >= ENOUGH || began.elapsed().as_secs_f64() > LONG_ENOUGH;
        full = done;
        // Ending the stream is the only way out of it.
        if done { Err(Trouble::interrupted("enough rows were read")) } else { Ok(()) }
    });
    sample.seconds = began.elapsed().as_secs_f64();
    match enough {
        Err(trouble) if !full => Err(trouble),
        _ => Ok((sample, !full)),
    }
}

/// Lists the source's files and reads a few.
pub fn source_files(
    source: &mut dyn FileSource,
    enter: &dyn Fn(&[u8]) -> bool,
    found: &mut Preflight,
) -> Result<()> {
    let mut entries = EntryList::default();
    let mut outside = 0;
    let mut known = HashSet::new();
    let counts = &mut found.counts;
    source.walk(enter, &mut |entry| {
        counts.attributes += u64::from(!entry.extra.attributes.is_empty());
        match entry.kind {
            EntryKind::Link(_) => counts.links += 1,
            EntryKind::HardLink(_) => counts.hard_links += 1,
            EntryKind::File(_) | EntryKind::Folder => counts.entries += 1,
        }
        // Each further name of a file is one.
        if let Some(names) = entry.extra.names
            && known.len() < limits::LINKED_FILES
            && !known.insert(names)
        {
            counts.hard_links += 1;
        }
        match &entry.kind {
            EntryKind::File(size) => {
                found.size.files += 1;
                found.has_php |= entry.path.ends_with(b".php");
                found.size.file_bytes += size;
                if entries.len() < MOST_FILES {
                    entries.push(entry);
                }
            }
            EntryKind::Link(to) if pack::leads_out(&entry.path, to) => outside += 1,
            _ => {}
        }
        Ok(())
    })?;
    let began = Instant::now();
    let mut sample = Sample::default();
    in_turn(source, &entries, |source, entry| {
        if sample.bytes >= ENOUGH || began.elapsed().as_secs_f64() > LONG_ENOUGH {
            return Ok(());
        }
        let Some(content) = source.open(&entry.path)? else { return Ok(()) };
        let mut content = content.take(ENOUGH);
        let read = std::io::copy(&mut content, &mut std::io::sink()).map_err(|error| {
            Trouble::outside("cannot read a file of the site")
                .at(entry.shown())
                .because(error)
                .hint("make it readable, or leave it out with leave-out in [pack]")
        })?;
        sample.pieces += 1;
        sample.bytes += read;
        Ok(())
    })?;
    sample.seconds = began.elapsed().as_secs_f64();
    found.pace.files_read = (sample.pieces > 0).then_some(sample);
    let name = "source-files";
    let files = counted(found.size.files, "file", "files");
    found.add(name, Check::passed(format!("the files can be read: {files}")));
    if outside > 0 {
        let links = counted(outside, "link leads", "links lead");
        found.add(
            name,
            Check::warned(
                format!("{links} out of the site's folder and would be left out"),
                "pack with --outside-links to include them unchanged",
            ),
        );
    }
    Ok(())
}

/// Looks what is at the destination, makes a table there, and takes it away again.
pub fn destination_database(
    target: &mut dyn DatabaseTarget,
    to: &dyn SiteAccess,
    coming: &dyn Fn(&str) -> bool,
    there: &mut There,
) -> Result<Vec<Check>> {
    let overview = target.overview(&|table: &str| to.holds_table(table))?;
    if !to.bounds_tables() {
        refuse_several_groups(&overview, to.name())?;
    }
    for table in &overview.tables {
        if coming(&table.name) {
            there.tables += 1;
            there.records += table.rows;
        } else {
            there.staying.push(table.name.clone());
        }
    }
    let dialect = overview.dialect;
    let quoted = if dialect == Dialect::Mariadb { "`fernweh_test`" } else { "\"fernweh_test\"" };
    let sql = format!("CREATE TABLE {quoted} (id integer NOT NULL)");
    let statement = Statement::parse(dialect, Modes::default(), sql.as_bytes())
        .map_err(|error| Trouble::outside("cannot test the database").because(error))?;
    let made = target.build(&[statement]);
    let cleaned = target.discard();
    made.and(cleaned)?;
    Ok(vec![Check::passed("tables can be created and removed there")])
}

/// What the destination's database cannot take of the source's.
pub fn fit(
    target: &mut dyn DatabaseTarget,
    overview: &Overview,
    structure: &Structure,
) -> Result<Vec<Check>> {
    let there = target.overview(&|_: &str| false)?;
    if there.dialect != overview.dialect {
        let (theirs, ours) = (there.dialect.engine(), overview.dialect.engine());
        return Ok(vec![Check::failed(
            format!("its database is {theirs}, not {ours}"),
            "an archive unpacks into the engine that it came from",
        )]);
    }
    let mut checks = target.incompatibilities(overview, structure)?;
    // A SQLite file holds one site: nothing stays in it that could be in the way.
    if there.dialect != Dialect::Sqlite {
        checks.extend(tried_on(target, there.dialect, structure)?);
    }
    Ok(checks)
}

/// Builds the tables beside those of the site, without records, and plans the switch: names that
/// are taken, keys and views that stay and do not fit show themselves.
fn tried_on(
    target: &mut dyn DatabaseTarget,
    dialect: Dialect,
    structure: &Structure,
) -> Result<Vec<Check>> {
    // As it would come out of an archive.
    let read = |statements: &[Statement]| {
        stream::statements(write_structure(dialect, statements).as_slice(), dialect)
            .map_err(|because| Trouble::outside("the structure cannot be packed").because(because))
    };
    let (before, afterwards) = (read(&structure.before)?, read(&structure.afterwards)?);
    let planned = target.build(&before).and_then(|()| target.finish(&afterwards));
    let refused = target.not_created();
    target.discard()?;
    Ok(match planned {
        Err(trouble) if trouble.lost => return Err(trouble),
        Err(trouble) => vec![failed(&trouble)],
        Ok(_) if refused.is_empty() => {
            vec![Check::passed(
                "everything fits the tables that stay (built once, without \
                             records)",
            )]
        }
        Ok(_) => refused
            .into_iter()
            .map(|what| Check::warned(what, "it will be missing there; check it at the source"))
            .collect(),
    })
}

/// Records that the destination's server finds too large.
pub fn large_records(
    target: &mut dyn DatabaseTarget,
    from: &dyn SiteAccess,
    structure: &Structure,
) -> Result<Vec<Check>> {
    let Some(limit) = target.packet_limit()? else { return Ok(Vec::new()) };
    let Some(mut source) = from.database()? else { return Ok(Vec::new()) };
    let mut checks = Vec::new();
    for table in &structure.tables {
        if let Some(found) = source.record_above(table, limit.bytes)? {
            let what = format!(
                "table {}, {}: a record of {}; the server accepts {}",
                table.name,
                found.record,
                size(found.bytes),
                size(limit.bytes)
            );
            checks.push(match limit.bulk {
                true => Check::warned(
                    what + ", and more only through bulk loading",
                    "raise max_allowed_packet there: the site's programs may need it, too",
                ),
                false => Check::failed(
                    what,
                    "raise max_allowed_packet there, or unpack with --on-bad-record skip",
                ),
            });
        }
    }
    if checks.is_empty() {
        checks.push(Check::passed(format!(
            "no record is larger than {}, which the server accepts",
            size(limit.bytes)
        )));
    }
    Ok(checks)
}

/// What runs the site's programs at both ends, where a shell answers, and what the scheduler of
/// the old host does for the site.
pub fn programs(from: &dyn SiteAccess, to: &dyn SiteAccess, found: &mut Preflight) {
    if found.has_php
        && let Some(old) = from.ask_host(QUESTION).and_then(|printed| Php::parse(&printed))
        && let Some(printed) = to.ask_host(QUESTION)
    {
        found.note("programs", Ok(differences(&old, Php::parse(&printed).as_ref())));
    }
    let Some(table) = from.ask_host(SCHEDULE) else { return };
    let host = from.url().map(|url| url.host.clone());
    let named: Vec<String> = from.folder_on_host().into_iter().chain(host).collect();
    let entries = scheduled(&table, &named);
    found.to_do.extend(entries.into_iter().map(|entry| {
        format!("set up this scheduled job at the new host, with its folder and address: {entry}")
    }));
}

/// Writes some files at the destination, looks whether the source sees them, and takes them
/// away again.
pub fn destination_files(
    target: &mut dyn FileTarget,
    source: Option<&mut dyn FileSource>,
    own_runs: &[String],
    found: &mut Preflight,
) -> Result<()> {
    target.as_trial(own_runs);
    let tried = write_some_files(target, source, found);
    let cleaned = target.discard();
    tried.and(cleaned)
}

fn write_some_files(
    target: &mut dyn FileTarget,
    source: Option<&mut dyn FileSource>,
    found: &mut Preflight,
) -> Result<()> {
    found.there.entries = target.existing()?;
    target.build()?;
    let swap = pace::write_files(target, &mut found.pace)?;
    found.add("destination-files", Check::passed("files can be written and removed there"));
    // What was written to try it says nothing of the site.
    for note in target.cannot_carry(found.counts) {
        found.add(
            "destination-files",
            Check::warned(note, "nothing of it is lost: the archive has it"),
        );
    }
    if let Some(source) = source {
        // If both are one place, what was written beside the one is beside the other.
        let mut steps = swap.side.components().rev().map(|part| part.as_os_str().to_string_lossy());
        let (run, workshop) = (steps.next().unwrap_or_default(), steps.next().unwrap_or_default());
        let mut sees = |path: &str| source.open(path.as_bytes()).is_ok_and(|found| found.is_some());
        let within = sees(&format!("{workshop}/{run}/fernweh-test-0"));
        let beside = !within && sees(&format!("../{workshop}/{run}/fernweh-test-0"));
        // So it is where two folders lie side by side: only what lies in the one itself tells.
        let same = within || beside && shows_mark(target, &mut sees)?;
        found.add(
            "same-place",
            match same {
                true => Check::failed(
                    "source and destination are the same folder, by another name",
                    "check files of both sites",
                ),
                false => Check::passed("source and destination are different folders"),
            },
        );
    }
    Ok(())
}

/// Whether what lies in the destination's own folder is seen at the source.
fn shows_mark(target: &mut dyn FileTarget, sees: &mut dyn FnMut(&str) -> bool) -> Result<bool> {
    let Some(mark) = target.put_mark()? else { return Ok(false) };
    let seen = sees(&mark.path);
    target.take_probe(&mark)?;
    Ok(seen)
}

/// Whether there is room for the new state beside the old one.
pub fn room(needed: u64, free: Option<u64>, what: &str) -> Check {
    match free {
        None => Check::warned(
            format!("the host does not tell how much room it has for {what}"),
            format!("make sure that it has {}", size(needed)),
        ),
        Some(free) if free < needed => Check::failed(
            format!("no room for {what}: {} are free, {} are needed", size(free), size(needed)),
            "make room; unpack --in-place needs no second copy, but the site is down meanwhile",
        ),
        Some(_) => Check::passed(format!("there is room for {what} beside what is there")),
    }
}
