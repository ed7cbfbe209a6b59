//! The open groups of all windows, with what is kept of their events.

use std::collections::{BTreeMap, HashMap};

use super::due::{end_key, session_key};
use super::shape::SessionShape;
use super::{WindowPlan, WindowShape};
use crate::state::StateChange;
use crate::state::cell::take;
use crate::state::ends::{MOMENT, in_order, of_order};
use crate::state::partial::Partial;

/// The layout of what is kept of a group of a window, and of a session before its ends were kept with it.
const VERSION: u8 = 1;

/// The layout of what is kept of a session: what an order by ends wants, then the same.
const WITH_ENDS: u8 = 2;

/// A group of one window.
pub(in crate::state) struct Group {
    /// Where the window begins.
    pub start: i64,
    /// Of a session, the time of its last event.
    pub last: i64,
    /// The values of the group's parts.
    pub key: Box<[u8]>,
    /// Events that leave with this window.
    pub events: u64,
    /// The batch in which it was asked for last.
    used: u64,
    /// Whether it has changed since the last batch.
    is_changed: bool,
    /// Whether the ledger has it.
    is_stored: bool,
    /// Of a session, by which end it stands in the order by ends: it may have grown since.
    due: Option<i64>,
}

impl Group {
    /// Of a session, by which moment it is to be looked for in the ledger.
    pub(super) fn found_by(&self, gap: i64) -> i64 {
        self.due.unwrap_or_else(|| self.last.saturating_add(gap))
    }

    /// Whether it may leave memory: it is as the ledger has it, and has not been asked for lately.
    pub(super) fn may_go(&self, age: u64, batch: u64) -> bool {
        !self.is_changed && self.used + age <= batch
    }
}

/// How far windows and their groups reach, in the order of both.
pub(super) enum Bound {
    /// Up to a group, which is among them.
    Key(i64, Box<[u8]>),
    /// Up to where a window begins, which is not among them.
    Start(i64),
    /// All windows before 1970.
    Negative,
}

/// All groups, by the beginning of their window, or by their key where they are sessions.
#[derive(Default)]
pub(super) struct Groups {
    windows: BTreeMap<i64, HashMap<Box<[u8]>, usize>>,
    /// Where some sessions are in the ledger alone, all those of these keys are here.
    pub(super) sessions: HashMap<Box<[u8]>, Vec<usize>>,
    pub(super) groups: Vec<Option<Group>>,
    /// For each group what is kept for each call.
    partial: Vec<Partial>,
    pub(super) free: Vec<usize>,
    changed: Vec<usize>,
    /// Keys in the ledger of groups that are not there any more.
    gone: Vec<Box<[u8]>>,
    /// Sessions that were merged into others since rows were placed last, each with the one that took it.
    merged: Vec<(usize, usize)>,
    /// How many groups there are, in memory or in the ledger.
    pub(super) count: usize,
    /// How many events there are, in memory or in the ledger, each counted once.
    pub(super) events: u64,
    /// Whether some groups are in the ledger alone.
    pub(super) is_partial: bool,
    /// The number of the batch that is being staged, in this process.
    pub(super) batch: u64,
    /// Whether they are sessions, which the ledger keeps in another order.
    is_of_sessions: bool,
    /// Of sessions, whether the ledger also keeps them by their ends.
    is_indexed: bool,
    /// No session that is in the ledger alone stands in the order by ends before this.
    pub(super) cold_from: Option<i64>,
    /// Sessions that end here or before have been given on.
    pub(super) given: i64,
    /// Where the session ends that ends last.
    latest: i64,
}

impl Groups {
    /// How many groups are in memory.
    pub(super) fn in_memory(&self) -> usize {
        self.groups.len() - self.free.len()
    }

    /// How many windows there are; each session is one.
    pub(super) fn windows(&self) -> usize {
        if self.is_of_sessions { self.count } else { self.windows.len() }
    }

    /// Where the window that ends first ends.
    pub(super) fn earliest_end(&self, shape: WindowShape) -> Option<i64> {
        match shape {
            WindowShape::Fixed(fixed) => {
                self.windows.first_key_value().map(|(start, _)| start.saturating_add(fixed.length))
            }
            WindowShape::Session(_) => {
                let own = self.groups.iter().flatten().map(|group| shape.end_of(group)).min();
                own.into_iter().chain(self.cold_from.filter(|_| self.is_partial)).min()
            }
        }
    }

