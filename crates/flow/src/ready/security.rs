//! What the web server hands out that is nobody's business, and how it speaks to browsers.

use super::certificate::not_known;
use super::redirects::linked_folders;
use super::web::{Web, told};
use super::{Found, Looking, Looks, Topic};
use crate::outcome::Of;
use fernweh_core::page::{TextKind, decode, read_html};
use fernweh_ports::PageResponse;
use std::cell::RefCell;
use std::collections::BTreeSet;
use url::Url;

pub(super) struct Security;

const TOPIC: Topic = Topic::Security;

impl Looks for Security {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let Some(web) = &at.web else { return vec![not_known(at, TOPIC)] };
        let Ok(front) = web.front(&at.url) else {
            return vec![Found::failed(
                TOPIC,
                "not-looked-at",
                "not looked at: the first page does not answer",
                "see what is said of the redirects",
            )];
        };
        let mut found = Vec::new();
        if at.is_secure() {
            found.extend(strict(at, front));
            found.extend(cookies(at, front));
        }
        found.extend(mixed(at));
        found.extend(secrets(at, web));
        found.extend(listings(at, web));
        found
    }
}

/// Whether browsers are told to come over https only (RFC 6797).
fn strict(at: &Looking<'_>, front: &PageResponse) -> Option<Found> {
    let said = front.header("strict-transport-security").next();
    let seconds = said.and_then(|said| {
        let mut parts = said.split(';').map(str::trim);
        parts.find_map(|part| {
            let (name, value) = part.split_once('=')?;
            let value = value.trim().trim_matches('"');
            name.trim().eq_ignore_ascii_case("max-age").then(|| value.parse::<u64>().ok())?
        })
    });
    let evidence = format!("{}/ → Strict-Transport-Security: {}", at.url, said.unwrap_or("none"));
    let found = match seconds {
        Some(1..) => {
            Found::passed(TOPIC, "https-only", "browsers are told to come over https only")
        }
        // Before the switch nobody knows whether https will stay.
        _ if at.is_before() => return None,
        _ => Found::warned(
            TOPIC,
            "https-not-only",
            "browsers are not told to come over https only",
            "once https works for good, send the header line Strict-Transport-Security: \
             max-age=31536000",
        ),
    };
    Some(found.seen([evidence]))
}

fn cookies(at: &Looking<'_>, front: &PageResponse) -> Option<Found> {
    let open = front.header("set-cookie").find(|cookie| {
        !cookie.split(';').skip(1).any(|part| part.trim().eq_ignore_ascii_case("secure"))
    })?;
    let name = open.split('=').next().unwrap_or_default().trim();
    Some(
        Found::warned(
            TOPIC,
            "cookie-open",
            format!("the cookie {name} is also sent without encryption"),
            "let the site set its cookies with Secure",
        )
        .seen([format!("{}/ → Set-Cookie: {name}=…, without Secure", at.url)]),
    )
}

/// What the last scan found of mixed content.
fn mixed(at: &Looking<'_>) -> Option<Found> {
    let scan = at.outcome(Of::Scan).filter(|scan| scan.insecure > 0)?;
    let what = fernweh_ports::counted(scan.insecure, "insecure part", "insecure parts");
    Some(
        Found::warned(
            TOPIC,
            "mixed-content",
            format!("the last scan found {what} of pages (mixed content and the like)"),
            format!("fernweh scan {}", at.site.name()),
        )
        .seen([format!("scan of {}", scan.at)]),
    )
}

/// How a content shows that it is what its name says.
type Shows = fn(&str) -> bool;

/// Addresses that are no visitor's business, where the names of the site's files are not known.
const USUAL: [(&str, Shows); 9] = [
    (".env", |text| text.lines().any(|line| line.contains('=') && !line.contains('<'))),
    (".git/HEAD", |text| text.starts_with("ref:")),
    (".git/config", |text| text.contains("[core]")),
    (".htpasswd", |text| text.lines().next().is_some_and(|line| line.contains(":$"))),
    ("fernweh.toml", |text| text.contains("[site.")),
    (".fernweh/identity", |text| text.trim().len() == 20),
    ("backup.sql", is_sql),
    ("dump.sql", is_sql),
    ("database.sql", is_sql),
];

