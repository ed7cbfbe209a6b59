//! Windows of one length: one after the other, or overlapping.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, BooleanArray, RecordBatch};

use super::groups::Groups;
use super::{BOUNDS, WindowPlan, WindowShape};
use crate::batch::StationCount;
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::formats::{ColumnBuilder, JsonLines, RowWriter as _};
use crate::plan::transform::{RowFault, schema_of};
use crate::reject::Reason;
use crate::state::cell::{Cell, Cells, push, take};
use crate::state::once::{early, no_time};
use crate::state::{Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use crate::types::SqlType;
use crate::units::{show_micros, spell_micros};
use crate::values::time::show_timestamp;

pub(in crate::state) struct Windows {
    name: String,
    plan: Arc<WindowPlan>,
    groups: Groups,
    /// Windows that end here or before are closed.
    closed: i64,
    /// The same, when the last batch ended: rows of all windows up to here have been given on.
    given: i64,
    /// The same, as it was kept last.
    kept_closed: i64,
}

/// Where a row goes.
struct Placed {
    row: usize,
    group: usize,
}

impl WindowShape {
    /// Where the windows begin that a moment belongs to, the latest first.
    pub(super) fn starts(self, time: i64) -> impl Iterator<Item = i64> {
        let latest = time.div_euclid(self.every).checked_mul(self.every);
        let before = move |start: &i64| start.checked_sub(self.every).filter(|s| s.saturating_add(self.length) > time);
        std::iter::successors(latest, before)
    }
}

impl Windows {
    pub(super) fn new(name: &str, plan: Arc<WindowPlan>) -> Self {
        Self {
            name: name.to_string(),
            plan,
            groups: Groups::default(),
            closed: NEVER,
            given: NEVER,
            kept_closed: NEVER,
        }
    }

    /// Takes in what an earlier run has kept. The empty key tells up to where windows are closed.
    pub(super) fn restore(&mut self, key: &[u8], value: &[u8]) -> Outcome<()> {
        let done = if key.is_empty() {
            take(&mut &*value).map(|bytes| {
                self.closed = i64::from_le_bytes(bytes);
                (self.given, self.kept_closed) = (self.closed, self.closed);
            })
        } else {
            self.groups.restore(&self.plan, key, value)
        };
        done.ok_or_else(|| damaged(&self.name))
    }

    fn end_of(&self, start: i64) -> i64 {
        start.saturating_add(self.plan.shape.length)
    }

    /// Whether windows that begin here are closed.
    fn is_closed(&self, start: i64) -> bool {
        self.end_of(start) <= self.closed
    }

    /// Where the rows go; those that cannot go anywhere are at fault.
    fn place(&mut self, input: StateInput<'_>, faults: &mut Vec<RowFault>) -> Vec<Placed> {
        let StateInput { rows, watermarks, now } = input;
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
            let Some(last) = plan.shape.starts(time).next().filter(|start| !self.is_closed(*start)) else {
                faults.push(self.late(row, time, watermark));
                continue;
            };
            key.clear();
            parts.iter().for_each(|part| part.write_key(row, &mut key));
            if self.groups.len() >= plan.most && self.groups.find(last, &key).is_none() {
                let message = format!("{} groups are open, as many as `most` allows", plan.most);
                faults.push(RowFault { row, column: None, reason: Reason::FULL, message });
                continue;
            }
            let closed = self.closed;
            let is_open = |start: &i64| start.saturating_add(plan.shape.length) > closed;
            for start in plan.shape.starts(time).take_while(is_open) {
                let found = self.groups.find(start, &key);
                let group = found.unwrap_or_else(|| self.groups.open(&plan, start, &key));
                self.groups.touch(group, u64::from(start == last));
                placed.push(Placed { row, group });
            }
        }
        placed
    }

    /// A row whose windows are all closed.
    fn late(&self, row: usize, time: i64, watermark: i64) -> RowFault {
        let starts = self.plan.shape.starts(time).next();
        let window = starts.map_or_else(String::new, |start| {
            format!("its window from {} to {}", show_timestamp(start), show_timestamp(self.end_of(start)))
        });
        let behind = if watermark == NEVER { 0 } else { watermark.saturating_sub(time) };
        let why = match behind > self.plan.late {
            true => format!(
                "it is {} behind the newest event, late = \"{}\"",
                show_micros(behind),
                spell_micros(self.plan.late)
            ),
            false => "all that was there had been read".to_string(),
        };
        RowFault { row, column: None, reason: Reason::LATE, message: format!("{window} has closed: {why}") }
    }

    /// Adds the rows to their groups, one call after the other.
    fn add(&mut self, rows: &RecordBatch, placed: &[Placed]) {
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
                let kept = self.groups.kept_mut(*group, number, plan.calls.len());
                call.add(kept, argument.as_ref(), *row, times.value(*row));
            }
        }
    }

    /// The rows of groups.
    fn rows(&self, places: &[usize], given: &mut Given) -> Outcome<()> {
        let plan = &self.plan;
        let columns = self.virtual_columns();
        let mut builders: Vec<ColumnBuilder> = columns.iter().map(|c| ColumnBuilder::new(c.ty)).collect();
        let mut wrong: Vec<Option<(String, String)>> = Vec::with_capacity(places.len());
        for place in places {
            let Some(group) = self.groups.group(*place) else { continue };
            let mut key = &*group.key;
            for builder in &mut builders[..plan.groups.len()] {
                push(builder, &Cell::read(&mut key).ok_or_else(|| damaged(&self.name))?);
            }
            let bounds = [group.start, self.end_of(group.start)];
            for (builder, bound) in builders[plan.groups.len()..].iter_mut().zip(bounds) {
                push(builder, &Cell::Whole(bound));
            }
            let mut fault = None;
            let kept = self.groups.kept(*place, plan.calls.len());
            for ((builder, call), kept) in builders[plan.groups.len() + 2..].iter_mut().zip(&plan.calls).zip(kept) {
                let result = call.finish(kept);
                if result.is_none() {
                    fault.get_or_insert((call.text.clone(), format!("the result does not fit {}", call.result())));
                }
                push(builder, &result.unwrap_or(Cell::Null));
            }
            wrong.push(fault);
        }
        let arrays = builders.iter_mut().map(ColumnBuilder::finish).collect();
        let groups = RecordBatch::try_new(schema_of(&columns), arrays).map_err(|e| Failure::internal(e.to_string()))?;
        self.select(&groups, &wrong, given)
    }

    /// Computes the columns that are given on; what cannot be computed is lost with its group.
    fn select(&self, groups: &RecordBatch, wrong: &[Option<(String, String)>], given: &mut Given) -> Outcome<()> {
        let mut done = self.plan.select.apply(groups, 0);
        let origin = |row: usize| done.origin.as_ref().map_or(row, |o| usize::try_from(o[row]).unwrap_or(0));
        let fits: Vec<bool> = (0..done.batch.num_rows()).map(|row| wrong[origin(row)].is_none()).collect();
        let mut faults: Vec<RowFault> = std::mem::take(&mut done.faults);
        for (row, wrong) in wrong.iter().enumerate() {
            let Some((column, message)) = wrong else { continue };
            faults.retain(|f| f.row != row);
            faults.push(RowFault {
                row,
                column: Some(column.clone()),
                reason: Reason::RANGE,
                message: message.clone(),
            });
        }
        let rows = arrow_select::filter::filter_record_batch(&done.batch, &BooleanArray::from(fits));
        let rows = rows.map_err(|e| Failure::internal(e.to_string()))?;
        given.count.made += groups.num_rows() as u64;
        given.count.output += rows.num_rows() as u64;
        given.count.rejected += faults.len() as u64;
        if !faults.is_empty() {
            // Which group it is: its parts and the bounds of its window.
            let named = groups.project(&(0..self.plan.groups.len() + 2).collect::<Vec<_>>());
            let lines = json_lines(&named.map_err(|e| Failure::internal(e.to_string()))?, &self.virtual_columns());
            given.lost = faults.into_iter().map(|fault| (fault.clone(), lines[fault.row].clone())).collect();
        }
        given.rows = Some(rows);
        Ok(())
    }

    /// The columns that are computed of a group: its parts, its window's bounds, its calls.
    fn virtual_columns(&self) -> Vec<OutputColumn> {
        virtual_columns(&self.plan.groups, &self.plan.calls)
    }

    /// Up to where windows are closed at a watermark.
    fn closing(&self, watermark: i64, all: bool) -> i64 {
        match (all, self.groups.latest()) {
            (true, Some(latest)) => self.closed.max(self.end_of(latest)),
            _ if watermark == NEVER => self.closed,
            _ => self.closed.max(watermark.saturating_sub(self.plan.late)),
        }
    }
}

