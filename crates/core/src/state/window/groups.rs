//! The open groups of all windows, with what is kept of their events.

use std::collections::{BTreeMap, HashMap};

use super::WindowPlan;
use crate::state::StateChange;
use crate::state::aggregate::Kept;
use crate::state::cell::take;

/// The layout of what is kept of a group.
const VERSION: u8 = 1;

/// A group of one window.
pub(super) struct Group {
    /// Where the window begins.
    pub start: i64,
    /// The values of the group's parts.
    pub key: Box<[u8]>,
    /// Events that leave with this window.
    pub events: u64,
    /// Whether it has changed since the last batch.
    is_changed: bool,
    /// Whether the ledger has it.
    is_kept: bool,
}

/// All groups, by the beginning of their window.
#[derive(Default)]
pub(super) struct Groups {
    windows: BTreeMap<i64, HashMap<Box<[u8]>, usize>>,
    groups: Vec<Option<Group>>,
    /// For each group what is kept for each call.
    kept: Vec<Kept>,
    free: Vec<usize>,
    changed: Vec<usize>,
    /// Keys in the ledger of groups that have gone.
    gone: Vec<Box<[u8]>>,
}

impl Groups {
    /// How many groups there are.
    pub(super) fn len(&self) -> usize {
        self.groups.len() - self.free.len()
    }

    /// How many events there are, each counted once.
    pub(super) fn events(&self) -> u64 {
        self.groups.iter().flatten().map(|group| group.events).sum()
    }

    /// How many windows there are.
    pub(super) fn windows(&self) -> usize {
        self.windows.len()
    }

    /// Where the earliest open window begins.
    pub(super) fn earliest(&self) -> Option<i64> {
        self.windows.first_key_value().map(|(start, _)| *start)
    }

    /// Where the latest open window begins.
    pub(super) fn latest(&self) -> Option<i64> {
        self.windows.last_key_value().map(|(start, _)| *start)
    }

    /// The place of a group, where it is open.
    pub(super) fn find(&self, start: i64, key: &[u8]) -> Option<usize> {
        self.windows.get(&start)?.get(key).copied()
    }

    /// Opens a group; gives its place.
    pub(super) fn open(&mut self, plan: &WindowPlan, start: i64, key: &[u8]) -> usize {
        let group = Some(Group { start, key: key.into(), events: 0, is_changed: false, is_kept: false });
        let fresh = plan.calls.iter().map(|call| call.start());
        let place = match self.free.pop() {
            Some(place) => {
                self.groups[place] = group;
                let first = place * plan.calls.len();
                fresh.enumerate().for_each(|(i, kept)| self.kept[first + i] = kept);
                place
            }
            None => {
                self.groups.push(group);
                self.kept.extend(fresh);
                self.groups.len() - 1
            }
        };
        self.windows.entry(start).or_default().insert(key.into(), place);
        place
    }

    /// Notes that a group changes; `leaves` is the number of events that leave with it.
    pub(super) fn touch(&mut self, place: usize, leaves: u64) {
        let Some(group) = &mut self.groups[place] else { return };
        group.events += leaves;
        if !std::mem::replace(&mut group.is_changed, true) {
            self.changed.push(place);
        }
    }

    /// What is kept of a group for one call.
    pub(super) fn kept_mut(&mut self, place: usize, call: usize, calls: usize) -> &mut Kept {
        &mut self.kept[place * calls + call]
    }

    /// What is kept of a group for all calls.
    pub(super) fn kept(&self, place: usize, calls: usize) -> &[Kept] {
        &self.kept[place * calls..(place + 1) * calls]
    }

    /// A group by its place.
    pub(super) fn group(&self, place: usize) -> Option<&Group> {
        self.groups.get(place)?.as_ref()
    }

    /// The groups of windows that end at a time or before, in the order of their windows and keys.
    pub(super) fn ending(&self, end: i64, length: i64) -> Vec<usize> {
        let mut all = Vec::new();
        for (_, groups) in self.windows.iter().take_while(|(start, _)| start.saturating_add(length) <= end) {
            let mut found: Vec<(&[u8], usize)> = groups.iter().map(|(key, place)| (&**key, *place)).collect();
            found.sort_unstable();
            all.extend(found.into_iter().map(|(_, place)| place));
        }
        all
    }

    /// Groups that have changed in this batch, in the order of their windows and keys.
    pub(super) fn changed(&self) -> Vec<usize> {
        let mut found: Vec<usize> =
            self.changed.iter().copied().filter(|place| self.groups[*place].is_some()).collect();
        found.sort_by(|a, b| self.order(*a).cmp(&self.order(*b)));
        found
    }

    fn order(&self, place: usize) -> Option<(i64, &[u8])> {
        self.groups[place].as_ref().map(|g| (g.start, &*g.key))
    }

    /// Lets go of the earliest window with its groups.
    pub(super) fn drop_earliest(&mut self) {
        let Some((start, groups)) = self.windows.pop_first() else { return };
        for (key, place) in groups {
            if self.groups[place].take().is_some_and(|group| group.is_kept) {
                self.gone.push(stored_key(start, &key));
            }
            self.free.push(place);
        }
    }

    /// What has changed since the last call.
    pub(super) fn changes(&mut self, calls: usize) -> Vec<StateChange> {
        let mut changes: Vec<StateChange> =
            self.gone.drain(..).map(|key| StateChange { key, value: None, due: None }).collect();
        for place in std::mem::take(&mut self.changed) {
            let kept = &self.kept[place * calls..(place + 1) * calls];
            // A place that was given to another group is in the list twice.
            let Some(group) = self.groups[place].as_mut().filter(|g| g.is_changed) else { continue };
            group.is_changed = false;
            group.is_kept = true;
            let mut value = vec![VERSION];
            value.extend(group.events.to_le_bytes());
            kept.iter().for_each(|kept| kept.write(&mut value));
            changes.push(StateChange { key: stored_key(group.start, &group.key), value: Some(value), due: None });
        }
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        changes
    }

    /// Takes in what an earlier run has kept; None where it is damaged.
    pub(super) fn restore(&mut self, plan: &WindowPlan, key: &[u8], value: &[u8]) -> Option<()> {
        let mut rest = key;
        let start = i64::from_be_bytes(take(&mut rest)?);
        let place = self.open(plan, start, rest);
        let mut value = value;
        if take::<1>(&mut value)? != [VERSION] {
            return None;
        }
        let events = u64::from_le_bytes(take(&mut value)?);
        let calls = plan.calls.len();
        for call in 0..calls {
            self.kept_mut(place, call, calls).read(&mut value)?;
        }
        if let Some(group) = &mut self.groups[place] {
            group.events = events;
            group.is_kept = true;
        }
        value.is_empty().then_some(())
    }
}

/// The key of a group in the ledger.
fn stored_key(start: i64, key: &[u8]) -> Box<[u8]> {
    [&start.to_be_bytes()[..], key].concat().into()
}
