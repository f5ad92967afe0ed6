//! SQL script → archive.

use super::Conversion;
use super::stream::opened;
use crate::archive::{ArchiveWriter, Level};
use crate::pack::Blocks;
use fernweh_core::archive::{DatabaseManifest, Member, Seal};
use fernweh_core::limits;
use fernweh_core::record::{Row, Table};
use fernweh_core::sql::{
    Dialect, ForeignError, ForeignScript, Meaning, ScriptError, ScriptReader, StatementError,
    Understood, write_structure,
};
use fernweh_ports::{Overview, Progress, Result, Trouble, Unit};
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

type Script = ScriptReader<Box<dyn Read + Send>>;

/// What ends the lines of a `COPY`.
const LAST_LINE: &[u8] = b"\\.";

fn broken(path: &Path, script: &Script, error: &ScriptError) -> Trouble {
    Trouble::damaged("the script is incomplete or cannot be read")
        .at(format!("{}, line {}", path.display(), script.line()))
        .because(error)
        .hint("create the script again, or copy it again from where it was made")
}

fn refused(path: &Path, script: &Script, error: &ForeignError) -> Trouble {
    let hint = match error {
        ForeignError::Refused(_) | ForeignError::Unread { .. } => {
            "remove the statement from the script and do its work by hand"
        }
        ForeignError::Databases(..) => "write one script for each database",
        ForeignError::NoTable(_) => "create the script again, with the structure of its tables",
        ForeignError::TimeZone(_) => {
            "create the script again in UTC, or set the time zone of its session to +00:00"
        }
        _ => "create the script again; or make an archive with: fernweh pack SITE",
    };
    Trouble::usage("the script contains a statement that is not allowed")
        .at(format!("{}, line {}", path.display(), script.line()))
        .because(error)
        .hint(hint)
}

/// Packs the tables that a script makes, with their rows; gives what people should know.
/// `target` is the database for which it is meant.
pub fn pack_script(
    options: &Conversion,
    path: &Path,
    target: &Overview,
    progress: &dyn Progress,
) -> Result<Vec<String>> {
    progress.stage("script", None, Unit::Records);
    let mut understood = understand(path, target, progress)?;
    let mut manifest = options.manifest(path);
    let dialect = target.dialect;
    manifest.database = Some(DatabaseManifest {
        dialect,
        version: format!("a script for {}", dialect.engine()),
        charset: target.charset.clone(),
        collation: target.collation.clone(),
        snapshot: manifest.created.clone(),
        tables: understood.tables.clone(),
        without_rows: Vec::new(),
        name: String::new(),
        inside_files: None,
        login: None,
    });
    let mut archive = ArchiveWriter::create(&options.archive, Level::new(1))?;
    let mut seal = Seal::default();
    archive.add(Member::Manifest, serde_json::to_vec_pretty(&manifest).unwrap_or_default())?;
    archive.add(Member::Structure, write_structure(dialect, &understood.before))?;
    let tables = understood.tables.clone();
    let mut filling = Filling {
        archive: &mut archive,
        blocks: tables.iter().map(|table| (table.name.as_str(), open(dialect, table))).collect(),
    };
    each_row(path, dialect, &mut understood, &mut |table, row| {
        progress.advance(1);
        progress.go_on()?;
        filling.add(table, row)
    })?;
    seal.rows = filling.finish()?;
    archive.add(Member::Afterwards, write_structure(dialect, &understood.afterwards))?;
    archive.seal(seal)?;
    progress.done("read the script");
    Ok(std::mem::take(&mut understood.notes))
}

fn understand(path: &Path, target: &Overview, progress: &dyn Progress) -> Result<Understood> {
    let mut script = Script::new(target.dialect, opened(path)?);
    let mut first = ForeignScript::new(target.dialect, &target.charset);
    while let Some(statement) = next(path, &mut script)? {
        progress.go_on()?;
        let meaning = first
            .take(&statement, script.modes())
            .map_err(|error| refused(path, &script, &error))?;
        if meaning == Meaning::Lines {
            each_line(path, &mut script, &mut |_, _| Ok(()))?;
        }
    }
    let understood = first.understood().map_err(|error| refused(path, &script, &error))?;
    if understood.tables.is_empty() {
        return Err(Trouble::usage("the script creates no table")
            .at(path.display().to_string())
            .hint("name a script that holds the structure and the rows of a database"));
    }
    Ok(understood)
}

