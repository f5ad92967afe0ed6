//! Archive → site, rewriting on the way; all or nothing.
//!
//! The new state is built beside the old one, compared with the archive, and put in
//! place at the end. Until the journal says *switching* the old site stands untouched.

use crate::archive::{ArchiveReader, PieceReader};
use crate::journal::{Journal, Plan, Records, Run, State, Step};
use crate::patterns::Patterns;
use crate::report::{RewriteReport, TableReport};
use crate::{stream, survey};
use fernweh_core::archive::{DatabaseManifest, Member, read_index};
use fernweh_core::limits;
use fernweh_core::record::{COUNTERS, Entry, EntryKind};
use fernweh_core::rewrite::Rewriter;
use fernweh_core::settings::{self, Role, Setting};
use fernweh_core::sql::Statement;
use fernweh_ports::{
    DatabaseTarget, Direction, FileTarget, LeftOut, Result, Scope, Trouble, Unit, Watch, counted,
};
use serde::Serialize;
use std::io::Read;

/// What to unpack, and how.
pub struct UnpackOptions<'a> {
    /// The site's name.
    pub site: String,
    /// Replace what is there.
    pub overwrite: bool,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Whether the configuration bounds the tables.
    pub tables_bounded: bool,
    /// Entries of the present files that are carried over.
    pub keep: Patterns,
    /// The rules; none with `--as-is`.
    pub rewriter: &'a Rewriter,
    /// The new values of connection settings; `None` leaves them alone.
    pub settings: &'a dyn Fn(&Setting) -> Option<String>,
    /// Take links along that point out of the tree.
    pub outside_links: bool,
}

/// What was unpacked.
#[derive(Clone, Debug, Default, Serialize)]
pub struct UnpackReport {
    /// Number of tables.
    pub tables: u64,
    /// Number of records.
    pub records: u64,
    /// Number of files.
    pub files: u64,
    /// Number of links.
    pub links: u64,
    /// Bytes of all files, as written.
    pub file_bytes: u64,
    /// Files of the old state carried over.
    pub kept: u64,
    /// What was replaced: tables and entries of the old state.
    pub replaced: Option<Replaced>,
    /// Files whose connection settings were written.
    pub settings: Vec<String>,
    /// What was left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What rewriting did.
    pub rewriting: RewriteReport,
    /// The run, if something was changed.
    pub run: Option<String>,
    /// Whether what was replaced is kept, so that `undo` can bring it back.
    pub undo: bool,
}

/// What was there before.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Replaced {
    /// Tables.
    pub tables: u64,
    /// Records.
    pub records: u64,
    /// Entries at the top of the site's folder.
    pub entries: u64,
}

/// Where the archive goes.
pub struct Targets<'a> {
    /// The database, if the archive has one.
    pub database: Option<&'a mut dyn DatabaseTarget>,
    /// The files, if the archive has some.
    pub files: Option<&'a mut dyn FileTarget>,
}

