//! The plan of a move: what will happen, and what remains for the user.

use super::Moving;
use crate::commands::{preflight, rules};
use crate::hosts;
use crate::render::{Page, counted, moment};
use crate::site::Site;
use fernweh_flow::journal::Run;
use fernweh_flow::preflight::Preflight;
use fernweh_flow::refresh::Refresh;
use fernweh_ports::{Result, Trouble};
use std::io::Write;

/// The plan for people.
pub(super) fn text(moving: &Moving<'_>, found: &Preflight, refresh: &Refresh) -> Result<String> {
    let Moving { context, config, args, from, to } = *moving;
    let mut page = Page::new(context.style);
    let word = if args.rehearse { "rehearsal" } else { "plan" };
    page.row(word, &format!("site {} moves to {}", from.name, to.name));
    page.gap();
    place(&mut page, "reads", from);
    place(&mut page, "writes", to);
    let there = &found.there;
    let mut replaced = Vec::new();
    if there.tables > 0 {
        let records = counted(there.records, "record", "records");
        replaced.push(format!("{} with {records}", counted(there.tables, "table", "tables")));
    }
    if there.entries > 0 {
        replaced.push(format!("{} of files", counted(there.entries, "entry", "entries")));
    }
    match replaced.is_empty() {
        true => page.row("replaces", "nothing: both places are empty"),
        false => page.row("replaces", &format!("{}; kept for undo", replaced.join(", "))),
    }
    let mut known = rules::configured(config, &to.name)?;
    if let (Some(old), Some(new)) = (&from.url, &to.url) {
        known.extend(rules::pair(&old.to_string(), &new.to_string())?);
    }
    page.list("rewrites", known.iter().map(|rule| format!("{} → {}", rule.from, rule.to)));
    page.row("amount", &preflight::amount(found));
    page.list("after", refresh.plan());
    if to.url.is_some() && !args.no_scan && !args.rehearse {
        page.row("then", "every page of the new site is opened and checked");
    }
    page.list("yours", of_the_user(moving));
    page.gap();
    preflight::render(&mut page, found, (&from.name, &to.name));
    Ok(page.finish())
}

/// What is said of a move that goes on.
pub(super) fn going_on(run: &Run) -> String {
    let done: Vec<String> =
        run.stages().into_iter().map(|(name, _, at)| format!("{name} {}", moment(at))).collect();
    let done = if done.is_empty() { "nothing complete yet".into() } else { done.join(", ") };
    format!("going on with {}: {done}\n", run.header.run)
}

fn place(page: &mut Page, label: &str, site: &Site) {
    let mut lines = Vec::new();
    lines.extend(site.url.as_ref().map(ToString::to_string));
    lines.extend(site.database_shown());
    lines.extend(site.files.as_ref().map(crate::hosts::FilesPlace::shown));
    page.list(label, lines);
}

/// What no program can do.
pub(super) fn of_the_user(moving: &Moving<'_>) -> Vec<String> {
    let (Some(old), Some(new)) = (&moving.from.url, &moving.to.url) else { return Vec::new() };
    let mut lines = Vec::new();
    if moving.to.has_address() {
        lines.push(format!("point {} to the new host when all is well", new.host));
    }
    if old.host != new.host {
        lines.push(format!("redirect {old} to {new}, permanently, once that answers"));
    }
    lines.push("take the old site down, or nobody will know which one counts".into());
    lines
}

/// Asks whether the plan is to be carried out.
pub(super) fn agree(moving: &Moving<'_>, plan: &str, found: &Preflight) -> Result<()> {
    let Moving { context, args, to, .. } = *moving;
    let _ = writeln!(std::io::stderr(), "{plan}");
    if args.rehearse {
        return Ok(());
    }
    if !found.there.is_empty() && !args.overwrite {
        return Err(Trouble::usage(format!("site {} is not empty", to.name))
            .because("the plan says what would be replaced")
            .hint("add --overwrite to replace it; it is kept, and fernweh undo brings it back"));
    }
    if context.yes() {
        return Ok(());
    }
    match hosts::person().agrees("\ngo on?") {
        Some(true) => Ok(()),
        Some(false) => {
            Err(Trouble::interrupted("not moved").because("you did not agree to the plan"))
        }
        None => Err(Trouble::usage("this plan needs somebody who agrees")
            .because("without a terminal nobody can be asked")
            .hint("add --yes if the plan is what you want")),
    }
}
