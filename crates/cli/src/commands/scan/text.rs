//! A scan on a terminal: one screen that answers, then the details.

use crate::context::Context;
use crate::render::{
    LABEL, Page, Paint, Style, aligned, count, counted, counts, cut_middle, duration,
    scan_in_short, within_site, wrapped,
};
use crate::site::Site;
use fernweh_core::finding::{Code, Finding, Severity};
use fernweh_flow::scan::{ScanReport, Since, Total};
use std::collections::BTreeSet;
use url::Url;

/// Findings of one kind that are shown unless more detail is wanted.
const FINDINGS: usize = 8;
/// Places that are shown of one finding unless more detail is wanted.
const PLACES: usize = 3;

/// The whole page.
pub fn page(
    context: &Context,
    site: &Site,
    report: &ScanReport,
    since: Option<&Since>,
    traced: bool,
) -> String {
    let style = context.style;
    let mut page = Page::new(style);
    // Pages of the site are shown by their path; the first line says of which site.
    let origin = Url::parse(&report.start)
        .map_or_else(|_| String::new(), |url| url.origin().ascii_serialization());
    let bad = report.of(Severity::Broken).findings + report.of(Severity::Insecure).findings;
    let paint = match (bad, report.is_fine(None)) {
        (0, true) => Paint::Good,
        (0, false) => Paint::Doubt,
        _ => Paint::Bad,
    };
    let verdict = style.paint(paint, &scan_in_short(report));
    page.row("scanned", &format!("{}: {verdict}", report.start));
    looked_at(&mut page, report, &origin);
    page.gap();
    overview(&mut page, style, report);
    if let Some(since) = since {
        page.gap();
        changed(&mut page, since, &origin);
    }
    for code in Code::ALL {
        let found: Vec<&Finding> = report.findings.iter().filter(|f| f.code == code).collect();
        if !found.is_empty() {
            page.gap();
            findings(&mut page, style, code, &found, report.of_code(code), since, &origin);
        }
    }
    page.gap();
    next(&mut page, context, site, report, traced);
    page.finish()
}

fn looked_at(page: &mut Page, report: &ScanReport, origin: &str) {
    page.row(
        "read",
        &format!(
            "{}, {} of pages, in {}",
            counted(report.pages, "page", "pages"),
            counted(report.resources, "part", "parts"),
            duration(report.seconds)
        ),
    );
    if report.external > 0 {
        page.more(&format!("{} to other hosts checked", counted(report.external, "link", "links")));
    }
    if report.external_skipped > 0 {
        page.more(&format!(
            "{} to other hosts not checked",
            counted(report.external_skipped, "link", "links")
        ));
    }
    if report.robots_skipped > 0 {
        page.row(
            "skipped",
            &format!(
                "{} that robots.txt closes to robots; --whole reads them",
                counted(report.robots_skipped, "address", "addresses")
            ),
        );
    }
    if report.not_followed_total > 0 {
        let shown: Vec<&str> = report.not_followed.iter().take(3).map(String::as_str).collect();
        let more = report.not_followed_total.saturating_sub(shown.len() as u64);
        let more = if more > 0 { format!(" and {} more", count(more)) } else { String::new() };
        let shown = within_site(&shown.join(", "), origin);
        page.row("skipped", &format!("{shown}{more}: such links log out or delete"));
    }
    for endless in &report.endless {
        page.row(
            "cut off",
            &format!(
                "{}: {} read, all nearly the same; {} left out, the first is {}",
                endless.shape,
                counted(endless.read, "page", "pages"),
                count(endless.left),
                within_site(&endless.example, origin)
            ),
        );
    }
    for limit in &report.limits {
        let how = match &*limit.limit {
            "pages" | "sheets" => "the number of pages is bounded; raise it with --max-pages",
            "depth" => {
                "the number of links from the first page is bounded; raise it with --max-depth"
            }
            "minutes" => "the time is bounded; raise it with --max-minutes",
            "links" => "no link leads on from this page: no other page was looked at",
            "size" => "this page is larger than 16 MB; its end was not read",
            "silence" => "the site stopped to answer; try again later, or with --gently",
            "imports" => "style sheets or scripts import each other too deeply",
            _ => "there are too many addresses",
        };
        let left = match limit.left {
            0 => String::new(),
            left => format!("{} not read: ", counted(left, "address", "addresses")),
        };
        page.row("limit", &format!("{left}{how}"));
        if limit.limit != "links" {
            page.more(&format!("the first is {}", within_site(&limit.at, origin)));
        }
    }
    if report.interrupted {
        page.row(
            "stopped",
            "the scan was interrupted; this is what it had found. It goes on when typed again",
        );
    }
}

