//! Rows whose keys hold what is rewritten.

use fernweh_core::record::Value;
use fernweh_ports::Change;

/// Changes of one record come one after the other: where one of them changes a part of
/// the key, the next must look for the changed key.
pub(super) fn follow_key(changes: &mut [Change], key: &[String]) {
    for n in 1..changes.len() {
        let (before, after) = changes.split_at_mut(n);
        after[0].key = key_after(&before[n - 1], key);
    }
}

/// The key of the row behind a change.
pub(super) fn key_after(change: &Change, key: &[String]) -> Vec<Value> {
    let mut values = change.key.clone();
    if let Some(place) = key.iter().position(|name| *name == change.column) {
        values[place] = change.new.clone();
    }
    values
}
