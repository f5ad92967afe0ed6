//! The SQL members of an archive as statements and rows.

use crate::archive::ArchiveReader;
use fernweh_core::archive::Member;
use fernweh_core::sql::{Dialect, Insert, ScriptError, ScriptReader, Statement, StatementError};
use fernweh_ports::{Result, Trouble};
use std::io::Cursor;

fn refused(member: &Member, because: impl std::fmt::Display) -> Trouble {
    Trouble::damaged("the archive holds SQL that it must not hold")
        .at(member.to_string())
        .because(because)
        .hint("do not use this archive; ask where it comes from")
}

fn each(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
    visit: &mut dyn FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let broken = |error: ScriptError| refused(member, error);
    let bytes = archive.read(member)?;
    let stream = zstd::Decoder::new(Cursor::new(bytes)).map_err(|error| refused(member, error))?;
    let mut script = ScriptReader::new(dialect, stream);
    while let Some(statement) = script.next_statement().map_err(broken)? {
        visit(&statement)?;
    }
    Ok(())
}

/// The statements of a structure member.
pub(crate) fn structure(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
) -> Result<Vec<Statement>> {
    let mut found = Vec::new();
    each(archive, dialect, member, &mut |statement| {
        let parsed =
            Statement::parse(dialect, statement).map_err(|error| refused(member, error))?;
        if !matches!(parsed, Statement::Session | Statement::ClearCounters) {
            found.push(parsed);
        }
        Ok(())
    })?;
    Ok(found)
}

/// The rows of a block, statement by statement.
pub(crate) fn rows(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
    table: &str,
    visit: &mut dyn FnMut(Insert) -> Result<()>,
) -> Result<()> {
    each(archive, dialect, member, &mut |statement| {
        let wrong = |error: StatementError| refused(member, error);
        match Insert::parse(dialect, statement).map_err(wrong)? {
            None => Ok(()),
            Some(insert) if insert.table == table => visit(insert),
            Some(insert) => Err(refused(
                member,
                format!("rows of table {} among those of {table}", insert.table),
            )),
        }
    })
}