    /// Where the window that ends last ends.
    pub(super) fn latest_end(&self, shape: WindowShape) -> Option<i64> {
        match shape {
            WindowShape::Fixed(fixed) => {
                self.windows.last_key_value().map(|(start, _)| start.saturating_add(fixed.length))
            }
            WindowShape::Session(_) if self.is_partial => Some(self.latest),
            WindowShape::Session(_) => self.groups.iter().flatten().map(|group| shape.end_of(group)).max(),
        }
    }

    /// The place of a group, where it is open.
    pub(super) fn find(&self, start: i64, key: &[u8]) -> Option<usize> {
        self.windows.get(&start)?.get(key).copied()
    }

    /// Opens a group of a window; gives its place.
    pub(super) fn open_window(&mut self, plan: &WindowPlan, start: i64, key: &[u8]) -> usize {
        self.count += 1;
        self.place_in_window(plan, start, key)
    }

    fn place_in_window(&mut self, plan: &WindowPlan, start: i64, key: &[u8]) -> usize {
        let place = self.open(plan, start, key);
        self.windows.entry(start).or_default().insert(key.into(), place);
        place
    }

    /// Opens a session that begins with an event of a time; gives its place.
    pub(super) fn open_session(&mut self, plan: &WindowPlan, time: i64, key: &[u8]) -> usize {
        self.count += 1;
        self.place_session(plan, time, key)
    }

    fn place_session(&mut self, plan: &WindowPlan, start: i64, key: &[u8]) -> usize {
        let place = self.open(plan, start, key);
        self.sessions.entry(key.into()).or_default().push(place);
        place
    }

    fn open(&mut self, plan: &WindowPlan, start: i64, key: &[u8]) -> usize {
        let (events, used) = (0, self.batch);
        let key = key.into();
        let (is_changed, is_stored, due) = (false, false, None);
        let group = Some(Group { start, last: start, key, events, used, is_changed, is_stored, due });
        let fresh = plan.calls.iter().map(|call| call.start());
        match self.free.pop() {
            Some(place) => {
                self.groups[place] = group;
                let first = place * plan.calls.len();
                fresh.enumerate().for_each(|(i, partial)| self.partial[first + i] = partial);
                place
            }
            None => {
                self.groups.push(group);
                self.partial.extend(fresh);
                self.groups.len() - 1
            }
        }
    }

    /// The sessions of a key.
    pub(super) fn sessions_of(&self, key: &[u8]) -> &[usize] {
        self.sessions.get(key).map_or(&[], Vec::as_slice)
    }

    /// Lets a session reach to an event of a time.
    pub(super) fn extend_session(&mut self, place: usize, time: i64) {
        let Some(group) = &mut self.groups[place] else { return };
        group.last = group.last.max(time);
        if time < group.start {
            if std::mem::take(&mut group.is_stored) {
                self.gone.push(session_key(group.start, &group.key));
            }
            if let Some(due) = group.due.take() {
                self.gone.push(end_key(due, group.start, &group.key));
            }
            group.start = time;
        }
    }

    /// Makes one session of two of one key: `into` takes what `from` has.
    pub(super) fn merge_sessions(&mut self, plan: &WindowPlan, into: usize, from: usize) {
        let Some(taken) = self.groups[from].take() else { return };
        self.count -= 1;
        self.events -= taken.events;
        self.forget_stored(&taken);
        self.extend_session(into, taken.start);
        self.extend_session(into, taken.last);
        self.touch(into, taken.events);
        let calls = plan.calls.len();
        for (number, call) in plan.calls.iter().enumerate() {
            let other = std::mem::replace(&mut self.partial[from * calls + number], call.start());
            call.merge(&mut self.partial[into * calls + number], other);
        }
        if let Some(all) = self.sessions.get_mut(&taken.key) {
            all.retain(|place| *place != from);
        }
        self.merged.push((from, into));
    }

