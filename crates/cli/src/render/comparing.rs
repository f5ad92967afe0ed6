//! What differs between two sites, in words.

use super::{
    LABEL, Page, Paint, Style, count, counted, counts, cut_alike, cut_middle, duration, size,
};
use fernweh_flow::compare::{
    CompareReport, DatabaseDifferences, FileDifferences, PageDifference, PageDifferences,
    TableDifferences, What,
};

/// The verdict in a few words.
pub fn compare_in_short(report: &CompareReport) -> String {
    if report.identical {
        return "identical".into();
    }
    let mut parts = Vec::new();
    if let Some(database) = &report.database {
        let of = |number: fn(&TableDifferences) -> u64| database.differing.iter().map(number).sum();
        parts.extend(counts(&[
            (database.objects.len() as u64, "object", "objects"),
            (
                of(|table| table.changed + table.missing + table.extra + table.untold),
                "record",
                "records",
            ),
        ]));
    }
    if let Some(files) = &report.files {
        let others = files.missing + files.extra + files.others;
        parts.extend(counts(&[(files.content + others, "file", "files")]));
    }
    if let Some(pages) = &report.pages {
        parts.extend(counts(&[(pages.differing, "page", "pages")]));
    }
    if let [one] = parts.as_slice()
        && one.starts_with("1 ")
    {
        return format!("{one} differs");
    }
    if !parts.is_empty() {
        return format!("{} differ", parts.join(", "));
    }
    let not_compared = |all: &[(String, String)]| all.len() as u64;
    let files = report.files.as_ref().map_or(0, |files| not_compared(&files.not_compared));
    let pages = report.pages.as_ref().map_or(0, |pages| not_compared(&pages.not_compared));
    counts(&[
        (files, "file not compared", "files not compared"),
        (pages, "page not compared", "pages not compared"),
    ])
    .join(", ")
}

/// What differs, for people; `again` compares once more.
pub fn compared(style: Style, report: &CompareReport, again: &str) -> String {
    let mut page = Page::new(style);
    let paint = if report.identical { Paint::Good } else { Paint::Doubt };
    let verdict = style.paint(paint, &compare_in_short(report));
    page.row("compared", &format!("site {} with {}: {verdict}", report.from, report.to));
    let read = what_was_read(report).join(", ");
    page.row("read", &format!("{read}, in {}", duration(report.seconds)));
    if let Some(found) = &report.database {
        database(&mut page, style, found);
    }
    if let Some(found) = &report.files {
        files(&mut page, style, found);
    }
    if let Some(found) = &report.pages {
        pages(&mut page, style, report, found);
    }
    page.gap();
    match report.identical {
        true => page.row("next", "nothing is left to do here"),
        false => page.row("next", &format!("correct what differs, then: {again}")),
    }
    page.finish()
}

/// What was looked at, in numbers.
pub fn what_was_read(report: &CompareReport) -> Vec<String> {
    let mut read = Vec::new();
    if let Some(database) = &report.database {
        read.extend(counts(&[
            (database.tables, "table", "tables"),
            (database.records, "record", "records"),
        ]));
    }
    if let Some(files) = &report.files {
        read.extend(counts(&[(files.entries, "file or folder", "files and folders")]));
        read.push(size(files.bytes));
    }
    if let Some(pages) = &report.pages {
        read.extend(counts(&[
            (pages.pages, "page", "pages"),
            (pages.pictures, "picture", "pictures"),
        ]));
    }
    read
}

fn database(page: &mut Page, style: Style, found: &DatabaseDifferences) {
    for (table, one, other) in &found.set_apart {
        page.row(
            "set apart",
            &format!(
                "{table}: {} and {}; its rows differ by nature",
                counted(*one, "record", "records"),
                count(*other)
            ),
        );
    }
    page.list(
        "note",
        found.not_at_one_moment.iter().map(|table| {
            format!("{table} is not read at one moment; what is written meanwhile may show")
        }),
    );
    if !found.objects.is_empty() {
        page.gap();
        page.list(
            "structure",
            found.objects.iter().map(|it| format!("{:<8} {}", it.what, it.object)),
        );
    }
    for table in &found.differing {
        page.gap();
        let parts = counts(&[
            (table.changed, "changed", "changed"),
            (table.missing, "missing", "missing"),
            (table.extra, "extra", "extra"),
            (table.untold, "more that differ", "more that differ"),
        ]);
        page.row(
            "records",
            &format!("{}: {}; {} the same", table.table, parts.join(", "), count(table.same)),
        );
        let shown = if style.verbose { usize::MAX } else { 5 };
        for example in table.examples.iter().take(shown) {
            let word = match example.what {
                What::Changed => "changed",
                What::Missing => "missing",
                What::Extra => "extra",
            };
            page.exact(&format!("  {word:<8} {}", example.record));
            for (column, expected, there) in &example.cells {
                let room = style.width.saturating_sub(LABEL + 6 + column.len());
                let (expected, there) = cut_alike(expected, there, room);
                page.exact(&format!("    {column} {expected}"));
                page.exact(&format!("    {:>1$} {there}", "→", column.len()));
            }
        }
    }
}

