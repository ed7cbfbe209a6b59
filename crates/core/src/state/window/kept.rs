//! Groups that are in the ledger alone: what memory has no room for comes back when it is asked for.
//!
//! The ledger keeps groups by where their window begins. A window that has closed is never asked for again, so that what a batch
//! has given on need not be gone from the ledger when the next one is staged: reading begins after it.

use std::collections::VecDeque;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch};

use super::groups::{Bound, Groups, stored_key};
use super::{FixedShape, WindowPlan, WindowShape, Windows};
use crate::failure::Outcome;
use crate::state::cell::{Cells, take};
use crate::state::{KeyRange, NEVER, StateStore, damaged};

/// So many groups are read from the ledger and given on at a time.
pub(super) const PORTION: usize = if cfg!(test) { 3 } else { 16_384 };

/// What the empty key tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Reached {
    /// Windows that end here or before are closed.
    pub closed: i64,
    /// How many groups are open, and how many events they have; None where an earlier version kept them.
    pub open: Option<(usize, u64)>,
    /// Of sessions, where the last one ends, and whether the ledger also has them by their ends.
    pub sessions: Option<(i64, bool)>,
}

impl Reached {
    pub(super) fn read(mut bytes: &[u8]) -> Option<Self> {
        let closed = i64::from_le_bytes(take(&mut bytes)?);
        if bytes.is_empty() {
            return Some(Self { closed, open: None, sessions: None });
        }
        let count = usize::try_from(u64::from_le_bytes(take(&mut bytes)?)).ok()?;
        let open = Some((count, u64::from_le_bytes(take(&mut bytes)?)));
        let sessions = match bytes.is_empty() {
            true => None,
            false => Some((i64::from_le_bytes(take(&mut bytes)?), take(&mut bytes)? == [1])),
        };
        Some(Self { closed, open, sessions })
    }

    pub(super) fn write(self) -> Vec<u8> {
        let (count, events) = self.open.unwrap_or_default();
        let mut bytes = [self.closed.to_le_bytes(), (count as u64).to_le_bytes(), events.to_le_bytes()].concat();
        if let Some((latest, is_indexed)) = self.sessions {
            bytes.extend(latest.to_le_bytes());
            bytes.push(u8::from(is_indexed));
        }
        bytes
    }
}

/// The windows that close at the end of a batch, as far as the ledger has them.
pub(super) struct Closing {
    /// What is still to be read, the last one first.
    ranges: Vec<KeyRange>,
    /// The groups that are in memory and were not given on yet, in their order.
    memory: std::iter::Peekable<std::vec::IntoIter<usize>>,
    /// All of it.
    all: Vec<KeyRange>,
}

impl WindowPlan {
    /// The time and the bytes of the group of each prepared row that has a time.
    pub(super) fn each_key(&self, rows: &RecordBatch, mut found: impl FnMut(i64, &[u8])) {
        let columns = rows.columns();
        let times = columns[self.time].as_primitive::<TimestampMicrosecondType>();
        let parts: Vec<Cells<'_>> = self.groups.iter().map(|(i, c)| Cells::of(&columns[*i], c.ty)).collect();
        let mut key = Vec::new();
        for row in (0..rows.num_rows()).filter(|row| times.is_valid(*row)) {
            key.clear();
            parts.iter().for_each(|part| part.write_key(row, &mut key));
            found(times.value(row), &key);
        }
    }
}

impl Windows {
    /// Takes in what an earlier run has kept: all of it, or just how much there is where it is too much for memory.
    pub(in crate::state) fn open(name: &str, plan: Arc<WindowPlan>, store: &dyn StateStore) -> Outcome<Self> {
        let mut windows = Self::new(name, plan);
        let reached = store.values(name, &[&[]])?.into_iter().next().flatten();
        if let Some(reached) = reached {
            let reached = Reached::read(&reached).ok_or_else(|| damaged(name))?;
            (windows.closed, windows.given) = (reached.closed, reached.closed);
            windows.given_before = VecDeque::from([reached.closed]);
            windows.stored = Some(reached);
        }
        if let WindowShape::Session(shape) = windows.plan.shape {
            let reached = windows.stored;
            windows.open_sessions(shape, reached, store)?;
            return Ok(windows);
        }
        let too_many = windows.stored.and_then(|reached| reached.open).filter(|(n, _)| *n > windows.plan.in_memory);
        match too_many {
            Some((count, events)) if store.keeps(name) => {
                (windows.groups.count, windows.groups.events) = (count, events);
                windows.groups.is_partial = true;
                windows.find_windows(store)?;
            }
            _ => {
                let Self { groups, plan, .. } = &mut windows;
                store.each(name, &mut |key, value| match key.is_empty() {
                    true => Ok(()),
                    false => restore(groups, plan, key, value).map(|_| ()).ok_or_else(|| damaged(name)),
                })?;
                groups.count_all();
                windows.evict(0, store);
            }
        }
        Ok(windows)
    }

