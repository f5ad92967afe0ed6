//! Site → archive.

mod blocks;
mod files;
mod options;
mod rows;

pub(crate) use blocks::Blocks;
use files::pack_files;
pub(crate) use files::{holds_settings, is_database, leads_out};
pub use options::{PackOptions, PackReport};
use rows::PackRows;

use crate::archive::{ArchiveWriter, Checkpoint, Expected, Partial};
use fernweh_core::archive::{DatabaseManifest, FORMAT, FilesManifest, Manifest, Member, Seal};
use fernweh_core::record::{Table, is_of_engine};
use fernweh_core::sql::{Statement, is_same_structure, left_behind, write_structure};
use fernweh_ports::{
    Counting, DatabaseSource, FileSource, Progress, Result, Structure, Trouble, TroubleKind, Unit,
};

/// Packs a site.
pub fn pack(
    options: &PackOptions<'_>,
    database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    progress: &dyn Progress,
) -> Result<PackReport> {
    let (path, level) = (&options.archive, options.level);
    let (mut archive, partial) = match (&options.follower, options.go_on) {
        (_, true) => ArchiveWriter::go_on(path, level)?,
        (Some(member_index), false) => {
            (ArchiveWriter::create_followed(path, level, member_index.clone())?, None)
        }
        (None, false) => (ArchiveWriter::create(path, level)?, None),
    };
    match fill(options, database, files, &mut archive, partial, progress) {
        Ok((seal, mut report)) => {
            report.size = archive.seal(seal)?;
            Ok(report)
        }
        Err(trouble) if trouble.lost || trouble.kind == TroubleKind::Interrupted => {
            let Some(again) = &options.again else { return Err(trouble) };
            archive.keep();
            Err(trouble.incomplete(format!("nothing was changed; to resume: {again}")))
        }
        Err(trouble) => {
            if options.go_on {
                archive.keep();
            }
            Err(trouble)
        }
    }
}

fn fill(
    options: &PackOptions<'_>,
    mut database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    archive: &mut ArchiveWriter,
    partial: Option<Partial>,
    progress: &dyn Progress,
) -> Result<(Seal, PackReport)> {
    let mut report =
        PackReport { archive: options.archive.display().to_string(), ..PackReport::default() };
    let mut seal = Seal::default();
    let mut structure = Structure::default();
    let manifest = Manifest {
        format: FORMAT,
        program: options.program.clone(),
        site: options.site.clone(),
        url: options.url.clone(),
        root: options.root.clone(),
        created: crate::now(),
        database: match &mut database {
            Some(source) => Some(describe(options, *source, &mut structure, &mut report)?),
            None => None,
        },
        files: files
            .as_ref()
            .map(|_| FilesManifest { left_out: options.leave_out.texts().to_vec() }),
    };
    let mut part = None;
    match partial {
        Some(partial) => {
            check_same(&manifest, &structure, &partial)?;
            (seal.rows, seal.breaks, part) = (partial.rows, partial.breaks, partial.part);
            seal.breaks.push(crate::now());
        }
        None => {
            let text = serde_json::to_vec_pretty(&manifest).unwrap_or_default();
            archive.add(Member::Manifest, text)?;
            if let Some(about) = &manifest.database {
                let sql = write_structure(about.dialect, &structure.before);
                archive.add(Member::Structure, sql)?;
            }
        }
    }
    archive
        .checkpoint(Checkpoint { anew: seal.breaks.last().cloned(), ..Checkpoint::default() })?;
    progress.reached("begun");
    if let (Some(source), Some(about)) = (database, &manifest.database) {
        progress.stage("database", Some(report.records), Unit::Records);
        if let Some(member_index) = &options.follower {
            member_index.expect(Expected { rows: Some(report.records), file_bytes: None });
        }
        let mut packing =
            PackRows { options, about, structure: &structure, archive, progress, part };
        packing.all(source, &mut seal)?;
        report.records = site_rows(&seal);
    }
    if let Some(source) = files {
        pack_files(options, source, archive, &mut seal, &mut report, progress)?;
    }
    if manifest.database.is_none() {
        seal.breaks.clear();
    }
    report.breaks.clone_from(&seal.breaks);
    seal.settings.clone_from(&report.settings);
    (report.files, report.folders) = (seal.files, seal.folders);
    (report.links, report.file_bytes) = (seal.links, seal.file_bytes);
    Ok((seal, report))
}

/// What is gone on with must be what it was.
fn check_same(manifest: &Manifest, structure: &Structure, partial: &Partial) -> Result<()> {
    let other = |what: &str| {
        Trouble::usage("this archive cannot be resumed")
            .because(what)
            .hint("add --fresh to begin anew")
    };
    let halves = |manifest: &Manifest| (manifest.database.is_some(), manifest.files.is_some());
    if partial.manifest.site != manifest.site || halves(&partial.manifest) != halves(manifest) {
        return Err(other("it was begun for another site, or with other options"));
    }
    let (Some(now), Some(then)) = (&manifest.database, &partial.manifest.database) else {
        return Ok(());
    };
    let tables = (&now.tables, &now.without_rows) == (&then.tables, &then.without_rows);
    let sql = write_structure(now.dialect, &structure.before);
    let same = partial
        .structure
        .as_ref()
        .is_some_and(|structure| is_same_structure(now.dialect, structure, &sql));
    if !tables || !same {
        return Err(other(
            "the structure of the database, or which tables are packed, has changed",
        ));
    }
    Ok(())
}

fn describe(
    options: &PackOptions<'_>,
    source: &mut dyn DatabaseSource,
    structure: &mut Structure,
    report: &mut PackReport,
) -> Result<DatabaseManifest> {
    report.outside_snapshot = source.begin()?;
    report.outside_snapshot.retain(|name| options.tables.holds(name));
    let snapshot = crate::now();
    let overview = source.overview(options.tables, Counting::Rough)?;
    *structure = source.structure(options.tables)?;
    let tables = std::mem::take(&mut structure.tables);
    if tables.is_empty() && options.some_tables {
        return Err(Trouble::usage("the site has no table of this name")
            .because("nothing matches --tables among the tables of the site")
            .hint("fernweh survey lists them; * stands for any letters, as in gp_*"));
    }
    let bare = |table: &&Table| options.without_rows.hold(table.name.as_bytes());
    report.snapshot = Some(snapshot.clone());
    report.tables = overview.tables.len() as u64;
    // Until the rows are read, this is what is expected.
    let full = overview.tables.iter().filter(|t| !options.without_rows.hold(t.name.as_bytes()));
    report.records = full.map(|table| table.rows).sum();
    report.not_carried = overview.not_carried;
    report.not_carried.append(&mut structure.not_carried);
    let chosen: Vec<Statement> =
        structure.before.iter().chain(&structure.afterwards).cloned().collect();
    report.not_named = left_behind(&chosen, &structure.outside);
    report.without_rows = tables.iter().filter(bare).map(|table| table.name.clone()).collect();
    Ok(DatabaseManifest {
        dialect: overview.dialect,
        version: overview.version,
        charset: overview.charset,
        collation: overview.collation,
        snapshot,
        tables,
        without_rows: report.without_rows.clone(),
        name: options.database_name.clone(),
        inside_files: options.inside_files.clone(),
        login: options.database_login.clone(),
    })
}

/// The records of the site's own tables.
fn site_rows(seal: &Seal) -> u64 {
    seal.rows.iter().filter(|(table, _)| !is_of_engine(table)).map(|(_, rows)| rows).sum()
}
