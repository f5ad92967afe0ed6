//! What stands at the destination, and whether it may be replaced.

use super::rows::tables_of;
use super::{OnBadRecord, Replaced, UnpackOptions, trust};
use crate::archive::ArchiveReader;
use crate::survey;
use fernweh_core::record::is_of_engine;
use fernweh_core::sql::Dialect;
use fernweh_ports::{
    DatabaseTarget, FileTarget, Overview, PacketLimit, Result, Scope, Targets, Trouble, counted,
    named, size,
};

/// Refuses a site that holds something, unless it may be replaced; says what is there.
pub fn look_before(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
) -> Result<Option<Replaced>> {
    let mut there = Replaced::default();
    let mut words = Vec::new();
    if let Some(target) = &mut targets.database {
        look_at_database(options, archive, &mut **target, &mut there)?;
        if there.tables > 0 {
            words.push(format!(
                "{} of the archive with {}",
                counted(there.tables, "table", "tables"),
                counted(there.records, "record", "records")
            ));
        }
    }
    if let Some(target) = &targets.files {
        check_room(options, archive, &**target)?;
        there.entries = target.existing()?;
        if there.entries > 0 && options.part.files.is_none() {
            let entries = counted(there.entries, "entry", "entries");
            words.push(format!("{entries} in {}", target.place()));
        }
    }
    if let Some(patterns) = options.part.files.as_ref().filter(|_| there.entries > 0) {
        words.push(format!(
            "files, of which those named {} are replaced",
            patterns.texts().join(", ")
        ));
    }
    if words.is_empty() && there.removed.is_empty() {
        return Ok(None);
    }
    if !options.overwrite {
        return Err(Trouble::usage(format!("site {} is not empty", options.site))
            .because(format!("it holds {}", words.join(" and ")))
            .hint(
                "add --overwrite to replace them; they are kept, and fernweh undo restores them",
            ));
    }
    if options.part.files.is_some() {
        (there.entries, there.named_files) = (0, true);
    }
    Ok(Some(there))
}

/// Refuses to put anything aside that is no table: tables are looked at before anything is built.
pub(super) fn refuse_to_replace(objects: &[String], site: &str) -> Result<()> {
    if objects.is_empty() {
        return Ok(());
    }
    Err(Trouble::usage(format!("site {site} is not empty"))
        .because(format!("its database holds {}", named(objects, 6)))
        .hint("add --overwrite to replace them; they are kept, and fernweh undo restores them"))
}

/// Refuses records that the server is known not to take, before anything is built. An archive
/// that is followed while it is written has no seal yet.
fn check_records(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    target: &mut dyn DatabaseTarget,
) -> Result<()> {
    let (Some(about), false) = (&archive.manifest.database, archive.is_growing()) else {
        return Ok(());
    };
    let large = &archive.seal()?.large;
    if large.is_empty() || options.on_bad_record != OnBadRecord::Stop {
        return Ok(());
    }
    let Some(PacketLimit { bytes: packet, bulk: false }) = target.packet_limit()? else {
        return Ok(());
    };
    let taken = tables_of(options, about);
    let too_large = large.iter().filter(|(_, found)| found.bytes > packet);
    let mut too_large = too_large.filter(|(table, _)| taken.iter().any(|(one, _)| one == *table));
    let Some((table, found)) = too_large.next() else { return Ok(()) };
    let more = match too_large.count() {
        0 => String::new(),
        more => format!("; {} have one, too", counted(more as u64, "more table", "more tables")),
    };
    Err(Trouble::outside("the server does not accept records as large as those in the archive")
        .at(format!("table {table}, {}", found.record))
        .because(format!(
            "it has {}, and max_allowed_packet there is {}{more}",
            size(found.bytes),
            size(packet)
        ))
        .hint(format!(
            "set max_allowed_packet = {} there (or ask who runs the server), or leave such records \
             out with --on-bad-record skip",
            (found.bytes + found.bytes / 8).next_power_of_two()
        )))
}

