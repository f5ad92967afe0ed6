//! What the last rewriting, scan and comparison of the site have left, and how old they are.

use super::{Found, Looking, Looks, Topic};
use crate::journal::{Run, Step};
use crate::outcome::{Of, Outcome};

pub(super) struct Leftovers;

const TOPIC: Topic = Topic::Leftovers;

impl Looks for Leftovers {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let site = at.site.name();
        let runs = at.runs();
        let mut found = Vec::new();
        if let Some(run) = runs.iter().find(|run| run.is_unfinished()) {
            found.push(Found::failed(
                TOPIC,
                "unfinished",
                format!("{} is unfinished: {}", run.header.command, run.header.run),
                format!("finish it with the same command, or take it back: fernweh undo {site}"),
            ));
        }
        let changed = last_change(&runs);
        found.push(scan(at, changed));
        found.extend(rewriting(at));
        if let Some(from) = at.from {
            found.extend(comparison(at, from.name(), changed));
        }
        found
    }
}

/// The number of the run that changed the site last.
fn last_change(runs: &[Run]) -> u64 {
    let changes = |run: &&Run| run.steps.iter().any(|step| matches!(step, Step::Done { .. }));
    runs.iter().find(changes).map_or(0, |run| run.header.number)
}

fn is_older(look: &Outcome, changed: u64) -> bool {
    look.after < changed
}

/// How long ago something was, for people.
fn ago(at: &Looking<'_>, moment: &str) -> String {
    let then = moment.parse::<jiff::Timestamp>().map_or(at.now, |at| at.as_second());
    match u32::try_from((at.now - then).max(0)).unwrap_or(u32::MAX) {
        0..60 => "just now".into(),
        seconds => format!("{} ago", super::answers::time_of(seconds)),
    }
}

fn scan(at: &Looking<'_>, changed: u64) -> Found {
    let site = at.site.name();
    let again = format!("fernweh scan {site}");
    let Some(look) = at.outcome(Of::Scan) else {
        return Found::warned(
            TOPIC,
            "never-scanned",
            "the pages of the site were never scanned from here",
            again,
        );
    };
    let when = ago(at, &look.at);
    let evidence = format!("scan of {}", look.at);
    let found = match (is_older(&look, changed), look.fine) {
        (true, _) => Found::warned(
            TOPIC,
            "scan-outdated",
            format!("the last scan ({when}) is older than the last change of the site"),
            again,
        ),
        (false, true) => {
            Found::passed(TOPIC, "scanned", format!("the last scan ({when}) found nothing wrong"))
        }
        (false, false) => Found::warned(
            TOPIC,
            "scan-found",
            format!("the last scan ({when}) found: {}", look.words),
            format!("correct what it found, then: {again}"),
        ),
    };
    found.seen([evidence])
}

/// A preview of a rewriting that still finds old addresses.
fn rewriting(at: &Looking<'_>) -> Option<Found> {
    let site = at.site.name();
    let look = at.outcome(Of::Rewriting)?;
    if is_older(&look, last_change(&at.runs())) {
        return None;
    }
    let when = ago(at, &look.at);
    let evidence = format!("preview of {}", look.at);
    let found = match look.fine {
        true => Found::passed(
            TOPIC,
            "rewritten",
            format!("the last preview of a rewriting ({when}) found no old address"),
        ),
        false => Found::warned(
            TOPIC,
            "addresses-left",
            format!("the last preview of a rewriting ({when}) found: {}", look.words),
            format!("fernweh rewrite {site} --apply"),
        ),
    };
    Some(found.seen([evidence]))
}

fn comparison(at: &Looking<'_>, from: &str, changed: u64) -> Option<Found> {
    let site = at.site.name();
    let look = at.outcome(Of::Comparison(from))?;
    let when = ago(at, &look.at);
    let evidence = format!("comparison of {}", look.at);
    let again = format!("fernweh compare {from} {site}");
    let found = match (is_older(&look, changed), look.fine) {
        (true, _) => Found::warned(
            TOPIC,
            "comparison-outdated",
            format!("the last comparison with {from} ({when}) is older than the last change"),
            again,
        ),
        (false, true) => Found::passed(
            TOPIC,
            "compared",
            format!("the last comparison with {from} ({when}) found no difference"),
        ),
        (false, false) => Found::warned(
            TOPIC,
            "differs",
            format!("the last comparison with {from} ({when}) found: {}", look.words),
            again,
        ),
    };
    Some(found.seen([evidence]))
}
