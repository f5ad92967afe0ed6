//! Whether what an archive holds can be unpacked: a whole archive may still hold what cannot.

use crate::archive::{ArchiveReader, PieceReader, each_entry};
use crate::stream;
use fernweh_core::archive::Member;
use fernweh_core::record::EntryKind;
use fernweh_ports::{Progress, Result, Trouble, Unit};

/// Reads rows and files as unpacking does, and counts them.
pub(crate) fn read_through(archive: &ArchiveReader, progress: &dyn Progress) -> Result<()> {
    let seal = archive.seal()?;
    if let Some(about) = &archive.manifest.database {
        progress.stage("records", Some(seal.rows.values().sum()), Unit::Records);
        for member in [Member::Structure, Member::Afterwards] {
            stream::structure(archive, about.dialect, &member)?;
        }
        for table in &about.tables {
            let columns: Vec<&String> = table.columns.iter().map(|column| &column.name).collect();
            let mut found = 0;
            for member in archive.blocks(&table.name) {
                let member = member?;
                stream::rows(archive, about.dialect, &member, table, &mut |insert| {
                    progress.go_on()?;
                    if !insert.columns.iter().eq(columns.iter().copied()) {
                        return Err(stream::other_columns(&member));
                    }
                    found += insert.rows.len() as u64;
                    progress.advance(insert.rows.len() as u64);
                    Ok(())
                })?;
            }
            let sealed = seal.rows.get(&table.name).copied().unwrap_or(0);
            if found != sealed {
                return Err(incomplete(&format!("table {}", table.name), found, sealed));
            }
        }
        progress.done("read every record");
    }
    if archive.manifest.files.is_some() {
        progress.stage("files", Some(seal.file_bytes), Unit::Bytes);
        let mut found = 0;
        let mut pieces = PieceReader::new(archive);
        let result = each_entry(&mut pieces, &mut |entry, content| {
            progress.go_on()?;
            found += 1;
            if let EntryKind::File(size) = entry.kind {
                let came = std::io::copy(content, &mut std::io::sink()).unwrap_or(0);
                if came != size {
                    return Err(incomplete(&entry.shown(), came, size));
                }
                progress.advance(size);
            }
            Ok(true)
        });
        let trouble = pieces.trouble.take();
        result.map_err(|error| trouble.unwrap_or(error))?;
        let sealed = seal.files + seal.folders + seal.links;
        if found != sealed {
            return Err(incomplete("the files", found, sealed));
        }
        progress.done("read every file");
    }
    Ok(())
}

fn incomplete(what: &str, found: u64, sealed: u64) -> Trouble {
    Trouble::damaged("the archive does not hold what its seal says")
        .at(what.to_owned())
        .because(format!("{found} were read; the seal says {sealed}"))
        .hint("pack the site again")
}