/// What is to be done with the targets of a run.
pub type Work<'a> = &'a mut dyn FnMut(&mut Targets<'_>) -> Result<()>;

/// Refuses a site that holds something, unless it may be replaced; says what is there.
pub fn look_before(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets<'_>,
) -> Result<Option<Replaced>> {
    let mut there = Replaced::default();
    let mut words = Vec::new();
    if let Some(target) = &mut targets.database {
        let overview = target.overview(options.tables)?;
        check_engine(archive, overview.dialect, &options.site)?;
        let groups = survey::prefixes(overview.tables.iter().map(|table| table.name.as_str()));
        if groups.len() > 1 && !options.tables_bounded {
            let names: Vec<String> =
                groups.iter().map(|(name, count)| format!("{name}* ({count} tables)")).collect();
            return Err(Trouble::usage(format!(
                "several groups of tables live in the database of site {}",
                options.site
            ))
            .because(format!("found {}", names.join(", ")))
            .hint(format!(
                "say in [site.{}] which are this site's, as tables = [\"gp_*\"]",
                options.site
            )));
        }
        let wanted = archive.manifest.database.iter().flat_map(|database| &database.tables);
        for table in wanted {
            if let Some(found) = overview.tables.iter().find(|found| found.name == table.name) {
                there.tables += 1;
                there.records += found.rows;
            }
        }
        if there.tables > 0 {
            words.push(format!(
                "{} of the archive with {}",
                counted(there.tables, "table", "tables"),
                counted(there.records, "record", "records")
            ));
        }
    }
    if let Some(target) = &targets.files {
        there.entries = target.existing()?;
        if there.entries > 0 {
            let entries = counted(there.entries, "entry", "entries");
            words.push(format!("{entries} in {}", target.place()));
        }
    }
    if words.is_empty() {
        return Ok(None);
    }
    if !options.overwrite {
        return Err(Trouble::usage(format!("site {} is not empty", options.site))
            .because(format!("there are {}", words.join(" and ")))
            .hint(
                "add --overwrite to replace them; they are kept, and fernweh undo brings them back",
            ));
    }
    Ok(Some(there))
}

fn check_engine(
    archive: &ArchiveReader,
    dialect: fernweh_core::sql::Dialect,
    site: &str,
) -> Result<()> {
    match &archive.manifest.database {
        Some(database) if database.dialect != dialect => {
            Err(Trouble::usage(format!("the archive does not fit the database of site {site}"))
                .because(format!(
                    "it comes from {}, the site has {}; values and structure differ too much to be \
                     carried over safely",
                    database.dialect.engine(),
                    dialect.engine()
                ))
                .hint("set database of the site to the archive's engine, or use --only files"))
        }
        _ => Ok(()),
    }
}

/// Completes a run of this site that was broken off in the middle of its switch, or
/// cleans up one that had not come so far. Gives the way of a run that was completed.
pub fn settle_earlier(
    records: &Records,
    site: &str,
    connect: &mut dyn FnMut(&Run, Work<'_>) -> Result<()>,
    watch: &dyn Watch,
) -> Result<Option<Direction>> {
    let mut completed = None;
    for run in records.runs_of(site)? {
        if run.header.command != "unpack" || !run.is_unfinished() {
            continue;
        }
        connect(&run, &mut |targets| {
            let mut journal = Journal::resume(&run)?;
            match run.state() {
                State::Switching(direction, plan) => {
                    switch(&mut journal, targets, &plan, direction, watch)?;
                    completed = Some(direction);
                }
                _ => discard(&mut journal, targets, watch)?,
            }
            Ok(())
        })?;
    }
    Ok(completed)
}

/// Cleans up a run that was not switched.
pub fn discard(journal: &mut Journal, targets: &mut Targets<'_>, watch: &dyn Watch) -> Result<()> {
    if let Some(target) = &mut targets.database {
        target.discard()?;
    }
    if let Some(target) = &mut targets.files {
        target.discard()?;
    }
    journal.step(&Step::Discarded, watch)
}

/// Unpacks an archive into a site. `look_before` has been passed.
pub fn unpack(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets<'_>,
    journal: &mut Journal,
    watch: &dyn Watch,
) -> Result<UnpackReport> {
    let mut report =
        UnpackReport { rewriting: RewriteReport::of(options.rewriter), ..UnpackReport::default() };
    watch.reached("started");
    let plan = match build(options, archive, targets, journal, &mut report, watch) {
        Ok(plan) => plan,
        Err(trouble) => {
            // The old site stands; what was built is of no use to anybody.
            let _ = discard(journal, targets, watch);
            return Err(trouble);
        }
    };
    switch(journal, targets, &plan, Direction::Forward, watch)?;
    report.run = Some(journal.header.run.clone());
    Ok(report)
}

/// Reads and rewrites everything, and changes nothing.
pub fn preview(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    watch: &dyn Watch,
) -> Result<UnpackReport> {
    let mut report =
        UnpackReport { rewriting: RewriteReport::of(options.rewriter), ..UnpackReport::default() };
    if let Some(about) = &archive.manifest.database {
        read_rows(options, archive, about, None, &mut report, watch)?;
    }
    if archive.manifest.files.is_some() {
        read_files(options, archive, None, &mut report, watch)?;
    }
    Ok(report)
}

fn build(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets<'_>,
    journal: &mut Journal,
    report: &mut UnpackReport,
    watch: &dyn Watch,
) -> Result<Plan> {
    let mut plan = Plan::default();
    if let Some(target) = &mut targets.files {
        target.build()?;
    }
    let mut afterwards = Vec::new();
    if let (Some(target), Some(about)) = (&mut targets.database, &archive.manifest.database) {
        let structure = read_structure(options, archive, about, &Member::Structure)?;
        afterwards = read_structure(options, archive, about, &Member::Afterwards)?;
        target.build(&structure)?;
        read_rows(options, archive, about, Some(*target), report, watch)?;
        plan.tables = tables_of(options, about);
    }
    if let (Some(target), Some(_)) = (&mut targets.files, &archive.manifest.files) {
        read_files(options, archive, Some(*target), report, watch)?;
        report.kept = target.keep(&|path| options.keep.hold(path))?;
    }
    journal.step(&Step::Built, watch)?;
    watch.go_on()?;
    if let Some(target) = &mut targets.database {
        check_rows(archive, *target, &plan.tables)?;
        plan.database = Some(target.finish(&afterwards)?);
    }
    if let Some(target) = &mut targets.files {
        check_files(archive, report)?;
        plan.files = Some(target.finish()?);
    }
    journal.step(&Step::Checked, watch)?;
    watch.go_on()?;
    Ok(plan)
}

/// Puts everything in place. Doing it twice, or after a break, gives the same.
pub fn switch(
    journal: &mut Journal,
    targets: &mut Targets<'_>,
    plan: &Plan,
    direction: Direction,
    watch: &dyn Watch,
) -> Result<()> {
    journal.step(&Step::Switching { direction, plan: plan.clone() }, watch)?;
    let half = |trouble: Trouble| {
        trouble.incomplete(
            "the switch is not complete; type the same command again to complete it, or fernweh \
             undo to take it back",
        )
    };
    if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
        target.switch(swap, direction, watch).map_err(half)?;
        watch.reached("database-in-place");
        journal.step(&Step::DatabaseSwitched, watch)?;
    }
    if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) {
        target.switch(swap, direction).map_err(half)?;
        watch.reached("files-in-place");
        journal.step(&Step::FilesSwitched, watch)?;
    }
    let fingerprint = match &mut targets.database {
        Some(target) if plan.database.is_some() => target.fingerprint(&plan.tables)?,
        _ => fernweh_ports::Fingerprint::default(),
    };
    journal.step(&Step::Done { direction, at: crate::now(), fingerprint }, watch)
}

