//! Archive → site: the whole run, from the lock to the last note.

use super::Surroundings;
use super::branch::{KeptBounds, end, ends, note};
use super::hidden;
use super::pack::Pack;
use super::rules::{pair, ready, warn_of_shadowed};
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::journal::{Journal, Operation, Run, RunState, Step};
use crate::notice::Notice;
use crate::pack::is_database;
use crate::patterns::Patterns;
use crate::undo::let_go;
use crate::unpack::{
    Earlier, OnBadRecord, Part, Standing, UnpackOptions, UnpackReport, carried_over,
    has_carried_over, look_before, mark, preview, set_aside, settle_earlier, settle_previews,
    tables_of, unpack, unpack_in_place, visible,
};
use fernweh_core::record::is_of_engine;
use fernweh_core::rewrite::{Rewriter, Rule};
use fernweh_core::settings::Setting;
use fernweh_ports::{Direction, Halves, Result, SiteAccess, Targets, Trouble, size};
use std::cell::Cell;

/// How much of unpacking is tried where nothing is to change.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Preview {
    /// The database tries every record, in tables of its own, which are taken away again.
    Tried,
    /// The archive is read, and the destination is not written to.
    Read,
}

/// What to unpack, and how.
#[derive(Clone, Debug, Default)]
pub struct Unpack {
    /// What is unpacked, as it was typed: the journal keeps it.
    pub input: String,
    /// Change nothing, and give the numbers.
    pub preview: Option<Preview>,
    /// Replace what is there.
    pub overwrite: bool,
    /// The old state is packed and removed before the new one is built.
    pub in_place: bool,
    /// The halves that are wanted, as far as the archive has them.
    pub halves: Halves,
    /// The tables of the archive that are taken; all if there is none.
    pub tables: Patterns,
    /// Which part of the archive is taken, and how.
    pub part: Part,
    /// Tables may go that the archive does not hold.
    pub may_remove: bool,
    /// What happens to records that the destination rejects.
    pub on_bad_record: OnBadRecord,
    /// Entries of the present files that are carried over.
    pub keep: Patterns,
    /// How much of earlier states is kept.
    pub kept_bounds: KeptBounds,
    /// Where the files cannot change places at once, their entries do so one by one.
    pub entry_by_entry: bool,
    /// What is done on the host while the new state takes its place.
    pub notice: Notice,
    /// Take links along that point out of the site.
    pub outside_links: bool,
    /// The archive's bodies may run with all rights of the site's login.
    pub trust: bool,
    /// Leave addresses and settings as they are.
    pub as_is: bool,
    /// The rules beyond the one that follows from the two web addresses.
    pub rules: Vec<Rule>,
    /// Correct the lengths of damaged serialized values.
    pub mend_lengths: bool,
    /// Open values in base64.
    pub opens_base64: bool,
}

impl Unpack {
    /// Unpacks, or makes a preview.
    pub fn run(
        &self,
        site: &dyn SiteAccess,
        incoming: &Incoming,
        around: Surroundings<'_>,
    ) -> Result<UnpackReport> {
        self.run_superseding(site, incoming, None, around)
    }

