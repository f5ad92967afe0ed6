//! The one place where errors become headings, hints and exit codes.

use crate::context::Context;
use crate::hints::pasted;
use crate::render::wrapped;
use fernweh_ports::{Trouble, TroubleKind, shown};
use serde::Serialize;

/// The width of the labels of an error.
const LABEL: usize = 11;

/// An error as a JSON document.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Failed<'a> {
    error: Told<'a>,
}

/// What an error tells.
#[derive(Serialize, schemars::JsonSchema)]
struct Told<'a> {
    /// The exit code.
    code: u8,
    /// What cannot be done.
    what: &'a str,
    /// What the program was doing.
    doing: Option<&'a str>,
    /// The file, server or site concerned.
    r#where: Option<&'a str>,
    /// What went wrong.
    because: Option<&'a str>,
    /// What to try.
    r#try: Option<&'a str>,
    /// What has changed; or that nothing was changed.
    changed: &'a str,
}

/// Shows an error; gives its exit code.
pub fn show(context: &Context, trouble: &Trouble) -> u8 {
    let code = match trouble.kind {
        TroubleKind::Usage => 2,
        TroubleKind::Outside => 3,
        TroubleKind::Damaged => 4,
        TroubleKind::Interrupted => 5,
    };
    context.progress.clear();
    let ending = trouble.changed.as_deref().unwrap_or("nothing was changed");
    if context.json() {
        context.document(&Failed {
            error: Told {
                code,
                what: &trouble.what,
                doing: trouble.doing.as_deref(),
                r#where: trouble.place.as_deref(),
                because: trouble.because.as_deref(),
                r#try: trouble.hint.as_deref(),
                changed: ending,
            },
        });
    }
    context.say(&text(trouble, ending, context.style.width));
    code
}

/// An error for people.
fn text(trouble: &Trouble, ending: &str, width: usize) -> String {
    let mut text = format!("fernweh: {}\n", shown(&pasted(&trouble.what)));
    let mut line = |label: &str, content: &Option<String>| {
        if let Some(content) = content {
            let mut label = label;
            for line in wrapped(&shown(&pasted(content)), width - LABEL) {
                text.push_str(&format!("  {label:<9}{line}\n"));
                label = "";
            }
        }
    };
    line("doing", &trouble.doing);
    line("where", &trouble.place);
    line("because", &trouble.because);
    line("try", &trouble.hint);
    // It may be two lines of our own.
    for line in ending.lines() {
        text.push_str(&format!("{}\n", shown(&pasted(line))));
    }
    text
}