fn tables_of(options: &UnpackOptions<'_>, about: &DatabaseManifest) -> Vec<String> {
    let names = about.tables.iter().map(|table| table.name.clone());
    names.filter(|name| options.tables.holds(name) && name != COUNTERS).collect()
}

fn read_structure(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    member: &Member,
) -> Result<Vec<Statement>> {
    let mut found = stream::structure(archive, about.dialect, member)?;
    found.retain(|statement| match statement {
        Statement::Table { name, .. } | Statement::View { name, .. } => options.tables.holds(name),
        Statement::Trigger { table, .. } | Statement::ForeignKey { table, .. } => {
            options.tables.holds(table)
        }
        _ => true,
    });
    for statement in &found {
        if let Statement::Table { name, .. } = statement
            && !about.tables.iter().any(|table| table.name == *name)
        {
            return Err(Trouble::damaged("the archive contradicts itself")
                .because(format!("table {name} is not in its manifest"))
                .hint("do not use this archive; ask where it comes from"));
        }
    }
    Ok(found)
}

fn read_rows(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    mut target: Option<&mut dyn DatabaseTarget>,
    report: &mut UnpackReport,
    watch: &dyn Watch,
) -> Result<()> {
    let total: u64 = archive.seal.rows.values().sum();
    watch.stage("database", Some(total), Unit::Records);
    let wanted = about.tables.iter().filter(|table| options.tables.holds(&table.name));
    for table in wanted {
        let is_table = table.name != COUNTERS;
        report.tables += u64::from(is_table);
        let mut tallies = TableReport::new(table);
        let blocks = archive.members().filter(
            |member| matches!(member, Member::Rows { table: name, .. } if *name == table.name),
        );
        let expected: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
        for member in blocks {
            stream::rows(archive, about.dialect, member, &table.name, &mut |mut insert| {
                watch.go_on()?;
                if insert.columns != expected {
                    return Err(Trouble::damaged("the archive contradicts itself")
                        .at(member.to_string())
                        .because("its columns are not those of its manifest")
                        .hint("do not use this archive; ask where it comes from"));
                }
                for row in &mut insert.rows {
                    tallies.row(options.rewriter, table, row);
                }
                if is_table {
                    report.records += insert.rows.len() as u64;
                }
                watch.advance(insert.rows.len() as u64);
                match &mut target {
                    Some(target) => target.write(&table.name, &insert.columns, &insert.rows),
                    None => Ok(()),
                }
            })?;
        }
        tallies.into_report(table, &mut report.rewriting);
    }
    let (tables, records) = (report.tables, report.records);
    watch.done(&format!(
        "{}, {}",
        counted(tables, "table", "tables"),
        counted(records, "record", "records")
    ));
    Ok(())
}

