//! The rows of groups: what is computed of each, and which cannot be given on.

use arrow_array::{BooleanArray, RecordBatch};

use super::{BOUNDS, Windows};
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::formats::{ColumnBuilder, JsonLines, RowWriter as _};
use crate::plan::transform::{RowFault, schema_of};
use crate::reject::Reason;
use crate::state::cell::{Cell, push};
use crate::state::{Given, damaged};
use crate::types::SqlType;

impl Windows {
    /// The rows of groups.
    pub(super) fn rows(&self, places: &[usize], given: &mut Given) -> Outcome<()> {
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
            let bounds = [group.start, self.plan.shape.end_of(group)];
            for (builder, bound) in builders[plan.groups.len()..].iter_mut().zip(bounds) {
                push(builder, &Cell::Whole(bound));
            }
            let mut fault = None;
            let partial = self.groups.partial(*place, plan.calls.len());
            for ((builder, call), partial) in builders[plan.groups.len() + 2..].iter_mut().zip(&plan.calls).zip(partial)
            {
                let result = call.finish(partial);
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
}

/// The columns that are computed of a group.
pub(crate) fn virtual_columns(
    groups: &[(usize, OutputColumn)],
    calls: &[crate::state::AggregateCall],
) -> Vec<OutputColumn> {
    let bound = |name: &&str| OutputColumn {
        name: (*name).to_string(),
        ty: SqlType::Timestamptz,
        nullable: false,
        limit: None,
    };
    let call = |c: &crate::state::AggregateCall| OutputColumn {
        name: c.text.clone(),
        ty: c.result(),
        nullable: true,
        limit: None,
    };
    let groups = groups.iter().map(|(_, column)| column.clone());
    groups.chain(BOUNDS.iter().map(bound)).chain(calls.iter().map(call)).collect()
}

fn json_lines(rows: &RecordBatch, columns: &[OutputColumn]) -> Vec<String> {
    let mut text = String::new();
    JsonLines.write_rows(&mut text, rows, &columns[..rows.num_columns()]);
    text.lines().map(str::to_string).collect()
}
