//! What is done after the new state is in place.

use crate::config::{Config, Emptied, Requested};
use crate::context::Context;
use crate::site::Site;
use fernweh_flow::refresh::{Refresh, Refreshed};
use fernweh_flow::undo::{last_change, turn_unpack};
use fernweh_ports::{PageSource, Result, Watch};

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

/// Does it. If a step in the database cannot be taken, the site goes back to its old state.
pub(super) fn run(
    context: &Context,
    config: &Config,
    site: &Site,
    refresh: &Refresh,
) -> Result<Vec<Refreshed>> {
    let halves = (site.database.is_some(), site.files.is_some());
    let holds = |table: &str| site.holds_table(table);
    let in_database =
        site.with_parts((halves.0, false), &mut |parts| refresh.database(parts, &holds));
    let mut done = match in_database {
        Ok(done) => done,
        Err(trouble) => {
            context.watch.note("taking the move back: a step of [after] cannot be taken\n");
            let run = last_change(&context.records(config), &site.name)?;
            site.with_targets(&run.header.run, halves, false, &mut |targets| {
                turn_unpack(&run, targets, &context.watch).map(drop)
            })?;
            return Err(
                trouble.incomplete(format!("site {} stands in its old state again", site.name))
            );
        }
    };
    let pages = site.url.as_ref().map(|_| site.pages()).transpose()?;
    let pages = pages.as_ref().map(|pages| pages as &dyn PageSource);
    done.extend(site.with_parts((false, halves.1), &mut |parts| {
        refresh.others(parts, &mut |command| site.run_there(command), pages, &context.watch)
    })?);
    Ok(done)
}