/// What stands in the database must be as much as the archive holds.
fn check_rows(
    archive: &ArchiveReader,
    target: &mut dyn DatabaseTarget,
    tables: &[String],
) -> Result<()> {
    for (table, found) in target.built_rows(tables)? {
        let sealed = archive.seal.rows.get(&table).copied().unwrap_or(0);
        if found != sealed {
            return Err(Trouble::damaged("the new database is not complete")
                .at(format!("table {table}"))
                .because(format!("it holds {found} records, the archive {sealed}"))
                .hint("try again; if it happens again, the server drops records in silence"));
        }
    }
    Ok(())
}

fn check_files(archive: &ArchiveReader, report: &UnpackReport) -> Result<()> {
    let sealed = archive.seal.files + archive.seal.links;
    let found = report.files + report.links + report.left_out.len() as u64;
    if found != sealed {
        return Err(Trouble::damaged("the new files are not complete")
            .because(format!("{found} were written, the archive holds {sealed}"))
            .hint("pack the site again"));
    }
    Ok(())
}

fn read_files(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    mut target: Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
    watch: &dyn Watch,
) -> Result<()> {
    watch.stage("files", Some(archive.seal.file_bytes), Unit::Bytes);
    let mut pieces = PieceReader::new(archive);
    let result = each_entry(&mut pieces, &mut |entry, content| {
        watch.go_on()?;
        match &entry.kind {
            EntryKind::Folder => match &mut target {
                Some(target) => target.put(&entry),
                None => Ok(()),
            },
            EntryKind::Link(to) => {
                if !options.outside_links && crate::pack::leads_out(&entry.path, to) {
                    report.left_out.push(LeftOut {
                        path: entry.shown(),
                        because: "a link that points out of the site".into(),
                    });
                    return Ok(());
                }
                report.links += 1;
                match &mut target {
                    Some(target) => target.put(&entry),
                    None => Ok(()),
                }
            }
            EntryKind::File(size) => {
                watch.advance(*size);
                report.files += 1;
                file(options, archive, &entry, content, &mut target, report)
            }
        }
    });
    let trouble = pieces.trouble.take();
    result.map_err(|error| trouble.unwrap_or(error))?;
    check_index(archive)?;
    watch.done(&counted(report.files, "file", "files"));
    Ok(())
}