fn next(path: &Path, script: &mut Script) -> Result<Option<Vec<u8>>> {
    script.next_statement().map_err(|error| broken(path, script, &error))
}

/// The lines behind a `COPY`.
fn each_line(
    path: &Path,
    script: &mut Script,
    visit: &mut dyn FnMut(&Script, &[u8]) -> Result<()>,
) -> Result<()> {
    // What follows the semicolon on its line.
    script.next_line().map_err(|error| broken(path, script, &error))?;
    loop {
        let line = script.next_line().map_err(|error| broken(path, script, &error))?;
        let Some(line) = line else {
            return Err(broken(path, script, &ScriptError::Unfinished));
        };
        if line.strip_suffix(b"\r").unwrap_or(&line) == LAST_LINE {
            return Ok(());
        }
        visit(script, &line)?;
    }
}

fn each_row(
    path: &Path,
    dialect: Dialect,
    understood: &mut Understood,
    visit: &mut dyn FnMut(&str, &Row) -> Result<()>,
) -> Result<()> {
    let mut script = Script::new(dialect, opened(path)?);
    while let Some(statement) = next(path, &mut script)? {
        let mut take = |table: &str, row: Row| visit(table, &row).map_err(Stopped::By);
        let found = understood.rows(&statement, script.modes(), &mut take);
        match found.map_err(|stopped| stopped.trouble(path, &script))? {
            None => {}
            Some(table) => {
                let layout = understood.layout(&table);
                each_line(path, &mut script, &mut |script, line| {
                    let row = layout.ok_or(StatementError::Unreadable).and_then(|l| l.line(line));
                    let row = row.map_err(|_| {
                        Trouble::damaged("a row of the script cannot be read")
                            .at(format!("{}, behind line {}", path.display(), script.line()))
                            .because(format!(
                                "`{}` does not fit the columns of table {table}",
                                String::from_utf8_lossy(&line[..line.len().min(60)])
                            ))
                            .hint("create the script again, or copy it again")
                    })?;
                    visit(&table, &row)
                })?;
            }
        }
    }
    Ok(())
}

/// Why the rows of a statement have an end before their end.
enum Stopped {
    Foreign(ForeignError),
    By(Trouble),
}

impl From<ForeignError> for Stopped {
    fn from(error: ForeignError) -> Self {
        Self::Foreign(error)
    }
}

impl Stopped {
    fn trouble(self, path: &Path, script: &Script) -> Trouble {
        match self {
            Self::Foreign(error) => refused(path, script, &error),
            Self::By(trouble) => trouble,
        }
    }
}

fn open(dialect: Dialect, table: &Table) -> (Blocks<'_>, u64) {
    (Blocks::new(dialect, table), 0)
}

/// Blocks of several tables, for scripts fill them in any order.
struct Filling<'a> {
    archive: &'a mut ArchiveWriter,
    blocks: BTreeMap<&'a str, (Blocks<'a>, u64)>,
}

impl Filling<'_> {
    fn add(&mut self, table: &str, row: &Row) -> Result<()> {
        let Some((block, count)) = self.blocks.get_mut(table) else { return Ok(()) };
        *count += 1;
        block.add(row, self.archive)?;
        if block.waiting() > 0 && *count % 1024 == 0 {
            let waiting: usize = self.blocks.values().map(|(block, _)| block.waiting()).sum();
            let fullest = self.blocks.values_mut().max_by_key(|(block, _)| block.waiting());
            if let Some((block, _)) = fullest.filter(|_| waiting > limits::SCRIPT_ROWS) {
                block.close(self.archive)?;
            }
        }
        Ok(())
    }

    /// Hands over what waits; gives the rows of each table.
    fn finish(mut self) -> Result<BTreeMap<String, u64>> {
        let mut rows = BTreeMap::new();
        for (name, (block, count)) in &mut self.blocks {
            block.close(self.archive)?;
            rows.insert((*name).to_owned(), *count);
        }
        Ok(rows)
    }
}

/// Every statement of a script that an engine runs itself.
pub fn each_statement(
    path: &Path,
    dialect: Dialect,
    progress: &dyn Progress,
    visit: &mut dyn FnMut(u64, &[u8]) -> Result<()>,
) -> Result<()> {
    let mut script = Script::new(dialect, opened(path)?);
    while let Some(statement) = next(path, &mut script)? {
        progress.go_on()?;
        visit(script.line(), &statement)?;
    }
    Ok(())
}
