//! Which window an event goes into, and what that gives: for those who look at one event.

use std::sync::Arc;

use arrow_array::RecordBatch;

use super::{WindowPlan, Windows};
use crate::failure::Outcome;
use crate::state::{Given, NEVER, StateInput};

/// A window that an event is in.
#[derive(Clone, Debug)]
pub struct WindowOf {
    /// Where it begins, in microseconds since 1970.
    pub from: i64,
    /// The first moment after it, in microseconds since 1970.
    pub to: i64,
    /// How many of the events are in its group.
    pub events: u64,
    /// The row that the group gives; None where there is none.
    pub row: Option<RecordBatch>,
    /// Why it cannot be given.
    pub fault: Option<String>,
}

/// The windows that one of some prepared rows is in, where none of them is late.
///
/// # Errors
/// Never for a resolved plan.
pub(crate) fn windows_of(plan: &Arc<WindowPlan>, rows: &RecordBatch, row: usize, now: i64) -> Outcome<Vec<WindowOf>> {
    let mut windows = Windows::new("", Arc::clone(plan));
    let watermarks = vec![NEVER; rows.num_rows()];
    let input = StateInput { rows, watermarks: &watermarks, now, side: 0, reading: 0, marks: None };
    let placed = windows.place(input, &mut Vec::new());
    windows.add(rows, &placed);
    let mut found = Vec::new();
    for own in placed.iter().filter(|one| one.row == row) {
        let Some(group) = windows.groups.group(own.group) else { continue };
        let (from, to) = (group.start, plan.shape.end_of(group));
        let events = placed.iter().filter(|one| one.group == own.group).count() as u64;
        let mut given = Given::default();
        windows.rows(&[own.group], &mut given)?;
        let row = given.rows.filter(|rows| rows.num_rows() == 1);
        let fault = given.lost.into_iter().next().map(|(fault, _)| fault.message);
        found.push(WindowOf { from, to, events, row, fault });
    }
    found.sort_by_key(|window| window.from);
    Ok(found)
}