/// What there is of each kind, by weight.
fn overview(page: &mut Page, style: Style, report: &ScanReport) {
    let mut rows = Vec::new();
    let mut labels = Vec::new();
    for severity in Severity::ALL {
        let mut label = severity.name();
        for code in Code::ALL {
            let of = report.findings.iter().find(|f| f.code == code && f.severity == severity);
            let total = report.of_code(code);
            if of.is_none() || total.findings == 0 {
                continue;
            }
            labels.push((label, severity));
            label = "";
            let mut words = code.words().to_owned();
            if total.occurrences > total.findings {
                words.push_str(&format!(", at {}", counted(total.occurrences, "place", "places")));
            }
            rows.push(vec![count(total.findings), words]);
        }
    }
    for ((label, severity), line) in labels.into_iter().zip(aligned(&rows, &[0])) {
        page.row(&style.paint(paint_of(severity), label), &line);
    }
}

fn paint_of(severity: Severity) -> Paint {
    match severity {
        Severity::Broken | Severity::Insecure => Paint::Bad,
        Severity::Warning => Paint::Doubt,
        Severity::Note => Paint::Quiet,
    }
}

fn changed(page: &mut Page, since: &Since, origin: &str) {
    let parts = counts(&[
        (since.new.len() as u64, "new finding", "new findings"),
        (since.still, "still there", "still there"),
        (since.repaired.len() as u64, "repaired", "repaired"),
    ]);
    let parts = if parts.is_empty() { "no difference".to_owned() } else { parts.join(", ") };
    page.row("since", &parts);
    for finding in since.repaired.iter().take(FINDINGS) {
        let address = within_site(&finding.address, origin);
        page.more(&format!("repaired: {} {address}", finding.code.name()));
    }
    if since.repaired.len() > FINDINGS {
        page.more(&format!("and {} more", count((since.repaired.len() - FINDINGS) as u64)));
    }
}

fn findings(
    page: &mut Page,
    style: Style,
    code: Code,
    found: &[&Finding],
    total: Total,
    since: Option<&Since>,
    origin: &str,
) {
    let new: BTreeSet<&str> =
        since.map(|since| since.new.iter().map(String::as_str).collect()).unwrap_or_default();
    let name = style.paint(paint_of(code.severity()), code.name());
    page.exact(&format!("{name}  {}", code.words()));
    let room = style.width.saturating_sub(LABEL + 2);
    let shown = if style.verbose { usize::MAX } else { FINDINGS };
    for finding in found.iter().take(shown) {
        let mark = if new.contains(&*finding.id) { "new: " } else { "" };
        let address = within_site(&finding.address, origin);
        page.exact(&format!("  {}", cut_middle(&format!("{mark}{address}"), room)));
        if !finding.detail.is_empty() {
            let room = style.width.saturating_sub(LABEL + 4);
            for line in wrapped(&within_site(&finding.detail, origin), room) {
                page.exact(&format!("    {line}"));
            }
        }
        places(page, style, finding, origin);
    }
    let more = total.findings.saturating_sub(found.len().min(shown) as u64);
    if more > 0 {
        let how = if style.verbose { "--json and --csv have" } else { "-v shows" };
        page.exact(&format!("  and {} more; {how} them", count(more)));
    }
    page.arrow(2, code.remedy());
}

fn places(page: &mut Page, style: Style, finding: &Finding, origin: &str) {
    let shown = if style.verbose { usize::MAX } else { PLACES };
    let room = style.width.saturating_sub(LABEL + 4);
    for spot in finding.places.iter().take(shown) {
        if spot.element == "page" {
            let place = cut_middle(&within_site(&spot.page, origin), room);
            if place != within_site(&finding.address, origin) {
                page.exact(&format!("    {}", style.paint(Paint::Quiet, &place)));
            }
            continue;
        }
        let at = format!("{}:{} {}", spot.line, spot.column, spot.element);
        let place = match &spot.sheet {
            Some(sheet) => format!("{sheet} {at}, used by {}", spot.page),
            None => format!("{} {at}", spot.page),
        };
        let place = cut_middle(&within_site(&place, origin), room);
        page.exact(&format!("    {}", style.paint(Paint::Quiet, &place)));
    }
    let more = finding.occurrences.saturating_sub(finding.places.len().min(shown) as u64);
    if more > 0 && !finding.places.is_empty() {
        let pages = match finding.pages {
            1 => "on the same page".to_owned(),
            pages => format!("on {} in all", counted(pages, "page", "pages")),
        };
        page.exact(&format!("    and {} more, {pages}", counted(more, "place", "places")));
    }
}

fn next(page: &mut Page, context: &Context, site: &Site, report: &ScanReport, traced: bool) {
    if site.can_be_traced() && !traced && report.findings.iter().any(Finding::is_of_content) {
        page.row(
            "where",
            &format!("fernweh scan {} --trace names the records and files", site.name),
        );
    }
    if report.interrupted {
        page.row("next", &context.typed.again());
        return;
    }
    match report.counts.contains_key(Code::OldAddress.name()) {
        true => page.row("next", &format!("fernweh rewrite {}", site.name)),
        false if report.is_fine(None) => page.row("next", "nothing is left to do here"),
        false if report.findings.is_empty() => {
            page.row("next", "raise the limit, and scan again");
        }
        false => page.row("next", &format!("fix what is broken, then: {}", context.typed.again())),
    }
}
