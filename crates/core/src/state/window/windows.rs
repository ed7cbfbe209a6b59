//! The station that gathers events into windows.

use std::collections::{HashSet, VecDeque};
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, BooleanArray, RecordBatch};

use super::groups::Groups;
use super::kept::{Closing, Reached};
use super::{FixedShape, WindowPlan, WindowShape};
use crate::batch::StationCount;
use crate::failure::Outcome;
use crate::plan::transform::RowFault;
use crate::reject::Reason;
use crate::state::cell::Cells;
use crate::state::once::{early, no_time};
use crate::state::{
    BatchEnd, Changed, Given, KeyRange, NEVER, SEALED_AFTER, Standing, StateChange, StateInput, StateStore, Station,
};
use crate::units::{show_micros, spell_micros};
use crate::values::time::show_timestamp;

pub(in crate::state) struct Windows {
    pub(super) name: String,
    pub(super) plan: Arc<WindowPlan>,
    pub(super) groups: Groups,
    /// Windows that end here or before are closed.
    pub(super) closed: i64,
    /// The same, when the last batch ended: rows of all windows up to here have been given on.
    pub(super) given: i64,
    /// What was kept last of how far it has come.
    pub(super) stored: Option<Reached>,
    /// What closes at the end of the batch, while it is given on.
    pub(super) closing: Option<Closing>,
    /// Of sessions, what of the ledger is still to be given on.
    pub(super) ending: Option<KeyRange>,
    /// Keys in the ledger of windows that were given on.
    pub(super) gone: Vec<KeyRange>,
    /// The ends of sessions that were given on since the last batch, where the ledger has these in their order.
    pub(super) ended: Option<KeyRange>,
    /// Up to where sessions had been given on after each of the last batches, those first that have certainly been sealed.
    pub(super) given_before: VecDeque<i64>,
    /// The first end of sessions that were passed in the order by ends, and go on.
    pub(super) passed_first: Option<i64>,
    /// Sessions that were given on in this closing and may be found in the order once more.
    pub(super) given_early: HashSet<Box<[u8]>>,
}

/// Where a row goes.
pub(super) struct Placed {
    pub(super) row: usize,
    pub(super) group: usize,
}

impl Windows {
    pub(super) fn new(name: &str, plan: Arc<WindowPlan>) -> Self {
        Self {
            name: name.to_string(),
            plan,
            groups: Groups::default(),
            closed: NEVER,
            given: NEVER,
            stored: None,
            closing: None,
            ending: None,
            gone: Vec::new(),
            ended: None,
            given_before: VecDeque::from([NEVER]),
            passed_first: None,
            given_early: HashSet::new(),
        }
    }

    /// Where the rows go; those that cannot go anywhere are at fault.
    pub(super) fn place(&mut self, input: StateInput<'_>, faults: &mut Vec<RowFault>) -> Vec<Placed> {
        let StateInput { rows, watermarks, now, .. } = input;
        let plan = Arc::clone(&self.plan);
        let columns = rows.columns();
        let times = columns[plan.time].as_primitive::<TimestampMicrosecondType>();
        let parts: Vec<Cells<'_>> = plan.groups.iter().map(|(i, c)| Cells::of(&columns[*i], c.ty)).collect();
        let latest = now.saturating_add(plan.ahead);
        let mut placed = Vec::with_capacity(rows.num_rows());
        let mut key = Vec::new();
        for (row, watermark) in watermarks.iter().copied().enumerate() {
            self.closed = self.closed.max(if watermark == NEVER { NEVER } else { watermark.saturating_sub(plan.late) });
            if times.is_null(row) {
                faults.push(no_time(row));
                continue;
            }
            let time = times.value(row);
            if time > latest {
                faults.push(early(row, time, now, plan.ahead));
                continue;
            }
            key.clear();
            parts.iter().for_each(|part| part.write_key(row, &mut key));
            match plan.shape {
                WindowShape::Fixed(shape) => self.place_fixed(shape, (row, time, watermark), &key, &mut placed, faults),
                WindowShape::Session(shape) => {
                    // What is accepted is not earlier than this, so that no closed session would have grown.
                    if time < self.closed {
                        faults.push(self.late(row, time, watermark));
                    } else if self.groups.count >= plan.most && self.groups.session_of(&key, time, shape).is_none() {
                        faults.push(self.full(row));
                    } else {
                        let group = self.groups.enter_session(&plan, &key, time, shape);
                        self.groups.touch(group, 1);
                        placed.push(Placed { row, group });
                    }
                }
            }
        }
        for one in &mut placed {
            one.group = self.groups.merged_into(one.group);
        }
        self.groups.free_merged();
        placed
    }

    /// Where a row goes in windows of one length.
    fn place_fixed(
        &mut self,
        shape: FixedShape,
        (row, time, watermark): (usize, i64, i64),
        key: &[u8],
        placed: &mut Vec<Placed>,
        faults: &mut Vec<RowFault>,
    ) {
        let closed = self.closed;
        let is_open = |start: &i64| start.saturating_add(shape.length) > closed;
        let Some(last) = shape.starts(time).next().filter(is_open) else {
            faults.push(self.late(row, time, watermark));
            return;
        };
        if self.groups.count >= self.plan.most && self.groups.find(last, key).is_none() {
            faults.push(self.full(row));
            return;
        }
        for start in shape.starts(time).take_while(is_open) {
            let found = self.groups.find(start, key);
            let group = found.unwrap_or_else(|| self.groups.open_window(&self.plan, start, key));
            self.groups.touch(group, u64::from(start == last));
            placed.push(Placed { row, group });
        }
    }

