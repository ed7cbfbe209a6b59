//! What stations remember while batches are read again: kept in memory, and forgotten in the end.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{FoundState, KeptPart, KeptStation, KeyRange, StateStore, StationChanges};
use crate::failure::Outcome;

/// By station, each key's value, and until when it is kept.
type Kept = HashMap<String, HashMap<Box<[u8]>, (Vec<u8>, Option<i64>)>>;

/// The keys of stations that look them up again.
#[derive(Default)]
pub struct ScratchState {
    /// The stations that do: others have all they remember in memory.
    looked_up: BTreeSet<String>,
    kept: Mutex<Kept>,
}

impl ScratchState {
    /// For these stations.
    pub fn of(looked_up: BTreeSet<String>) -> Arc<Self> {
        Arc::new(Self { looked_up, kept: Mutex::default() })
    }

    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes the changes of a batch over.
    pub fn apply(&self, changes: Vec<StationChanges>) {
        let mut all = self.kept();
        for station in changes.into_iter().filter(|station| self.looked_up.contains(&station.station)) {
            let kept = all.entry(station.station).or_default();
            for range in &station.changed.gone {
                kept.retain(|key, _| !range.has(key));
            }
            for change in station.changed.changes {
                match change.value {
                    Some(value) => drop(kept.insert(change.key, (value, change.due))),
                    None => drop(kept.remove(&change.key)),
                }
            }
            if let Some(due) = station.changed.due {
                kept.retain(|_, (_, until)| until.is_none_or(|until| until > due));
            }
        }
    }
}

impl StateStore for Arc<ScratchState> {
    fn kept(&self, _: &str) -> Outcome<Option<KeptStation>> {
        Ok(None)
    }

    fn values(&self, station: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        let all = ScratchState::kept(self);
        let kept = all.get(station);
        Ok(keys.iter().map(|key| kept?.get(*key).map(|(value, _)| value.clone())).collect())
    }

    fn each(&self, _: &str, _: &mut FoundState<'_>) -> Outcome<()> {
        Ok(())
    }

    fn parts(&self, _: &str, ranges: &[KeyRange], _: usize) -> Outcome<Vec<KeptPart>> {
        Ok(vec![KeptPart::new(); ranges.len()])
    }

    /// Only `once` is looked up here, which knows its keys: nothing is found by a part of them.
    fn keeps(&self, _: &str) -> bool {
        false
    }
}
