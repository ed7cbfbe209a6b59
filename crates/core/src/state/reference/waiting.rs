//! A reference whose events wait for their row: it may be read later than they are.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, ArrayRef, RecordBatch, UInt32Array};
use arrow_select::take::{take_arrays, take_record_batch};
use rustc_hash::FxHashSet;

use super::super::cell::take;
use super::super::join::{At, Blocks, LEFT, RIGHT, key_cells, write_key};
use super::super::{BatchEnd, Changed, Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use super::latest::Latest;
use super::rows::batch_of;
use super::{Found, ReferencePlan};
use crate::batch::StationCount;
use crate::failure::{Failure, Outcome};
use crate::formats::{JsonLines, RowWriter as _};
use crate::plan::transform::RowFault;
use crate::reject::Reason;
use crate::units::show_micros;

/// Keys in the ledger that begin with it are rows of the reference; the others are those of [`Blocks`].
const OF_REFERENCE: &[u8] = &[2];

pub(super) struct Patient {
    name: String,
    plan: Arc<ReferencePlan>,
    /// How long an event waits for its row, in microseconds of event time.
    wait: i64,
    latest: Latest,
    /// The events that wait.
    blocks: Blocks,
    /// How far event time has come: events that were to wait until before it wait no more.
    reached: i64,
    /// The same, when the last batch ended.
    given: i64,
    /// The same, as it was kept last.
    stored_reached: i64,
    /// The moment at which the last batch was opened.
    now: i64,
}

impl Patient {
    pub(super) fn open(name: &str, plan: &Arc<ReferencePlan>, wait: i64, store: &dyn StateStore) -> Outcome<Self> {
        let latest = Latest::open(name, plan, OF_REFERENCE, store)?;
        let (mut blocks, mut reached) = (Blocks::default(), NEVER);
        store.each(name, &mut |key, value| {
            let done = match key {
                [] => take(&mut &*value).map(|bytes| reached = i64::from_le_bytes(bytes)),
                _ if key.starts_with(OF_REFERENCE) => Some(()),
                _ => blocks.restore(&plan.sides, key, value),
            };
            done.ok_or_else(|| damaged(name))
        })?;
        blocks.index_all(&plan.sides);
        let (name, plan) = (name.to_string(), Arc::clone(plan));
        Ok(Self { name, plan, wait, latest, blocks, reached, given: reached, stored_reached: reached, now: 0 })
    }

    fn count(&self) -> StationCount {
        StationCount::new(self.name.as_str())
    }

    /// Looks events up; those whose key has no row yet begin to wait.
    fn look_up(&mut self, input: StateInput<'_>, given: &mut Given) -> Outcome<()> {
        let StateInput { rows, watermarks, now, .. } = input;
        let plan = Arc::clone(&self.plan);
        let times = rows.column(plan.sides[LEFT].time()).as_primitive::<TimestampMicrosecondType>();
        let mut room = plan.most.saturating_sub(self.latest.len() + self.blocks.live());
        let mut waiting: Vec<u32> = Vec::new();
        let (latest, reached, wait) = (&self.latest, &mut self.reached, self.wait);
        plan.look_up(latest.rows(), rows, now, given, |key, row| {
            *reached = (*reached).max(watermarks[row]);
            if let Some(spot) = latest.find(key) {
                return Found::Row(spot);
            }
            if times.is_null(row) || times.value(row).saturating_add(wait) < *reached {
                return Found::Nothing;
            }
            let Some(left) = room.checked_sub(1) else { return Found::Full };
            room = left;
            waiting.push(u32::try_from(row).unwrap_or(u32::MAX));
            Found::Later
        })?;
        if !waiting.is_empty() {
            given.count.held = i64::try_from(waiting.len()).unwrap_or(i64::MAX);
            let rows = take_record_batch(rows, &UInt32Array::from(waiting)).map_err(|e| internal(&e))?;
            self.remember(&rows);
        }
        Ok(())
    }

    fn remember(&mut self, rows: &RecordBatch) {
        let side = &self.plan.sides[LEFT];
        let block = self.blocks.add(rows.clone(), LEFT, side.time());
        let parts = key_cells(side, rows);
        let mut key = Vec::new();
        for row in 0..rows.num_rows() {
            if write_key(&parts, row, &mut key) {
                self.blocks.index(LEFT, &key, At { block, row: u32::try_from(row).unwrap_or(u32::MAX) });
            }
        }
    }

    /// Gives the events on that have waited for some of these rows: with the first row of their key.
    fn give_to_waiting(&mut self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        if self.blocks.live() == 0 {
            return Ok(());
        }
        let plan = Arc::clone(&self.plan);
        let refused: FxHashSet<usize> = given.faults.iter().map(|fault| fault.row).collect();
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let (mut events, mut found) = (Vec::new(), Vec::new());
        let mut key = Vec::new();
        for row in 0..rows.num_rows() {
            let is_deleted = deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row));
            if is_deleted || refused.contains(&row) || !write_key(&parts, row, &mut key) {
                continue;
            }
            for at in self.blocks.release(LEFT, &key) {
                events.push(at);
                found.push(u32::try_from(row).unwrap_or(u32::MAX));
            }
        }
        if events.is_empty() {
            return Ok(());
        }
        let own: Vec<ArrayRef> = rows.columns()[..plan.sides[RIGHT].columns.len()].to_vec();
        let looked_up = take_arrays(&own, &UInt32Array::from(found), None).map_err(|e| internal(&e))?;
        given.count.held -= i64::try_from(events.len()).unwrap_or(i64::MAX);
        self.pair(&events, looked_up, given)
    }

    /// Gives the events on that have waited for rows which some changes have left.
    fn give_known_to_waiting(&mut self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        if self.blocks.live() == 0 {
            return Ok(());
        }
        let plan = Arc::clone(&self.plan);
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let (mut events, mut found) = (Vec::new(), Vec::new());
        let mut key = Vec::new();
        for row in 0..rows.num_rows() {
            let Some(spot) = write_key(&parts, row, &mut key).then(|| self.latest.find(&key)).flatten() else {
                continue;
            };
            for at in self.blocks.release(LEFT, &key) {
                events.push(at);
                found.push(Some(spot));
            }
        }
        if events.is_empty() {
            return Ok(());
        }
        let looked_up = self.latest.rows().gather(&found)?;
        given.count.held -= i64::try_from(events.len()).unwrap_or(i64::MAX);
        self.pair(&events, looked_up, given)
    }

    /// The event with the columns that are looked up, for each that has waited.
    fn pair(&self, events: &[At], looked_up: Vec<ArrayRef>, given: &mut Given) -> Outcome<()> {
        let left = &self.plan.sides[LEFT].columns;
        let mut columns = self.blocks.gather(left, Some(events), events.len())?;
        columns.extend(looked_up);
        let pairs = batch_of(&self.plan.pairs(), columns, events.len())?;
        let done = self.plan.select.apply(&pairs, self.now);
        given.count.output += done.batch.num_rows() as u64;
        given.count.rejected += done.faults.len() as u64;
        for fault in done.faults {
            let text = spelled(&pairs, fault.row, &self.plan.pairs());
            given.lost.push((fault, text));
        }
        given.rows = Some(done.batch);
        Ok(())
    }

    /// Ends the waiting of events: they are given on without a row, or rejected.
    fn give_up(&mut self, events: &[At], given: &mut Given) -> Outcome<()> {
        let (left, right) = (&self.plan.sides[LEFT].columns, &self.plan.sides[RIGHT]);
        if !self.plan.is_required {
            let nulls =
                right.columns.iter().map(|c| arrow_array::new_null_array(&c.ty.arrow(), events.len())).collect();
            return self.pair(events, nulls, given);
        }
        let rows = batch_of(left, self.blocks.gather(left, Some(events), events.len())?, events.len())?;
        for row in 0..events.len() {
            let message = format!("no row of `{}` with its key came within {}", right.event, show_micros(self.wait));
            let fault = RowFault { row, column: None, reason: Reason::UNMATCHED, message };
            given.lost.push((fault, spelled(&rows, row, left)));
        }
        given.count.rejected += events.len() as u64;
        Ok(())
    }
}