/// The columns that are computed of a group.
pub(crate) fn virtual_columns(
    groups: &[(usize, OutputColumn)],
    calls: &[crate::state::AggregateCall],
) -> Vec<OutputColumn> {
    let bound = |name: &&str| OutputColumn { name: (*name).to_string(), ty: SqlType::Timestamptz, nullable: false };
    let call = |c: &crate::state::AggregateCall| OutputColumn { name: c.text.clone(), ty: c.result(), nullable: true };
    let groups = groups.iter().map(|(_, column)| column.clone());
    groups.chain(BOUNDS.iter().map(bound)).chain(calls.iter().map(call)).collect()
}

fn json_lines(rows: &RecordBatch, columns: &[OutputColumn]) -> Vec<String> {
    let mut text = String::new();
    JsonLines.write_rows(&mut text, rows, &columns[..rows.num_columns()]);
    text.lines().map(str::to_string).collect()
}

impl Station for Windows {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        let placed = self.place(input, &mut given.faults);
        self.add(input.rows, &placed);
        given.count.rejected = given.faults.len() as u64;
        let taken = input.rows.num_rows() - given.faults.len();
        given.count.held = i64::try_from(taken).unwrap_or(i64::MAX);
        Ok(given)
    }

    fn end(&mut self, watermark: i64, all: bool) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.closed = self.closing(watermark, all);
        let over = self.groups.ending(self.closed, self.plan.shape.length);
        let leaving: u64 = over.iter().filter_map(|place| Some(self.groups.group(*place)?.events)).sum();
        let places = if self.plan.gives_changes { self.groups.changed() } else { over };
        if !places.is_empty() {
            self.rows(&places, &mut given)?;
        }
        while self.groups.earliest().is_some_and(|start| self.is_closed(start)) {
            self.groups.drop_earliest();
        }
        self.given = self.closed;
        given.count.merged = leaving;
        given.count.held = -i64::try_from(leaving).unwrap_or(i64::MAX);
        Ok(given)
    }

    fn would_give(&self, watermark: i64, all: bool) -> bool {
        let closing = self.closing(watermark, all);
        self.groups.earliest().is_some_and(|start| self.end_of(start) <= closing)
    }

    fn changes(&mut self, _: i64, _: i64) -> (Vec<StateChange>, Option<i64>) {
        let mut changes = self.groups.changes(self.plan.calls.len());
        if self.closed != self.kept_closed {
            self.kept_closed = self.closed;
            let value = Some(self.closed.to_le_bytes().to_vec());
            changes.insert(0, StateChange { key: Box::default(), value, due: None });
        }
        (changes, None)
    }

    fn passed(&self) -> i64 {
        // A row of the next window to close may begin as early as this.
        if self.given == NEVER { NEVER } else { self.given.saturating_sub(self.plan.shape.length) }
    }

    fn standing(&self) -> Standing {
        Standing {
            windows: self.groups.windows() as u64,
            groups: self.groups.len() as u64,
            events: self.groups.events(),
            closed: (self.closed != NEVER).then_some(self.closed),
        }
    }
}
