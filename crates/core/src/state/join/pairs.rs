//! Rows of pairs: the columns of both sides, put together.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow_select::interleave::interleave;
use rustc_hash::FxHashMap;

use super::blocks::{At, Blocks, place};
use super::{JoinPlan, LEFT, RIGHT};
use crate::failure::{Failure, Outcome};
use crate::plan::transform::schema_of;

/// The rows of a side that pairs consist of; None is a side that is absent.
type Rows = [Option<Vec<At>>; 2];

impl JoinPlan {
    /// The rows of pairs, over the columns of both sides.
    pub(super) fn gather(&self, blocks: &Blocks, rows: &Rows) -> Outcome<RecordBatch> {
        let count = rows.iter().flatten().map(Vec::len).next().unwrap_or(0);
        let mut columns = self.side_columns(blocks, LEFT, rows[LEFT].as_deref(), count)?;
        columns.extend(self.side_columns(blocks, RIGHT, rows[RIGHT].as_deref(), count)?);
        let schema = schema_of(&Self::pair_columns(&self.sides, self.unmatched));
        let options = RecordBatchOptions::new().with_row_count(Some(count));
        RecordBatch::try_new_with_options(schema, columns, &options).map_err(|e| Failure::internal(e.to_string()))
    }

    fn side_columns(&self, blocks: &Blocks, side: usize, rows: Option<&[At]>, count: usize) -> Outcome<Vec<ArrayRef>> {
        let columns = &self.sides[side].columns;
        let Some(rows) = rows.filter(|rows| !rows.is_empty()) else {
            return Ok(columns.iter().map(|c| new_null_array(&c.ty.arrow(), count)).collect());
        };
        let mut used: Vec<&RecordBatch> = Vec::new();
        let mut places: FxHashMap<u32, usize> = FxHashMap::default();
        let mut indices = Vec::with_capacity(rows.len());
        for at in rows {
            let block = match places.get(&at.block) {
                Some(known) => *known,
                None => {
                    let block = blocks.block(at.block);
                    used.push(&block.ok_or_else(|| Failure::internal("a row of a pair is not there"))?.rows);
                    places.insert(at.block, used.len() - 1);
                    used.len() - 1
                }
            };
            indices.push((block, place(at.row)));
        }
        (0..columns.len())
            .map(|column| {
                let arrays: Vec<&dyn Array> = used.iter().map(|rows| rows.column(column).as_ref()).collect();
                interleave(&arrays, &indices).map_err(|e| Failure::internal(e.to_string()))
            })
            .collect()
    }
}

/// Puts batches with the same columns one after the other.
pub(super) fn chained(batches: &[RecordBatch]) -> Outcome<Option<RecordBatch>> {
    match batches {
        [] => Ok(None),
        [one] => Ok(Some(one.clone())),
        [first, ..] => {
            let all = arrow_select::concat::concat_batches(&Arc::clone(&first.schema()), batches);
            Ok(Some(all.map_err(|e| Failure::internal(e.to_string()))?))
        }
    }
}