    /// The same; the run `superseded` has brought the site into its present state, and is over
    /// then.
    pub(super) fn run_superseding(
        &self,
        site: &dyn SiteAccess,
        incoming: &Incoming,
        superseded: Option<&Run>,
        around: Surroundings<'_>,
    ) -> Result<UnpackReport> {
        if self.in_place && self.part.files.is_some() {
            return Err(Trouble::usage("--in-place is not needed for some of the files")
                .because("with --in-place the whole old state is removed first")
                .hint("leave --in-place out"));
        }
        let archive = &incoming.archive;
        let halves = self.halves_of(archive, site)?;
        let rewriter = self.rewriter(incoming, site)?;
        warn_of_shadowed(rewriter.rules(), around.progress);
        let dialect = archive.manifest.database.as_ref().map(|about| about.dialect);
        let holds = |table: &str| {
            let here =
                dialect.map_or(table.to_owned(), |dialect| self.part.renamed(dialect, table));
            let chosen = self.tables.is_empty() || self.tables.hold(table.as_bytes());
            // What the engine keeps for tables goes with whatever tables come.
            is_of_engine(table) || site.holds_table(&here) && chosen
        };
        let own_tables = |table: &str| site.holds_table(table);
        let setting = |one: &Setting, all: &[Setting]| match self.as_is {
            true => Ok(None),
            false => site.setting(one, all),
        };
        let begun = Cell::new(false);
        let before_switch = || match begun.replace(true) {
            true => Ok(()),
            false => self.notice.begin(site, around.progress),
        };
        let digest = archive.digest.as_ref();
        let options = UnpackOptions {
            site: site.name().to_owned(),
            overwrite: self.overwrite,
            tables: &holds,
            own_tables: &own_tables,
            part: self.part.clone(),
            remove: Vec::new(),
            there: Vec::new(),
            before_switch: &before_switch,
            entry_by_entry: self.entry_by_entry,
            on_bad_record: self.on_bad_record,
            tables_bounded: site.bounds_tables(),
            keep: self.keep.clone(),
            inside_files: site.inside_files(),
            // What comes back to its own site stays as it was.
            hidden: superseded.is_none().then(|| site.is_hidden()),
            rewriter: &rewriter,
            settings: &setting,
            outside_links: self.outside_links,
            makes_room: self.in_place,
            socket: site.database_socket(),
            names_now: (!self.as_is).then(|| names_of(site)),
            // What is followed while it is written is packed by this very run.
            trusted: self.trust
                || archive.is_growing()
                || digest.is_some_and(|digest| around.records.remembers(digest)),
        };
        let work = Work { of: self, site, archive, options, halves, around };
        let worked = match self.preview {
            Some(preview) => work.preview(preview),
            None => work.carry_out(superseded),
        };
        // Where an earlier run was completed, that one may have begun.
        let completed = worked.as_ref().is_ok_and(|report| report.completed_earlier);
        let notes = match begun.get() || completed {
            true => self.notice.end(site),
            false => Vec::new(),
        };
        let mut report = match worked {
            Ok(report) => report,
            Err(trouble) => {
                notes.iter().for_each(|note| around.progress.note(&format!("{note}\n")));
                return Err(trouble);
            }
        };
        report.notes.extend(notes);
        if site.is_hidden() && self.preview.is_none() && halves.files {
            report.hidden = hidden::verified(site)?;
        }
        let both = report.tables > 0 && report.files > 0;
        if both && !self.as_is && !report.settings_found && !report.completed_earlier {
            report.notes.push(
                "no settings file was recognized: write the new database connection into the \
                 site's settings by hand, or the site keeps using the old database"
                    .into(),
            );
        }
        if !report.completed_earlier {
            tell_incoming(&mut report, incoming)?;
        }
        Ok(report)
    }

    /// Which halves the archive has and the site takes.
    fn halves_of(&self, archive: &ArchiveReader, site: &dyn SiteAccess) -> Result<Halves> {
        let manifest = &archive.manifest;
        let held =
            Halves { database: manifest.database.is_some(), files: manifest.files.is_some() };
        let wanted = held.and(self.halves);
        let name = site.name();
        let missing = |what: &str| {
            Trouble::usage(format!("site {name} has no place for the archive's {what}"))
                .hint(format!("set {what} in [site.{name}], or leave this half out with --only"))
        };
        if wanted.database && !site.has().database {
            return Err(missing("database"));
        }
        if wanted.files && !site.has().files {
            return Err(missing("files"));
        }
        if wanted.is_empty() {
            return Err(Trouble::usage("the archive does not hold this half"));
        }
        Ok(wanted)
    }

