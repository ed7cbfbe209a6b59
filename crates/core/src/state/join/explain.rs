//! Which rows a row is paired with: for those who look at one event.

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch, RecordBatchOptions, UInt32Array};
use arrow_select::take::take_record_batch;

use super::{JoinPlan, LEFT, key_cells, write_key};
use crate::failure::{Failure, Outcome};
use crate::plan::Transform;
use crate::plan::transform::schema_of;

impl JoinPlan {
    /// Which of the prepared rows of the other side a prepared row of a side is paired with, by their places.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub(crate) fn partners(&self, side: usize, row: &RecordBatch, others: &RecordBatch, now: i64) -> Outcome<Vec<u32>> {
        let time = |rows: &RecordBatch, side: usize, place: usize| {
            let times = rows.column(self.sides[side].time()).as_primitive::<TimestampMicrosecondType>();
            (!times.is_null(place)).then(|| times.value(place))
        };
        let (mut key, mut other_key) = (Vec::new(), Vec::new());
        let Some(own) = time(row, side, 0).filter(|_| write_key(&key_cells(&self.sides[side], row), 0, &mut key))
        else {
            return Ok(Vec::new());
        };
        let parts = key_cells(&self.sides[1 - side], others);
        let mut near: Vec<u32> = Vec::new();
        for place in 0..others.num_rows() {
            let Some(other) = time(others, 1 - side, place) else { continue };
            let (left, right) = if side == LEFT { (own, other) } else { (other, own) };
            if self.near.holds(left, right) && write_key(&parts, place, &mut other_key) && key == other_key {
                near.push(u32::try_from(place).unwrap_or(u32::MAX));
            }
        }
        let Some(condition) = self.condition.clone().filter(|_| !near.is_empty()) else { return Ok(near) };
        let internal = |e: arrow_schema::ArrowError| Failure::internal(e.to_string());
        let taken = |rows: &RecordBatch, places: Vec<u32>, side: usize| {
            let own: Vec<usize> = (0..self.sides[side].columns.len()).collect();
            rows.project(&own).and_then(|rows| take_record_batch(&rows, &UInt32Array::from(places))).map_err(internal)
        };
        let (own, other) = (taken(row, vec![0; near.len()], side)?, taken(others, near.clone(), 1 - side)?);
        let (left, right) = if side == LEFT { (own, other) } else { (other, own) };
        let columns = Self::pair_columns(&self.sides, self.unmatched);
        let arrays = left.columns().iter().chain(right.columns()).cloned().collect();
        let options = RecordBatchOptions::new().with_row_count(Some(near.len()));
        let pairs = RecordBatch::try_new_with_options(schema_of(&columns), arrays, &options).map_err(internal)?;
        let done = Transform::new(Some(condition), Vec::new(), &columns).apply(&pairs, now);
        let Some(kept) = done.origin else { return Ok(near) };
        Ok(kept.into_iter().filter_map(|pair| near.get(usize::try_from(pair).ok()?).copied()).collect())
    }
}
