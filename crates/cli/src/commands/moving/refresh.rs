//! What is done after the new state is in place.

use crate::config::{Config, Emptied, Requested};
use crate::context::Context;
use crate::site::Site;
use fernweh_flow::refresh::{Refresh, Refreshed};
use fernweh_flow::undo::{last_change, turn_unpack};
use fernweh_ports::{PageSource, Result, Trouble, Watch};

/// What the configuration asks for.
pub(super) fn configured(config: &Config) -> Refresh {
    let section = &config.content.after;
    let empty = section.empty.iter().map(|one| match one {
        Emptied::All(tables) => (tables.clone(), None),
        Emptied::Some { tables, r#where } => (tables.clone(), Some(r#where.clone())),
    });
    let request = section.request.iter().map(|one| match one {
        Requested::Usual(url) => (url.clone(), 200),
        Requested::With { url, status } => (url.clone(), *status),
    });
    Refresh {
        empty: empty.collect(),
        sql: section.sql.clone(),
        remove: section.remove.clone(),
        command: section.command.clone(),
        request: request.collect(),
    }
}

/// What was done in the database; or why it could not be, and the site was taken back to its
/// old state.
pub(super) type InDatabase = std::result::Result<Vec<Refreshed>, Trouble>;

/// Does what concerns the database. If a step cannot be taken, the site goes back to its old
/// state.
pub(super) fn database(
    context: &Context,
    config: &Config,
    site: &Site,
    refresh: &Refresh,
) -> Result<InDatabase> {
    let halves = (site.database.is_some(), site.files.is_some());
    let holds = |table: &str| site.holds_table(table);
    let done = site.with_parts((halves.0, false), &mut |parts| refresh.database(parts, &holds));
    let trouble = match done {
        Ok(done) => return Ok(Ok(done)),
        Err(trouble) if trouble.lost => {
            return Err(trouble.incomplete(
                "the new state is in place; type the same command again to do what follows",
            ));
        }
        Err(trouble) => trouble,
    };
    context.watch.note("taking the move back: a step of [after] cannot be taken\n");
    let run = last_change(&context.records(config), &site.name)?;
    site.with_targets(&run.header.run, halves, false, &mut |targets| {
        turn_unpack(&run, targets, &context.watch).map(drop)
    })?;
    Ok(Err(trouble.incomplete(format!("site {} stands in its old state again", site.name))))
}

/// Does what concerns files, programs and pages.
pub(super) fn others(context: &Context, site: &Site, refresh: &Refresh) -> Result<Vec<Refreshed>> {
    let pages = site.url.as_ref().map(|_| site.pages()).transpose()?;
    let pages = pages.as_ref().map(|pages| pages as &dyn PageSource);
    site.with_parts((false, site.files.is_some()), &mut |parts| {
        refresh.others(parts, &mut |command| site.run_there(command), pages, &context.watch)
    })
}