    /// Finds where the windows begin that the ledger has.
    fn find_windows(&mut self, store: &dyn StateStore) -> Outcome<()> {
        // The empty key stands before them.
        let mut range = KeyRange { from: [0].into(), to: None };
        while let Some((key, _)) = store.part(&self.name, &range, 1)?.into_iter().next() {
            let start = start_of(&key).ok_or_else(|| damaged(&self.name))?;
            self.groups.note_window(start);
            // In the order of bytes -1 stands last.
            let Some(next) = start.checked_add(1).filter(|_| start != -1) else { break };
            range.from = next.to_be_bytes().into();
        }
        Ok(())
    }

    /// Takes the groups into memory that rows belong to.
    pub(super) fn fetch(&mut self, rows: &RecordBatch, store: &dyn StateStore) -> Outcome<()> {
        let shape = match self.plan.shape {
            _ if !self.groups.is_partial => return Ok(()),
            WindowShape::Fixed(shape) => shape,
            WindowShape::Session(shape) => return self.fetch_sessions(shape, rows, store),
        };
        let plan = Arc::clone(&self.plan);
        let mut unknown: Vec<Box<[u8]>> = Vec::new();
        plan.each_key(rows, |time, key| {
            let is_open = |start: &i64| start.saturating_add(shape.length) > self.closed;
            for start in shape.starts(time).take_while(is_open) {
                if self.groups.has_window(start) && self.groups.find(start, key).is_none() {
                    unknown.push(stored_key(start, key));
                }
            }
        });
        // Neighbours stand on one page of the ledger.
        unknown.sort_unstable();
        unknown.dedup();
        let found = store.values(&self.name, &unknown.iter().map(|key| &**key).collect::<Vec<_>>())?;
        for (key, value) in unknown.iter().zip(found) {
            let Some(value) = value else { continue };
            restore(&mut self.groups, &plan, key, &value).ok_or_else(|| damaged(&self.name))?;
        }
        Ok(())
    }

    /// The groups of windows that have closed, in the order of their windows and keys; a part of them where more follow.
    pub(super) fn over(&mut self, store: &dyn StateStore) -> Outcome<(Vec<usize>, bool)> {
        let shape = match self.plan.shape {
            WindowShape::Session(shape) => return self.sessions_over(shape, store),
            WindowShape::Fixed(shape) if self.groups.is_partial => shape,
            WindowShape::Fixed(_) => return Ok((self.groups.ending(self.closed, self.plan.shape), false)),
        };
        let (given, closed) = (self.given, self.closed);
        let (groups, window) = (&self.groups, self.plan.shape);
        let closing = self.closing.get_or_insert_with(|| {
            let all = closing_ranges(shape, given, closed);
            let memory = groups.ending(closed, window).into_iter().peekable();
            Closing { ranges: all.iter().rev().cloned().collect(), memory, all }
        });
        let Some(range) = closing.ranges.last_mut() else {
            // Nothing closes.
            self.closing = None;
            return Ok((Vec::new(), false));
        };
        let part = store.part(&self.name, range, PORTION)?;
        let plan = Arc::clone(&self.plan);
        let mut over = Vec::new();
        for (key, value) in &part {
            let (start, rest) = start_of(key).zip(key.get(8..)).ok_or_else(|| damaged(&self.name))?;
            if self.groups.find(start, rest).is_none() {
                over.push(restore(&mut self.groups, &plan, key, value).ok_or_else(|| damaged(&self.name))?);
            }
        }
        let bound = match part.last().filter(|_| part.len() == PORTION) {
            Some((last, _)) => {
                range.from = [last, &[0][..]].concat().into();
                Bound::Key(start_of(last).unwrap_or(NEVER), last.get(8..).unwrap_or_default().into())
            }
            None => {
                // The end of the range, which is not one of its windows.
                let end = range.to.as_deref().and_then(start_of);
                closing.ranges.pop();
                end.map_or(Bound::Negative, Bound::Start)
            }
        };
        let has_more = !closing.ranges.is_empty();
        while let Some(place) = closing.memory.next_if(|place| self.groups.is_before(*place, &bound)) {
            over.push(place);
        }
        self.groups.sort(&mut over);
        Ok((over, has_more))
    }

