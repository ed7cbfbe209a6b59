//! What a reference takes over from a change feed: the rows as they are after each change.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{Array as _, RecordBatch};

use super::super::join::{RIGHT, key_cells, write_key};
use super::super::{Given, NEVER};
use super::latest::Latest;
use super::rows::Spot;
use crate::change::Marks;
use crate::failure::Outcome;
use crate::plan::transform::RowFault;
use crate::reject::Reason;

impl Latest {
    /// Takes changes of rows that are looked up from now on, in the order of their log. So many `others` are remembered
    /// beside them.
    pub(super) fn learn_changes(
        &mut self,
        rows: &RecordBatch,
        marks: &Marks,
        others: usize,
        given: &mut Given,
    ) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let width = plan.sides[RIGHT].columns.len();
        let mut key = Vec::new();
        let block = self.rows.add(rows)?;
        let before = self.count;
        for (row, kind) in marks.kinds.iter().enumerate() {
            if kind.is_of_table() {
                given.count.merged += self.count as u64 + 1;
                self.clear();
                continue;
            }
            if !write_key(&parts, row, &mut key) {
                // A null is looked up by none.
                given.count.unmatched += 1;
                continue;
            }
            let is_deleted = deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row));
            if kind.is_gone() || is_deleted {
                let known = self.remove(&key);
                given.count.merged += 1 + u64::from(known.is_some());
                self.removed = known.map(|known| known.spot);
                continue;
            }
            // A row whose key was changed stands after the delete of the old one.
            let removed = self.removed.take();
            let known = self.known.get(key.as_slice()).map(|known| known.spot);
            let lacks = (0..width).any(|column| marks.absent.of(column).is_some_and(|rows| rows.value(row)));
            let mut spot = Spot { block, row };
            if lacks {
                match if kind.is_moved() { removed } else { known } {
                    Some(earlier) => spot = self.rows.fill(spot, earlier, &marks.absent)?,
                    // The whole row is still to come, with its table.
                    None if kind.is_early() => {
                        given.count.merged += 1;
                        continue;
                    }
                    None => {
                        let message =
                            "the source sent a part of the row, and what it was before is not known".to_string();
                        given.faults.push(RowFault { row, column: None, reason: Reason::EXPRESSION, message });
                        continue;
                    }
                }
            }
            if known.is_some() {
                given.count.merged += 1;
            } else if self.count + others >= plan.most {
                given.faults.push(self.full(row));
                continue;
            }
            self.remember(&key, NEVER, spot, 0);
        }
        let signed = |count: usize| i64::try_from(count).unwrap_or(i64::MAX);
        given.count.held = signed(self.count) - signed(before);
        given.count.rejected = given.faults.len() as u64;
        self.tidy()
    }
}
