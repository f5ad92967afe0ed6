//! The tests before a move, on the real connections of two sites.

use crate::args::Half;
use crate::config::Config;
use crate::context::Context;
use crate::hosts::FilesPlace;
use crate::render::{Page, count, duration, size};
use crate::site::{DatabasePlace, Site};
use fernweh_core::finding::Check;
use fernweh_flow::pack::is_database;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::preflight::{
    NAMES, Preflight, destination_database, destination_files, fit, judge_page, room,
    source_database, source_files,
};
use fernweh_ports::{
    FileSource, Overview, PageRequest, PageSource, Result, Structure, Trouble, Watch,
};

/// Runs the tests, or the one of this name. `only` bounds them to one half of the sites.
pub fn run(
    context: &Context,
    config: &Config,
    (from, to): (&Site, &Site),
    only: Option<Half>,
    name: Option<&str>,
) -> Result<Preflight> {
    if let Some(name) = name.filter(|name| !NAMES.contains(name)) {
        return Err(Trouble::usage(format!("there is no test `{name}`"))
            .hint(format!("the tests are: {}", NAMES.join(", "))));
    }
    let wanted = |one: &str| name.is_none_or(|name| name == one);
    let halves = from.halves(only)?;
    let mut found = Preflight::default();
    let run = format!("test-{}", std::process::id());
    context.watch.note("testing both ends\n");

    let mut source = None;
    if halves.0
        && ["source-database", "destination-database", "fit", "room"].iter().any(|one| wanted(one))
    {
        let scope = |table: &str| from.holds_table(table);
        let looked = from.database_source().and_then(|opened| match opened {
            Some(mut database) => source_database(&mut *database, &scope, &mut found).map(Some),
            None => Ok(None),
        });
        match looked {
            Ok(looked) => source = looked,
            Err(trouble) => found.note("source-database", Err(trouble)),
        }
    }
    if halves.0 {
        there(to, &run, source.as_ref(), &mut found, &wanted);
    }
    if halves.1 {
        files(config, (from, to), &run, &mut found, &wanted);
    }
    if wanted("pages") {
        for (site, destination) in [(from, false), (to, true)] {
            if site.url.is_some() {
                found.note("pages", page(site, destination).map(|check| vec![check]));
            }
        }
    }
    if wanted("same-place") && halves.0 {
        found.add("same-place", same_database(from, to));
    }
    found.checks.retain(|named| wanted(named.name));
    found.checks.sort_by_key(|named| NAMES.iter().position(|name| *name == named.name));
    found.estimate();
    Ok(found)
}

fn there(
    to: &Site,
    run: &str,
    source: Option<&(Overview, Structure)>,
    found: &mut Preflight,
    wanted: &dyn Fn(&str) -> bool,
) {
    let needed = found.size.database_bytes;
    let tested = to.with_targets(run, (true, false), false, &mut |targets| {
        let Some(target) = &mut targets.database else {
            let what = format!("site {} has no database", to.name);
            found.add("destination-database", Check::failed(what, "set database in its section"));
            return Ok(());
        };
        if wanted("destination-database") {
            let scope = |table: &str| to.holds_table(table);
            let tested = destination_database(*target, &scope, &mut found.there);
            found.note("destination-database", tested);
        }
        if let Some((overview, structure)) = source {
            if wanted("fit") {
                found.note("fit", fit(*target, overview, structure));
            }
            if let Some(free) = target.overview(&|_: &str| false)?.free {
                found.add("room", room(needed, Some(free), "the database"));
            }
        }
        Ok(())
    });
    if let Err(trouble) = tested {
        found.note("destination-database", Err(trouble));
    }
}

fn files(
    config: &Config,
    (from, to): (&Site, &Site),
    run: &str,
    found: &mut Preflight,
    wanted: &dyn Fn(&str) -> bool,
) {
    let mut source = match from.file_source() {
        Ok(source) => source,
        Err(trouble) => {
            found.note("source-files", Err(trouble));
            None
        }
    };
    if ["source-files", "room"].iter().any(|one| wanted(one))
        && let Some(source) = &mut source
    {
        let looked = Patterns::of_paths(&config.content.pack.leave_out).and_then(|leave_out| {
            let inside = from.inside_files();
            let inside = inside.as_deref();
            let enter = |path: &[u8]| !leave_out.hold(path) && !is_database(path, inside);
            source_files(&mut **source, &enter, found)
        });
        if let Err(trouble) = looked {
            found.note("source-files", Err(trouble));
        }
    }
    if !["destination-files", "room", "same-place"].iter().any(|one| wanted(one)) {
        return;
    }
    let needed = found.size.file_bytes;
    let tested = to.with_targets(run, (false, true), false, &mut |targets| {
        let Some(target) = &mut targets.files else {
            let what = format!("site {} has no place for files", to.name);
            found.add("destination-files", Check::failed(what, "set files in its section"));
            return Ok(());
        };
        found.add("room", room(needed, target.free(), "the files"));
        let source = source.as_mut().map(|source| &mut **source as &mut dyn FileSource);
        destination_files(*target, source, found)
    });
    if let Err(trouble) = tested {
        found.note("destination-files", Err(trouble));
    }
}

fn page(site: &Site, destination: bool) -> Result<Check> {
    let url = site.url.as_ref().map(|url| format!("{url}/")).unwrap_or_default();
    let request = PageRequest { url: url.clone(), body: Some(64 << 10) };
    let answer = site.pages()?.fetch(&request);
    Ok(judge_page(&url, &answer, site.has_login(), destination, site.has_address()))
}

/// Two databases of one name on one server are one.
fn same_database(from: &Site, to: &Site) -> Check {
    let same = match (&from.database, &to.database) {
        (Some(DatabasePlace::Sqlite(a)), Some(DatabasePlace::Sqlite(b))) => {
            let real = |path: &std::path::Path| path.canonicalize().unwrap_or(path.to_owned());
            real(a) == real(b)
        }
        (Some(DatabasePlace::SqliteThere(a)), Some(DatabasePlace::SqliteThere(b))) => {
            let host = |site: &Site| site.files.as_ref().map(FilesPlace::shown);
            host(from) == host(to) && a == b
        }
        (Some(a), Some(b)) => {
            let (one, other) = (from.database_server(a), to.database_server(b));
            a.name() == b.name() && one.is_some() && one == other
        }
        _ => false,
    };
    match same {
        true => Check::failed(
            "source and destination are the same database, by another name",
            "check database of both sites; two sites in one database need different tables",
        ),
        false => Check::passed("source and destination are different databases"),
    }
}

/// The tests on a page.
pub fn render(page: &mut Page, found: &Preflight, (from, to): (&str, &str)) {
    let checks: Vec<Check> = found.checks.iter().map(|named| named.check.clone()).collect();
    page.checks(&checks);
    let names = found
        .checks
        .iter()
        .filter(|named| named.check.verdict == fernweh_core::finding::Verdict::Failed);
    let mut names: Vec<&str> = names.map(|named| named.name).collect();
    names.dedup();
    if let Some(first) = names.first() {
        page.row("again", &format!("fernweh survey {from} --for {to} --only {first}"));
    }
}

/// How much goes and how long it takes.
pub fn amount(found: &Preflight) -> String {
    let all = &found.size;
    let bytes = size(all.database_bytes + all.file_bytes);
    let time = match found.seconds {
        Some(seconds) => format!("; about {} as fast as it was measured", duration(seconds)),
        None => String::new(),
    };
    format!("{} records and {} files, {bytes}{time}", count(all.records), count(all.files))
}
