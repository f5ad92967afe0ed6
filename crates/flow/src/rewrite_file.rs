//! Addresses in one file, script or stream: from one place to another, in bounded memory.

use crate::report::RewriteReport;
use fernweh_core::limits;
use fernweh_core::rewrite::{ColumnText, Rewriter, Tally};
use fernweh_core::sql::{Dialect, ScriptPart, TextCutter};
use fernweh_ports::{Progress, Result, Trouble, Unit};
use serde::Serialize;
use std::io::{BufRead, BufReader, Read, Write};

/// What a file is read as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ReadAs {
    /// An SQL script of this dialect: only its texts are rewritten.
    Script(Dialect),
    /// Any other text.
    Text,
}

/// What was done.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
pub struct FileReport {
    /// What was read.
    pub input: String,
    /// What was written.
    pub output: String,
    /// What it was read as.
    pub read_as: ReadAs,
    /// Bytes read, decompressed.
    pub bytes: u64,
    /// The numbers.
    pub rewriting: RewriteReport,
}

/// What a stream is, by how it begins; `None` if that does not tell.
pub fn dialect_of(start: &[u8]) -> Option<Dialect> {
    let text = String::from_utf8_lossy(start).to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    if has(&["from stdin;", "pg_catalog", "standard_conforming_strings", "set search_path"]) {
        Some(Dialect::Postgres)
    } else if has(&[
        "engine=",
        "/*!40",
        "create table `",
        "insert into `",
        "set names",
        "lock tables",
    ]) {
        Some(Dialect::Mariadb)
    } else if has(&["pragma ", "begin transaction;", "sqlite_"]) {
        Some(Dialect::Sqlite)
    } else {
        None
    }
}

/// Rewrites a stream.
pub fn rewrite_stream(
    rewriter: &Rewriter,
    read_as: ReadAs,
    (name, input): (&str, &mut dyn Read),
    output: &mut dyn Write,
    progress: &dyn Progress,
) -> Result<FileReport> {
    let mut report = FileReport {
        input: name.to_owned(),
        output: String::new(),
        read_as,
        bytes: 0,
        rewriting: RewriteReport::of(rewriter),
    };
    let mut tally = Tally::default();
    progress.stage("rewriting", None, Unit::Bytes);
    report.bytes = match read_as {
        ReadAs::Script(dialect) => {
            script(rewriter, dialect, name, input, output, &mut tally, progress)?
        }
        ReadAs::Text => text(rewriter, name, input, output, &mut tally, progress)?,
    };
    output.flush().map_err(|error| unwritable(&error))?;
    progress.done(&format!("rewrote {name}"));
    report.rewriting.files_seen = 1;
    report.rewriting.files.insert(name.to_owned(), tally);
    Ok(report)
}

fn unreadable(name: &str, error: &std::io::Error) -> Trouble {
    Trouble::outside("cannot read what is to be rewritten").at(name).because(error)
}

fn unwritable(error: &std::io::Error) -> Trouble {
    Trouble::outside("cannot write what was rewritten").because(error)
}

fn script(
    rewriter: &Rewriter,
    dialect: Dialect,
    name: &str,
    input: &mut dyn Read,
    output: &mut dyn Write,
    tally: &mut Tally,
    progress: &dyn Progress,
) -> Result<u64> {
    let (mut bytes, mut line) = (0, 1);
    let mut cutter = TextCutter::new(dialect);
    let mut take = |part: ScriptPart<'_>| -> Result<()> {
        let raw = match part {
            ScriptPart::Rest(raw) | ScriptPart::Text(raw, _) => raw,
        };
        let mut new = None;
        if let ScriptPart::Text(raw, notation) = part {
            tally.seen += 1;
            if let Some(outcome) = notation.look(rewriter, raw) {
                tally.add(&outcome.view, &outcome.found, |_| format!("line {line}"));
                new = outcome.new;
            }
        }
        line += memchr::memchr_iter(b'\n', raw).count();
        output.write_all(new.as_deref().unwrap_or(raw)).map_err(|error| unwritable(&error))
    };
    let mut buffer = vec![0; limits::REWRITTEN_PORTION];
    loop {
        progress.go_on()?;
        let read = input.read(&mut buffer).map_err(|error| unreadable(name, &error))?;
        if read == 0 {
            break;
        }
        bytes += read as u64;
        progress.advance(read as u64);
        cutter.feed(&buffer[..read], &mut take)?;
        if cutter.held() > limits::STATEMENT {
            return Err(Trouble::damaged("a text of the script never ends")
                .at(name)
                .because(format!("more than {} bytes without its end", limits::STATEMENT))
                .hint("name the dialect with --engine, if it was not recognised"));
        }
    }
    cutter.finish(&mut take)?;
    Ok(bytes)
}

/// A file of usual size is looked at as a whole; of larger ones each line is.
fn text(
    rewriter: &Rewriter,
    name: &str,
    input: &mut dyn Read,
    output: &mut dyn Write,
    tally: &mut Tally,
    progress: &dyn Progress,
) -> Result<u64> {
    let mut whole = Vec::new();
    input
        .take(limits::TEXT_FILE + 1)
        .read_to_end(&mut whole)
        .map_err(|error| unreadable(name, &error))?;
    if whole.len() as u64 <= limits::TEXT_FILE {
        progress.advance(whole.len() as u64);
        piece(rewriter, &whole, 1, output, tally)?;
        return Ok(whole.len() as u64);
    }
    let mut rest =
        BufReader::with_capacity(limits::REWRITTEN_PORTION, whole.as_slice().chain(input));
    let (mut bytes, mut number, mut line) = (0, 1, Vec::new());
    loop {
        line.clear();
        let read = (&mut rest).take(limits::STATEMENT as u64).read_until(b'\n', &mut line);
        let read = read.map_err(|error| unreadable(name, &error))?;
        if read == 0 {
            return Ok(bytes);
        }
        bytes += read as u64;
        if number % 1024 == 0 {
            progress.go_on()?;
        }
        progress.advance(read as u64);
        piece(rewriter, &line, number, output, tally)?;
        number += 1;
    }
}

fn piece(
    rewriter: &Rewriter,
    text: &[u8],
    first_line: usize,
    output: &mut dyn Write,
    tally: &mut Tally,
) -> Result<()> {
    tally.seen += 1;
    let kind = if text.contains(&0) { ColumnText::Binary } else { ColumnText::Utf8 };
    let outcome = match kind {
        ColumnText::Binary => rewriter.binary(text),
        _ => rewriter.cell(kind, text),
    };
    let new = outcome.and_then(|outcome| {
        let line = |at: usize| first_line + memchr::memchr_iter(b'\n', &outcome.view[..at]).count();
        tally.add(&outcome.view, &outcome.found, |at| format!("line {}", line(at)));
        outcome.new
    });
    output.write_all(new.as_deref().unwrap_or(text)).map_err(|error| unwritable(&error))
}