/// The index is not needed to unpack everything, but an archive is whole or it is not.
fn check_index(archive: &ArchiveReader) -> Result<()> {
    let bytes = archive.read(&Member::Index)?;
    let lines = zstd::decode_all(bytes.as_slice()).map_err(broken_stream)?;
    let seal = &archive.seal;
    let entries = read_index(&lines).map_or(0, |found| found.len() as u64);
    if entries != seal.files + seal.folders + seal.links {
        return Err(Trouble::damaged("the archive contradicts itself")
            .because("its index of files is not the one of its files")
            .hint("do not use this archive; pack the site again"));
    }
    Ok(())
}

fn file(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    entry: &Entry,
    content: &mut dyn Read,
    target: &mut Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
) -> Result<()> {
    let EntryKind::File(size) = entry.kind else { return Ok(()) };
    let path = entry.shown();
    if size > limits::TEXT_FILE {
        let mut searching =
            Searching { inner: content, rewriter: options.rewriter, tail: Vec::new(), hits: 0 };
        report.file_bytes += size;
        match target {
            Some(target) => target.put_file(entry, &mut searching)?,
            None => {
                std::io::copy(&mut searching, &mut std::io::sink()).map_err(broken_stream)?;
            }
        }
        let hits = searching.hits;
        report.rewriting.large_file(&path, hits);
        return Ok(());
    }
    let mut bytes = Vec::new();
    content.read_to_end(&mut bytes).map_err(broken_stream)?;
    if let Some(new) = report.rewriting.file(options.rewriter, &path, &bytes) {
        bytes = new;
    }
    if archive.seal.settings.contains(&path)
        && let Some(new) = with_settings(options, archive, &bytes)
    {
        report.settings.push(path);
        bytes = new;
    }
    report.file_bytes += bytes.len() as u64;
    match target {
        Some(target) => target.put_file(entry, &mut bytes.as_slice()),
        None => Ok(()),
    }
}

/// The destination's connection settings, in a file whose settings name the database
/// that was packed.
fn with_settings(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    bytes: &[u8],
) -> Option<Vec<u8>> {
    let found = settings::find(bytes)?;
    if let Some(database) = &archive.manifest.database {
        let names = [Some(database.name.as_str()), database.inside_files.as_deref()];
        let is_ours = found.iter().any(|setting| {
            matches!(setting.role, Role::Name | Role::File)
                && names.iter().flatten().any(|name| same_name(name, &setting.value))
        });
        if !is_ours {
            return None;
        }
    }
    let new = settings::write(bytes, &found, options.settings);
    (new != bytes).then_some(new)
}

/// A database file may be written relative to the site's folder.
fn same_name(name: &str, value: &str) -> bool {
    let value = value.trim_start_matches("./");
    !value.is_empty()
        && (name == value || name.ends_with(&format!("/{}", value.trim_start_matches('/'))))
}

/// Searches what passes for old names; a hit across two portions counts too.
struct Searching<'a> {
    inner: &'a mut dyn Read,
    rewriter: &'a Rewriter,
    tail: Vec<u8>,
    hits: u64,
}

impl Read for Searching<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = self.inner.read(buffer)?;
        let before = self.rewriter.hits(&self.tail) as u64;
        let mut window = std::mem::take(&mut self.tail);
        window.extend_from_slice(&buffer[..length]);
        self.hits += self.rewriter.hits(&window) as u64 - before;
        let from = window.len().saturating_sub(256);
        self.tail = window.split_off(from);
        Ok(length)
    }
}

fn broken_stream(error: std::io::Error) -> Trouble {
    Trouble::damaged("the archive is damaged").because(error).hint("copy the archive again")
}

