//! Rows of pairs: the columns of both sides, put together.

use std::sync::Arc;

use arrow_array::{RecordBatch, RecordBatchOptions};

use super::blocks::{At, Blocks};
use super::{JoinPlan, LEFT, RIGHT};
use crate::failure::{Failure, Outcome};
use crate::plan::transform::schema_of;

/// The rows of a side that pairs consist of; None is a side that is absent.
type Rows = [Option<Vec<At>>; 2];

impl JoinPlan {
    /// The rows of pairs, over the columns of both sides.
    pub(super) fn gather(&self, blocks: &Blocks, rows: &Rows) -> Outcome<RecordBatch> {
        let count = rows.iter().flatten().map(Vec::len).next().unwrap_or(0);
        let of = |side: usize| blocks.gather(&self.sides[side].columns, rows[side].as_deref(), count);
        let mut columns = of(LEFT)?;
        columns.extend(of(RIGHT)?);
        let schema = schema_of(&Self::pair_columns(&self.sides, self.unmatched));
        let options = RecordBatchOptions::new().with_row_count(Some(count));
        RecordBatch::try_new_with_options(schema, columns, &options).map_err(|e| Failure::internal(e.to_string()))
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
