//! Words for the user, of calls that have no progress beside them.

use std::sync::OnceLock;

type Says = Box<dyn Fn(&str) + Send + Sync>;

static SAYS: OnceLock<Says> = OnceLock::new();

/// Says once for the whole program where words go; without it nobody hears them.
pub fn goes(to: impl Fn(&str) + Send + Sync + 'static) {
    let _ = SAYS.set(Box::new(to));
}

/// Says something.
pub(crate) fn say(line: &str) {
    if let Some(says) = SAYS.get() {
        says(line);
    }
}
