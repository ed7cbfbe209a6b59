//! The station that joins two events.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, BooleanArray, RecordBatch};
use arrow_select::filter::filter_record_batch;

use super::blocks::{At, Blocks, key_cells, write_key};
use super::pairs::chained;
use super::{JoinPlan, LEFT, RIGHT};
use crate::batch::StationCount;
use crate::failure::{Failure, Outcome};
use crate::formats::{JsonLines, RowWriter as _};
use crate::plan::Transform;
use crate::plan::transform::RowFault;
use crate::reject::Reason;
use crate::state::cell::take;
use crate::state::once::{early, no_time};
use crate::state::{BatchEnd, Changed, Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use crate::units::{show_micros, spell_micros};

pub(in crate::state) struct Join {
    name: String,
    plan: Arc<JoinPlan>,
    blocks: Blocks,
    /// What else must be true of a pair.
    condition: Option<Transform>,
    /// Rows before this time are not accepted any more.
    closed: i64,
    /// The same, when the last batch ended.
    given: i64,
    /// The same, as it was kept last.
    stored_closed: i64,
    /// The moment at which the last batch was opened.
    now: i64,
}

impl Join {
    pub(super) fn new(name: &str, plan: Arc<JoinPlan>) -> Self {
        let pairs = JoinPlan::pair_columns(&plan.sides, plan.unmatched);
        let condition = plan.condition.clone().map(|condition| Transform::new(Some(condition), Vec::new(), &pairs));
        let (closed, given, stored_closed) = (NEVER, NEVER, NEVER);
        Self {
            name: name.to_string(),
            plan,
            blocks: Blocks::default(),
            condition,
            closed,
            given,
            stored_closed,
            now: 0,
        }
    }

    /// Takes in what an earlier run has kept. The value of the empty key is the time from which rows are accepted.
    pub(super) fn restore(&mut self, key: &[u8], value: &[u8]) -> Outcome<()> {
        let done = if key.is_empty() {
            take(&mut &*value).map(|bytes| {
                self.closed = i64::from_le_bytes(bytes);
                (self.given, self.stored_closed) = (self.closed, self.closed);
            })
        } else {
            self.blocks.restore(&self.plan.sides, key, value)
        };
        done.ok_or_else(|| damaged(&self.name))
    }

    /// Everything has been taken in.
    pub(super) fn restored(&mut self) {
        self.blocks.index_all(&self.plan.sides);
    }

    /// For each row whether it is accepted; the others are at fault.
    fn accept(&mut self, input: StateInput<'_>, faults: &mut Vec<RowFault>) -> Vec<bool> {
        let StateInput { rows, watermarks, now, side, .. } = input;
        let plan = Arc::clone(&self.plan);
        let times = rows.column(plan.sides[side].time()).as_primitive::<TimestampMicrosecondType>();
        let latest = now.saturating_add(plan.ahead);
        let mut room = plan.most.saturating_sub(self.blocks.live());
        let mut accepted = vec![false; rows.num_rows()];
        for (row, watermark) in watermarks.iter().copied().enumerate() {
            self.closed = self.closed.max(if watermark == NEVER { NEVER } else { watermark.saturating_sub(plan.late) });
            let fault = if times.is_null(row) {
                no_time(row)
            } else if times.value(row) > latest {
                early(row, times.value(row), now, plan.ahead)
            } else if times.value(row) < self.closed {
                self.late(row, times.value(row), watermark)
            } else if room == 0 {
                let message = format!("{} rows are remembered, as many as `most` allows", plan.most);
                RowFault { row, column: None, reason: Reason::FULL, message }
            } else {
                room -= 1;
                accepted[row] = true;
                continue;
            };
            faults.push(fault);
        }
        accepted
    }

    fn late(&self, row: usize, time: i64, watermark: i64) -> RowFault {
        let behind = if watermark == NEVER { 0 } else { watermark.saturating_sub(time) };
        let message = match behind > self.plan.late {
            true => format!(
                "rows that it could meet may have been forgotten: it is {} behind the newest event, late = \"{}\"",
                show_micros(behind),
                spell_micros(self.plan.late)
            ),
            false => "rows that it could meet may have been forgotten: all that was there had been read".to_string(),
        };
        RowFault { row, column: None, reason: Reason::LATE, message }
    }

    /// Finds the pairs of rows that have come, and remembers these.
    fn meet(&mut self, rows: &RecordBatch, side: usize, count: &mut StationCount) -> Vec<(At, At)> {
        let plan = Arc::clone(&self.plan);
        let own = &plan.sides[side];
        let block = self.blocks.add(rows.clone(), side, own.time());
        let times = rows.column(own.time()).as_primitive::<TimestampMicrosecondType>().values();
        let parts = key_cells(own, rows);
        let mut key = Vec::new();
        let mut pairs = Vec::new();
        for (row, time) in (0_u32..).zip(times) {
            let at = At { block, row };
            if !write_key(&parts, usize::try_from(row).unwrap_or(0), &mut key) {
                // A null meets nothing.
                if !plan.unmatched[side] {
                    self.blocks.forget(at);
                    count.unmatched += 1;
                }
                continue;
            }
            for other in self.blocks.find(1 - side, &key) {
                let other_time = self.blocks.time(*other, &plan.sides);
                let (left, right) = if side == LEFT { (*time, other_time) } else { (other_time, *time) };
                if plan.near.holds(left, right) {
                    pairs.push(if side == LEFT { (at, *other) } else { (*other, at) });
                }
            }
            self.blocks.index(side, &key, at);
        }
        pairs
    }

    /// The rows of pairs; those of which the condition is not true are none.
    fn paired(&mut self, pairs: Vec<(At, At)>, given: &mut Given) -> Outcome<()> {
        if pairs.is_empty() {
            return Ok(());
        }
        let (left, right): (Vec<At>, Vec<At>) = pairs.into_iter().unzip();
        let mut rows = self.plan.gather(&self.blocks, &[Some(left.clone()), Some(right.clone())])?;
        let mut kept: Option<Vec<u32>> = None;
        if let Some(condition) = &self.condition {
            let mut done = condition.apply(&rows, self.now);
            given.count.made += done.faults.len() as u64;
            given.count.rejected += done.faults.len() as u64;
            let faults = std::mem::take(&mut done.faults);
            self.lose(&rows, faults, given)?;
            (rows, kept) = (done.batch, done.origin);
        }
        let all = || (0..u32::try_from(left.len()).unwrap_or(u32::MAX)).collect();
        for pair in kept.unwrap_or_else(all) {
            let pair = usize::try_from(pair).unwrap_or(0);
            self.blocks.matched(left[pair]);
            self.blocks.matched(right[pair]);
        }
        self.select(&rows, given)
    }

    /// Computes the columns that are given on.
    fn select(&self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        let done = self.plan.select.apply(rows, self.now);
        given.count.made += rows.num_rows() as u64;
        given.count.output += done.batch.num_rows() as u64;
        given.count.rejected += done.faults.len() as u64;
        self.lose(rows, done.faults, given)?;
        let before: Vec<RecordBatch> = given.rows.take().into_iter().chain([done.batch]).collect();
        given.rows = chained(&before)?;
        Ok(())
    }

    /// Notes pairs that cannot be given on, each with its columns.
    fn lose(&self, rows: &RecordBatch, faults: Vec<RowFault>, given: &mut Given) -> Outcome<()> {
        if faults.is_empty() {
            return Ok(());
        }
        let columns = JoinPlan::pair_columns(&self.plan.sides, self.plan.unmatched);
        for fault in faults {
            let mut text = String::new();
            JsonLines.write_rows(&mut text, &rows.slice(fault.row, 1), &columns);
            given.lost.push((fault, text.trim_end().to_string()));
        }
        Ok(())
    }

    /// Before which time rows are not accepted any more at a watermark.
    fn closing(&self, watermark: i64, all: bool) -> i64 {
        let after = |side, time| self.plan.near.last_partner(side, time).saturating_add(1);
        match (all, self.blocks.latest(&self.plan.sides, after)) {
            (true, Some(latest)) => self.closed.max(latest),
            _ if watermark == NEVER => self.closed,
            _ => self.closed.max(watermark.saturating_sub(self.plan.late)),
        }
    }
}

impl Station for Join {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.now = input.now;
        let accepted = self.accept(input, &mut given.faults);
        given.count.rejected = given.faults.len() as u64;
        let rows = match given.faults.is_empty() {
            true => input.rows.clone(),
            false => filter_record_batch(input.rows, &BooleanArray::from(accepted))
                .map_err(|e| Failure::internal(e.to_string()))?,
        };
        let taken = rows.num_rows() as u64;
        if taken > 0 {
            let pairs = self.meet(&rows, input.side, &mut given.count);
            self.paired(pairs, &mut given)?;
        }
        given.count.held = i64::try_from(taken - given.count.unmatched).unwrap_or(i64::MAX);
        Ok(given)
    }

    fn end(&mut self, watermark: i64, all: bool, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.closed = self.closing(watermark, all);
        let (closed, near) = (self.closed, self.plan.near);
        let over = self.blocks.expire(&self.plan.sides, |side, time| near.last_partner(side, time) < closed);
        given.count.held = -i64::try_from(over.len()).unwrap_or(i64::MAX);
        let met = over.iter().filter(|(.., is_matched)| *is_matched).count() as u64;
        given.count.merged = met;
        given.count.unmatched = over.len() as u64 - met;
        for side in [LEFT, RIGHT].into_iter().filter(|side| self.plan.unmatched[*side]) {
            let of_side = |at: &At| self.blocks.block(at.block).is_some_and(|block| block.side == side);
            let alone = over.iter().filter(|(.., is_matched)| !is_matched).map(|(_, _, at, _)| *at);
            let alone: Vec<At> = alone.filter(of_side).collect();
            if !alone.is_empty() {
                let rows = if side == LEFT { [Some(alone), None] } else { [None, Some(alone)] };
                self.select(&self.plan.gather(&self.blocks, &rows)?, &mut given)?;
            }
        }
        self.blocks.sweep();
        self.given = self.closed;
        Ok(given)
    }

    fn would_give(&self, watermark: i64, all: bool) -> bool {
        // What is made of its rows may wait for how far it has come.
        self.closing(watermark, all) > self.given
    }

    fn changes(&mut self, _: BatchEnd, _: &dyn StateStore) -> Outcome<Changed> {
        let mut changes = self.blocks.changes(&self.plan.sides);
        if self.closed != self.stored_closed {
            self.stored_closed = self.closed;
            let value = Some(self.closed.to_le_bytes().to_vec());
            changes.insert(0, StateChange { key: Box::default(), value, due: None });
        }
        Ok(Changed { changes, ..Changed::default() })
    }

    fn passed(&self) -> i64 {
        // The older row of a pair may be as much older as rows that meet may be apart.
        if self.given == NEVER { NEVER } else { self.given.saturating_sub(self.plan.near.span()) }
    }

    fn standing(&self) -> Standing {
        Standing {
            windows: 0,
            groups: self.blocks.live() as u64,
            events: self.blocks.live() as u64,
            waiting: 0,
            closed: (self.closed != NEVER).then_some(self.closed),
        }
    }
}
