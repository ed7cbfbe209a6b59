//! References: rows of an event, looked up by their key for the rows of another event.

mod changed;
mod history;
mod latest;
mod rows;
#[cfg(test)]
mod tests;
mod waiting;

use std::sync::Arc;

use arrow_array::{RecordBatch, UInt32Array};
use arrow_select::take::take_record_batch;

use super::cell::take;
use super::join::{JoinPlan, JoinSide, LEFT, RIGHT, key_cells, write_key};
use super::{Given, StateStore, Station, damaged};
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::plan::Transform;
use crate::plan::transform::RowFault;
use crate::reject::Reason;
use rows::{Rows, Spot, batch_of};

/// What is known of the key of an event.
enum Found {
    /// Its row.
    Row(Spot),
    /// That it has none.
    Nothing,
    /// That a row may still come: the event waits.
    Later,
    /// That a row may still come, but no more events may wait.
    Full,
}

/// Opens the station with what it has kept.
pub(super) fn open(name: &str, plan: &Arc<ReferencePlan>, store: &dyn StateStore) -> Outcome<Box<dyn Station>> {
    Ok(match (plan.history, plan.wait) {
        (Some(history), _) => Box::new(history::History::open(name, plan, history, store)?),
        (None, Some(wait)) => Box::new(waiting::Patient::open(name, plan, wait, store)?),
        (None, None) => Box::new(latest::Latest::open(name, plan, &[], store)?),
    })
}

/// How many rows the ledger has, which stands under a key of its own; None where an earlier version kept them.
fn stored_count(name: &str, key: &[u8], store: &dyn StateStore) -> Outcome<Option<usize>> {
    let Some(value) = store.values(name, &[key])?.into_iter().next().flatten() else { return Ok(None) };
    let count = take(&mut value.as_slice()).map(u64::from_le_bytes).and_then(|count| usize::try_from(count).ok());
    count.map(Some).ok_or_else(|| damaged(name))
}

/// The keys of prepared rows of a side that are not known, sorted: neighbours stand on one page of the ledger.
fn unknown_keys(side: &JoinSide, rows: &RecordBatch, mut is_known: impl FnMut(&[u8]) -> bool) -> Vec<Box<[u8]>> {
    let parts = key_cells(side, rows);
    let mut key = Vec::new();
    let mut unknown: Vec<Box<[u8]>> = Vec::new();
    for row in 0..rows.num_rows() {
        if write_key(&parts, row, &mut key) && !is_known(&key) {
            unknown.push(key.as_slice().into());
        }
    }
    unknown.sort_unstable();
    unknown.dedup();
    unknown
}

/// Looks rows of an event up.
///
/// Prepared rows of both sides have the columns, then the parts of the key; then the time, those of the right side where there
/// is one, those of the left side where there is a history or a wait; then, on the right side, whether the row removes its key.
#[derive(Clone, Debug)]
pub struct ReferencePlan {
    /// Both sides: the events, and the rows that are looked up.
    pub sides: [JoinSide; 2],
    /// The columns of the event that it makes, over those of the left side, then those of the right one.
    pub select: Transform,
    /// Whether an event whose key has no row is a reject.
    pub is_required: bool,
    /// Whether the rows are those of a list: what its next reading does not have is gone.
    pub is_list: bool,
    /// The place of the time among the prepared columns of the right side.
    pub time: Option<usize>,
    /// The place of the condition under which a row removes its key.
    pub deleted: Option<usize>,
    /// How long a row is remembered after a later one of its key, in microseconds, and events get the row that was the latest
    /// at their own time; None remembers the latest row of each key alone.
    pub history: Option<i64>,
    /// How long an event waits for a row of its key, in microseconds of event time; None does not wait.
    pub wait: Option<i64>,
    /// How long a silent partition holds the watermark, in microseconds.
    pub idle: i64,
    /// How far ahead of the moment of reading an event's time may be and still count for the watermark, in microseconds.
    pub ahead: i64,
    /// How many rows may be remembered at a time.
    pub most: usize,
    /// How many of them may be in memory, about: others are looked up in the ledger. Of lists all are.
    pub in_memory: usize,
}

