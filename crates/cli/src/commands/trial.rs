//! `fernweh rewrite --try`: one value, and what each rule does to it.

use crate::context::Context;
use crate::exit::DONE;
use crate::render::{Page, Paint, Style, in_context};
use fernweh_core::rewrite::{Matches, Reason, Rewriter, readable, surroundings};
use fernweh_ports::{Result, Trouble};
use schemars::JsonSchema;
use serde::Serialize;
use std::io::Read;
use std::ops::Range;

/// Bytes of what surrounds a change.
const CONTEXT: usize = 60;

/// What happened to one value.
#[derive(Serialize, JsonSchema)]
pub struct Trial {
    before: String,
    after: String,
    changes: Vec<Change>,
    left: Vec<LeftHere>,
    untouched: Vec<String>,
}

/// One replacement.
#[derive(Serialize, JsonSchema)]
struct Change {
    rule: Option<usize>,
    spelled: String,
    before: String,
    after: String,
}

/// An old address that stays.
#[derive(Serialize, JsonSchema)]
struct LeftHere {
    rule: Option<usize>,
    reason: Reason,
    text: String,
}

/// Tries the rules on a value.
pub fn run(context: &Context, rewriter: &Rewriter, value: &str) -> Result<u8> {
    let value = match value {
        "-" => {
            let mut bytes = Vec::new();
            std::io::stdin().read_to_end(&mut bytes).map_err(|error| {
                Trouble::usage("cannot read the value from standard input").because(error)
            })?;
            bytes
        }
        text => text.as_bytes().to_vec(),
    };
    let (found, other) = rewriter.explain(&value);
    context.print(
        &trial(&value, &found, &other),
        &text(context.style, rewriter, &value, &found, &other),
    );
    Ok(DONE)
}

fn trial(value: &[u8], found: &Matches, other: &[Range<usize>]) -> Trial {
    let text = |range: &Range<usize>| readable(&value[range.clone()]);
    let changes = found.edits.iter().map(|edit| Change {
        rule: edit.replaced.map(|(rule, _)| rule + 1),
        spelled: edit.replaced.map_or("length".into(), |(_, spelling)| spelling.to_string()),
        before: text(&edit.range),
        after: readable(&edit.text),
    });
    let left = found.left.iter().map(|left| LeftHere {
        rule: left.rule.map(|rule| rule + 1),
        reason: left.reason,
        text: text(&left.range),
    });
    Trial {
        before: String::from_utf8_lossy(value).into_owned(),
        after: String::from_utf8_lossy(&found.apply(value)).into_owned(),
        changes: changes.collect(),
        left: left.collect(),
        untouched: other.iter().map(text).collect(),
    }
}

fn text(
    style: Style,
    rewriter: &Rewriter,
    value: &[u8],
    found: &Matches,
    other: &[Range<usize>],
) -> String {
    let mut page = Page::new(style);
    let room = style.width - 11;
    page.row("tried", "one value; nothing was changed");
    let rules = rewriter.rules().iter().enumerate();
    page.list("rules", rules.map(|(n, rule)| format!("{}  {} → {}", n + 1, rule.from, rule.to)));
    page.gap();
    let mut label = "changes";
    for edit in &found.edits {
        let (lead, trail) = surroundings(value, edit.range.clone(), CONTEXT);
        let why = match edit.replaced {
            Some((rule, spelling)) => format!("rule {}, {spelling}", rule + 1),
            None => "a length in a serialized value".into(),
        };
        page.row(label, &style.paint(Paint::Quiet, &why));
        label = "";
        let line = |text: &str| in_context(style, &lead, text, &trail, room - 2);
        page.exact(&format!("- {}", line(&readable(&value[edit.range.clone()]))));
        page.exact(&format!("+ {}", line(&readable(&edit.text))));
    }
    if found.edits.is_empty() {
        page.row(label, "none");
    }
    let mut label = "left";
    for left in &found.left {
        let rule = left.rule.map_or(String::new(), |rule| format!("rule {}: ", rule + 1));
        page.row(label, &format!("{rule}{}", left.reason.words()));
        label = "";
        page.exact(&format!("  {}", readable(&value[left.range.clone()])));
        page.arrow(2, left.reason.remedy());
    }
    let mut label = "untouched";
    for range in other {
        page.row(label, &readable(&value[range.clone()]));
        label = "";
    }
    if !other.is_empty() {
        page.arrow(0, "only looks similar (another name, a mail address), or is already new");
    }
    if found.edits.is_empty() && found.left.is_empty() && other.is_empty() {
        page.row("untouched", "no old name of any rule occurs in it");
    }
    if !found.edits.is_empty() {
        page.gap();
        page.row("result", &readable(&found.apply(value)));
    }
    page.finish()
}
