//! Archive → site, rewriting on the way; all or nothing.
//!
//! The new state is built beside the old one, compared with the archive, and put in
//! place at the end. Until the journal says *switching* the old site stands untouched.

mod before;
mod earlier;
mod files;
mod filling;
mod in_place;
mod keys;
mod part;
mod reconnecting;
mod rejects;
mod rows;
mod still_named;
mod switching;
mod trust;
mod visible;
mod writer;

pub use before::look_before;
pub(crate) use before::{refuse_foreign_tables, refuse_several_groups};
pub use earlier::{Earlier, discard, mark, settle_earlier, settle_previews};
pub use in_place::{Standing, set_aside, unpack_in_place};
pub use part::Part;
use rejects::Rejects;
pub use rejects::{BadRecord, OnBadRecord};
pub use still_named::StillNamed;
pub(crate) use switching::kept_files;
pub use switching::switch;
pub(crate) use switching::{carried_over, has_carried_over};
pub use trust::bodies_of;
pub use visible::visible;

use before::check_engine;
use files::{check_files, read_files};
use filling::read_rows;
use keys::make_keys;
pub(crate) use rows::tables_of;
use rows::{Afterwards, archive_structure, check_rows, own_structure};
use switching::{HALF, Wanted, back_again, came_in, hold_still, switch_with};
use writer::Destination;

use crate::archive::ArchiveReader;
use crate::effect::Effect;
use crate::journal::{Journal, Plan, Step};
use crate::patterns::Patterns;
use crate::report::RewriteReport;
use fernweh_core::archive::DatabaseManifest;
use fernweh_core::rewrite::Rewriter;
use fernweh_core::settings::Setting;
use fernweh_core::sql::{Dialect, ObjectKind, Statement};
use fernweh_ports::{
    CameIn, DatabaseTarget, Direction, Halves, LeftOut, Progress, Result, Scope, Targets,
    TroubleKind, named,
};
use serde::Serialize;
use std::collections::BTreeMap;

/// Gives the new value of a connection setting among all of its file.
pub type NewSetting<'a> = dyn Fn(&Setting, &[Setting]) -> Result<Option<String>> + 'a;

/// What to unpack, and how.
pub struct UnpackOptions<'a> {
    /// The site's name.
    pub site: String,
    /// Replace what is there.
    pub overwrite: bool,
    /// Which tables of the archive are taken, by their names in it.
    pub tables: &'a dyn Scope,
    /// Which tables at the destination are the site's.
    pub own_tables: &'a dyn Scope,
    /// Which part of the archive is taken, and how.
    pub part: Part,
    /// Whether the configuration bounds the tables.
    pub tables_bounded: bool,
    /// Entries of the present files that are carried over.
    pub keep: Patterns,
    /// Where the database file lies below the site's folder, if it does.
    pub inside_files: Option<String>,
    /// Whether search engines are kept out of the site; `None` where the rule file of the archive
    /// is left as it is.
    pub hidden: Option<bool>,
    /// The rules; none with `--as-is`.
    pub rewriter: &'a Rewriter,
    /// The new value of a connection setting among all of its file; `None` leaves it alone.
    pub settings: &'a NewSetting<'a>,
    /// Take links along that point out of the tree.
    pub outside_links: bool,
    /// Tables that go because the archive does not hold them.
    pub remove: Vec<String>,
    /// Where a tree of files cannot change places at once, its entries do so one by one.
    pub entry_by_entry: bool,
    /// Done right before the switch.
    pub before_switch: &'a dyn Fn() -> Result<()>,
    /// Tables of the site that are replaced, and how many records each has.
    pub there: Vec<(String, u64)>,
    /// What happens to records that the destination rejects.
    pub on_bad_record: OnBadRecord,
    /// The old state goes before the new one is built.
    pub makes_room: bool,
    /// The socket of the destination's database server.
    pub socket: Option<String>,
    /// What the destination is called: its database, its login, its folder. `None` if nothing of
    /// the old site is to be looked for.
    pub names_now: Option<Vec<String>>,
    /// The archive's bodies (routines, triggers, views, events) may run with all rights of the
    /// login: this folder has packed it itself, or the user says so.
    pub trusted: bool,
}

