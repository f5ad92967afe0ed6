//! What was placed in a site, in words.

use super::{Page, Paint, Style};
use crate::typed::Typed;
use fernweh_flow::effect::Effect;
use fernweh_flow::run::{Close, PlacedReport};

/// What was done, for people.
pub fn placed_text(style: Style, report: &PlacedReport, what: &str, typed: &Typed) -> String {
    let mut page = Page::new(style);
    let files = match report.files.is_empty() {
        true => "a file that held nothing else and is removed".into(),
        false => report.files.join(" and "),
    };
    let site = &report.site;
    match (report.changed, report.removed) {
        (true, false) => page.row("placed", &format!("{what} of site {site} in {files}")),
        (true, true) => page.row("removed", &format!("{what} of site {site} from {files}")),
        (false, false) => page.row("unchanged", &format!("the {what} are there already ({files})")),
        (false, true) => page.row("unchanged", &format!("there are no {what} in site {site}")),
    }
    checked(&mut page, style, report);
    page.list("note", report.not_verified.iter().map(|why| format!("not checked: {why}")));
    page.list("note", report.notes.iter().cloned());
    if report.effects.iter().any(|effect| !effect.works) {
        page.arrow(
            0,
            "the web server does not follow the rules everywhere: it may not read .htaccess \
             (AllowOverride None), mod_rewrite may be missing, or a name may not lead to this site",
        );
    }
    page.gap();
    let undo = || format!("fernweh undo {site}");
    match (report.changed, report.works()) {
        (true, true) => page.row("undo", &undo()),
        (true, false) => {
            page.row("next", &format!("{}, or correct it and: {}", undo(), typed.again()))
        }
        (false, true) => page.row("next", "nothing is left to do here"),
        (false, false) => page.row("next", &typed.again()),
    }
    page.finish()
}

/// Whether a copy that nobody should find says so.
pub fn hidden(page: &mut Page, style: Style, effect: &Effect) {
    let word = match effect.works {
        true => style.paint(Paint::Good, "passed"),
        false => style.paint(Paint::Bad, "failed"),
    };
    let what = format!("{} → {}", effect.asked, effect.came);
    match effect.works {
        true => page.worded("hidden", word, 9, &what),
        false => {
            page.worded("hidden", word, 9, &format!("not hidden: {what}"));
            page.arrow(
                9,
                "the web server does not follow .htaccess here: send X-Robots-Tag: noindex in its \
                 configuration, or put a password in front of the site (login, password.login)",
            );
        }
    }
}

fn checked(page: &mut Page, style: Style, report: &PlacedReport) {
    let mut label = "checked";
    for effect in &report.effects {
        let word = match effect.works {
            true => style.paint(Paint::Good, "passed"),
            false => style.paint(Paint::Bad, "failed"),
        };
        page.worded(label, word, 9, &format!("{} → {}", effect.asked, effect.came));
        label = "";
    }
}

/// What became of an old site, for people.
pub fn closed_text(style: Style, report: &PlacedReport, how: &Close<'_>) -> String {
    let mut page = Page::new(style);
    let (site, by) = (&report.site, report.by.as_deref().unwrap_or_default());
    let what = match how {
        Close::LeadsTo(to) => format!("site {site} leads to {to}, by {by}"),
        Close::Notice(time) => {
            format!("site {site} shows a notice for {} min, by {by}", time.as_secs() / 60)
        }
    };
    page.row(if report.changed { "closed" } else { "unchanged" }, &what);
    checked(&mut page, style, report);
    page.list("note", report.notes.iter().cloned());
    if !report.works() {
        page.arrow(
            0,
            "what failed is answered by the web server itself (plain files, mostly): close these \
             addresses in its configuration, or remove them with the old site",
        );
    }
    page.gap();
    page.row("undo", &format!("fernweh undo {site}"));
    page.finish()
}