fn is_sql(text: &str) -> bool {
    ["CREATE TABLE", "INSERT INTO", "COPY "].iter().any(|word| text.contains(word))
}

/// Whether a name at the top of a site is one that is not to be handed out.
fn is_private(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let ends = [
        ".sql", ".sql.gz", ".sql.zst", ".sql.bz2", ".tar", ".tar.gz", ".tgz", ".zip", ".7z",
        ".rar", ".bak", ".old", ".orig", ".sqlite", ".sqlite3", ".db", ".log", ".toml", ".ini",
        ".yml", ".yaml",
    ];
    let begins = [".fernweh", ".env", ".git", ".ht"];
    begins.iter().any(|start| lower.starts_with(start))
        || ends.iter().any(|end| lower.ends_with(end))
        || lower.ends_with('~')
}

/// Names at the top of the site's folder, if that can be reached.
fn names(at: &Looking<'_>) -> Option<BTreeSet<String>> {
    let mut files = at.site.files().ok()??;
    let names = RefCell::new(BTreeSet::new());
    // Nothing is entered: what is asked about is all that is wanted.
    let note = |path: &[u8]| {
        names.borrow_mut().insert(String::from_utf8_lossy(path).into_owned());
        false
    };
    files.walk(&note, &mut |_| Ok(())).ok()?;
    Some(names.into_inner())
}

/// Files that the web server should refuse.
fn secrets(at: &Looking<'_>, web: &Web<'_>) -> Vec<Found> {
    let Ok(base) = Url::parse(&format!("{}/", at.url)) else { return Vec::new() };
    let there = names(at);
    let mut asked: Vec<(String, Option<Shows>)> =
        USUAL.iter().map(|(path, shows)| ((*path).to_owned(), Some(*shows))).collect();
    for name in there.iter().flatten().filter(|name| is_private(name)) {
        // What is there is handed out if it is handed out, whatever it holds.
        match asked.iter_mut().find(|(path, _)| path == name) {
            Some((_, shows)) => *shows = None,
            None => asked.push((name.clone(), None)),
        }
    }
    let mut open = Vec::new();
    for (path, shows) in &asked {
        let Ok(url) = base.join(path) else { continue };
        let fetched = web.beginning(&url);
        let Ok(answer) = &fetched else { break };
        let text = || String::from_utf8_lossy(&answer.body).into_owned();
        let is_page = answer.media_type == "text/html";
        let given = answer.status == 200
            && match shows {
                Some(shows) => !is_page && shows(&text()),
                // A site that has a page for every address hands nothing out.
                None => !is_page,
            };
        if given {
            open.push((path.clone(), told(&url, &fetched)));
        }
    }
    let number = fernweh_ports::counted(asked.len() as u64, "address", "addresses");
    if open.is_empty() {
        return vec![
            Found::passed(
                TOPIC,
                "nothing-open",
                "settings, archives and Fernweh's own folders are not handed out",
            )
            .seen([format!("{number} below {base} asked for, none handed out")]),
        ];
    }
    let found = open.into_iter().map(|(path, evidence)| {
        Found::failed(
            TOPIC,
            "handed-out",
            format!("the web server hands out {path} to everybody"),
            "move it out of the site's folder, or forbid it in the web server; if it holds \
             passwords, change them",
        )
        .seen([evidence])
    });
    found.collect()
}

/// Folders whose content the web server lists.
fn listings(at: &Looking<'_>, web: &Web<'_>) -> Option<Found> {
    let folders = linked_folders(at, web);
    let listed = folders.iter().find_map(|url| {
        let fetched = web.page(url);
        let answer = fetched.as_ref().ok().filter(|answer| answer.status == 200)?;
        let text = decode(&answer.body, answer.charset.as_deref(), TextKind::Html);
        let title = read_html(&text.text, false).title;
        title.starts_with("Index of").then(|| (url.clone(), told(url, &fetched)))
    });
    let (url, evidence) = listed?;
    Some(
        Found::warned(
            TOPIC,
            "listing",
            format!("the web server lists what is in {url}"),
            "switch listings off: Options -Indexes (Apache), autoindex off (nginx)",
        )
        .seen([evidence]),
    )
}
