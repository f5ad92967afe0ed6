//! The plan of a move: what will happen, and what remains for the user.

use super::Terminal;
use crate::hosts::FilesPlace;
use crate::prompt::person;
use crate::render::{Page, amount, counted, moment, preflight};
use crate::site::Site;
use fernweh_flow::journal::Run;
use fernweh_flow::preflight::Preflight;
use fernweh_flow::run::pair;
use fernweh_ports::{Result, SiteAccess, Trouble, named};
use std::sync::mpsc;
use std::time::Duration;

/// The plan for people.
pub(super) fn text(at: &Terminal<'_>, found: &Preflight) -> String {
    let Terminal { context, args, options, from, to, .. } = *at;
    let mut page = Page::new(context.style);
    let word = match (args.preview, args.rehearse) {
        (true, _) => "preview",
        (_, true) => "rehearsal",
        _ => "plan",
    };
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
    if !there.staying.is_empty() {
        let number = there.staying.len() as u64;
        let tables = counted(number, "table that", "tables that");
        let names = named(&there.staying, 6);
        page.row("stays", &format!("{tables} the source does not have: {names}"));
    }
    if there.entries > 0 && !options.keep.is_empty() {
        let label = if there.staying.is_empty() { "stays" } else { "" };
        page.row(label, &format!("files named {}", options.keep.texts().join(", ")));
    }
    let mut known = options.rules.clone();
    if let (Some(old), Some(new)) = (&from.url, &to.url) {
        // One that cannot be used is an error where it is followed.
        known.extend(pair(&old.to_string(), &new.to_string()).ok().flatten());
    }
    page.list("rewrites", known.iter().map(|rule| format!("{} → {}", rule.from, rule.to)));
    if args.quiet_source {
        page.row("quiet", &format!("site {} shows a notice until it is moved", from.name));
    }
    page.row("amount", &amount(found));
    if to.is_hidden() {
        page.row("hidden", &format!("search engines are kept out of site {}", to.name));
    }
    page.list("after", options.refresh.plan());
    if to.url.is_some() && !args.no_scan && !args.rehearse {
        page.row("then", "opens and checks every page of the new site");
    }
    page.list("to do", found.to_do.iter().cloned().chain(of_the_user(from, to)));
    page.gap();
    preflight(&mut page, found, (&from.name, &to.name));
    page.finish()
}

/// What is said of a move that goes on.
pub(super) fn going_on(run: &Run) -> String {
    let done: Vec<String> =
        run.stages().into_iter().map(|(name, _, at)| format!("{name} {}", moment(at))).collect();
    let done = if done.is_empty() { "nothing complete yet".into() } else { done.join(", ") };
    format!("resuming {}: {done}\n", run.header.run)
}

fn place(page: &mut Page, label: &str, site: &Site) {
    let mut lines = Vec::new();
    lines.extend(site.url.as_ref().map(ToString::to_string));
    lines.extend(site.database_shown());
    lines.extend(site.files.as_ref().map(FilesPlace::shown));
    page.list(label, lines);
}

/// What no program can do.
pub(super) fn of_the_user(from: &Site, to: &Site) -> Vec<String> {
    let (Some(old), Some(new)) = (&from.url, &to.url) else { return Vec::new() };
    // A copy for trials takes nobody's place.
    if !to.is_final() {
        return Vec::new();
    }
    let mut lines = Vec::new();
    if to.names_host() {
        lines.push(format!("point {} to the new host when all is well", new.host));
    }
    if old.host != new.host {
        lines.push(format!("redirect {old} to {new} permanently, once {new} answers"));
    }
    lines.push("then take the old site down, so that the content is not online twice".into());
    lines
}

/// After this time a question is one that somebody has overlooked.
const UNANSWERED: Duration = Duration::from_secs(300);

/// Asks; where nobody answers for so long, tells so, once, and goes on waiting.
fn told_if_unanswered<T>(
    patience: Duration,
    tell: &(dyn Fn() + Sync),
    ask: impl FnOnce() -> T,
) -> T {
    std::thread::scope(|scope| {
        let (answered, waiting) = mpsc::channel::<()>();
        scope.spawn(move || {
            if waiting.recv_timeout(patience) == Err(mpsc::RecvTimeoutError::Timeout) {
                tell();
            }
        });
        let answer = ask();
        drop(answered);
        answer
    })
}

/// Asks whether the plan is to be carried out.
pub(super) fn agree(at: &Terminal<'_>, plan: &str, found: &Preflight) -> Result<()> {
    let Terminal { context, args, to, .. } = *at;
    match args.rehearse || context.yes() {
        true => context.tell(&format!("{plan}\n")),
        // Whoever is asked must see what is asked.
        false => context.say(&format!("{plan}\n")),
    }
    if args.rehearse {
        return Ok(());
    }
    if !found.there.is_empty() && !args.overwrite {
        return Err(Trouble::usage(format!("site {} is not empty", to.name))
            .because("the plan says what would be replaced")
            .hint("add --overwrite to replace it; it is kept, and fernweh undo restores it"));
    }
    if context.yes() {
        return Ok(());
    }
    let subject = format!("waits for your answer: {} to {}", at.from.name, to.name);
    match told_if_unanswered(UNANSWERED, &|| at.word(&subject, plan), || {
        person().agrees("\ngo on?")
    }) {
        Some(true) => Ok(()),
        Some(false) => {
            Err(Trouble::interrupted("not moved").because("you did not agree to the plan"))
        }
        None => Err(Trouble::usage("this plan needs confirmation")
            .because("without a terminal nobody can be asked")
            .hint("add --yes if the plan is what you want")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};

    #[test]
    fn a_question_that_stays_unanswered_is_told_once() {
        let told = AtomicU32::new(0);
        let tell = || {
            told.fetch_add(1, Ordering::SeqCst);
        };
        assert_eq!(told_if_unanswered(Duration::from_secs(600), &tell, || 1), 1);
        assert_eq!(told.load(Ordering::SeqCst), 0);
        // Answered once it was told.
        let ask = || {
            while told.load(Ordering::SeqCst) == 0 {
                std::thread::yield_now();
            }
            2
        };
        assert_eq!(told_if_unanswered(Duration::from_millis(1), &tell, ask), 2);
        assert_eq!(told.load(Ordering::SeqCst), 1);
    }
}