    fn rewriter(&self, incoming: &Incoming, site: &dyn SiteAccess) -> Result<Rewriter> {
        let mut rules = Vec::new();
        if !self.as_is {
            rules.extend(self.rules.iter().cloned());
            let name = site.name();
            match (&incoming.archive.manifest.url, site.url()) {
                (None, _) if incoming.foreign && rules.is_empty() => {
                    return Err(Trouble::usage("the web address of the old site is not known")
                        .because(
                            "a script or folder does not name it, so no address could be rewritten",
                        )
                        .hint(
                            "add --from http://old.example, or --as-is to leave addresses \
                             unchanged",
                        ));
                }
                (Some(from), Some(to)) => rules.extend(pair(from, &to.to_string())?),
                (Some(from), None) => {
                    return Err(Trouble::usage(format!("site {name} has no url"))
                        .because(format!(
                            "the archive's site is at {from}; its new address is not known"
                        ))
                        .hint(format!(
                            "set url in [site.{name}], or use --as-is to leave addresses unchanged"
                        )));
                }
                _ => {}
            }
        }
        Ok(ready(rules)?.mending(self.mend_lengths).opening_base64(self.opens_base64))
    }
}

/// The names that belong to a site as it is now.
fn names_of(site: &dyn SiteAccess) -> Vec<String> {
    let login = site.database_login().map(|login| [login.user, login.host]);
    let names = [Some(site.database_name()), site.folder_on_host()];
    names.into_iter().flatten().chain(login.into_iter().flatten()).collect()
}

/// A run with all that it needs.
struct Work<'a> {
    of: &'a Unpack,
    site: &'a dyn SiteAccess,
    archive: &'a ArchiveReader,
    options: UnpackOptions<'a>,
    halves: Halves,
    around: Surroundings<'a>,
}

