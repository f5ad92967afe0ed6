//! Where texts live, in words.

use super::{Page, Paint, Style, count, counted, cut_middle, in_context, word};
use fernweh_core::trace::Form;
use fernweh_flow::trace::{Holder, TraceReport, Traced, TracedPlace};

/// Places shown of one text unless more detail is wanted.
const PLACES: usize = 5;

/// The command that traces these addresses.
pub fn trace_command(site: &str, addresses: &[&str]) -> String {
    let words: Vec<String> = addresses.iter().map(|address| word(address)).collect();
    format!("fernweh trace {site} {}", words.join(" "))
}

/// Each text and its places.
pub fn traced_places(page: &mut Page, style: Style, report: &TraceReport) {
    for traced in &report.texts {
        page.gap();
        page.exact(&format!("{}  {}", cut_middle(&traced.text, style.width - 28), number(traced)));
        let limit = if style.verbose { usize::MAX } else { PLACES };
        for place in traced.places.iter().take(limit) {
            page.exact(&format!("  {}", style.paint(Paint::Quiet, &traced_place(place))));
            let room = style.width.saturating_sub(15);
            let (lead, trail) = (&place.lead, &place.trail);
            page.exact(&format!("    {}", in_context(style, lead, &place.excerpt, trail, room)));
        }
        let more = traced.found.saturating_sub(limit.min(traced.places.len()) as u64);
        if more > 0 && !style.verbose {
            page.exact(&format!("  and {} more; -v shows them", count(more)));
        } else if more > 0 {
            page.exact(&format!("  and {} more", count(more)));
        }
        if traced.found == 0 {
            page.arrow(2, "created by the site's code, or it comes from another server");
        }
    }
}

fn number(traced: &Traced) -> String {
    match traced.found {
        0 => "not found".into(),
        found => counted(found, "place", "places"),
    }
}

/// A place in words.
pub fn traced_place(place: &TracedPlace) -> String {
    let holder = match &place.holder {
        Holder::Cell { table, record, column } => {
            format!("{table}, {record}, column {column}, position {}", count(place.position + 1))
        }
        Holder::Definition { object } => format!("the definition of {object}"),
        Holder::File { file, line } => format!("{file}, line {}", count(*line)),
    };
    let form = match place.form {
        Form::Same => "",
        Form::OtherScheme => ", with another scheme",
        Form::PathAlone => ", its path alone",
    };
    let spelled = if place.spelled == "plain" { "" } else { place.spelled };
    let spelled = if spelled.is_empty() { String::new() } else { format!(", spelled {spelled}") };
    format!("{holder}{form}{spelled}")
}