    /// The ledger does not have a group any more.
    fn forget_stored(&mut self, group: &Group) {
        if let Some(due) = group.due {
            self.gone.push(end_key(due, group.start, &group.key));
        }
        match (group.is_stored, self.is_of_sessions) {
            (true, true) => self.gone.push(session_key(group.start, &group.key)),
            // Where some are in the ledger alone, all of a window are removed at once.
            (true, false) if !self.is_partial => self.gone.push(stored_key(group.start, &group.key)),
            _ => {}
        }
    }

    /// They are sessions, and those that end at a moment or before have been given on.
    pub(super) fn of_sessions(&mut self, given: i64) {
        self.is_of_sessions = true;
        (self.latest, self.given) = (i64::MIN, given);
    }

    /// So many sessions with so many events are in the ledger alone, the last of which ends at a moment.
    pub(super) fn keep_apart(&mut self, (count, events): (usize, u64), latest: i64) {
        (self.count, self.events, self.latest) = (count, events, latest);
        (self.is_partial, self.is_indexed) = (true, true);
    }

    /// What is kept beside sessions: where the last one ends, and whether the ledger also has them by their ends.
    pub(super) fn of_ends(&self) -> Option<(i64, bool)> {
        self.is_of_sessions.then_some((self.latest, self.is_indexed))
    }

    /// Whether the ledger also has sessions by their ends.
    pub(super) fn is_indexed(&self) -> bool {
        self.is_indexed
    }

    /// Sessions that end at a moment or before have been given on: those in the order before it that go on are moved by the ledger.
    pub(super) fn note_given(&mut self, shape: SessionShape, given: i64) {
        self.given = given;
        if !self.is_indexed {
            return;
        }
        for group in self.groups.iter_mut().flatten() {
            let end = group.last.saturating_add(shape.gap);
            if group.due.is_some_and(|due| due <= given) && end > given {
                // What is written with this batch comes after what the ledger moves.
                group.due = (!group.is_changed).then_some(end);
            }
        }
    }

    /// Finds where the last session ends.
    pub(super) fn note_latest(&mut self, shape: SessionShape) {
        let ends = self.groups.iter().flatten().map(|group| group.last.saturating_add(shape.gap));
        self.latest = ends.max().unwrap_or(i64::MIN);
    }

    /// All groups are written again.
    pub(super) fn rewrite(&mut self) {
        for (place, group) in self.groups.iter_mut().enumerate() {
            if let Some(group) = group {
                (group.is_changed, group.is_stored) = (true, false);
                // The ledger has it as it was.
                group.used = self.batch;
                self.changed.push(place);
            }
        }
    }

    /// From now on the ledger also keeps sessions by their ends: there are more than memory has room for.
    pub(super) fn index(&mut self) {
        if !std::mem::replace(&mut self.is_indexed, true) {
            self.rewrite();
        }
    }

    /// The group that has what a group had when a row was placed there.
    pub(super) fn merged_into(&self, place: usize) -> usize {
        self.merged.iter().fold(place, |place, (from, into)| if place == *from { *into } else { place })
    }

    /// The places of merged sessions can be given to others from now on.
    pub(super) fn free_merged(&mut self) {
        self.free.extend(self.merged.drain(..).map(|(from, _)| from));
    }

    /// Notes that a group changes; `leaves` is the number of events that leave with it.
    pub(super) fn touch(&mut self, place: usize, leaves: u64) {
        let Some(group) = &mut self.groups[place] else { return };
        group.events += leaves;
        group.used = self.batch;
        self.events += leaves;
        if !std::mem::replace(&mut group.is_changed, true) {
            self.changed.push(place);
        }
    }

    /// What is kept of a group for one call.
    pub(super) fn partial_mut(&mut self, place: usize, call: usize, calls: usize) -> &mut Partial {
        &mut self.partial[place * calls + call]
    }

    /// What is kept of a group for all calls.
    pub(super) fn partial(&self, place: usize, calls: usize) -> &[Partial] {
        &self.partial[place * calls..(place + 1) * calls]
    }

    /// A group by its place.
    pub(super) fn group(&self, place: usize) -> Option<&Group> {
        self.groups.get(place)?.as_ref()
    }