impl Work<'_> {
    /// The targets of a run; with the database as it is, where its structure is kept.
    fn targets(&self, run: &str, halves: Halves) -> Result<Targets> {
        let own = if self.of.part.rows_only { self.site.database()? } else { None };
        Ok(Targets { own, ..self.site.targets(run, halves)? })
    }

    /// Gives the numbers, and changes nothing.
    fn preview(&self, preview_of: Preview) -> Result<UnpackReport> {
        let Self { site, archive, options, halves, around, .. } = self;
        if !halves.database || preview_of == Preview::Read {
            return preview(options, archive, *halves, None, around.progress);
        }
        let _lock = around.records.lock(site.name())?;
        let mut left = |run: &Run| site.targets(&run.header.run, Halves::DATABASE);
        settle_previews(around.records, site.name(), &mut left, around.progress)?;
        let mut journal = around.records.begin(Operation::Preview, site.name(), &self.of.input)?;
        let run = journal.header.run.clone();
        let report = self.targets(&run, Halves::DATABASE).and_then(|mut targets| {
            let trial = Some((&mut targets, &mut journal));
            preview(options, archive, *halves, trial, around.progress)
        });
        journal.forget();
        report
    }

    /// Settles what an earlier run has left, unpacks, and gives up what `superseded` kept.
    fn carry_out(mut self, superseded: Option<&Run>) -> Result<UnpackReport> {
        let (site, records, progress) = (self.site, self.around.records, self.around.progress);
        let lock = records.lock(site.name())?;
        let mark = mark(&self.options, self.archive, self.halves)?;
        let over = superseded.map(|run| run.header.run.as_str());
        let earlier = {
            let wanted = carried_over(&self.options);
            let keeps = has_carried_over(&self.options);
            settle_earlier(
                records,
                site.name(),
                (&mark, &self.of.input),
                over,
                &mut |run| site.targets(&run.header.run, Halves::BOTH),
                keeps.then_some(&wanted as &dyn Fn(&[u8]) -> bool),
                progress,
            )?
        };
        if let Earlier::Completed(Direction::Forward) = earlier {
            return Ok(UnpackReport {
                undo: true,
                completed_earlier: true,
                ..UnpackReport::default()
            });
        }
        let mut targets = site.targets("look", self.halves)?;
        let there = look_before(&self.options, self.archive, &mut targets)?;
        drop(targets);
        self.options.remove = there.as_ref().map(|there| there.removed.clone()).unwrap_or_default();
        self.options.there = there.as_ref().map(|there| there.by_table.clone()).unwrap_or_default();
        self.agree_to_remove()?;
        if there.is_some() && superseded.is_none() && !matches!(earlier, Earlier::GoesOn(_)) {
            self.of.kept_bounds.check(site, self.around)?;
        }
        let mut ended = ends(site, self.around)?;
        // This one is the change that is taken back.
        ended.retain(|run| over != Some(run.header.run.as_str()));
        let mut journal = match earlier {
            Earlier::GoesOn(run) => Journal::resume(&run)?,
            _ => records.begin_marked(Operation::Unpack, site.name(), &self.of.input, mark)?,
        };
        note(&mut journal, &ended, self.around)?;
        let run = journal.header.run.clone();
        let emptied = journal.run()?.state() == RunState::Emptied;
        let mut report = if emptied || (self.of.in_place && there.is_some()) {
            self.in_place(&mut journal)?
        } else {
            let mut targets = self.targets(&run, self.halves)?;
            unpack(&self.options, self.archive, &mut targets, &mut journal, progress)?
        };
        report.undo = true;
        if let Some(old) = superseded {
            report.undo =
                matches!(old.state(), RunState::InPlace { direction: Direction::Forward, .. });
            let given = self.give_up(old, &mut journal, report.undo);
            report.notes.extend(given.err().map(|trouble| {
                format!(
                    "the state is in place; what the run before keeps could not be removed \
                     ({trouble}): fernweh undo {} --let-go tries again",
                    site.name()
                )
            }));
        }
        report.notes.extend(end(&ended, site, self.around));
        if self.halves.files && there.is_some() {
            // The work is done: that nobody could look is no reason to end with an error.
            report.notes.extend(shown_to_others(site, &run).unwrap_or_default());
        }
        drop(lock);
        report.kept_bytes = journal.run()?.kept_bytes();
        report.replaced = there;
        Ok(report)
    }

    /// Gives up what the superseded run keeps. Where no state `stood` before this run, but what
    /// is left of a site whose state was removed, nobody wants to go back to that: this run
    /// cannot be turned then, whatever becomes of what it keeps.
    fn give_up(&self, old: &Run, journal: &mut Journal, stood: bool) -> Result<()> {
        let (site, progress) = (self.site, self.around.progress);
        if !stood {
            let kept = journal.run()?;
            let given = site
                .targets(&kept.header.run, site.has())
                .and_then(|mut targets| let_go(&kept, &mut targets, progress));
            if given.is_err() {
                journal.step(&Step::LetGo, progress)?;
            }
            given?;
        }
        let_go(old, &mut site.targets(&old.header.run, site.has())?, progress)
    }

    fn agree_to_remove(&self) -> Result<()> {
        let remove = &self.options.remove;
        if remove.is_empty() || self.of.may_remove {
            return Ok(());
        }
        Err(Trouble::usage("--exactly would remove tables that the archive does not hold")
            .because(format!("they are: {}", remove.join(", ")))
            .hint("add --yes to confirm; they are kept, and fernweh undo restores them"))
    }

    /// Sets the old state aside, removes it, and unpacks.
    fn in_place(&self, journal: &mut Journal) -> Result<UnpackReport> {
        let Self { site, archive, options, halves, around, .. } = self;
        let run = journal.run()?;
        // The site is down from the removal on.
        (options.before_switch)()?;
        let mut report = match run.state() {
            RunState::Emptied => {
                let standing = Standing::packed(&run)?;
                let mut targets = site.targets(&run.header.run, *halves)?;
                let progress = around.progress;
                unpack_in_place(options, archive, &standing, &mut targets, journal, progress)?
            }
            _ => self.packed_in_place(journal)?,
        }
        .ok_or_else(|| self.moves_on())?;
        if let Some(kept) = journal.run()?.set_aside() {
            let bytes = std::fs::metadata(&kept).map_or(0, |found| found.len());
            report.notes.push(format!(
                "the old state was packed and removed first; undo unpacks {} ({})",
                kept.display(),
                size(bytes)
            ));
        }
        Ok(report)
    }
}

