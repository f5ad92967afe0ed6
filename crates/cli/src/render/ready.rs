//! Whether a site is ready, in words.

use super::{LABEL, Page, Paint, Style, count, counted, counts, duration, moment};
use crate::typed::Typed;
use fernweh_core::finding::Verdict;
use fernweh_flow::ready::{Found, Question, ReadyReport, Step, StepState, Topic, WatchReport};

/// The verdict in a few words.
pub fn ready_in_short(report: &ReadyReport) -> String {
    match (report.question, report.ready) {
        (Question::Before, true) => "the domain can be switched".into(),
        (Question::Before, false) => "the domain cannot be switched yet".into(),
        (Question::After, true) => "the switch has arrived".into(),
        (Question::After, false) => "the switch has not arrived yet".into(),
    }
}

fn label(topic: Topic) -> &'static str {
    match topic {
        // The column of labels is narrower than the word.
        Topic::Certificate => "https",
        other => other.name(),
    }
}

/// What was found, for people.
pub fn ready_text(style: Style, report: &ReadyReport, typed: &Typed) -> String {
    let mut page = Page::new(style);
    let paint = if report.ready { Paint::Good } else { Paint::Bad };
    let numbers = counts(&[
        (report.count(Verdict::Failed), "failed", "failed"),
        (report.count(Verdict::Warned), "warned", "warned"),
        (report.count(Verdict::Passed), "passed", "passed"),
    ]);
    page.row("site", &format!("{} {}", report.site, report.url));
    if let Some(from) = &report.from {
        page.row("from", &format!("site {from}"));
    }
    if report.hidden {
        page.row("hidden", "search engines are to be kept out");
    }
    page.row("ready", &style.paint(paint, &ready_in_short(report)));
    page.more(&format!("{}, in {}", numbers.join(", "), duration(report.seconds)));
    page.list("note", report.notes.iter().cloned());
    for topic in Topic::ALL {
        let of_topic = report.checks.iter().filter(|found| found.check == topic);
        let mut name = label(topic);
        for found in of_topic {
            if !name.is_empty() {
                page.gap();
            }
            check(&mut page, style, name, found);
            name = "";
        }
    }
    steps(&mut page, style, &report.steps);
    page.gap();
    page.row("next", &next(report, typed));
    page.finish()
}

/// Columns of the word that says how a check ended.
const WORD: usize = 9;

fn check(page: &mut Page, style: Style, label: &str, found: &Found) {
    let paint = match found.verdict {
        Verdict::Passed => Paint::Good,
        Verdict::Warned => Paint::Doubt,
        Verdict::Failed => Paint::Bad,
    };
    page.worded(label, style.paint(paint, found.verdict.name()), WORD, &found.what);
    if found.verdict != Verdict::Passed || style.verbose {
        for line in &found.evidence {
            let room = style.width.saturating_sub(LABEL + WORD);
            for part in super::wrapped(line, room) {
                page.exact(&format!("{:WORD$}{}", "", style.paint(Paint::Quiet, &part)));
            }
        }
    }
    if let Some(hint) = &found.hint {
        page.arrow(WORD, hint);
    }
}

fn steps(page: &mut Page, style: Style, steps: &[Step]) {
    let mut label = "steps";
    let wide = steps.iter().map(|step| step.step.chars().count()).max().unwrap_or(0) + 2;
    for step in steps {
        if !label.is_empty() {
            page.gap();
        }
        let (paint, word) = match step.state {
            StepState::Open => (Paint::Doubt, "to do"),
            StepState::Done | StepState::Seen => (Paint::Good, "done"),
        };
        let what = match (&step.since, step.state) {
            (Some(at), StepState::Done) => format!("{} (said {})", step.what, moment(at)),
            (Some(at), StepState::Seen) => format!("{} (seen {})", step.what, moment(at)),
            _ => step.what.clone(),
        };
        let name = format!("{:<1$}", step.step, wide);
        let head = format!("{}{}{name}", style.paint(paint, word), " ".repeat(WORD - word.len()));
        page.worded(label, head, WORD + wide, &what);
        label = "";
    }
}

fn next(report: &ReadyReport, typed: &Typed) -> String {
    let again = typed.again();
    let open = report.steps.iter().filter(|step| step.state == StepState::Open).count() as u64;
    let steps = counted(open, "step is", "steps are");
    let name = &report.site;
    match (report.question, report.ready) {
        (_, false) => format!("correct what failed, then: {again}"),
        (Question::Before, true) => {
            let from = report.from.as_ref().map(|from| format!(" --from {from}"));
            let from = from.unwrap_or_default();
            format!("change the records of the domain, then: fernweh ready {name}{from} --watch")
        }
        (Question::After, true) if open > 0 => {
            format!("{steps} open; when one is done: fernweh ready {name} --done STEP")
        }
        (Question::After, true) => "nothing is left to do here".into(),
    }
}

/// What a watch came to, for people.
pub fn watched_text(
    style: Style,
    report: &WatchReport,
    from: Option<&str>,
    typed: &Typed,
) -> String {
    let mut page = Page::new(style);
    let (paint, word) = match report.arrived {
        true => (Paint::Good, "the switch has arrived"),
        false => (Paint::Bad, "the switch has not arrived yet"),
    };
    let servers = counted(report.answers.len() as u64, "server", "servers");
    page.row("watched", &format!("site {}: {}", report.site, style.paint(paint, word)));
    let looks = counted(report.looks, "time", "times");
    page.more(&format!("{servers} asked {looks}, within {}", duration(report.seconds as f64)));
    page.gap();
    let mut label = "answers";
    for answer in &report.answers {
        let word = match answer.new {
            true => style.paint(Paint::Good, "new"),
            false => style.paint(Paint::Bad, "old"),
        };
        let more = match answer.seconds.filter(|_| !answer.new) {
            Some(seconds) => format!(", for {} s at most", count(seconds.into())),
            None => String::new(),
        };
        page.worded(label, word, 5, &format!("{}: {}{more}", answer.server, answer.said));
        label = "";
    }
    page.gap();
    let from = from.map(|from| format!(" --from {from}")).unwrap_or_default();
    page.row(
        "next",
        &match report.arrived {
            true => format!("fernweh ready {}{from}", report.site),
            false => typed.again(),
        },
    );
    page.finish()
}
