//! Sessions in the ledger: by their group, and, once there are more than memory has room for, also by the moment when they end.
//!
//! A session is found by its group when an event comes, and by its end when time has come so far. As long as all are in memory the
//! second order is not needed, and not kept: it would double what each batch writes.

use std::sync::Arc;

use arrow_array::RecordBatch;

use super::Windows;
use super::groups::{Groups, standing};
use super::kept::{PORTION, Reached};
use super::shape::SessionShape;
use crate::failure::Outcome;
use crate::state::ends::{in_order, of_order};
use crate::state::{KeyRange, StateStore, damaged};

/// What the keys of sessions begin with.
const OF_GROUP: u8 = 1;

/// What the keys of the order by ends begin with; their values are empty.
const OF_END: u8 = 2;

/// The key of a session in the ledger.
pub(super) fn session_key(start: i64, key: &[u8]) -> Box<[u8]> {
    [&[OF_GROUP][..], key, &start.to_be_bytes()].concat().into()
}

/// Its key in the order by ends.
pub(super) fn end_key(end: i64, start: i64, key: &[u8]) -> Box<[u8]> {
    [&ends_from(end)[..], key, &start.to_be_bytes()].concat().into()
}

/// The first key of sessions that end at a moment: the order of bytes is that of time.
fn ends_from(end: i64) -> [u8; 9] {
    let bytes = in_order(end);
    std::array::from_fn(|i| if i == 0 { OF_END } else { bytes[i - 1] })
}

/// The first key of sessions that end after a moment.
fn ends_after(moment: i64) -> Box<[u8]> {
    moment.checked_add(1).map_or_else(|| [OF_END + 1].into(), |next| ends_from(next).into())
}

/// The start and the group of a session's key; None for other keys.
pub(super) fn of_session_key(key: &[u8]) -> Option<(i64, &[u8])> {
    let (group, start) = key.strip_prefix(&[OF_GROUP])?.split_last_chunk::<8>()?;
    Some((i64::from_be_bytes(*start), group))
}

/// The end, start and group of a key in the order by ends.
fn of_end_key(key: &[u8]) -> Option<(i64, i64, &[u8])> {
    let (end, rest) = key.strip_prefix(&[OF_END])?.split_first_chunk::<8>()?;
    let (group, start) = rest.split_last_chunk::<8>()?;
    Some((of_order(*end), i64::from_be_bytes(*start), group))
}

/// All keys of the order by ends.
pub(super) fn all_ends() -> KeyRange {
    KeyRange::beginning_with(&[OF_END])
}

/// All sessions of a group: the bytes of no group begin with those of another one.
fn sessions_of(key: &[u8]) -> KeyRange {
    KeyRange::beginning_with(&[&[OF_GROUP], key].concat())
}

impl Windows {
    /// Takes in what is kept of sessions.
    pub(super) fn open_sessions(
        &mut self,
        shape: SessionShape,
        reached: Option<Reached>,
        store: &dyn StateStore,
    ) -> Outcome<()> {
        self.groups.of_sessions(self.given);
        let sessions = reached.and_then(|reached| reached.sessions);
        if let (Some((count, events)), Some((latest, true))) = (reached.and_then(|reached| reached.open), sessions)
            && count > self.plan.in_memory
            && store.keeps(&self.name)
        {
            self.groups.keep_apart((count, events), latest);
            return self.find_first_end(store);
        }
        let is_old = sessions.is_none();
        let Self { groups, plan, name, .. } = self;
        store.each(name, &mut |key, value| {
            let found = match is_old {
                _ if key.is_empty() || key.first() == Some(&OF_END) && !is_old => return Ok(()),
                true => key.split_first_chunk::<8>().map(|(start, rest)| (i64::from_be_bytes(*start), rest)),
                false => of_session_key(key),
            };
            let restored = found.and_then(|(start, group)| groups.restore(plan, start, group, value));
            restored.map(|_| ()).ok_or_else(|| damaged(name))
        })?;
        self.groups.count_all();
        self.groups.note_latest(shape);
        if is_old && reached.is_some() {
            // All of it is written again, in the present order.
            self.gone.push(KeyRange::default());
            self.groups.rewrite();
        } else if sessions.is_some_and(|(_, is_indexed)| is_indexed) {
            self.gone.push(all_ends());
        }
        Ok(())
    }

