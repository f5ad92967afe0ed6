//! The database of an archive: structure and rows, rewritten on their way.

use super::{UnpackOptions, UnpackReport};
use crate::archive::ArchiveReader;
use crate::report::TableReport;
use crate::stream;
use fernweh_core::archive::{DatabaseManifest, Member};
use fernweh_core::record::COUNTERS;
use fernweh_core::sql::{Dialect, Kind, Statement};
use fernweh_ports::{DatabaseTarget, Result, Trouble, Unit, Watch, counted};

/// The site's own tables among those of the archive.
pub(super) fn tables_of(options: &UnpackOptions<'_>, about: &DatabaseManifest) -> Vec<String> {
    let names = about.tables.iter().map(|table| table.name.clone());
    names.filter(|name| options.tables.holds(name) && name != COUNTERS).collect()
}

/// The statements of a structure member that concern the site's tables.
pub(super) fn read_structure(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    about: &DatabaseManifest,
    member: &Member,
) -> Result<Vec<Statement>> {
    let mut found = stream::structure(archive, about.dialect, member)?;
    let counted = about.dialect == Dialect::Mariadb;
    let as_is = options.rewriter.rules().is_empty();
    found.retain(|statement| match statement {
        Statement::Object { kind: Kind::Routine | Kind::Event | Kind::Sequence, name, .. }
            if counted =>
        {
            options.tables.holds(name)
        }
        // The indexes of full-text tables come along; they are made anew if texts change.
        Statement::Object { kind: Kind::Refresh, .. } if about.dialect == Dialect::Sqlite => !as_is,
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
                .hint("do not use this archive; ask where it comes from"));
        }
    }
    Ok(found)
}

/// Reads every row, and writes it if there is a target.
pub(super) fn read_rows(
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
            stream::rows(archive, about.dialect, member, table, &mut |mut insert| {
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
pub(super) fn check_rows(
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