/// Counts what of the database is replaced, and refuses what cannot be meant.
fn look_at_database(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    target: &mut dyn DatabaseTarget,
    there: &mut Replaced,
) -> Result<()> {
    let overview = target.overview(options.own_tables)?;
    check_engine(archive, overview.dialect, &options.site)?;
    trust::check(options, archive, target)?;
    check_records(options, archive, target)?;
    if !options.tables_bounded {
        refuse_several_groups(&overview, &options.site)?;
    }
    let wanted: Vec<String> = archive
        .manifest
        .database
        .iter()
        .flat_map(|about| tables_of(options, about).into_iter().map(|(_, name)| name))
        .collect();
    // A table that the archive holds and that was not chosen stays, whatever else goes.
    let held: Vec<String> = archive
        .manifest
        .database
        .iter()
        .flat_map(|about| about.tables.iter().map(|table| (about.dialect, &table.name)))
        .map(|(dialect, name)| options.part.renamed(dialect, name))
        .collect();
    for found in &overview.tables {
        if wanted.contains(&found.name) {
            there.tables += 1;
            there.records += found.rows;
            there.by_table.push((found.name.clone(), found.rows));
        } else if options.part.exactly && !held.contains(&found.name) {
            there.removed.push(found.name.clone());
            there.by_table.push((found.name.clone(), found.rows));
        }
    }
    if options.tables_bounded && !options.part.some_tables {
        refuse_foreign_tables(&held, options.own_tables, &options.site)?;
    }
    if wanted.is_empty() && options.part.some_tables {
        let all = archive.manifest.database.iter().flat_map(|about| &about.tables);
        let mut names: Vec<&str> = all.map(|table| table.name.as_str()).take(12).collect();
        names.retain(|name| !is_of_engine(name));
        return Err(Trouble::usage("the archive holds no table of this name")
            .because("nothing matches --tables among the tables of the site")
            .hint(format!("it holds {} …", names.join(", "))));
    }
    let missing = wanted.iter().find(|name| !overview.tables.iter().any(|t| t.name == **name));
    if let Some(name) = missing.filter(|_| options.part.rows_only) {
        return Err(Trouble::usage(format!("site {} has no table {name}", options.site))
            .because("with --rows-only the structure of the destination is kept")
            .hint("leave --rows-only out, or name the tables that are there with --tables"));
    }
    Ok(())
}

/// Refuses a database in which several sites live, where nobody has said which tables are this
/// site's.
pub(crate) fn refuse_several_groups(overview: &Overview, site: &str) -> Result<()> {
    let groups = survey::prefixes(overview.tables.iter().map(|table| table.name.as_str()));
    if groups.len() < 2 {
        return Ok(());
    }
    let names: Vec<String> =
        groups.iter().map(|(name, count)| format!("{name}* ({count} tables)")).collect();
    Err(Trouble::usage(format!("the database of site {site} holds several groups of tables"))
        .because(format!("found {}", names.join(", ")))
        .hint(format!("set which are this site's in [site.{site}], as in tables = [\"gp_*\"]")))
}

/// Refuses tables of which none is one of the site's: nothing of the database would come in.
pub(crate) fn refuse_foreign_tables(tables: &[String], own: &dyn Scope, site: &str) -> Result<()> {
    let is_own = |name: &&String| !is_of_engine(name) && own.holds(name);
    if tables.is_empty() || tables.iter().any(|name| is_own(&name)) {
        return Ok(());
    }
    Err(Trouble::usage(format!("none of the tables is one of site {site}"))
        .because(format!("tables in [site.{site}] excludes {}", named(tables, 6)))
        .hint(format!(
            "name them in [site.{site}]; or give them this site's names, as in --prefix gp_=new_"
        )))
}

/// What the archive says of its files must find room: the disk is not filled to find out.
fn check_room(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    target: &dyn FileTarget,
) -> Result<()> {
    // While it is still written nobody knows; some of the files are another sum.
    if archive.is_growing() || options.part.files.is_some() || options.makes_room {
        return Ok(());
    }
    let bytes = archive.seal()?.file_bytes;
    match target.free() {
        Some(free) if free < bytes => Err(Trouble::outside("there is no room for the files")
            .at(target.place())
            .because(format!("the archive holds {}, {} are free", size(bytes), size(free)))
            .hint("make room on that disk, or use --in-place with --overwrite")),
        _ => Ok(()),
    }
}

/// Refuses an archive of another engine.
pub(super) fn check_engine(archive: &ArchiveReader, dialect: Dialect, site: &str) -> Result<()> {
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
