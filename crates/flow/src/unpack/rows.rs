//! The database of an archive: structure and rows, rewritten on their way.

use super::reconnecting::persistently;
use super::rejects::Rejects;
use super::{Building, UnpackOptions};
use crate::archive::ArchiveReader;
use crate::stream;
use fernweh_core::archive::{DatabaseManifest, Member};
use fernweh_core::record::is_of_engine;
use fernweh_core::sql::{Dialect, ObjectKind, Statement, used, write_structure};
use fernweh_ports::{DatabaseSource, DatabaseTarget, Result, Trouble};
use std::collections::BTreeSet;

/// The site's own tables among those of the archive: their names there, and at the
/// destination.
pub(crate) fn tables_of(
    options: &UnpackOptions<'_>,
    about: &DatabaseManifest,
) -> Vec<(String, String)> {
    let names = about.tables.iter().map(|table| table.name.clone());
    let own = names.filter(|name| options.tables.holds(name) && !is_of_engine(name));
    own.map(|name| (name.clone(), options.part.renamed(about.dialect, &name))).collect()
}

/// What is made before rows and after them.
type Both = (Vec<Statement>, Vec<Statement>);

/// What is made after rows, once it is needed: an archive that is followed while it is written
/// does not hold it before.
pub(super) enum Afterwards {
    Known(Vec<Statement>),
    InArchive,
}

impl Afterwards {
    /// The statements.
    pub fn get(
        self,
        options: &UnpackOptions<'_>,
        archive: &ArchiveReader,
        about: &DatabaseManifest,
    ) -> Result<Vec<Statement>> {
        match self {
            Self::Known(statements) => Ok(statements),
            Self::InArchive => read_structure(options, archive, about, &Member::Afterwards),
        }
    }
}

/// What the archive makes before its rows, and after them.
pub(super) fn archive_structure(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
) -> Result<(Vec<Statement>, Afterwards)> {
    let before = read_structure(options, archive, about, &Member::Structure)?;
    if options.part.prefix.is_none() {
        return Ok((before, Afterwards::InArchive));
    }
    let after = read_structure(options, archive, about, &Member::Afterwards)?;
    let renamed = |these: &[Statement], others: &[Statement]| {
        options.part.statements(about.dialect, these, others)
    };
    Ok((renamed(&before, &after)?, Afterwards::Known(renamed(&after, &before)?)))
}

/// PostgreSQL: the sequences that belong to tables that are taken, if only some are; those
/// that belong to no table stay where they are then.
fn sequences_of_kept(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
) -> Result<Option<BTreeSet<String>>> {
    let all = about.tables.iter().all(|table| options.tables.holds(&table.name));
    if about.dialect != Dialect::Postgres || all {
        return Ok(None);
    }
    let mut kept = BTreeSet::new();
    for statement in stream::structure(archive, about.dialect, &Member::Structure)? {
        match statement {
            Statement::Object { kind: ObjectKind::Sequence, name, table: Some(table), .. }
                if options.tables.holds(&table) =>
            {
                kept.insert(name);
            }
            // Identity columns name theirs.
            Statement::Table { name, sql, .. } if options.tables.holds(&name) => {
                let named = sql.split("(SEQUENCE NAME ").skip(1);
                let names = named.filter_map(|rest| rest.split(" INCREMENT BY ").next());
                kept.extend(names.map(|name| name.trim_matches('"').to_owned()));
            }
            _ => {}
        }
    }
    Ok(Some(kept))
}

/// The structure that the destination has, for the rows of the archive.
pub(super) fn own_structure(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    own: &mut dyn DatabaseSource,
) -> Result<Both> {
    let wanted = tables_of(options, about);
    let holds = |name: &str| wanted.iter().any(|(_, own)| own == name);
    let found = own.structure(&holds)?;
    for (name, here) in &wanted {
        let table = found.tables.iter().find(|table| table.name == *here);
        let has = |column: &&fernweh_core::record::Column| {
            table.is_some_and(|table| table.columns.iter().any(|c| c.name == column.name))
        };
        let packed = about.tables.iter().find(|table| table.name == *name);
        if let Some(column) = packed.and_then(|table| table.columns.iter().find(|c| !has(c))) {
            return Err(Trouble::usage(format!("table {here} has no column {}", column.name))
                .because("with --rows-only the rows must fit the structure that is there")
                .hint("leave --rows-only out to take the structure of the archive as well"));
        }
    }
    let parsed = |statements: &[Statement]| {
        let script = write_structure(about.dialect, statements);
        stream::statements(script.as_slice(), about.dialect).map_err(|because| {
            Trouble::damaged("the structure of the destination cannot be read").because(because)
        })
    };
    let (mut before, mut after) = (parsed(&found.before)?, parsed(&found.afterwards)?);
    if about.dialect == Dialect::Postgres {
        let (objects, positions) = archive_structure(options, archive, about)?;
        let positions = positions.get(options, archive, about)?;
        let is_large = |one: &Statement| one.large_object().is_some();
        before.retain(|statement| !is_large(statement));
        before.extend(objects.into_iter().filter(is_large));
        // Sequences must not fall behind the rows that come.
        after.extend(positions.into_iter().filter(|statement| {
            matches!(statement, Statement::Schema { .. })
                || matches!(statement, Statement::Object { kind: ObjectKind::Sequence, sql, .. }
                    if sql.starts_with("SELECT "))
        }));
    }
    Ok((before, after))
}

