//! Where states of a site on another host are built and kept, and what the places are called.

use super::editor::write;
use super::{FoundKind, Metadata, Tree, joined, shown, split};
use fernweh_ports::{Result, Trouble};

/// The folder in which states are built where nothing can be built beside the site's folder.
pub(super) const WITHIN: &[u8] = crate::local::WITHIN.as_bytes();
/// What a web server that reads such files is told about that folder.
const CLOSED: &[u8] = b"Require all denied\n";
/// The places where states can be built, the best first: beside the site's folder, or in it.
pub(super) fn workshops(root: &[u8]) -> Vec<Vec<u8>> {
    let (parent, name) = split(root);
    let within = joined(root, WITHIN);
    match name.is_empty() {
        true => vec![within],
        false => vec![joined(parent, &[b".fernweh-", name].concat()), within],
    }
}

/// Makes such a place, closed to others and to web servers that read `.htaccess`. Gives the folders
/// on the way that were made, the innermost last.
pub(super) async fn open_at(tree: &dyn Tree, place: &[u8]) -> Result<Vec<Vec<u8>>> {
    let mut made = Vec::new();
    // The folders on the way, from the first that is missing.
    let mut missing = vec![place];
    while let Some(folder) = missing.last().map(|path| split(path).0)
        && folder.len() > 1
        && tree.look(folder).await?.is_none()
    {
        missing.push(folder);
    }
    for folder in missing.into_iter().rev() {
        // The site's folder and those above it are for everybody to enter.
        if folder != place {
            tree.make_folder(folder).await?;
            let open = Metadata { mode: tree.carries().modes.then_some(0o755), mtime: None };
            tree.set_metadata(folder, open).await?;
            made.push(folder.to_vec());
            continue;
        }
        match tree.look(place).await?.map(|found| found.kind) {
            None => tree.make_folder(place).await?,
            Some(FoundKind::Folder) => {}
            Some(_) => {
                return Err(Trouble::outside("cannot build beside the site's folder")
                    .at(shown(tree, place))
                    .because(
                        "the name of Fernweh's own folder is taken by something else, \
                              perhaps a link",
                    )
                    .hint("remove it, and try again"));
            }
        }
        // What is built and kept is for its owner alone.
        let closed = Metadata { mode: tree.carries().modes.then_some(0o700), mtime: None };
        tree.set_metadata(place, closed).await?;
    }
    let closed = joined(place, b".htaccess");
    if tree.look(&closed).await?.is_none() {
        let metadata = Metadata { mode: tree.carries().modes.then_some(0o644), mtime: None };
        write(tree, &closed, CLOSED, metadata).await?;
    }
    Ok(made)
}