    /// Takes the sessions into memory that rows may belong to.
    pub(super) fn fetch_sessions(
        &mut self,
        shape: SessionShape,
        rows: &RecordBatch,
        store: &dyn StateStore,
    ) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let mut unknown: Vec<Box<[u8]>> = Vec::new();
        plan.each_key(rows, |_, key| {
            if !self.groups.knows(key) {
                unknown.push(key.into());
            }
        });
        unknown.sort_unstable();
        unknown.dedup();
        let ranges: Vec<KeyRange> = unknown.iter().map(|key| sessions_of(key)).collect();
        for (key, part) in unknown.iter().zip(store.parts(&self.name, &ranges, usize::MAX)?) {
            self.groups.note_known(key);
            for (stored, value) in part {
                let (start, group) = of_session_key(&stored).ok_or_else(|| damaged(&self.name))?;
                let place = self.groups.restore(&plan, start, group, &value).ok_or_else(|| damaged(&self.name))?;
                // The batch that gave it on may not be sealed yet.
                if self.groups.end(place, shape) <= self.given {
                    self.groups.let_go(place);
                }
            }
        }
        Ok(())
    }

    /// The sessions that have ended: first those in the ledger, in portions, then those in memory, whose keys are known until then.
    pub(super) fn sessions_over(&mut self, shape: SessionShape, store: &dyn StateStore) -> Outcome<(Vec<usize>, bool)> {
        if !self.groups.is_partial {
            return Ok((self.groups.ending(self.closed, self.plan.shape), false));
        }
        // What batches that are not sealed yet have passed still stands where it stood.
        let from = self.given_before.front().copied().unwrap_or(self.given);
        let end = KeyRange { from: ends_after(from), to: Some(ends_after(self.closed)) };
        let is_any = self.groups.cold_from.is_some_and(|first| first <= self.closed);
        let is_next = self.ending.is_some();
        let Some(mut range) = self.ending.take().or(is_any.then_some(end)) else {
            return Ok((self.groups.ending(self.closed, self.plan.shape), false));
        };
        if !is_next {
            self.passed_first = None;
        }
        let part = store.part(&self.name, &range, PORTION)?;
        let mut wanted: Vec<(Box<[u8]>, i64)> = Vec::new();
        for (key, _) in &part {
            let (due, start, group) = of_end_key(key).ok_or_else(|| damaged(&self.name))?;
            // What is in memory is newer, and has been given on if it has ended.
            if !self.groups.knows(group) {
                wanted.push((session_key(start, group), due));
            }
        }
        wanted.sort_unstable();
        let values = store.values(&self.name, &wanted.iter().map(|(key, _)| &**key).collect::<Vec<_>>())?;
        let plan = Arc::clone(&self.plan);
        let mut over = Vec::new();
        for ((key, due), value) in wanted.iter().zip(values) {
            let (Some(value), Some((start, group))) = (value, of_session_key(key)) else { continue };
            // One that stands elsewhere by now, or will once its batch is sealed, may be found there again.
            let is_there = standing(&value).is_none_or(|standing| standing == *due && *due > self.given);
            if self.given_early.contains(key) {
                continue;
            }
            let place = self.groups.restore(&plan, start, group, &value).ok_or_else(|| damaged(&self.name))?;
            let end = self.groups.end(place, shape);
            match self.given < end && end <= self.closed {
                true => {
                    if !is_there {
                        self.given_early.insert(key.clone());
                    }
                    over.push(place);
                }
                false => {
                    if end > self.closed {
                        self.passed_first = Some(self.passed_first.map_or(end, |first| first.min(end)));
                    }
                    self.groups.let_go(place);
                    self.groups.forget_unknown(group);
                }
            }
        }
        let Some((last, _)) = part.last().filter(|_| part.len() == PORTION) else {
            // Those that have come last are in memory now as well.
            return Ok((self.groups.ending(self.closed, self.plan.shape), false));
        };
        range.from = [last, &[0][..]].concat().into();
        self.ending = Some(range);
        self.groups.sort(&mut over);
        Ok((over, true))
    }

    /// All sessions that have ended were given on.
    pub(super) fn sessions_closed(&mut self, shape: SessionShape, store: &dyn StateStore) -> Outcome<()> {
        if self.groups.is_indexed() && self.closed > self.given {
            let from = self.ended.take().map_or_else(|| ends_after(self.given), |earlier| earlier.from);
            self.ended = Some(KeyRange { from, to: Some(ends_after(self.closed)) });
        }
        self.groups.note_given(shape, self.closed);
        self.given_early.clear();
        if !self.groups.is_partial {
            return Ok(());
        }
        self.groups.is_partial = self.groups.in_memory() < self.groups.count;
        if self.groups.cold_from.is_some_and(|first| first <= self.closed) {
            self.find_first_end(store)?;
        }
        Ok(())
    }

    /// Finds where the session ends that ends first of those in the ledger.
    fn find_first_end(&mut self, store: &dyn StateStore) -> Outcome<()> {
        let range = KeyRange { from: ends_after(self.closed), ..all_ends() };
        let first = store.part(&self.name, &range, 1)?.into_iter().next();
        let end = first.map(|(key, _)| of_end_key(&key).map(|(end, ..)| end).ok_or_else(|| damaged(&self.name)));
        // Those that were passed and go on have no other place there before their batch is sealed.
        self.groups.cold_from =
            end.transpose()?.into_iter().chain(self.passed_first.filter(|end| *end > self.closed)).min();
        Ok(())
    }
}

