//! `fernweh rewrite FILE -o FILE`

use crate::context::Context;
use crate::exit::done;
use crate::options::Engine;
use crate::render::{Page, rewriting, size};
use fernweh_core::rewrite::Rewriter;
use fernweh_core::sql::Dialect;
use fernweh_flow::archive::partial_of;
use fernweh_flow::incoming::{Packed, opened, opened_input};
use fernweh_flow::rewrite_file::{FileReport, ReadAs, dialect_of, rewrite_stream};
use fernweh_ports::{Result, Trouble};
use std::fs::{self, OpenOptions};
use std::io::{Cursor, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Bytes by which a script is recognised.
const START: u64 = 1 << 16;

/// What to rewrite, and whose SQL it is if its beginning does not tell.
pub struct FileArgs<'a> {
    /// The file, or `-`.
    pub from: Option<&'a str>,
    /// The new file, or `-`.
    pub to: &'a Path,
    /// The engine that was named.
    pub engine: Option<Engine>,
}

/// Runs the command.
pub fn run(context: &Context, args: &FileArgs<'_>, rewriter: &Rewriter) -> Result<u8> {
    let to = args.to;
    if context.json() && to.as_os_str() == "-" {
        return Err(Trouble::usage("--json and -o - both want standard output")
            .hint("write the result to a file with -o FILE, or leave --json out"));
    }
    let Some(from) = args.from else {
        return Err(Trouble::usage("no file is named").hint(
            "fernweh rewrite FILE -o NEW --from http://… --to https://…; - is standard input",
        ));
    };
    let doing = |trouble: Trouble| trouble.doing(format!("rewriting {from}"));
    let report = rewritten(context, args.engine, rewriter, from, to).map_err(doing)?;
    let page = text(context, &report);
    // Where the result is the output, the report must not stand in it.
    match to.as_os_str() == "-" {
        true => context.progress.page(&page),
        false => context.print_done(&report, &page),
    }
    Ok(done(report.rewriting.left() > 0))
}

fn rewritten(
    context: &Context,
    engine: Option<Engine>,
    rewriter: &Rewriter,
    from: &str,
    to: &Path,
) -> Result<FileReport> {
    let mut input = match from {
        "-" => opened_input()?,
        path => opened(Path::new(path))?,
    };
    let mut start = Vec::new();
    (&mut input).take(START).read_to_end(&mut start).map_err(|error| {
        Trouble::damaged("the file cannot be read").at(from.to_owned()).because(error)
    })?;
    let read_as = read_as(engine, from, &start)?;
    let mut input = Cursor::new(start).chain(input);
    let name = if from == "-" { "standard input" } else { from };
    if to.as_os_str() == "-" {
        let mut out = std::io::stdout().lock();
        let stream = (name, &mut input as &mut dyn Read);
        let mut report = rewrite_stream(rewriter, read_as, stream, &mut out, &context.progress)?;
        report.output = "standard output".into();
        return Ok(report);
    }
    let what = "cannot write the file";
    if to.exists() {
        return Err(Trouble::already_there(what, to));
    }
    let partial = partial_of(to);
    let wrong = |error: std::io::Error| Trouble::file(what, to, &error);
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    let file = options.open(&partial).map_err(wrong)?;
    let written = Packed::create(file, to).map_err(wrong).and_then(|mut out| {
        let stream = (name, &mut input as &mut dyn Read);
        let report = rewrite_stream(rewriter, read_as, stream, &mut out, &context.progress)?;
        out.finish().map_err(wrong)?;
        fs::rename(&partial, to).map_err(wrong)?;
        Ok(report)
    });
    let mut report = written.inspect_err(|_| {
        let _ = fs::remove_file(&partial);
    })?;
    report.output = to.display().to_string();
    Ok(report)
}

/// Whether it is a script, and of which dialect.
fn read_as(engine: Option<Engine>, from: &str, start: &[u8]) -> Result<ReadAs> {
    let named = engine.map(|engine| match engine {
        Engine::Mariadb => Dialect::Mariadb,
        Engine::Postgres => Dialect::Postgres,
        Engine::Sqlite => Dialect::Sqlite,
    });
    let is_named_sql = from.to_lowercase().split('.').skip(1).any(|ending| ending == "sql");
    match named.or_else(|| dialect_of(start)) {
        Some(dialect) if is_named_sql || named.is_some() || from == "-" => {
            Ok(ReadAs::Script(dialect))
        }
        None if is_named_sql => Err(Trouble::usage("unknown SQL dialect")
            .at(from.to_owned())
            .because(
                "the beginning of the script does not tell it, and quotes differ between \
                      dialects",
            )
            .hint("add --engine mariadb, postgres or sqlite")),
        _ => Ok(ReadAs::Text),
    }
}

fn text(context: &Context, report: &FileReport) -> String {
    let mut page = Page::new(context.style);
    let what = match report.read_as {
        ReadAs::Script(dialect) => format!("a script of {}", dialect.engine()),
        ReadAs::Text => "a text".into(),
    };
    page.row("rewritten", &format!("{} to {}", report.input, report.output));
    page.more(&format!("{what}, {}", size(report.bytes)));
    page.gap();
    rewriting(&mut page, context.style, &report.rewriting);
    page.finish()
}