/// How often a site is packed that is written to meanwhile.
const ROUNDS: usize = 3;

impl Work<'_> {
    /// Packs the old state until nobody writes to the site before it is removed: what is removed
    /// is what was packed. `None` if that does not come about.
    fn packed_in_place(&self, journal: &mut Journal) -> Result<Option<UnpackReport>> {
        let Self { site, archive, options, halves, around, .. } = self;
        let run = journal.header.run.clone();
        let mut before = self.stands_as(&mut site.targets(&run, *halves)?)?;
        for round in 1..=ROUNDS {
            set_aside(journal, around.progress, &mut |archive| {
                Pack::whole(archive.to_owned(), *halves).write(*site, *around, None).map(drop)
            })?;
            let mut targets = site.targets(&run, *halves)?;
            let now = self.stands_as(&mut targets)?;
            if now == before {
                let progress = around.progress;
                let unpacked =
                    unpack_in_place(options, archive, &now, &mut targets, journal, progress)?;
                if unpacked.is_some() {
                    return Ok(unpacked);
                }
            }
            if round < ROUNDS {
                around.progress.note("the site changed while it was packed; packing again\n");
                before = self.stands_as(&mut targets)?;
            }
        }
        Ok(None)
    }

    fn moves_on(&self) -> Trouble {
        Trouble::outside(format!("site {} keeps changing", self.site.name()))
            .because(format!(
                "it changed each of the {ROUNDS} times that its old state was packed, and those \
                 changes would be lost"
            ))
            .hint("stop what writes to it ([before] can do that), and type the same command again")
    }

    /// What is to be removed, as it stands.
    fn stands_as(&self, targets: &mut Targets) -> Result<Standing> {
        let Self { site, archive, options, halves, around, .. } = self;
        let mut standing = Standing::default();
        if let Some(source) = site.files()?.as_mut().filter(|_| halves.files) {
            // Reading a database moves its files; its own mark says what has changed.
            let inside = options.inside_files.as_deref();
            source.walk(&|path| !is_database(path, inside), &mut |entry| {
                around.progress.go_on()?;
                standing.add(&entry);
                Ok(())
            })?;
        }
        if let (Some(target), Some(about)) = (&mut targets.database, &archive.manifest.database) {
            let tables: Vec<_> =
                tables_of(options, about).into_iter().map(|(_, name)| name).collect();
            standing.database = target.exact_mark(&tables)?;
        }
        Ok(standing)
    }
}

/// What the site's web server shows of what is kept, with what to do.
fn shown_to_others(site: &dyn SiteAccess, run: &str) -> Result<Option<String>> {
    let Some(url) = site.url().map(ToString::to_string) else { return Ok(None) };
    let mut targets = site.targets(run, Halves::FILES)?;
    let Some(files) = &mut targets.files else { return Ok(None) };
    let found = visible(&mut **files, &url, &mut || site.pages())?;
    Ok(found.map(|address| {
        format!(
            "the web server hands out what Fernweh keeps ({address} was readable): block that \
             folder there, or give up the old state with: fernweh undo {} --let-go",
            site.name()
        )
    }))
}

/// Adds what is to be said about something of others.
fn tell_incoming(report: &mut UnpackReport, incoming: &Incoming) -> Result<()> {
    report.notes.splice(0..0, incoming.notes.iter().cloned());
    if !incoming.archive.seal()?.breaks.is_empty() {
        report.notes.push(
            "packing was interrupted, so the tables of this archive are not all of one \
             moment"
                .into(),
        );
    }
    report.left_out.splice(0..0, incoming.left_out.iter().cloned());
    Ok(())
}
