//! How many scheduled pipelines run at a time: in the project, and of those that read from one connection.

use std::collections::BTreeMap;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use sluice_core::run::Stop;

/// A limit that a run stands under: its name, and how many run under it at a time.
pub(super) type Turn = (String, u64);

/// Who has their turn.
#[derive(Debug, Default)]
pub(super) struct Turns {
    taken: Mutex<BTreeMap<String, u64>>,
    given_back: Condvar,
}

/// A turn; dropping it lets the next one have it.
#[derive(Debug)]
pub(super) struct Taken<'t> {
    turns: &'t Turns,
    limits: Vec<Turn>,
}

impl Turns {
    /// Waits until there is room under all the limits, or until somebody asks to stop. `waits` is called where it has to wait.
    pub(super) fn take(&self, limits: Vec<Turn>, stop: &Stop, waits: impl FnOnce()) -> Option<Taken<'_>> {
        let has_room = |taken: &BTreeMap<String, u64>| {
            limits.iter().all(|(name, most)| taken.get(name).copied().unwrap_or(0) < *most)
        };
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        if !has_room(&taken) {
            drop(taken);
            waits();
            taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        }
        while !has_room(&taken) {
            if stop.is_settling() {
                return None;
            }
            let woken = self.given_back.wait_timeout(taken, Duration::from_millis(500));
            taken = woken.unwrap_or_else(PoisonError::into_inner).0;
        }
        limits.iter().for_each(|(name, _)| *taken.entry(name.clone()).or_default() += 1);
        drop(taken);
        Some(Taken { turns: self, limits })
    }
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        let mut taken = self.turns.taken.lock().unwrap_or_else(PoisonError::into_inner);
        for (name, _) in &self.limits {
            if let Some(count) = taken.get_mut(name) {
                *count = count.saturating_sub(1);
            }
        }
        self.turns.given_back.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    fn limits(parts: &[(&str, u64)]) -> Vec<Turn> {
        parts.iter().map(|(name, most)| ((*name).to_string(), *most)).collect()
    }

    #[test]
    fn never_more_run_at_a_time_than_may() {
        let (turns, stop) = (Turns::default(), Stop::new());
        let (now, most, done) = (AtomicU64::new(0), AtomicU64::new(0), AtomicU64::new(0));
        std::thread::scope(|scope| {
            for k in 0..12_u64 {
                let (turns, stop, now, most, done) = (&turns, &stop, &now, &most, &done);
                scope.spawn(move || {
                    let own = if k % 2 == 0 { ("depot", 1) } else { ("lock", 2) };
                    let _turn = turns.take(limits(&[("", 3), own]), stop, || {}).unwrap();
                    most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                    std::thread::sleep(Duration::from_millis(2));
                    now.fetch_sub(1, Ordering::SeqCst);
                    done.fetch_add(1, Ordering::SeqCst);
                });
            }
        });
        assert_eq!(done.into_inner(), 12);
        assert!(most.into_inner() <= 3);
        assert!(turns.taken.into_inner().unwrap().values().all(|count| *count == 0));
    }

    #[test]
    fn who_waits_can_be_stopped() {
        let (turns, stop) = (Turns::default(), Stop::new());
        let first = turns.take(limits(&[("depot", 1)]), &stop, || panic!("there was room")).unwrap();
        let mut waited = false;
        assert!(
            turns
                .take(limits(&[("depot", 1)]), &stop, || {
                    waited = true;
                    stop.settle();
                })
                .is_none()
        );
        assert!(waited);
        drop(first);
        assert!(turns.take(limits(&[("depot", 1)]), &Stop::new(), || panic!("there was room")).is_some());
    }
}
