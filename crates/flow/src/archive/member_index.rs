//! What an archive holds. It is complete where the archive is; while an archive is still
//! being written, whoever unpacks it already waits here for what comes next.

use fernweh_core::archive::{Member, Seal};
use fernweh_ports::{Result, Trouble};
use std::collections::{BTreeSet, HashMap};
use std::fmt;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// A member as it lies in the archive.
#[derive(Clone, Debug)]
pub(crate) struct StoredMember {
    pub name: String,
    pub member: Member,
    /// Where its bytes begin.
    pub offset: u64,
    /// How many they are.
    pub size: u64,
    /// Their digest; none if nobody has said it, and then nothing is taken from it.
    pub sha256: Option<String>,
}

/// What is known of how much will come.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Expected {
    pub rows: Option<u64>,
    pub file_bytes: Option<u64>,
}

#[derive(Default)]
struct Known {
    stored: Vec<Arc<StoredMember>>,
    /// The place of each member among them.
    places: HashMap<String, usize>,
    /// Tables whose rows have all come.
    complete: BTreeSet<String>,
    expected: Expected,
    seal: Option<Arc<Seal>>,
    /// Why nothing more comes, although it is not sealed.
    broken: Option<Broken>,
}

/// The members of an archive, in order.
#[derive(Default)]
pub struct MemberIndex {
    state: Mutex<Known>,
    changed: Condvar,
}

/// Why nothing more comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Broken {
    /// What was written is taken back, and comes again otherwise.
    TakenBack,
    /// Packing has ended.
    Ended,
}

impl fmt::Display for Broken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::TakenBack => "a part of the archive was read again",
            Self::Ended => "packing has ended before its end",
        })
    }
}

impl MemberIndex {
    /// That of a complete archive.
    pub(super) fn sealed(stored: Vec<StoredMember>, seal: Seal) -> Self {
        let member_index = Self::default();
        stored.into_iter().for_each(|stored| member_index.add(stored));
        member_index.seal(seal);
        member_index
    }

    fn lock(&self) -> MutexGuard<'_, Known> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, change: impl FnOnce(&mut Known)) {
        change(&mut self.lock());
        self.changed.notify_all();
    }

    pub(super) fn add(&self, stored: StoredMember) {
        self.change(|state| {
            state.places.insert(stored.name.clone(), state.stored.len());
            state.stored.push(Arc::new(stored));
        });
    }

    pub(super) fn complete(&self, table: &str) {
        self.change(|state| {
            state.complete.insert(table.to_owned());
        });
    }

    /// Says how much will come, as far as it is known.
    pub(crate) fn expect(&self, expected: Expected) {
        self.change(|state| state.expected = expected);
    }

    /// What was written is taken back: whoever has taken it already must begin anew.
    pub(super) fn take_back(&self) {
        self.change(|state| state.broken = Some(Broken::TakenBack));
    }

    /// Whether following it ended because something was taken back; the archive gets complete
    /// all the same.
    pub fn was_taken_back(&self) -> bool {
        self.lock().broken == Some(Broken::TakenBack)
    }

    pub(super) fn seal(&self, seal: Seal) {
        self.change(|state| {
            state.expected.rows = Some(seal.rows.values().sum());
            state.expected.file_bytes = Some(seal.file_bytes);
            state.seal = Some(Arc::new(seal));
        });
    }

    /// Nothing more comes, unless it is sealed already.
    pub fn give_up(&self) {
        self.change(|state| {
            if state.seal.is_none() {
                state.broken.get_or_insert(Broken::Ended);
            }
        });
    }

    /// What is known by now of how much will come.
    pub(crate) fn expected(&self) -> Expected {
        self.lock().expected
    }

    /// Waits until `look` finds something.
    fn wait<T>(&self, mut look: impl FnMut(&Known) -> Option<T>) -> Result<T> {
        let mut state = self.lock();
        loop {
            if let Some(because) = state.broken {
                return Err(Trouble::outside("packing stopped, so the archive stays incomplete")
                    .because(because)
                    .hint("type the same command again"));
            }
            if let Some(found) = look(&state) {
                return Ok(found);
            }
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// The next member from a place on that is wanted; none if no such comes any more: the
    /// archive is sealed, or the rows of the table `of` are complete. The place moves behind
    /// it.
    pub(super) fn next(
        &self,
        from: &mut usize,
        wanted: &dyn Fn(&Member) -> bool,
        of: Option<&str>,
    ) -> Result<Option<Arc<StoredMember>>> {
        self.wait(|state| {
            let rest = state.stored.get(*from..).unwrap_or_default();
            if let Some(place) = rest.iter().position(|stored| wanted(&stored.member)) {
                let found = rest[place].clone();
                *from += place + 1;
                return Some(Some(found));
            }
            *from = state.stored.len();
            let over = of.is_some_and(|table| state.complete.contains(table));
            (over || state.seal.is_some()).then_some(None)
        })
    }

    /// The member of a name; none if the archive is complete without it.
    pub(super) fn named(&self, name: &str) -> Result<Option<Arc<StoredMember>>> {
        self.wait(|state| match state.places.get(name) {
            Some(place) => Some(Some(state.stored[*place].clone())),
            None => state.seal.is_some().then_some(None),
        })
    }

    /// The seal, as soon as there is one.
    pub(super) fn the_seal(&self) -> Result<Arc<Seal>> {
        self.wait(|state| state.seal.clone())
    }

    /// Whether the archive is complete.
    pub(super) fn is_sealed(&self) -> bool {
        self.lock().seal.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(table: &str, block: u32) -> StoredMember {
        let member = Member::Rows { table: table.into(), block };
        StoredMember { name: member.to_string(), member, offset: 0, size: 0, sha256: None }
    }

    fn blocks_of(member_index: &MemberIndex, wanted: &str) -> Result<Vec<String>> {
        let mut from = 0;
        let is_wanted =
            |member: &Member| matches!(member, Member::Rows { table, .. } if table == wanted);
        let mut found = Vec::new();
        while let Some(stored) = member_index.next(&mut from, &is_wanted, Some(wanted))? {
            found.push(stored.name.clone());
        }
        Ok(found)
    }

    #[test]
    fn who_follows_gets_every_block_of_a_table_and_waits_for_its_end() {
        let member_index = MemberIndex::default();
        std::thread::scope(|scope| {
            let following =
                scope.spawn(|| (blocks_of(&member_index, "a"), blocks_of(&member_index, "b")));
            for block in 1..=50 {
                member_index.add(rows("a", block));
            }
            member_index.complete("a");
            member_index.add(rows("b", 1));
            member_index.seal(Seal::default());
            let (a, b) = following.join().unwrap();
            assert_eq!((a.unwrap().len(), b.unwrap().len()), (50, 1));
        });
        assert!(member_index.named("files/index.zst").unwrap().is_none());
    }

    #[test]
    fn who_follows_is_told_that_nothing_more_comes() {
        for end in [MemberIndex::give_up, MemberIndex::take_back] {
            let member_index = MemberIndex::default();
            std::thread::scope(|scope| {
                let following = scope.spawn(|| blocks_of(&member_index, "a"));
                member_index.add(rows("a", 1));
                end(&member_index);
                assert!(following.join().unwrap().is_err());
            });
            assert!(member_index.the_seal().is_err());
        }
        let member_index = MemberIndex::sealed(Vec::new(), Seal::default());
        member_index.give_up();
        assert!(member_index.the_seal().is_ok(), "what is sealed is complete");
    }
}