/// What was unpacked.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
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
    /// Whether only a part of the archive was asked for.
    pub part: bool,
    /// What was replaced: tables and entries of the old state.
    pub replaced: Option<Replaced>,
    /// Bytes that the old state takes, if that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kept_bytes: Option<u64>,
    /// Files whose connection settings were written.
    pub settings: Vec<String>,
    /// Whether a file names the database that was packed, in a syntax that is read.
    #[serde(skip)]
    pub settings_found: bool,
    /// Lines that still name the database, its login or the folder of the old site, the first of
    /// them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub still_named: Vec<StillNamed>,
    /// What was left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What came into replaced tables while the new state was built: it is in the kept state alone.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub came_in: Vec<CameIn>,
    /// Files that came or were changed meanwhile, the first of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub came_in_files: Vec<String>,
    /// How many such files there are; `None` if that cannot be known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub came_in_files_count: Option<u64>,
    /// Whether there was a state of the files and nobody can tell whether some came in.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub came_in_files_unknown: bool,
    /// Views, routines and the like that the database has refused, with its reasons.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_created: Vec<String>,
    /// What was built otherwise than the archive says.
    pub notes: Vec<String>,
    /// Records that the destination rejected, the first of them.
    pub bad_records: Vec<BadRecord>,
    /// How many records were left out because the destination rejected them.
    pub rejected: u64,
    /// How many records were changed by the destination to fit.
    pub adapted: u64,
    /// The file in which the records are kept that were left out.
    pub rejected_file: Option<String>,
    /// Records whose foreign keys lead nowhere.
    pub orphans: Vec<String>,
    /// Tables that went because the archive does not hold them.
    pub removed: Vec<String>,
    /// Values in which the prefix of tables was changed.
    pub prefixed: u64,
    /// What rewriting did.
    pub rewriting: RewriteReport,
    /// Whether an earlier run was gone on with.
    pub went_on: bool,
    /// The run, if something was changed.
    pub run: Option<String>,
    /// Tables of the archive that are not the site's, or were not chosen.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_taken: Vec<String>,
    /// Whether what was replaced is kept, so that `undo` can bring it back.
    pub undo: bool,
    /// Whether nothing but the switch of an earlier run was completed.
    #[serde(skip)]
    pub completed_earlier: bool,
    /// Of a site that is to be hidden: whether its host says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<Effect>,
}

impl UnpackReport {
    /// Whether everything that was to be there is there as it was, and no old address is left.
    pub fn is_whole(&self) -> bool {
        self.not_created.is_empty()
            && self.rejected + self.adapted == 0
            && self.left_out.is_empty()
            && self.orphans.is_empty()
            && self.rewriting.left() == 0
            && self.hidden.as_ref().is_none_or(|hidden| hidden.works)
    }
}

/// What was there before.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Replaced {
    /// Tables.
    pub tables: u64,
    /// Records.
    pub records: u64,
    /// Entries at the top of the site's folder, if all of them are replaced.
    pub entries: u64,
    /// Only files that were named are replaced.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub named_files: bool,
    /// Tables that the archive does not hold, and that go.
    pub removed: Vec<String>,
    /// The tables that go or are replaced, and how many records each has.
    #[serde(skip)]
    pub by_table: Vec<(String, u64)>,
}

