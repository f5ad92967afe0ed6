//! The one place where errors become headings, hints and exit codes.

use crate::context::{Context, safe_json};
use crate::render::wrapped;
use fernweh_ports::{Trouble, TroubleKind, shown};

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
        let document = serde_json::json!({ "error": {
            "code": code,
            "what": trouble.what,
            "doing": trouble.doing,
            "where": trouble.place,
            "because": trouble.because,
            "try": trouble.hint,
            "changed": ending,
        }});
        println!("{}", safe_json(&format!("{document:#}")));
    }
    eprintln!("fernweh: {}", shown(&trouble.what));
    let line = |label: &str, text: &Option<String>| {
        if let Some(text) = text {
            let mut label = label;
            for line in wrapped(&shown(text), context.style.width - 11) {
                eprintln!("  {label:<9}{line}");
                label = "";
            }
        }
    };
    line("doing", &trouble.doing);
    line("where", &trouble.place);
    line("because", &trouble.because);
    line("try", &trouble.hint);
    // It may be two lines of our own.
    ending.lines().for_each(|line| eprintln!("{}", shown(line)));
    code
}