/// A row as JSON.
fn spelled(rows: &RecordBatch, row: usize, columns: &[crate::columns::OutputColumn]) -> String {
    let mut text = String::new();
    JsonLines.write_rows(&mut text, &rows.slice(row, 1), columns);
    text.trim_end().to_string()
}

fn internal(error: &arrow_schema::ArrowError) -> Failure {
    Failure::internal(error.to_string())
}

impl Station for Patient {
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: self.count(), ..Given::default() };
        self.now = input.now;
        self.latest.fetch(input.rows, input.side, store)?;
        if input.side == RIGHT {
            let waiting = self.blocks.live();
            match input.marks {
                Some(marks) => {
                    self.latest.learn_changes(input.rows, marks, waiting, &mut given)?;
                    self.give_known_to_waiting(input.rows, &mut given)?;
                }
                None => {
                    self.latest.learn(input.rows, input.reading, waiting, &mut given)?;
                    self.give_to_waiting(input.rows, &mut given)?;
                }
            }
        } else {
            self.look_up(input, &mut given)?;
        }
        Ok(given)
    }

    fn read_whole(&mut self, reading: u64) -> Outcome<Given> {
        let mut given = Given { count: self.count(), ..Given::default() };
        self.latest.forget_gone(reading, &mut given)?;
        Ok(given)
    }

    /// At the end of a sample, events that wait stay held: they are not rejects, since their row may still come.
    fn end(&mut self, watermark: i64, _: bool, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: self.count(), ..Given::default() };
        self.reached = self.reached.max(watermark);
        let (reached, wait) = (self.reached, self.wait);
        let over = self.blocks.expire(&self.plan.sides, |_, time| time.saturating_add(wait) < reached);
        if !over.is_empty() {
            given.count.held = -i64::try_from(over.len()).unwrap_or(i64::MAX);
            let events: Vec<At> = over.into_iter().map(|(_, _, at, _)| at).collect();
            self.give_up(&events, &mut given)?;
        }
        self.blocks.sweep();
        self.given = self.reached;
        Ok(given)
    }

    fn would_give(&self, watermark: i64, _: bool) -> bool {
        // What is made of its rows may wait for how far it has come.
        self.reached.max(watermark) > self.given
    }

    fn changes(&mut self, end: BatchEnd, store: &dyn StateStore) -> Outcome<Changed> {
        let Changed { mut changes, gone, ended, due } = self.latest.changes(end, store)?;
        changes.extend(self.blocks.changes(&self.plan.sides));
        if self.reached != self.stored_reached {
            self.stored_reached = self.reached;
            let value = Some(self.reached.to_le_bytes().to_vec());
            changes.push(StateChange { key: Box::default(), value, due: None });
        }
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        Ok(Changed { changes, gone, ended, due })
    }

    fn passed(&self) -> i64 {
        // An event may be given on as much later as it waits.
        if self.given == NEVER { NEVER } else { self.given.saturating_sub(self.wait) }
    }

    fn standing(&self) -> Standing {
        let rows = self.latest.len() as u64;
        Standing { windows: 0, groups: rows, events: rows, waiting: self.blocks.live() as u64, closed: None }
    }
}
