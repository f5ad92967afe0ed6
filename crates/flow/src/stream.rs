//! The SQL members of an archive as statements and rows.

use crate::archive::ArchiveReader;
use fernweh_core::archive::Member;
use fernweh_core::limits;
use fernweh_core::record::{LARGE_OBJECTS, Row, Table, Value};
use fernweh_core::sql::{
    CopyHead, Dialect, Insert, Modes, PAGE, Qualified, ScriptError, ScriptReader, Statement,
    StatementError, read_copy_row, read_page,
};
use fernweh_ports::{Result, Trouble};
use std::io::{BufReader, Read};

fn refused(member: &Member, because: impl std::fmt::Display) -> Trouble {
    Trouble::damaged("the archive contains SQL that is not allowed")
        .at(member.to_string())
        .because(because)
        .hint("do not use this archive; find out where it comes from")
}

/// The rows of a member have other columns than the manifest says.
pub(crate) fn other_columns(member: &Member) -> Trouble {
    Trouble::damaged("the archive contradicts itself")
        .at(member.to_string())
        .because("its columns are not those of its manifest")
        .hint("do not use this archive; find out where it comes from")
}

type Script<'a> = ScriptReader<zstd::Decoder<'static, BufReader<Box<dyn Read + 'a>>>>;

fn script<'a>(archive: &'a ArchiveReader, dialect: Dialect, member: &Member) -> Result<Script<'a>> {
    let stream = zstd::Decoder::new(archive.stream(member)?);
    let stream = stream.map_err(|error| refused(member, error))?;
    let size = usize::try_from(archive.size_of(member)?).unwrap_or(usize::MAX);
    let longest = size.saturating_mul(limits::EXPANSION);
    let longest = longest.clamp(limits::STATEMENT, limits::LARGEST_STATEMENT);
    Ok(ScriptReader::new(dialect, stream).with_longest(longest))
}

fn each(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
    visit: &mut dyn FnMut(Vec<u8>) -> Result<()>,
) -> Result<()> {
    let broken = |error: ScriptError| refused(member, error);
    let mut script = script(archive, dialect, member)?.bounding_records();
    while let Some(statement) = script.next_statement().map_err(broken)? {
        // Packing writes rows in the usual modes; in others their texts would end elsewhere.
        if script.modes() != Modes::default() {
            return Err(refused(member, "its rows are written in an unexpected SQL mode"));
        }
        visit(statement)?;
    }
    Ok(())
}

/// The statements of a structure member.
pub(crate) fn structure(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
) -> Result<Vec<Statement>> {
    let stream = zstd::Decoder::new(archive.stream(member)?);
    let stream = stream.map_err(|error| refused(member, error))?;
    // One byte more than may be there: whatever reaches it is too much.
    let mut stream = stream.take(limits::STRUCTURE + 1);
    let found = statements(&mut stream, dialect).map_err(|because| refused(member, because))?;
    if stream.limit() == 0 {
        let most = fernweh_ports::size(limits::STRUCTURE);
        return Err(refused(member, format!("a structure of more than {most}")));
    }
    Ok(found)
}

/// The statements of a script that makes a structure; otherwise why it is refused.
pub(crate) fn statements(
    script: impl std::io::Read,
    dialect: Dialect,
) -> std::result::Result<Vec<Statement>, String> {
    let mut found = Vec::new();
    let mut schema = "public".to_owned();
    let mut script = ScriptReader::new(dialect, script);
    while let Some(statement) = script.next_statement().map_err(|error| error.to_string())? {
        let mut parsed = Statement::parse(dialect, script.modes(), &statement)
            .map_err(|error| format!("line {}: {error}", script.line()))?;
        if dialect == Dialect::Postgres {
            qualify(&mut parsed, &mut schema);
        }
        if !matches!(parsed, Statement::Session | Statement::ClearCounters) {
            found.push(parsed);
        }
        if found.len() > limits::STRUCTURE_STATEMENTS {
            return Err(format!("more than {} statements", limits::STRUCTURE_STATEMENTS));
        }
    }
    Ok(found)
}