/// Unpacks an archive into a site. `look_before` has been passed.
pub fn unpack(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
    journal: &mut Journal,
    progress: &dyn Progress,
) -> Result<UnpackReport> {
    let mut report =
        UnpackReport { rewriting: RewriteReport::of(options.rewriter), ..UnpackReport::default() };
    report.part = options.part.some_tables || options.part.files.is_some();
    let began = std::time::SystemTime::now();
    let marks = match &mut targets.database {
        // Where room was made, nothing is there: all that comes now came in meanwhile.
        Some(target) if options.makes_room => {
            let emptied: Vec<_> = options.there.iter().map(|(name, _)| (name.clone(), 0)).collect();
            target.marks(&emptied)?
        }
        Some(target) => target.marks(&options.there)?,
        None => Vec::new(),
    };
    progress.reached("started");
    let built = build(options, archive, targets, journal, &mut report, progress);
    let ready = built.and_then(|plan| {
        (options.before_switch)()?;
        hold_still(options, targets).map(|()| plan)
    });
    let plan = match ready {
        Ok(plan) => plan,
        Err(trouble) => {
            let run = &journal.header.run;
            let broken_off = trouble.lost || trouble.kind == TroubleKind::Interrupted;
            if broken_off && journal.run()?.takes_rows() {
                return Err(trouble.incomplete(format!(
                    "nothing was changed; type the same command again to resume, or\n\
                     fernweh runs --discard {run} to give it up"
                )));
            }
            // The old site stands; what was built is of no use to anybody.
            let _ = discard(journal, targets, progress);
            return Err(trouble);
        }
    };
    let wanted = carried_over(options);
    let carried_over = has_carried_over(options).then_some(&wanted as Wanted<'_>);
    let switched = switch_with(journal, targets, &plan, Direction::Forward, progress, carried_over);
    if let Err(trouble) = switched {
        return Err(match options.makes_room {
            // The old state is in its archive; there is nothing to go back to.
            true => trouble.incomplete(HALF),
            false => back_again(targets, &plan, progress, trouble),
        });
    }
    if let Some(target) = &targets.database {
        report.not_created = target.not_created();
    }
    report.run = Some(journal.header.run.clone());
    came_in(&mut report, targets, &plan, (&marks, began));
    if options.makes_room {
        // A table without records has none that were changed.
        report.came_in.retain(|came| came.records != 0);
    }
    Ok(report)
}

/// Reads and rewrites the database, the files or both, and changes nothing that the site sees.
/// With a database target, every record is tried: the new tables are built beside the site's,
/// as unpacking does, and taken away again.
pub fn preview(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    halves: Halves,
    trial: Option<(&mut Targets, &mut Journal)>,
    progress: &dyn Progress,
) -> Result<UnpackReport> {
    let mut report =
        UnpackReport { rewriting: RewriteReport::of(options.rewriter), ..UnpackReport::default() };
    let about = archive.manifest.database.as_ref().filter(|_| halves.database);
    match (about, trial) {
        (Some(_), Some((targets, journal))) => {
            progress.reached("started");
            let tried = try_records(options, archive, targets, journal, &mut report, progress);
            let cleaned = discard(journal, targets, progress);
            tried.and(cleaned)?;
        }
        (Some(about), None) => read_rows(options, archive, about, None, &mut report, progress)?,
        (None, _) => {}
    }
    if halves.files {
        read_files(options, archive, None, &mut report, progress)?;
    }
    Ok(report)
}

/// Everything up to the switch, with what the destination rejects left out.
fn try_records(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
    journal: &mut Journal,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<()> {
    let mut rejects = Rejects::of_run(journal.folder());
    let policy = match options.on_bad_record {
        OnBadRecord::Stop => OnBadRecord::Skip,
        chosen => chosen,
    };
    if let Some(target) = &mut targets.database {
        let there = target.overview(&|_: &str| false)?;
        check_engine(archive, there.dialect, &options.site)?;
        trust::check(options, archive, &mut **target)?;
    }
    let building = Building { options, policy, archive, progress };
    let (structure, afterwards) =
        build_database(&building, targets, journal, &mut rejects, report)?;
    if let Some(target) = &mut targets.database {
        check_rows(&building, &structure, &mut **target, &rejects)?;
        let swap = target.finish(&afterwards)?;
        report.notes.extend(target.notes());
        report.not_created = target.not_created();
        report.orphans = target.orphans(&swap)?;
    }
    report.rejected_file = None;
    Ok(())
}

fn build(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
    journal: &mut Journal,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<Plan> {
    let mut plan = Plan::default();
    let mut rejects = Rejects::of_run(journal.folder());
    if let Some(target) = &mut targets.files {
        if options.part.files.is_some() {
            target.as_part();
        } else if options.entry_by_entry {
            target.entry_by_entry();
        }
        target.build()?;
    }
    let building = Building { options, policy: options.on_bad_record, archive, progress };
    let (structure, afterwards) =
        build_database(&building, targets, journal, &mut rejects, report)?;
    if let (Some(target), Some(about)) = (&mut targets.database, &archive.manifest.database) {
        plan.tables = tables_of(options, about).into_iter().map(|(_, name)| name).collect();
        target.remove(&options.remove);
        report.removed.clone_from(&options.remove);
        plan.tables.extend(options.remove.iter().cloned());
    }
    if targets.database.is_none() && !journal.run()?.takes_rows() {
        journal.step(&Step::Made, progress)?;
    }
    if let (Some(target), Some(_)) = (&mut targets.files, &archive.manifest.files) {
        read_files(options, archive, Some(&mut **target), report, progress)?;
        if options.part.files.is_none() {
            report.kept = target.keep(&carried_over(options))?;
            if let Some(keep) = &mut targets.keeper
                && let Some(mut file) = keep.keep()?
            {
                target.put_file(&file.entry, &mut file.content)?;
            }
        }
    }
    journal.step(&Step::Built, progress)?;
    progress.go_on()?;
    if let Some(target) = &mut targets.database {
        plan.built = check_rows(&building, &structure, &mut **target, &rejects)?;
        let swap = target.finish(&afterwards)?;
        if !options.overwrite {
            before::refuse_to_replace(&target.replaces(&swap)?, &options.site)?;
        }
        report.notes.extend(target.notes());
        if let Some(about) = &archive.manifest.database {
            report.notes.extend(parameters(about, &mut **target, &afterwards)?);
        }
        if options.part.some_tables || options.part.rows_only {
            report.orphans = target.orphans(&swap)?;
        }
        plan.database = Some(swap);
        if let (Some(mut file), Some(files)) = (target.new_file()?, &mut targets.files) {
            files.put_file(&file.entry, &mut file.content)?;
        }
    }
    if let Some(target) = &mut targets.files {
        if options.part.files.is_none() {
            check_files(archive, report)?;
        }
        plan.files = Some(target.finish()?);
        report.notes.extend(target.notes());
    }
    journal.step(&Step::Checked, progress)?;
    progress.go_on()?;
    Ok(plan)
}

/// Texts that routines of MariaDB take without saying their characters have those of the database
/// in which the routine is made, and no statement can say that for it.
fn parameters(
    about: &DatabaseManifest,
    target: &mut dyn DatabaseTarget,
    afterwards: &[Statement],
) -> Result<Option<String>> {
    let routines = afterwards.iter().filter_map(|statement| match statement {
        Statement::Object { kind: ObjectKind::Routine, name, sql, .. } => Some((name, sql)),
        _ => None,
    });
    let takes_texts = |sql: &str| {
        let sql = sql.to_ascii_lowercase();
        ["char(", "text", "enum(", "set("].iter().any(|kind| sql.contains(kind))
    };
    let names: Vec<String> =
        routines.filter(|(_, sql)| takes_texts(sql)).map(|(name, _)| name.clone()).collect();
    if about.dialect != Dialect::Mariadb || names.is_empty() {
        return Ok(None);
    }
    let there = target.overview(&|_: &str| false)?;
    if there.collation == about.collation {
        return Ok(None);
    }
    Ok(Some(format!(
        "texts that routines take or hold have the characters of the database, which are {} here \
         and \
         were {}: look at {} (ALTER DATABASE sets them; unpack again then)",
        there.collation,
        about.collation,
        named(&names, 6)
    )))
}

/// What is built, and how.
struct Building<'a> {
    options: &'a UnpackOptions<'a>,
    policy: OnBadRecord,
    archive: &'a ArchiveReader,
    progress: &'a dyn Progress,
}

/// Builds the tables of an archive with their rows; gives what was made before rows, and what comes
/// after them.
fn build_database(
    building: &Building<'_>,
    targets: &mut Targets,
    journal: &mut Journal,
    rejects: &mut Rejects,
    report: &mut UnpackReport,
) -> Result<(Vec<Statement>, Vec<Statement>)> {
    let Building { options, policy, archive, progress } = *building;
    let (Some(target), Some(about)) = (&mut targets.database, &archive.manifest.database) else {
        return Ok((Vec::new(), Vec::new()));
    };
    let names = about.tables.iter().map(|table| &table.name);
    let not_taken = names.filter(|name| !options.tables.holds(name));
    report.not_taken = not_taken.cloned().collect();
    let (structure, afterwards) = match &mut targets.own {
        Some(own) if options.part.rows_only => {
            target.rows_only(&archive_structure(options, archive, about)?.0);
            let (before, after) = own_structure(options, archive, about, &mut **own)?;
            (before, Afterwards::Known(after))
        }
        _ => archive_structure(options, archive, about)?,
    };
    if options.part.some_tables || options.part.rows_only {
        target.use_what_is_there();
    }
    let there = match journal.run()?.takes_rows() && !rejects.path().exists() {
        true => rows_there(options, about, &mut **target, &structure)?,
        false => None,
    };
    match there {
        Some(_) => report.went_on = true,
        None => {
            // Nothing, or something that cannot be gone on with.
            target.discard()?;
            target.build(&structure)?;
            journal.step(&Step::Made, progress)?;
        }
    }
    let into = Destination {
        target: &mut **target,
        structure: &structure,
        dialect: about.dialect,
        policy,
        there: there.unwrap_or_default(),
    };
    read_rows(options, archive, about, Some((into, rejects)), report, progress)?;
    make_keys(building, about, &mut **target, &structure, journal, rejects)?;
    report.rejected = rejects.total();
    report.records -= report.rejected;
    report.adapted = rejects.adapted;
    report.bad_records.clone_from(&rejects.shown);
    if report.rejected > 0 {
        report.rejected_file = Some(rejects.path().display().to_string());
    }
    let afterwards = afterwards.get(options, archive, about)?;
    Ok((structure, afterwards))
}

/// How many rows of each table an earlier run has written, if it is all there.
fn rows_there(
    options: &UnpackOptions<'_>,
    about: &DatabaseManifest,
    target: &mut dyn DatabaseTarget,
    structure: &[Statement],
) -> Result<Option<BTreeMap<String, u64>>> {
    if !target.resume(structure)? {
        return Ok(None);
    }
    let tables: Vec<String> = tables_of(options, about).into_iter().map(|(_, name)| name).collect();
    Ok(Some(target.built_rows(&tables)?.into_iter().collect()))
}
