//! An order in which objects can be created: each after those that it needs.

use std::collections::{BTreeMap, BTreeSet};

/// What an object needs.
pub(super) type Needs<K> = BTreeMap<K, BTreeSet<K>>;

/// Brings `all` into an order in which needs come first; otherwise the given order stays.
/// In a circle the first one goes ahead.
pub(super) fn in_order<K: Ord + Clone>(all: &[K], needs: &Needs<K>) -> Vec<K> {
    let known: BTreeSet<&K> = all.iter().collect();
    let mut done: BTreeSet<K> = BTreeSet::new();
    let mut ordered = Vec::with_capacity(all.len());
    for key in all {
        // Depth first without recursion; `open` holds the way down.
        let mut open = vec![(key.clone(), false)];
        let mut on_the_way = BTreeSet::new();
        while let Some((key, expanded)) = open.pop() {
            if done.contains(&key) {
                continue;
            }
            if expanded {
                done.insert(key.clone());
                ordered.push(key);
                continue;
            }
            if !on_the_way.insert(key.clone()) {
                continue;
            }
            open.push((key.clone(), true));
            for need in needs.get(&key).into_iter().flatten().rev() {
                if known.contains(need) && !done.contains(need) && !on_the_way.contains(need) {
                    open.push((need.clone(), false));
                }
            }
        }
    }
    ordered
}

/// `start` and everything that needs it, directly or through others.
pub(super) fn with_dependents<K: Ord + Clone>(
    start: impl IntoIterator<Item = K>,
    needs: &Needs<K>,
    stop: &dyn Fn(&K) -> bool,
) -> BTreeSet<K> {
    let mut found: BTreeSet<K> = start.into_iter().collect();
    loop {
        let more: Vec<K> = needs
            .iter()
            .filter(|(key, needed)| {
                !found.contains(*key) && !stop(key) && needed.iter().any(|one| found.contains(one))
            })
            .map(|(key, _)| key.clone())
            .collect();
        if more.is_empty() {
            return found;
        }
        found.extend(more);
    }
}

/// `start` and everything that it needs, directly or through others.
pub(super) fn with_needs<K: Ord + Clone>(
    start: impl IntoIterator<Item = K>,
    needs: &Needs<K>,
) -> BTreeSet<K> {
    let mut found = BTreeSet::new();
    let mut open: Vec<K> = start.into_iter().collect();
    while let Some(key) = open.pop() {
        if found.insert(key.clone()) {
            open.extend(needs.get(&key).into_iter().flatten().cloned());
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn needs(pairs: &[(u8, u8)]) -> Needs<u8> {
        let mut found = Needs::new();
        for (key, need) in pairs {
            found.entry(*key).or_default().insert(*need);
        }
        found
    }

    #[test]
    fn what_is_needed_comes_first_and_the_rest_stays() {
        assert_eq!(in_order(&[1, 2, 3, 4], &needs(&[(1, 3), (3, 4)])), [4, 3, 1, 2]);
        assert_eq!(in_order(&[1, 2, 3], &needs(&[])), [1, 2, 3]);
    }

    #[test]
    fn a_circle_does_not_hang() {
        let ordered = in_order(&[1, 2, 3], &needs(&[(1, 2), (2, 1), (3, 1)]));
        assert_eq!(ordered.len(), 3);
        assert_eq!(ordered[2], 3);
    }

    #[test]
    fn dependents_and_needs_go_through_others() {
        let needs = needs(&[(2, 1), (3, 2), (4, 3), (5, 9)]);
        assert_eq!(with_dependents([1], &needs, &|key| *key == 4), [1, 2, 3].into());
        assert_eq!(with_needs([4], &needs), [1, 2, 3, 4].into());
    }
}