impl ReferencePlan {
    /// What it is, in words.
    pub(super) fn manner(&self) -> String {
        let right = &self.sides[RIGHT];
        let columns: Vec<String> = right.columns.iter().map(|c| format!("{} {}", c.name, c.ty)).collect();
        let key: Vec<String> = right.key.iter().map(|(c, text)| format!("{text} ({})", c.ty)).collect();
        let kind = if self.history.is_some() { "history of" } else { "latest" };
        let manner = format!("{kind} {} ({}) by {}", right.event, columns.join(", "), key.join(", "));
        if self.wait.is_none() {
            return manner;
        }
        let left = &self.sides[LEFT];
        let columns: Vec<String> = left.columns.iter().map(|c| format!("{} {}", c.name, c.ty)).collect();
        format!("{manner}, which {} ({}) waits for", left.event, columns.join(", "))
    }

    /// The place of the event time among the columns that it gives, where it is taken over from the left side as it is.
    pub(crate) fn time_taken_over(&self, time: usize, prepared: &Transform) -> Option<usize> {
        let own = (0..self.sides[LEFT].columns.len())
            .find(|place| prepared.expression(*place).is_some_and(|expr| expr.as_column() == Some(time)))?;
        (0..self.select.columns.len())
            .find(|place| self.select.expression(*place).is_some_and(|expr| expr.as_column() == Some(own)))
    }

    fn pairs(&self) -> Vec<OutputColumn> {
        JoinPlan::pair_columns(&self.sides, [!self.is_required, false])
    }

    /// Gives rows on with the columns that are looked up for them.
    fn look_up(
        &self,
        known: &Rows,
        rows: &RecordBatch,
        now: i64,
        given: &mut Given,
        mut find: impl FnMut(&[u8], usize) -> Found,
    ) -> Outcome<()> {
        let plan = self;
        let parts = key_cells(&plan.sides[LEFT], rows);
        let mut key = Vec::new();
        let mut kept: Vec<u32> = Vec::with_capacity(rows.num_rows());
        let mut spots = Vec::with_capacity(rows.num_rows());
        for row in 0..rows.num_rows() {
            let has_key = write_key(&parts, row, &mut key);
            let found = match if has_key { find(&key, row) } else { Found::Nothing } {
                Found::Row(spot) => Some(spot),
                Found::Nothing => None,
                Found::Later => continue,
                Found::Full => {
                    let message = format!("{} rows are remembered, as many as `most` allows", plan.most);
                    given.faults.push(RowFault { row, column: None, reason: Reason::FULL, message });
                    continue;
                }
            };
            if found.is_none() && plan.is_required {
                let message = match has_key {
                    true if plan.history.is_some() => {
                        format!("no row of `{}` is known that had its key at its time", plan.sides[RIGHT].event)
                    }
                    true => format!("no row of `{}` has its key", plan.sides[RIGHT].event),
                    false => "its key is null".to_string(),
                };
                given.faults.push(RowFault { row, column: None, reason: Reason::UNMATCHED, message });
                continue;
            }
            kept.push(u32::try_from(row).unwrap_or(u32::MAX));
            spots.push(found);
        }
        let own: Vec<usize> = (0..plan.sides[LEFT].columns.len()).collect();
        let left = rows.project(&own).and_then(|rows| take_record_batch(&rows, &UInt32Array::from(kept.clone())));
        let left = left.map_err(|e| Failure::internal(e.to_string()))?;
        let mut columns = left.columns().to_vec();
        columns.extend(known.gather(&spots)?);
        let pairs = batch_of(&plan.pairs(), columns, kept.len())?;
        let done = plan.select.apply(&pairs, now);
        let input = |pair: usize| kept[pair];
        for fault in done.faults {
            given.faults.push(RowFault { row: usize::try_from(input(fault.row)).unwrap_or(0), ..fault });
        }
        let origin = match done.origin {
            Some(origin) => origin.into_iter().map(|pair| input(usize::try_from(pair).unwrap_or(0))).collect(),
            None => kept,
        };
        given.count.output = done.batch.num_rows() as u64;
        given.count.rejected = given.faults.len() as u64;
        given.rows = Some(done.batch);
        given.origin = Some(origin);
        Ok(())
    }
}
