//! How many folders a batch may fill.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};

/// The folders that batches fill, by their landing and the moment at which they were opened.
///
/// Whoever can choose a value that stands in a path could otherwise fill a disk with folders of one row each.
#[derive(Debug, Default)]
pub struct BatchFolders(Mutex<Filled>);

/// Folders by moment and landing.
type Filled = BTreeMap<i64, FxHashMap<usize, FxHashSet<Box<str>>>>;

impl BatchFolders {
    /// For each folder, whether the batch may fill it: those that it fills already, and new ones up to the limit.
    pub(super) fn admit(&self, landing: usize, opened_at: i64, names: &[String], most: usize) -> Vec<bool> {
        /// Batches of a lane follow each other: a chunk belongs to one of the newest.
        const AT_ONCE: usize = 8;
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let filled = known.entry(opened_at).or_default().entry(landing).or_default();
        let mut admit = |name: &String| {
            let fits = filled.contains(name.as_str()) || filled.len() < most;
            if fits {
                filled.insert(name.as_str().into());
            }
            fits
        };
        let admitted = names.iter().map(&mut admit).collect();
        while known.len() > AT_ONCE {
            known.pop_first();
        }
        admitted
    }

    /// How many batches it knows of.
    #[cfg(test)]
    pub(super) fn batches(&self) -> usize {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}