/// Gives tables the names by which manifests know them.
pub(crate) fn qualify(statement: &mut Statement, schema: &mut String) {
    let within = |bare: &mut String, shown: bool| {
        let name = if shown { Qualified::parse(bare) } else { Qualified::new("public", bare) };
        if name.schema == "public" {
            *bare = Qualified::new(schema, &name.name).to_string();
        }
    };
    match statement {
        Statement::Schema { name, .. } => schema.clone_from(name),
        Statement::Table { name, .. } | Statement::View { name, .. } => within(name, false),
        Statement::Index { table, .. }
        | Statement::Trigger { table, .. }
        | Statement::ForeignKey { table, .. }
        | Statement::Object { table: Some(table), .. } => within(table, true),
        _ => {}
    }
}

/// The rows of a block, some at a time.
pub(crate) fn rows(
    archive: &ArchiveReader,
    dialect: Dialect,
    member: &Member,
    table: &Table,
    visit: &mut dyn FnMut(Insert) -> Result<()>,
) -> Result<()> {
    let wrong = |error: StatementError| refused(member, error);
    let stranger = |other: &str| {
        refused(member, format!("rows of table {other} among those of {}", table.name))
    };
    if table.name == LARGE_OBJECTS {
        return pages(archive, member, table, visit);
    }
    if dialect == Dialect::Postgres {
        return copied_rows(archive, member, table, visit);
    }
    each(archive, dialect, member, &mut |statement| {
        let found = Insert::parse(dialect, &statement).map_err(wrong)?;
        // A very large statement goes before its rows are written.
        drop(statement);
        match found {
            None => Ok(()),
            Some(insert) if insert.table == table.name => visit(insert),
            Some(insert) => Err(stranger(&insert.table)),
        }
    })
}

/// The pages of large objects, some at a time.
fn pages(
    archive: &ArchiveReader,
    member: &Member,
    table: &Table,
    visit: &mut dyn FnMut(Insert) -> Result<()>,
) -> Result<()> {
    let columns: Vec<String> = table.columns.iter().map(|column| column.name.clone()).collect();
    let mut found = Vec::new();
    let mut hand_over = |rows: &mut Vec<Row>| {
        let (table, columns, rows) = (table.name.clone(), columns.clone(), std::mem::take(rows));
        visit(Insert { table, columns, rows })
    };
    each(archive, Dialect::Postgres, member, &mut |statement| {
        found.extend(read_page(&statement).map_err(|error| refused(member, error))?);
        if found.len() * PAGE as usize >= limits::ROWS_PORTION {
            hand_over(&mut found)
        } else {
            Ok(())
        }
    })?;
    if found.is_empty() { Ok(()) } else { hand_over(&mut found) }
}

fn copied_rows(
    archive: &ArchiveReader,
    member: &Member,
    table: &Table,
    visit: &mut dyn FnMut(Insert) -> Result<()>,
) -> Result<()> {
    let wrong = |error: StatementError| refused(member, error);
    let broken = |error: ScriptError| refused(member, error);
    let kinds: Vec<_> = table.columns.iter().map(|column| column.text).collect();
    let mut script = script(archive, Dialect::Postgres, member)?;
    while let Some(statement) = script.next_statement().map_err(broken)? {
        let Some(head) = CopyHead::parse(&statement).map_err(wrong)? else { continue };
        if head.table != table.name || head.columns.len() != kinds.len() {
            return Err(refused(
                member,
                format!("rows of table {} with other columns", head.table),
            ));
        }
        // What follows the semicolon on its line.
        script.next_line().map_err(broken)?;
        let mut portion = Vec::new();
        let mut weight = 0;
        loop {
            let line = script.next_line().map_err(broken)?;
            let line = line.ok_or_else(|| refused(member, "the rows are cut off"))?;
            let ends = line == b"\\.";
            if !ends {
                // An empty line is a record, too.
                weight += line.len() + (1 + kinds.len()) * size_of::<Value>();
                portion.push(read_copy_row(&line, &kinds).map_err(wrong)?);
            }
            drop(line);
            if !portion.is_empty() && (ends || weight >= limits::ROWS_PORTION) {
                let rows = std::mem::take(&mut portion);
                let (table, columns) = (head.table.clone(), head.columns.clone());
                visit(Insert { table, columns, rows })?;
                weight = 0;
            }
            if ends {
                break;
            }
        }
    }
    Ok(())
}