impl Groups {
    /// Whether all sessions of a key are in memory.
    pub(super) fn knows(&self, key: &[u8]) -> bool {
        self.sessions.contains_key(key)
    }

    /// All sessions of a key are in memory from now on.
    pub(super) fn note_known(&mut self, key: &[u8]) {
        self.sessions.entry(key.into()).or_default();
    }

    /// What the ledger has of a key is not known, if nothing of it is in memory.
    pub(super) fn forget_unknown(&mut self, key: &[u8]) {
        if self.sessions.get(key).is_some_and(Vec::is_empty) {
            self.sessions.remove(key);
        }
    }

    /// Where a session ends.
    pub(super) fn end(&self, place: usize, shape: SessionShape) -> i64 {
        self.group(place).map_or(i64::MIN, |group| group.last.saturating_add(shape.gap))
    }

    /// A session that came from the ledger is none any more.
    pub(super) fn let_go(&mut self, place: usize) {
        let Some(group) = self.groups[place].take() else { return };
        if let Some(all) = self.sessions.get_mut(&group.key) {
            all.retain(|one| *one != place);
        }
        self.free.push(place);
    }

    /// Lets the sessions of whole groups leave memory that are in the ledger, where there are more than so many.
    pub(super) fn evict_sessions(&mut self, shape: SessionShape, most: usize, unsealed: u64) {
        if self.sessions.len() > 2 * self.in_memory() + PORTION {
            // Groups whose events were all late have been looked up, and have none.
            self.sessions.retain(|_, places| !places.is_empty());
        }
        if self.in_memory() <= most {
            return;
        }
        let known = self.free.len();
        // A batch is not sealed itself before it ends. Room is made for more than one batch.
        for age in [64, 16, unsealed + 2] {
            if self.in_memory() <= most / 4 * 3 {
                break;
            }
            let Self { sessions, groups, free, is_partial, batch, cold_from, .. } = self;
            sessions.retain(|_, places| {
                let may_go = |place: &usize| groups[*place].as_ref().is_some_and(|group| group.may_go(age, *batch));
                if !places.iter().all(may_go) {
                    return true;
                }
                for place in places {
                    let Some(group) = groups[*place].take() else { continue };
                    let end = group.found_by(shape.gap);
                    *cold_from = Some(cold_from.map_or(end, |first| first.min(end)));
                    free.push(*place);
                    *is_partial = true;
                }
                false
            });
        }
        self.empty(known);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn keys_are_read_as_they_were_written_and_stand_in_the_order_of_ends(
            // No key begins with another one.
            a in (any::<i64>(), any::<i64>(), prop::collection::vec(any::<u8>(), 3)),
            b in (any::<i64>(), any::<i64>(), prop::collection::vec(any::<u8>(), 3)),
        ) {
            let key = |one: &(i64, i64, Vec<u8>)| end_key(one.0, one.1, &one.2);
            let (by_end, own) = (key(&a), session_key(a.1, &a.2));
            prop_assert_eq!(of_end_key(&by_end), Some((a.0, a.1, a.2.as_slice())));
            prop_assert_eq!(of_session_key(&own), Some((a.1, a.2.as_slice())));
            prop_assert!(a.0 == b.0 || (a.0 < b.0) == (key(&a) < key(&b)));
            prop_assert!(*key(&a) < *ends_after(a.0) && all_ends().has(&ends_from(a.0)));
            prop_assert!(b.0 <= a.0 || *key(&b) >= *ends_after(a.0));
            prop_assert!(all_ends().has(&key(&a)) && !all_ends().has(&session_key(a.1, &a.2)));
            prop_assert!(sessions_of(&a.2).has(&session_key(b.1, &a.2)));
            prop_assert!(a.2 == b.2 || !sessions_of(&a.2).has(&session_key(b.1, &b.2)));
        }
    }
}
