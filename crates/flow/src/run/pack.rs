//! Site → archive, or → one SQL script.

use super::Surroundings;
use crate::archive::{ArchiveReader, Level, MemberIndex};
use crate::pack::{PackOptions, PackReport, pack};
use crate::patterns::Patterns;
use crate::script::write_script;
use fernweh_core::limits;
use fernweh_core::placed::{FRONT_FILE, is_placed_program};
use fernweh_ports::{
    DatabaseSource, FileSource, Halves, Held, Result, SiteAccess, Trouble, read_whole,
};
use std::path::PathBuf;
use std::sync::Arc;

/// What to pack, and how.
#[derive(Clone, Debug)]
pub struct Pack {
    /// The archive to write.
    pub archive: PathBuf,
    /// The script to write in its place; the archive is removed afterwards.
    pub script: Option<PathBuf>,
    /// Which halves of the site.
    pub halves: Halves,
    /// Files and folders to leave out.
    pub leave_out: Patterns,
    /// Tables of which only the structure is packed.
    pub without_rows: Patterns,
    /// The tables to pack; all of the site's if there is none.
    pub tables: Patterns,
    /// Take links along that point out of the site.
    pub outside_links: bool,
    /// How hard to compress.
    pub level: Level,
    /// Go on with an archive that was broken off.
    pub go_on: bool,
    /// The command that goes on with this one, for people; without it nothing unfinished is
    /// kept.
    pub again: Option<String>,
}

impl Pack {
    /// A site as it is, whole.
    pub fn whole(archive: PathBuf, halves: Halves) -> Self {
        Self {
            archive,
            script: None,
            halves,
            leave_out: Patterns::default(),
            without_rows: Patterns::default(),
            tables: Patterns::default(),
            outside_links: true,
            level: Level::default(),
            go_on: false,
            again: None,
        }
    }

    /// Packs the site. What was packed here may be unpacked from here, whatever it runs: the
    /// records remember it.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<PackReport> {
        self.run_followed(site, around, None)
    }

    /// The same, for somebody who unpacks the archive while it is written.
    pub(super) fn run_followed(
        &self,
        site: &dyn SiteAccess,
        around: Surroundings<'_>,
        follower: Option<Arc<MemberIndex>>,
    ) -> Result<PackReport> {
        around.warn_of_earlier(site)?;
        let doing = |trouble: Trouble| trouble.doing(format!("packing site {}", site.name()));
        let mut report = self.write(site, around, follower).map_err(doing)?;
        if let Some(digest) = ArchiveReader::open(&self.archive)?.digest {
            around.records.remember(&digest)?;
        }
        if let Some(script) = &self.script {
            let written = ArchiveReader::open(&self.archive)
                .and_then(|archive| write_script(&archive, script, around.progress));
            let _ = std::fs::remove_file(&self.archive);
            report.size = written.map_err(doing)?;
            report.archive = script.display().to_string();
        }
        Ok(report)
    }

    /// Writes the archive and nothing else.
    pub(super) fn write(
        &self,
        site: &dyn SiteAccess,
        around: Surroundings<'_>,
        follower: Option<Arc<MemberIndex>>,
    ) -> Result<PackReport> {
        let holds = |table: &str| {
            let chosen = self.tables.is_empty() || self.tables.hold(table.as_bytes());
            site.holds_table(table) && chosen
        };
        let options = PackOptions {
            site: site.name().to_owned(),
            url: site.url().map(ToString::to_string),
            root: site.folder_on_host(),
            archive: self.archive.clone(),
            leave_out: self.leave_out.clone(),
            without_rows: self.without_rows.clone(),
            tables: &holds,
            some_tables: !self.tables.is_empty(),
            database_name: site.database_name(),
            database_login: site.database_login(),
            inside_files: site.inside_files(),
            outside_links: self.outside_links,
            program: around.program.to_owned(),
            level: self.level,
            go_on: self.go_on,
            follower,
            again: self.again.clone(),
        };
        let mut database = if self.halves.database { site.database()? } else { None };
        let mut files = if self.halves.files { site.files()? } else { None };
        if let Some(files) = &mut files {
            refuse_closed(site, &mut **files)?;
        }
        let source = database.as_mut().map(|source| &mut **source as &mut dyn DatabaseSource);
        let files = files.as_mut().map(|source| &mut **source as &mut dyn FileSource);
        let mut report = pack(&options, source, files, around.progress)?;
        // What goes on with an archive does not look at the tables that are complete.
        let of_files = self.leave_out.unused().filter(|_| self.halves.files);
        let of_tables = self.without_rows.unused().chain(self.tables.unused());
        let of_tables = of_tables.filter(|_| self.halves.database && !self.go_on);
        report.matched_nothing = of_files.chain(of_tables).cloned().collect();
        Ok(report)
    }
}

/// A site whose own program has given way to one that closes it would be packed without it.
fn refuse_closed(site: &dyn SiteAccess, files: &mut dyn FileSource) -> Result<()> {
    if files.look(FRONT_FILE.as_bytes())?.is_none() {
        return Ok(());
    }
    let front = read_whole(files, FRONT_FILE.as_bytes(), limits::TEXT_FILE)?;
    match front {
        Held::Whole(file) if is_placed_program(&file.bytes) => {
            let name = site.name();
            Err(Trouble::usage(format!("site {name} is closed by Fernweh"))
                .because(format!("its {FRONT_FILE} leads away, and the site's own is kept aside"))
                .hint(format!("open it first: fernweh undo {name}")))
        }
        _ => Ok(()),
    }
}