/// The statements of a structure member that concern the site's tables.
pub(super) fn read_structure(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    member: &Member,
) -> Result<Vec<Statement>> {
    let mut found = stream::structure(archive, about.dialect, member)?;
    let kept_sequences = sequences_of_kept(options, archive, about)?;
    let counted = about.dialect == Dialect::Mariadb;
    let as_is = options.rewriter.is_idle();
    let called = called_routines(options, &found);
    found.retain(|statement| match statement {
        Statement::Object { kind: ObjectKind::Routine, name, .. } if counted => {
            options.tables.holds(name) || called.contains(name)
        }
        Statement::Object { kind: ObjectKind::Event | ObjectKind::Sequence, name, .. }
            if counted =>
        {
            options.tables.holds(name)
        }
        Statement::Object { kind: ObjectKind::Sequence, name, .. }
            if about.dialect == Dialect::Postgres =>
        {
            kept_sequences.as_ref().is_none_or(|kept| kept.contains(name.trim_matches('"')))
        }
        // The indexes of full-text tables come along; they are made anew if texts change.
        Statement::Object { kind: ObjectKind::Refresh, .. } if about.dialect == Dialect::Sqlite => {
            !as_is
        }
        Statement::Table { name, .. } | Statement::View { name, .. } => options.tables.holds(name),
        Statement::Trigger { table, .. }
        | Statement::ForeignKey { table, .. }
        | Statement::Index { table, .. }
        | Statement::Object { table: Some(table), .. } => options.tables.holds(table),
        _ => true,
    });
    for statement in &found {
        if let Statement::Table { name, .. } = statement
            && !about.tables.iter().any(|table| table.name == *name)
        {
            return Err(Trouble::damaged("the archive contradicts itself")
                .because(format!("table {name} is not in its manifest"))
                .hint("do not use this archive; find out where it comes from"));
        }
    }
    Ok(found)
}

/// Routines that triggers, views and events of the site's tables use, whatever their names.
fn called_routines(options: &UnpackOptions<'_>, found: &[Statement]) -> BTreeSet<String> {
    let (mut routines, mut texts) = (Vec::new(), Vec::new());
    for statement in found {
        match statement {
            Statement::Object { kind: ObjectKind::Routine, name, sql, .. } => {
                routines.push((name.as_str(), sql.as_str()));
                texts.extend(options.tables.holds(name).then_some(sql.as_str()));
            }
            Statement::Trigger { table: name, sql, .. }
            | Statement::View { name, sql }
            | Statement::Object { kind: ObjectKind::Event, name, sql, .. } => {
                texts.extend(options.tables.holds(name).then_some(sql.as_str()));
            }
            _ => {}
        }
    }
    let used = used(texts, &routines).into_iter().zip(&routines);
    used.filter(|(used, _)| *used).map(|(_, (name, _))| (*name).to_owned()).collect()
}

/// What stands in the database must be as much as the archive holds; gives the records of each
/// table.
pub(super) fn check_rows(
    building: &Building<'_>,
    structure: &[Statement],
    target: &mut dyn DatabaseTarget,
    rejects: &Rejects,
) -> Result<Vec<(String, u64)>> {
    let Building { options, archive, progress, .. } = *building;
    let wanted: Vec<(String, String)> =
        archive.manifest.database.iter().flat_map(|about| tables_of(options, about)).collect();
    let here: Vec<String> = wanted.iter().map(|(_, here)| here.clone()).collect();
    let built = persistently(progress, target, structure, &mut |target| target.built_rows(&here))?;
    let seal = archive.seal()?;
    for ((table, _), (here, found)) in wanted.iter().zip(&built) {
        let sealed = seal.rows.get(table).copied().unwrap_or(0);
        let sealed = sealed - rejects.left_out(here).min(sealed);
        if *found != sealed {
            return Err(Trouble::damaged("the new database is not complete")
                .at(format!("table {here}"))
                .because(format!("it holds {found} records, the archive {sealed}"))
                .hint("try again; if it happens again, the server drops records silently"));
        }
    }
    Ok(built)
}
