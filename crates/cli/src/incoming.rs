//! What `unpack` is given: an archive, or something of others that becomes one first.

use crate::config::Config;
use crate::context::Context;
use crate::site::{DatabasePlace, Site};
use fernweh_connect::local::LocalSource;
use fernweh_connect::sqlite::{SqliteScript, SqliteSource, companions};
use fernweh_core::sql::Dialect;
use fernweh_flow::archive::{ArchiveReader, Level};
use fernweh_flow::incoming::{
    Conversion, Incoming, InputKind, Room, each_statement, look, pack_script, pack_tree,
};
use fernweh_flow::pack::{PackOptions, pack};
use fernweh_flow::patterns::Patterns;
use fernweh_ports::{
    DatabaseSource, FileSource, Halves, LeftOut, Overview, Result, SiteAccess, Trouble,
};
use std::fs;
use std::path::Path;

/// Opens what is to be unpacked. `from` is the web address of its site, if it does not say.
pub fn open(
    context: &Context,
    config: &Config,
    site: &Site,
    path: &Path,
    from: Option<&str>,
    outside_links: bool,
) -> Result<Incoming> {
    let found = look(path)?;
    if found == InputKind::Archive {
        let archive = ArchiveReader::open(path)?;
        if let (Some(known), Some(_)) = (&archive.manifest.url, from) {
            return Err(Trouble::usage(
                "--from is for scripts and files that do not name their \
                             address",
            )
            .because(format!("this archive names it: {known}"))
            .hint("leave out --from; add other addresses as [[rule]]"));
        }
        return Ok(Incoming::own(archive));
    }
    let room = Room::make(&config.folder.join(".fernweh").join("incoming"))?;
    let conversion = Conversion {
        archive: room.file("incoming.fernweh.tar"),
        program: env!("CARGO_PKG_VERSION").into(),
        url: from.map(str::to_owned),
        outside_links,
    };
    let (mut notes, mut left_out) = (Vec::new(), Vec::new());
    match found {
        InputKind::Script => notes = read_script(context, site, path, &room, &conversion)?,
        InputKind::Files => left_out = pack_tree(&conversion, path, &context.progress)?,
        InputKind::Folder => {
            let mut files = LocalSource::open(path)?;
            left_out = read(context, path, &conversion, None, Some(&mut files))?;
        }
        _ => {
            let mut database = SqliteSource::open(path)?;
            read(context, path, &conversion, Some(&mut database), None)?;
        }
    }
    let archive = ArchiveReader::open(&conversion.archive)?;
    Ok(Incoming { archive, notes, left_out, foreign: true, room: Some(room) })
}

/// Reads a script for the engine that the site has.
fn read_script(
    context: &Context,
    site: &Site,
    path: &Path,
    room: &Room,
    conversion: &Conversion,
) -> Result<Vec<String>> {
    match &site.database {
        None => Err(Trouble::usage(format!("site {} has no place for a database", site.name))
            .because("this is an SQL script")
            .hint(format!("set database in [site.{}]", site.name))),
        Some(DatabasePlace::Sqlite(_) | DatabasePlace::SqliteThere(_)) => {
            let filled = room.file("script.db");
            let mut script = SqliteScript::create(&filled, crate::progress::stops())?;
            each_statement(path, Dialect::Sqlite, &context.progress, &mut |line, statement| {
                script.run(&format!("{}, line {line}", path.display()), statement)
            })?;
            script.finish()?;
            let mut database = SqliteSource::open(&filled)?;
            read(context, path, conversion, Some(&mut database), None)?;
            drop(database);
            companions(&filled).iter().chain([&filled]).for_each(|file| {
                let _ = fs::remove_file(file);
            });
            Ok(Vec::new())
        }
        Some(_) => {
            let target = overview(site)?;
            pack_script(conversion, path, &target, &context.progress)
        }
    }
}

/// What the database of the site says of itself.
fn overview(site: &Site) -> Result<Overview> {
    match site.targets("look", Halves::DATABASE)?.database {
        Some(mut database) => database.overview(&|_: &str| false),
        None => Err(Trouble::usage("the site has no database")),
    }
}

/// Packs a database file or a folder as if it were a site.
fn read(
    context: &Context,
    path: &Path,
    conversion: &Conversion,
    database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
) -> Result<Vec<LeftOut>> {
    let none = Patterns::of_paths(&[])?;
    let options = PackOptions {
        site: path.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
        url: conversion.url.clone(),
        root: None,
        archive: conversion.archive.clone(),
        leave_out: none.clone(),
        without_rows: none.clone(),
        tables: &|_: &str| true,
        some_tables: false,
        database_name: String::new(),
        inside_files: None,
        database_login: None,
        outside_links: conversion.outside_links,
        program: conversion.program.clone(),
        level: Level::new(1),
        go_on: false,
        follower: None,
        again: None,
    };
    Ok(pack(&options, database, files, &context.progress)?.left_out)
}
