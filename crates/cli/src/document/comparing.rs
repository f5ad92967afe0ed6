//! What differs between two sites as a document.

use super::{Document, Item, Section, Shown, count, made};
use crate::render::{compare_in_short, places, what_was_read};
use fernweh_flow::compare::{
    CompareReport, DatabaseDifferences, FileDifferences, PageDifferences, What,
};

/// A comparison: the verdict, then what differs, part by part.
pub fn of_comparing(report: &CompareReport) -> Document {
    let (from, to) = (&report.from, &report.to);
    let verdict = compare_in_short(report);
    let headline = match report.identical {
        true => format!("{from} and {to} are identical in all that was looked at"),
        false => format!("{from} and {to}: {verdict}"),
    };
    let mut facts = vec![("looked at", what_was_read(report).join(", "))];
    let mut sections = Vec::new();
    if let Some(found) = &report.database {
        let apart = found.set_apart.iter().map(|(table, one, other)| {
            ("set apart", format!("{table}: {} and {} records", count(*one), count(*other)))
        });
        facts.extend(apart);
        sections.extend(of_database(found));
    }
    if let Some(found) = &report.files {
        let settings = found.settings.iter();
        facts.extend(
            settings
                .map(|path| ("set apart", format!("{path}: only its connection settings differ"))),
        );
        sections.extend(of_files(found));
    }
    if let Some(found) = &report.pages {
        let begin = format!(
            "begin after {} ms at {from}, {} ms at {to}",
            count(found.first_byte),
            count(found.second_byte)
        );
        facts.push(("answers", begin));
        if found.changing > 0 {
            facts.push((
                "set apart",
                format!("parts of {} pages that change at every visit", count(found.changing)),
            ));
        }
        sections.extend(of_pages(found));
    }
    sections
        .retain(|part| !(part.rows.is_empty() && part.items.is_empty() && part.samples.is_empty()));
    Document {
        title: format!("Comparison of {from} and {to}"),
        headline,
        facts,
        sections,
        made: made(),
    }
}

fn of_database(found: &DatabaseDifferences) -> Vec<Section> {
    let objects = Section {
        title: "Structure".into(),
        weight: "broken",
        head: vec!["what", "object"],
        rows: found.objects.iter().map(|it| vec![it.what.to_owned(), it.object.clone()]).collect(),
        ..Section::default()
    };
    let row = |table: &fernweh_flow::compare::TableDifferences| {
        let numbers = [table.changed, table.missing, table.extra, table.untold, table.same];
        std::iter::once(table.table.clone()).chain(numbers.map(count)).collect()
    };
    let records = Section {
        title: "Records".into(),
        weight: "broken",
        head: vec!["table", "#changed", "#missing", "#extra", "#more", "#the same"],
        rows: found.differing.iter().map(row).collect(),
        samples: found.differing.iter().flat_map(changed_cells).collect(),
        items: found.differing.iter().flat_map(lone_records).collect(),
        ..Section::default()
    };
    vec![objects, records]
}

fn changed_cells(table: &fernweh_flow::compare::TableDifferences) -> Vec<Shown> {
    let each = table.examples.iter().flat_map(|record| {
        let place = format!("{}, {}", table.table, record.record);
        record.cells.iter().map(move |(column, expected, there)| Shown {
            place: format!("{place}, {column}"),
            ..shown(expected, there)
        })
    });
    each.collect()
}

fn lone_records(table: &fernweh_flow::compare::TableDifferences) -> Vec<Item> {
    let word = |what: What| if what == What::Missing { "missing" } else { "extra" };
    let lone = table.examples.iter().filter(|record| record.what != What::Changed);
    let item = |record: &fernweh_flow::compare::Record| Item {
        title: format!("{}, {}", table.table, record.record),
        lines: vec![word(record.what).to_owned()],
    };
    lone.map(item).collect()
}

fn of_files(found: &FileDifferences) -> Vec<Section> {
    let row = |it: &fernweh_flow::compare::FileDifference| {
        vec![it.what.to_owned(), it.path.clone(), it.detail.clone()]
    };
    let number = found.missing + found.extra + found.content + found.others;
    let differing = Section {
        title: format!("Files ({})", count(number)),
        weight: "broken",
        head: vec!["what", "path", "detail"],
        rows: found.examples.iter().map(row).collect(),
        ..Section::default()
    };
    vec![differing, not_compared("Files that could not be compared", &found.not_compared)]
}

fn of_pages(found: &PageDifferences) -> Vec<Section> {
    let mut sections: Vec<Section> = Vec::new();
    for it in &found.differences {
        let title = title_of(it.what);
        if sections.last().is_none_or(|last| last.title != title) {
            sections.push(Section { title: title.into(), weight: "broken", ..Section::default() });
        }
        if let Some(section) = sections.last_mut() {
            section.samples.push(Shown { place: places(it), ..shown(&it.expected, &it.there) });
        }
    }
    let slower = Section {
        title: "Slower pages".into(),
        weight: "warning",
        head: vec!["page", "#before, ms", "#now, ms"],
        rows: found
            .slower
            .iter()
            .map(|it| vec![it.page.clone(), count(it.first), count(it.second)])
            .collect(),
        ..Section::default()
    };
    sections.push(not_compared("Pages that could not be compared", &found.not_compared));
    sections.push(slower);
    sections
}

fn title_of(what: &str) -> &'static str {
    match what {
        "status" => "Pages that answer differently",
        "redirect" => "Redirects",
        "type" => "Types of content",
        "header" => "Headers",
        "title" => "Titles",
        "heading" => "Headings",
        "text" => "Texts",
        "link" => "Links",
        "picture" => "Pictures",
        _ => "Other content",
    }
}

fn not_compared(title: &str, all: &[(String, String)]) -> Section {
    let item = |(path, because): &(String, String)| Item {
        title: path.clone(),
        lines: vec![because.clone()],
    };
    Section {
        title: title.into(),
        weight: "warning",
        items: all.iter().map(item).collect(),
        ..Section::default()
    }
}

/// Two texts, with what they have in common around the part that differs.
fn shown(expected: &str, there: &str) -> Shown {
    let text = |text: &str| if text.is_empty() { "(none)".to_owned() } else { text.to_owned() };
    let (a, b) = (text(expected), text(there));
    let same = |a: &mut dyn Iterator<Item = char>, b: &mut dyn Iterator<Item = char>| {
        a.zip(b).take_while(|(a, b)| a == b).map(|(a, _)| a.len_utf8()).sum::<usize>()
    };
    let lead = same(&mut a.chars(), &mut b.chars());
    let trail = same(&mut a[lead..].chars().rev(), &mut b[lead..].chars().rev());
    Shown {
        place: String::new(),
        lead: a[..lead].to_owned(),
        before: a[lead..a.len() - trail].to_owned(),
        after: b[lead..b.len() - trail].to_owned(),
        trail: a[a.len() - trail..].to_owned(),
    }
}
