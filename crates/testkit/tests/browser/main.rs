//! What a browser asks for to show a page, compared with what the core says: a table of constructed
//! pages, and generated ones. Chromium is the judge.

mod generated;
mod model;
mod site;

use fernweh_demo::host::Authority;
use fernweh_testkit::{Browser, Stage, Visit};
use model::Expected;
use site::{Case, reply};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

/// Windows of the browser that are at work at once.
const WINDOWS: usize = 4;

fn pages_of(cases: &[Case]) -> Vec<String> {
    cases.iter().map(|case| format!("https://page.test/r/{}.page", case.name)).collect()
}

/// Shows every case to the browser; gives those whose requests are not what the core says.
fn compare(cases: Vec<Case>) -> (Vec<Visit>, Vec<String>) {
    let folder = tempfile::tempdir().expect("a folder");
    let authority = Authority::new().expect("an authority");
    let shared = Arc::new(cases);
    let served = shared.clone();
    let hosts = ["page.test", "other.test"];
    let stage = Stage::start(&authority, &hosts, move |request| reply(request, &served));
    let mut browser = Browser::start(folder.path(), stage.port);
    let pages = pages_of(&shared);
    let mut visits = browser.visit(&pages, WINDOWS, Duration::from_millis(250));
    let expected: Vec<Expected> =
        shared.iter().map(|case| model::expected(case, &shared)).collect();
    // What differs is looked at again, alone and for longer, before it counts.
    let is_doubtful = |number: &usize| {
        let (case, visit) = (&shared[*number], &visits[*number]);
        let told = case.seen.as_ref().is_none_or(|seen| *seen == site::lines_of(visit));
        !expected[*number].is(visit) || !told
    };
    let doubtful: Vec<usize> = (0..pages.len()).filter(is_doubtful).collect();
    let again: Vec<String> = doubtful.iter().map(|number| pages[*number].clone()).collect();
    for (number, visit) in
        doubtful.iter().zip(browser.visit(&again, 1, Duration::from_millis(1200)))
    {
        visits[*number] = visit;
    }
    let mut differences = Vec::new();
    for ((case, visit), expected) in shared.iter().zip(&visits).zip(&expected) {
        if !expected.is(visit) {
            differences.push(expected.difference(case, visit));
        }
    }
    (visits, differences)
}

#[test]
fn a_browser_asks_for_what_the_core_says_on_every_constructed_page() {
    let cases = site::constructed();
    let (visits, differences) = compare(cases.clone());
    if std::env::var_os("ACCEPT_PAGES").is_some() {
        site::write_table(&cases, &visits);
    }
    assert!(differences.is_empty(), "{} pages:\n{}", differences.len(), differences.join("\n"));
    // The table says what the browser did.
    let stale: BTreeSet<&str> = cases
        .iter()
        .zip(&visits)
        .filter(|(case, visit)| case.seen != Some(site::lines_of(visit)))
        .map(|(case, _)| case.name.as_str())
        .collect();
    assert!(stale.is_empty(), "the table says otherwise; ACCEPT_PAGES=1 writes it: {stale:?}");
    assert!(cases.len() >= 200);
}

#[test]
fn a_browser_asks_for_what_the_core_says_on_generated_pages() {
    let seed = std::env::var("PAGES_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or(1);
    let number = std::env::var("PAGES").ok().and_then(|number| number.parse().ok()).unwrap_or(200);
    let (_, differences) = compare(generated::pages(seed, number));
    assert!(differences.is_empty(), "{} pages:\n{}", differences.len(), differences.join("\n"));
}
