//! Bodies of archives from elsewhere do not run with rights beyond the site.
//!
//! A trigger, a routine, a view or an event runs with the rights of the login that makes it:
//! at once, or when the site next writes. A login of the site's own can harm the site alone,
//! whose programs are trusted as much. One with more rights is another matter.

use super::UnpackOptions;
use crate::archive::ArchiveReader;
use crate::stream;
use fernweh_core::archive::Member;
use fernweh_core::sql::bodies;
use fernweh_ports::{DatabaseTarget, Result, Trouble, named};

/// Names that an error lists.
const SHOWN: usize = 6;

/// What an archive would run in the database, named for people.
pub fn bodies_of(archive: &ArchiveReader) -> Result<Vec<String>> {
    let Some(about) = &archive.manifest.database else { return Ok(Vec::new()) };
    let mut statements = stream::structure(archive, about.dialect, &Member::Structure)?;
    statements.extend(stream::structure(archive, about.dialect, &Member::Afterwards)?);
    Ok(bodies(about.dialect, &statements))
}

/// Refuses an archive with bodies, where they would run with rights beyond the site.
pub(super) fn check(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    target: &mut dyn DatabaseTarget,
) -> Result<()> {
    if options.trusted {
        return Ok(());
    }
    let powers = target.powers()?;
    if powers.is_empty() {
        return Ok(());
    }
    let bodies = bodies_of(archive)?;
    if bodies.is_empty() {
        return Ok(());
    }
    Err(Trouble::usage("the archive would run code with rights beyond this site")
        .because(format!(
            "it holds {}; the login of site {} has {}",
            named(&bodies, SHOWN),
            options.site,
            named(&powers, SHOWN)
        ))
        .hint(
            "use a login that may use the site's database alone; or, if you know who packed this \
             archive, add --trust",
        ))
}