/// Every entry of the stream of files, with its content.
fn each_entry(
    stream: &mut PieceReader<'_>,
    visit: &mut dyn FnMut(Entry, &mut dyn Read) -> Result<()>,
) -> Result<()> {
    let mut tar = tar::Archive::new(stream);
    let entries = tar.entries().map_err(broken_stream)?;
    for found in entries {
        let mut found = found.map_err(broken_stream)?;
        let entry = entry_of(&mut found).map_err(broken_stream)?.ok_or_else(|| {
            Trouble::damaged("the archive holds an entry that it must not hold")
                .at(String::from_utf8_lossy(&found.path_bytes()).into_owned())
                .because("it is neither file, folder nor link")
                .hint("do not use this archive; ask where it comes from")
        })?;
        visit(entry, &mut found)?;
    }
    Ok(())
}

fn entry_of<R: Read>(found: &mut tar::Entry<'_, R>) -> std::io::Result<Option<Entry>> {
    let mut time: Option<(i64, u32)> = None;
    if let Some(extensions) = found.pax_extensions()? {
        for extension in extensions {
            let extension = extension?;
            if extension.key_bytes() == b"mtime" {
                time = time_of(&String::from_utf8_lossy(extension.value_bytes()));
            }
        }
    }
    let header = found.header();
    let mut path = found.path_bytes().into_owned();
    while path.last() == Some(&b'/') {
        path.pop();
    }
    let kind = match header.entry_type() {
        tar::EntryType::Regular => EntryKind::File(found.size()),
        tar::EntryType::Directory => EntryKind::Folder,
        tar::EntryType::Symlink => EntryKind::Link(
            found.link_name_bytes().map(|link| link.into_owned()).unwrap_or_default(),
        ),
        _ => return Ok(None),
    };
    let (mtime, nanos) = time.unwrap_or((header.mtime()? as i64, 0));
    let mode = header.mode()? & 0o7777;
    let owner = (header.uid()?, header.gid()?);
    Ok(Some(Entry { path, kind, mode, mtime, nanos, owner }))
}

/// Seconds with a fraction, as pax writes them; negative before 1970.
fn time_of(text: &str) -> Option<(i64, u32)> {
    let (seconds, fraction) = text.split_once('.').unwrap_or((text, "0"));
    let digits: String = fraction.chars().chain("000000000".chars()).take(9).collect();
    Some((seconds.parse().ok()?, digits.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::rewrite::Rule;

    #[test]
    fn times_keep_their_nanoseconds() {
        assert_eq!(time_of("12.000000345"), Some((12, 345)));
        assert_eq!(time_of("12.5"), Some((12, 500_000_000)));
        assert_eq!(time_of("-3"), Some((-3, 0)));
    }

    #[test]
    fn hits_in_large_files_are_counted_across_every_boundary() {
        let rewriter =
            Rewriter::new(vec![Rule::new("http://old.example", "http://new.example").unwrap()])
                .unwrap();
        let text = format!("{}http://old.example{}OLD.example", "x".repeat(500), "y".repeat(700));
        for piece in [1, 2, 3, 5, 8, 16, 4096] {
            let mut rest = text.as_bytes();
            let mut hits = 0;
            let mut tail = Vec::new();
            while !rest.is_empty() {
                let (now, later) = rest.split_at(piece.min(rest.len()));
                let mut inner: &[u8] = now;
                let mut searching =
                    Searching { inner: &mut inner, rewriter: &rewriter, tail, hits };
                let mut buffer = vec![0; piece];
                searching.read_exact(&mut buffer[..now.len()]).unwrap();
                (hits, tail) = (searching.hits, std::mem::take(&mut searching.tail));
                rest = later;
            }
            assert_eq!(hits, 2, "pieces of {piece}");
        }
    }

    #[test]
    fn a_database_file_is_known_by_its_path_in_the_site() {
        assert!(same_name("data/site.db", "data/site.db"));
        assert!(same_name("/srv/www/data/site.db", "data/site.db"));
        assert!(same_name("glimmer", "glimmer"));
        assert!(!same_name("glimmer", "immer") && !same_name("x", ""));
    }
}
