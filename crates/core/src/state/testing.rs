//! A ledger for the tests of stations: batches are sealed late, or at once.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, VecDeque};

use super::{BatchEnd, Changed, FoundState, KeptPart, KeptStation, KeyRange, Passed, StateStore};
use crate::failure::Outcome;

/// What a ledger keeps of one station.
#[derive(Clone, Default)]
pub(super) struct Store {
    pub(super) sealed: BTreeMap<Vec<u8>, Vec<u8>>,
    pub(super) staged: VecDeque<Changed>,
    /// So many batches are staged before the first of them is sealed.
    pub(super) behind: usize,
}

impl Store {
    /// The changes of so many batches wait for their seal.
    pub(super) fn behind(behind: usize) -> Self {
        Self { behind, ..Self::default() }
    }

    /// The end of a batch.
    pub(super) fn end(&self, watermark: i64) -> BatchEnd {
        BatchEnd { watermark, now: 0, unsealed: self.staged.len() as u64 }
    }

    /// Takes the changes of a batch.
    pub(super) fn stage(&mut self, changed: Changed) {
        assert!(changed.changes.is_sorted_by(|a, b| a.key < b.key), "each key once, in the order of the ledger");
        self.staged.push_back(changed);
        while self.staged.len() > self.behind {
            self.seal_one();
        }
    }

    /// Seals all that is staged, as at the end of a run.
    pub(super) fn seal_all(&mut self) {
        while !self.staged.is_empty() {
            self.seal_one();
        }
    }

    /// Seals the batch that was staged first.
    pub(super) fn seal_one(&mut self) {
        let Some(changed) = self.staged.pop_front() else { return };
        self.sealed.retain(|key, _| !changed.gone.iter().any(|range| range.has(key)));
        if let Some(ended) = &changed.ended {
            let passed: Vec<Vec<u8>> = self.sealed.keys().filter(|key| ended.has(key)).cloned().collect();
            for by_end in passed {
                self.sealed.remove(&by_end);
                let named = Changed::named_by(&by_end);
                let Some(value) = self.sealed.get(&named) else { continue };
                match Changed::passed(&by_end, value, ended.to.as_deref()) {
                    Passed::Elsewhere => {}
                    Passed::Over => drop(self.sealed.remove(&named)),
                    Passed::Later(by_end, value) => {
                        self.sealed.insert(by_end, Vec::new());
                        self.sealed.insert(named, value);
                    }
                }
            }
        }
        for change in changed.changes {
            match change.value {
                Some(value) => drop(self.sealed.insert(change.key.into(), value)),
                None => drop(self.sealed.remove(&*change.key)),
            }
        }
    }
}

/// The same, where a batch is sealed after every so many times that a range was read.
pub(super) struct Hasty {
    pub(super) store: RefCell<Store>,
    pub(super) every: usize,
    pub(super) read: Cell<usize>,
}

impl StateStore for Hasty {
    fn kept(&self, station: &str) -> Outcome<Option<KeptStation>> {
        self.store.borrow().kept(station)
    }

    fn values(&self, station: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        self.store.borrow().values(station, keys)
    }

    fn each(&self, station: &str, found: &mut FoundState<'_>) -> Outcome<()> {
        self.store.borrow().each(station, found)
    }

    fn parts(&self, station: &str, ranges: &[KeyRange], most: usize) -> Outcome<Vec<KeptPart>> {
        let found = self.store.borrow().parts(station, ranges, most);
        self.read.set(self.read.get() + 1);
        if self.read.get().is_multiple_of(self.every) {
            self.store.borrow_mut().seal_one();
        }
        found
    }

    fn keeps(&self, station: &str) -> bool {
        self.store.borrow().keeps(station)
    }
}

impl StateStore for Store {
    fn kept(&self, _: &str) -> Outcome<Option<KeptStation>> {
        Ok(None)
    }

    fn values(&self, _: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        assert!(keys.is_sorted(), "neighbours are looked up together");
        Ok(keys.iter().map(|key| self.sealed.get(*key).cloned()).collect())
    }

    fn each(&self, _: &str, found: &mut FoundState<'_>) -> Outcome<()> {
        self.sealed.iter().try_for_each(|(key, value)| found(key, value))
    }

    fn parts(&self, _: &str, ranges: &[KeyRange], most: usize) -> Outcome<Vec<KeptPart>> {
        assert!(ranges.is_sorted_by_key(|range| &range.from), "neighbours are looked up together");
        let found = |range: &KeyRange| {
            let all = self.sealed.range(range.from.to_vec()..).take_while(|(key, _)| range.has(key));
            all.take(most).map(|(key, value)| (key.clone(), value.clone())).collect()
        };
        Ok(ranges.iter().map(found).collect())
    }

    fn keeps(&self, _: &str) -> bool {
        true
    }
}