fn files(page: &mut Page, style: Style, found: &FileDifferences) {
    for path in &found.settings {
        page.row("set apart", &format!("{path}: only its connection settings differ"));
    }
    if found.times + found.owners > 0 {
        let parts = counts(&[
            (found.times, "file has another time", "files have another time"),
            (found.owners, "entry has another owner", "entries have another owner"),
        ]);
        page.row("set apart", &parts.join(", "));
    }
    if found.is_empty() {
        return;
    }
    page.gap();
    let parts = counts(&[
        (found.content, "with other content", "with other content"),
        (found.missing, "missing", "missing"),
        (found.extra, "extra", "extra"),
        (
            found.others,
            "of another kind or with other permissions",
            "of another kind or with other permissions",
        ),
        (found.not_compared.len() as u64, "not compared", "not compared"),
    ]);
    page.row("files", &parts.join(", "));
    let shown = if style.verbose { usize::MAX } else { 10 };
    for example in found.examples.iter().take(shown) {
        let line = format!("  {:<8} {} {}", example.what, example.path, example.detail);
        page.exact(&cut_middle(line.trim_end(), style.width.saturating_sub(LABEL)));
    }
    for (path, because) in found.not_compared.iter().take(shown) {
        page.exact(&format!("  {path}: {because}"));
    }
}

/// Kinds of differences that are shown of pages, unless all are wanted.
const SHOWN: usize = 12;

fn pages(page: &mut Page, style: Style, report: &CompareReport, found: &PageDifferences) {
    page.gap();
    if found.changing > 0 {
        let pages = counted(found.changing, "page has", "pages have");
        page.row("set apart", &format!("{pages} parts that change at every visit"));
    }
    let [first, second] =
        [found.first_byte, found.second_byte].map(|ms| format!("{} ms", count(ms)));
    let (from, to) = (&report.from, &report.to);
    page.row("answers", &format!("begin after {first} at {from}, {second} at {to}"));
    for slower in &found.slower {
        let [first, second] = [slower.first, slower.second].map(count);
        page.more(&format!("{}: {first} → {second} ms", slower.page));
    }
    if found.is_empty() {
        return;
    }
    let mut parts = Vec::new();
    if found.differing > 0 {
        let verb = if found.differing == 1 { "differs" } else { "differ" };
        parts.push(format!("{} of {} {verb}", count(found.differing), count(found.pages)));
    }
    let left = found.not_compared.len() as u64;
    parts.extend(counts(&[(left, "not compared", "not compared")]));
    page.row("pages", &parts.join(", "));
    let shown = if style.verbose { usize::MAX } else { SHOWN };
    let width = from.chars().count().max(to.chars().count());
    for it in found.differences.iter().take(shown) {
        page.exact(&cut_middle(
            &format!("  {:<8} {}", it.what, places(it)),
            style.width.saturating_sub(LABEL),
        ));
        let text =
            |text: &'_ str| if text.is_empty() { "(none)".to_owned() } else { text.to_owned() };
        let room = style.width.saturating_sub(LABEL + 5 + width);
        let (expected, there) = cut_alike(&text(&it.expected), &text(&it.there), room);
        for (side, text) in [(from, expected), (to, there)] {
            page.exact(&format!("    {side:<width$} {text}"));
        }
    }
    let more = found.differences.len().saturating_sub(shown) as u64 + found.more;
    if more > 0 {
        page.exact(&format!(
            "  and {}; all of them: -v, or --report FILE.html",
            counted(more, "more", "more")
        ));
    }
    for (path, because) in found.not_compared.iter().take(shown) {
        page.exact(&format!("  {path}: {because}"));
    }
}

/// The pages on which something differs: the first of them, and how many more.
pub fn places(it: &PageDifference) -> String {
    let first = it.examples.first().map_or("", String::as_str);
    match it.pages.saturating_sub(1) {
        0 => first.to_owned(),
        more => format!("{first} and {}", counted(more, "more page", "more pages")),
    }
}