    /// All groups have been taken in from the ledger, and may leave memory at once.
    pub(super) fn count_all(&mut self) {
        self.batch = 2;
        self.count = self.in_memory();
        self.events = self.groups.iter().flatten().map(|group| group.events).sum();
    }

    /// There are groups of a window.
    pub(super) fn note_window(&mut self, start: i64) {
        self.windows.entry(start).or_default();
    }

    /// Whether a window has groups, in memory or in the ledger.
    pub(super) fn has_window(&self, start: i64) -> bool {
        self.windows.contains_key(&start)
    }

    /// Windows that begin here or before have no groups any more.
    pub(super) fn forget_windows(&mut self, last: i64) {
        self.windows.retain(|start, _| *start > last);
    }

    /// Whether a group stands before a bound, in the order of windows and keys.
    pub(super) fn is_before(&self, place: usize, bound: &Bound) -> bool {
        self.group(place).is_some_and(|group| match bound {
            Bound::Key(start, key) => (group.start, &*group.key) <= (*start, &**key),
            Bound::Start(end) => group.start < *end,
            Bound::Negative => group.start < 0,
        })
    }

    /// Puts groups into the order of their windows and keys.
    pub(super) fn sort(&self, places: &mut [usize]) {
        places.sort_by(|a, b| self.order(*a).cmp(&self.order(*b)));
    }

    /// Lets groups leave memory that are in the ledger, those first that were not asked for longest, where there are more than
    /// so many.
    pub(super) fn evict(&mut self, most: usize, unsealed: u64) {
        if self.in_memory() <= most {
            return;
        }
        let known = self.free.len();
        // A batch is not sealed itself before it ends. Room is made for more than one batch.
        for age in [64, 16, unsealed + 2] {
            if self.in_memory() <= most / 4 * 3 {
                break;
            }
            let Self { windows, groups, free, is_partial, batch, .. } = self;
            for (place, slot) in groups.iter_mut().enumerate() {
                let Some(group) = slot.take_if(|group| group.may_go(age, *batch)) else { continue };
                if let Some(window) = windows.get_mut(&group.start) {
                    window.remove(&group.key);
                }
                free.push(place);
                *is_partial = true;
            }
        }
        self.empty(known);
    }

    /// Lets go of what was kept of groups whose places have become free, from one of the free places on: lists are large.
    pub(super) fn empty(&mut self, first: usize) {
        let calls = self.partial.len() / self.groups.len().max(1);
        for place in &self.free[first..] {
            self.partial[place * calls..(place + 1) * calls].fill(Partial::Count(0));
        }
    }

    /// The number of the next batch.
    pub(super) fn next_batch(&mut self) {
        self.batch += 1;
    }

