//! A ledger for the tests of stations: batches are sealed late, or at once.

use std::collections::{BTreeMap, VecDeque};

use super::{BatchEnd, Changed, FoundState, KeptPart, KeptStation, KeyRange, StateStore};
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

    fn seal_one(&mut self) {
        let Some(changed) = self.staged.pop_front() else { return };
        self.sealed.retain(|key, _| !changed.gone.iter().any(|range| range.has(key)));
        if let Some(ended) = &changed.ended {
            let named: Vec<Vec<u8>> =
                self.sealed.keys().filter(|key| ended.has(key)).map(|key| Changed::named_by(key)).collect();
            named.iter().for_each(|key| drop(self.sealed.remove(key)));
            self.sealed.retain(|key, _| !ended.has(key));
        }
        for change in changed.changes {
            match change.value {
                Some(value) => drop(self.sealed.insert(change.key.into(), value)),
                None => drop(self.sealed.remove(&*change.key)),
            }
        }
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