    /// A row that would open one group too many.
    fn full(&self, row: usize) -> RowFault {
        let message = format!("{} groups are open, as many as `most` allows", self.plan.most);
        RowFault { row, column: None, reason: Reason::FULL, message }
    }

    /// A row whose windows are all closed.
    fn late(&self, row: usize, time: i64, watermark: i64) -> RowFault {
        let window = match self.plan.shape {
            WindowShape::Fixed(shape) => shape.starts(time).next().map_or_else(String::new, |start| {
                let end = start.saturating_add(shape.length);
                format!("its window from {} to {} has closed", show_timestamp(start), show_timestamp(end))
            }),
            WindowShape::Session(_) => "sessions at its time have closed".to_string(),
        };
        let behind = if watermark == NEVER { 0 } else { watermark.saturating_sub(time) };
        let why = match behind > self.plan.late {
            true => format!(
                "it is {} behind the newest event, late = \"{}\"",
                show_micros(behind),
                spell_micros(self.plan.late)
            ),
            false => "all that was there had been read".to_string(),
        };
        RowFault { row, column: None, reason: Reason::LATE, message: format!("{window}: {why}") }
    }

    /// Adds the rows to their groups, one call after the other.
    pub(super) fn add(&mut self, rows: &RecordBatch, placed: &[Placed]) {
        let plan = Arc::clone(&self.plan);
        let columns = rows.columns();
        let times = columns[plan.time].as_primitive::<TimestampMicrosecondType>();
        for (number, call) in plan.calls.iter().enumerate() {
            let argument = call.argument.map(|(place, ty)| Cells::of(&columns[place], ty));
            let filter: Option<&BooleanArray> = call.filter.map(|place| columns[place].as_boolean());
            for Placed { row, group } in placed {
                if filter.is_some_and(|filter| filter.is_null(*row) || !filter.value(*row)) {
                    continue;
                }
                let partial = self.groups.partial_mut(*group, number, plan.calls.len());
                call.add(partial, argument.as_ref(), *row, times.value(*row));
            }
        }
    }

    /// Up to where windows are closed at a watermark.
    fn closing_at(&self, watermark: i64, all: bool) -> i64 {
        match (all, self.groups.latest_end(self.plan.shape)) {
            (true, Some(latest)) => self.closed.max(latest),
            _ if watermark == NEVER => self.closed,
            _ => self.closed.max(watermark.saturating_sub(self.plan.late)),
        }
    }
}

impl Station for Windows {
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.fetch(input.rows, store)?;
        let placed = self.place(input, &mut given.faults);
        self.add(input.rows, &placed);
        given.count.rejected = given.faults.len() as u64;
        let taken = input.rows.num_rows() - given.faults.len();
        given.count.held = i64::try_from(taken).unwrap_or(i64::MAX);
        Ok(given)
    }

    fn end(&mut self, watermark: i64, all: bool, store: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        let is_first = self.closing.is_none() && self.ending.is_none();
        if is_first {
            self.closed = self.closing_at(watermark, all);
        }
        let changed = (self.plan.gives_changes && is_first).then(|| self.groups.changed());
        let (over, has_more) = self.over(store)?;
        let leaving: u64 = over.iter().filter_map(|place| Some(self.groups.group(*place)?.events)).sum();
        let places = match &changed {
            Some(changed) => changed.as_slice(),
            None if self.plan.gives_changes => &[],
            None => &over,
        };
        if !places.is_empty() {
            self.rows(places, &mut given)?;
        }
        self.groups.drop_all(&over);
        given.has_more = has_more;
        if !has_more {
            self.closed_all(store)?;
            self.given = self.closed;
        }
        given.count.merged = leaving;
        given.count.held = -i64::try_from(leaving).unwrap_or(i64::MAX);
        Ok(given)
    }

    fn would_give(&self, watermark: i64, all: bool) -> bool {
        let closing = self.closing_at(watermark, all);
        self.groups.earliest_end(self.plan.shape).is_some_and(|end| end <= closing)
    }

    fn changes(&mut self, end: BatchEnd, store: &dyn StateStore) -> Outcome<Changed> {
        let is_over = self.groups.count > self.plan.in_memory && store.keeps(&self.name);
        if is_over && matches!(self.plan.shape, WindowShape::Session(_)) {
            self.groups.index();
        }
        let mut changes = self.groups.changes(&self.plan);
        let open = Some((self.groups.count, self.groups.events));
        let reached = Reached { closed: self.closed, open, sessions: self.groups.of_ends() };
        if self.stored != Some(reached) {
            self.stored = Some(reached);
            changes.insert(0, StateChange { key: Box::default(), value: Some(reached.write()), due: None });
        }
        self.groups.next_batch();
        self.given_before.push_back(self.given);
        while self.given_before.len() as u64 > SEALED_AFTER + 1 {
            self.given_before.pop_front();
        }
        self.evict(end.unsealed, store);
        Ok(Changed { gone: std::mem::take(&mut self.gone), ended: self.ended.take(), changes, due: None })
    }

    fn passed(&self) -> i64 {
        // A row of the next window to close may begin as early as this.
        if self.given == NEVER { NEVER } else { self.given.saturating_sub(self.plan.shape.longest()) }
    }

    fn standing(&self) -> Standing {
        Standing {
            windows: self.groups.windows() as u64,
            groups: self.groups.count as u64,
            events: self.groups.events,
            waiting: 0,
            closed: (self.closed != NEVER).then_some(self.closed),
        }
    }
}