    /// All that has closed was given on.
    pub(super) fn closed_all(&mut self, store: &dyn StateStore) -> Outcome<()> {
        let shape = match self.plan.shape {
            WindowShape::Fixed(shape) => shape,
            WindowShape::Session(shape) => return self.sessions_closed(shape, store),
        };
        let Some(closing) = self.closing.take() else { return Ok(()) };
        self.groups.forget_windows(self.closed.saturating_sub(shape.length));
        self.gone.extend(closing.all);
        // What is in memory is all there is.
        self.groups.is_partial = self.groups.in_memory() < self.groups.count;
        Ok(())
    }

    /// Lets groups leave memory that are in the ledger, where there are too many.
    pub(super) fn evict(&mut self, unsealed: u64, store: &dyn StateStore) {
        if !store.keeps(&self.name) {
            return;
        }
        match self.plan.shape {
            WindowShape::Fixed(_) => self.groups.evict(self.plan.in_memory, unsealed),
            WindowShape::Session(shape) => self.groups.evict_sessions(shape, self.plan.in_memory, unsealed),
        }
    }
}

/// Takes in a group of a window of one length.
fn restore(groups: &mut Groups, plan: &WindowPlan, key: &[u8], value: &[u8]) -> Option<usize> {
    let (start, rest) = key.split_first_chunk::<8>()?;
    groups.restore(plan, i64::from_be_bytes(*start), rest, value)
}

/// Where the window of a key in the ledger begins.
fn start_of(key: &[u8]) -> Option<i64> {
    key.first_chunk::<8>().map(|bytes| i64::from_be_bytes(*bytes))
}

/// The keys of windows that end after one moment, and at another one or before: the earlier ones first. Windows before 1970
/// stand after all others in the order of bytes.
fn closing_ranges(shape: FixedShape, given: i64, closed: i64) -> Vec<KeyRange> {
    let first = if given == NEVER { i64::MIN } else { given.saturating_sub(shape.length).saturating_add(1) };
    let Some(end) = closed.checked_sub(shape.length).and_then(|last| last.checked_add(1)) else { return Vec::new() };
    if closed == NEVER || first >= end {
        return Vec::new();
    }
    let bytes = |start: i64| -> Box<[u8]> { start.to_be_bytes().into() };
    let range = |from: i64, to: Option<i64>| KeyRange { from: bytes(from), to: to.map(bytes) };
    match (first < 0, end > 0) {
        (true, true) => vec![range(first, None), range(0, Some(end))],
        // Up to the highest of all.
        (true, false) if end == 0 => vec![range(first, None)],
        _ => vec![range(first, Some(end))],
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(NEVER, 30, &[-9, 0, 20], &[21, 30])]
    #[case(10, 30, &[1, 20], &[-1, 0, 21])]
    #[case(-20, 30, &[-29, -1, 0, 20], &[-30, 21])]
    #[case(NEVER, 10, &[i64::MIN, -1, 0], &[1])]
    #[case(NEVER, 9, &[i64::MIN, -1], &[0, 1])]
    #[case(NEVER, -50, &[i64::MIN, -60], &[-59, 0])]
    #[case(30, 30, &[], &[20, 21])]
    #[case(NEVER, NEVER, &[], &[0, i64::MIN])]
    #[case(NEVER, i64::MAX, &[i64::MIN, 0, i64::MAX - 10], &[i64::MAX])]
    fn what_closes_is_found(#[case] given: i64, #[case] closed: i64, #[case] has: &[i64], #[case] lacks: &[i64]) {
        let ranges = closing_ranges(FixedShape { length: 10, every: 10 }, given, closed);
        let is_in = |start: &i64| ranges.iter().any(|range| range.has(&stored_key(*start, b"LK1")));
        assert!(has.iter().all(is_in), "{ranges:?}");
        assert!(!lacks.iter().any(is_in), "{ranges:?}");
    }
}