    /// The groups of windows of a length that end at a time or before, in the order of their windows and keys.
    pub(super) fn ending(&self, end: i64, shape: WindowShape) -> Vec<usize> {
        let WindowShape::Fixed(fixed) = shape else {
            let is_over = |place: &usize| self.group(*place).is_some_and(|group| shape.end_of(group) <= end);
            let mut found: Vec<usize> = (0..self.groups.len()).filter(is_over).collect();
            self.sort(&mut found);
            return found;
        };
        let mut all = Vec::new();
        for (_, groups) in self.windows.iter().take_while(|(start, _)| start.saturating_add(fixed.length) <= end) {
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
        self.sort(&mut found);
        found
    }

    fn order(&self, place: usize) -> Option<(i64, &[u8])> {
        self.groups[place].as_ref().map(|g| (g.start, &*g.key))
    }

    /// Forgets groups.
    pub(super) fn drop_all(&mut self, places: &[usize]) {
        for place in places {
            let Some(group) = self.groups[*place].take() else { continue };
            self.count -= 1;
            self.events -= group.events;
            if let Some(window) = self.windows.get_mut(&group.start) {
                window.remove(&group.key);
                if window.is_empty() && !self.is_partial {
                    self.windows.remove(&group.start);
                }
            } else if let Some(all) = self.sessions.get_mut(&group.key) {
                all.retain(|one| one != place);
                if all.is_empty() {
                    self.sessions.remove(&group.key);
                }
            }
            // Of sessions in the order of their ends, all that have ended are removed at once.
            if !self.is_indexed {
                self.forget_stored(&group);
            }
            self.free.push(*place);
        }
    }

    /// What has changed since the last call.
    pub(super) fn changes(&mut self, plan: &WindowPlan) -> Vec<StateChange> {
        let calls = plan.calls.len();
        let mut changes: Vec<StateChange> =
            self.gone.drain(..).map(|key| StateChange { key, value: None, due: None }).collect();
        for place in std::mem::take(&mut self.changed) {
            let partial = &self.partial[place * calls..(place + 1) * calls];
            // A place that was given to another group is in the list twice.
            let Some(group) = self.groups[place].as_mut().filter(|g| g.is_changed) else { continue };
            group.is_changed = false;
            group.is_stored = true;
            let key = match plan.shape {
                WindowShape::Fixed(_) => stored_key(group.start, &group.key),
                WindowShape::Session(shape) => {
                    let end = group.last.saturating_add(shape.gap);
                    self.latest = self.latest.max(end);
                    // One that grows moves in the order when time passes its place there.
                    if self.is_indexed && group.due.is_none() {
                        group.due = Some(end);
                        let key = end_key(end, group.start, &group.key);
                        changes.push(StateChange { key, value: Some(Vec::new()), due: None });
                    }
                    session_key(group.start, &group.key)
                }
            };
            let mut value = vec![VERSION];
            if let WindowShape::Session(shape) = plan.shape {
                value[0] = WITH_ENDS;
                value.extend(in_order(group.due.unwrap_or(i64::MIN)));
                value.extend(in_order(group.last.saturating_add(shape.gap)));
            }
            value.extend(group.events.to_le_bytes());
            partial.iter().for_each(|partial| partial.write(&mut value));
            changes.push(StateChange { key, value: Some(value), due: None });
        }
        // In the order in which the ledger keeps them. A key that a session left and another one took is kept.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key).then(b.value.is_some().cmp(&a.value.is_some())));
        changes.dedup_by(|later, kept| later.key == kept.key);
        changes
    }

    /// Takes in what an earlier run has kept, and gives its place; None where it is damaged.
    pub(super) fn restore(&mut self, plan: &WindowPlan, start: i64, key: &[u8], value: &[u8]) -> Option<usize> {
        let is_session = matches!(plan.shape, WindowShape::Session(_));
        let place =
            if is_session { self.place_session(plan, start, key) } else { self.place_in_window(plan, start, key) };
        let mut value = value;
        let (mut last, mut due) = (start, None);
        let events = match (take::<1>(&mut value)?, is_session) {
            ([WITH_ENDS], true) => {
                due = Some(of_order(take(&mut value)?));
                let WindowShape::Session(shape) = plan.shape else { return None };
                last = of_order(take(&mut value)?).saturating_sub(shape.gap);
                u64::from_le_bytes(take(&mut value)?)
            }
            ([VERSION], true) => {
                let events = u64::from_le_bytes(take(&mut value)?);
                last = i64::from_le_bytes(take(&mut value)?);
                events
            }
            ([VERSION], false) => u64::from_le_bytes(take(&mut value)?),
            _ => return None,
        };
        let calls = plan.calls.len();
        for call in 0..calls {
            self.partial_mut(place, call, calls).read(&mut value)?;
        }
        if let Some(group) = &mut self.groups[place] {
            (group.events, group.last) = (events, last);
            group.is_stored = true;
            if let WindowShape::Session(shape) = plan.shape {
                // One whose place in the order has been passed by a batch that is not sealed yet moves to its end with that.
                let due = due.filter(|due| *due > self.given);
                group.due = self.is_indexed.then(|| due.unwrap_or_else(|| last.saturating_add(shape.gap)));
            }
        }
        value.is_empty().then_some(place)
    }
}

/// By which end what is kept of a session stands in the order by ends; None where an earlier version wrote it.
pub(super) fn standing(value: &[u8]) -> Option<i64> {
    value.strip_prefix(&[WITH_ENDS])?.first_chunk::<MOMENT>().map(|bytes| of_order(*bytes))
}

/// The key of a group in the ledger.
pub(super) fn stored_key(start: i64, key: &[u8]) -> Box<[u8]> {
    [&start.to_be_bytes()[..], key].concat().into()
}
