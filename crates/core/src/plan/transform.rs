//! From the rows of an event to the rows of a landing: condition, then columns.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{Array, ArrayRef, BooleanArray, RecordBatch, RecordBatchOptions};
use arrow_schema::{Schema, SchemaRef};
use arrow_select::filter::FilterBuilder;
use rustc_hash::FxHashSet;

use crate::columns::OutputColumn;
use crate::expr::{Condition, EvalContext, Expr, RowErrors, SelectItem, evaluate, share};
use crate::kinds::Unfit;
use crate::reject::Reason;

/// What becomes of an event's rows.
#[derive(Clone, Debug)]
pub struct Transform {
    /// Only rows for which this is true go on.
    pub when: Option<Condition>,
    /// What is computed; empty takes the rows as they are.
    pub(super) select: Vec<Expr>,
    /// The columns of the result.
    pub columns: Vec<OutputColumn>,
    /// How each column is written; its name where the rows are taken as they are.
    pub texts: Vec<String>,
    schema: SchemaRef,
}

/// A row that could not be computed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowFault {
    /// The row of the event.
    pub row: usize,
    /// The column, or None for the condition.
    pub column: Option<String>,
    /// The reason of the reject.
    pub reason: Reason,
    /// Why.
    pub message: String,
}

/// The result of a transform. Rows in = rows out + filtered + faults.
#[derive(Debug)]
pub struct Transformed {
    /// The rows that land.
    pub batch: RecordBatch,
    /// The event's rows that they came from, all of its columns.
    pub source: RecordBatch,
    /// For each row that lands, the row of the event; None where all rows land.
    pub origin: Option<Vec<u32>>,
    /// Rows that did not meet the condition.
    pub filtered: u64,
    /// Rows that could not be computed.
    pub faults: Vec<RowFault>,
}

impl Transformed {
    /// Takes out rows that cannot land, in order, each once: they are at fault. Gives the rows that stay.
    pub fn take_out(&mut self, unfit: Vec<Unfit>, reason: Reason) -> Option<Vec<u32>> {
        if unfit.is_empty() {
            return None;
        }
        let mut keep = vec![true; self.batch.num_rows()];
        for Unfit { row, column, message } in unfit {
            keep[row] = false;
            let row = self.origin.as_ref().map_or(row, |o| usize::try_from(o[row]).unwrap_or(0));
            self.faults.push(RowFault { row, column, reason, message });
        }
        let mask = BooleanArray::from(keep);
        let kept = indices(&mask);
        self.batch = filter(&self.batch, &mask);
        self.source = filter(&self.source, &mask);
        self.origin = Some(match &self.origin {
            Some(before) => kept.iter().map(|row| before[usize::try_from(*row).unwrap_or(0)]).collect(),
            None => kept.clone(),
        });
        Some(kept)
    }
}

impl Transform {
    /// A transform of rows with the columns `input`.
    pub fn new(when: Option<Condition>, items: Vec<SelectItem>, input: &[OutputColumn]) -> Self {
        let columns: Vec<OutputColumn> = match items.is_empty() {
            true => input.to_vec(),
            false => items
                .iter()
                .map(|i| OutputColumn {
                    name: i.name.clone(),
                    ty: i.expr.ty,
                    nullable: i.expr.nullable,
                    limit: i.expr.limit,
                })
                .collect(),
        };
        let schema = schema_of(&columns);
        let texts = match items.is_empty() {
            true => input.iter().map(|c| c.name.clone()).collect(),
            false => items.iter().map(|i| i.text.clone()).collect(),
        };
        let select = share(items.into_iter().map(|i| i.expr).collect());
        let when = when.map(|when| {
            let expr = share(vec![when.expr.clone()]).pop().unwrap_or(when.expr);
            Condition { expr, ..when }
        });
        Self { when, select, columns, texts, schema }
    }

    /// What computes a column; None where rows are taken as they are.
    pub fn expression(&self, column: usize) -> Option<&Expr> {
        self.select.get(column)
    }

    /// The columns of the event that the condition and the columns read, without those that land unchanged under
    /// their own name. `input` are the event's columns.
    pub fn reads(&self, input: &[OutputColumn]) -> Vec<usize> {
        let mut found = std::collections::BTreeSet::new();
        if let Some(when) = &self.when {
            when.expr.add_columns(&mut found);
        }
        self.select.iter().for_each(|e| e.add_columns(&mut found));
        let unchanged = |i: &usize| {
            let lands = |(e, c): (&Expr, &OutputColumn)| e.as_column() == Some(*i) && c.name == input[*i].name;
            self.select.is_empty() || self.select.iter().zip(&self.columns).any(lands)
        };
        found.into_iter().filter(|i| !unchanged(i)).collect()
    }

    /// All columns of the event that the condition and the columns read; none for rows that are taken as they are.
    pub fn event_columns(&self) -> std::collections::BTreeSet<usize> {
        let mut found = std::collections::BTreeSet::new();
        self.when.iter().for_each(|w| w.expr.add_columns(&mut found));
        self.select.iter().for_each(|e| e.add_columns(&mut found));
        found
    }

    /// Computes the rows. `now` is the moment at which the batch was opened.
    pub fn apply(&self, rows: &RecordBatch, now: i64) -> Transformed {
        let mut faults = Vec::new();
        let (mut source, mut origin, filtered) = match &self.when {
            Some(when) => {
                let condition = evaluate(&when.expr, &EvalContext::new(rows, now)).expand(rows.num_rows());
                add_faults(&mut faults, condition.errors.clone(), None, None);
                let keep = keep_mask(&condition.array, &condition.errors);
                let kept = keep.true_count();
                let filtered = rows.num_rows() - kept - faults.len();
                match kept == rows.num_rows() {
                    true => (rows.clone(), None, filtered),
                    false => (filter(rows, &keep), Some(indices(&keep)), filtered),
                }
            }
            None => (rows.clone(), None, 0),
        };
        let mut batch = self.compute(&source, now, origin.as_deref(), &mut faults);
        if let Some(good) = self.without_faults(&source, &faults, origin.as_deref()) {
            let kept = indices(&good);
            origin = Some(match &origin {
                Some(before) => kept.iter().map(|i| before[usize::try_from(*i).unwrap_or(0)]).collect(),
                None => kept,
            });
            batch = filter(&batch, &good);
            source = filter(&source, &good);
        }
        Transformed { batch, source, origin, filtered: filtered as u64, faults }
    }

    /// For each of some rows, the first part of the condition that is not true for it, by its place among the parts,
    /// and whether it is null rather than false.
    pub fn why_filtered(&self, rows: &RecordBatch, filtered: &[u32], now: i64) -> Vec<(usize, bool)> {
        let Some(when) = &self.when else { return vec![(0, false); filtered.len()] };
        let context = EvalContext::new(rows, now);
        let parts: Vec<_> =
            when.parts.iter().map(|(_, part)| evaluate(part, &context).expand(rows.num_rows())).collect();
        let why = |row: &u32| {
            let row = usize::try_from(*row).unwrap_or(0);
            let is_true = |c: &crate::expr::Column| !c.is_null(row) && c.array.as_boolean().value(row);
            let place = parts.iter().position(|c| !is_true(c)).unwrap_or(0);
            (place, parts[place].is_null(row))
        };
        filtered.iter().map(why).collect()
    }

    pub(super) fn compute(
        &self,
        source: &RecordBatch,
        now: i64,
        origin: Option<&[u32]>,
        faults: &mut Vec<RowFault>,
    ) -> RecordBatch {
        let rows = source.num_rows();
        let columns: Vec<ArrayRef> = match self.select.is_empty() {
            true => source.columns().to_vec(),
            false => {
                let context = EvalContext::new(source, now);
                let mut columns = Vec::with_capacity(self.select.len());
                for (expr, column) in self.select.iter().zip(&self.columns) {
                    let result = evaluate(expr, &context).expand(rows);
                    add_faults(faults, result.errors, Some(&column.name), origin);
                    columns.push(result.array);
                }
                columns
            }
        };
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        // A fault leaves a hole that may not be null by the schema; such rows are taken out right after.
        let schema = if faults.is_empty() { self.schema.clone() } else { nullable(&self.schema) };
        RecordBatch::try_new_with_options(schema, columns, &options).expect("columns were typed by bind")
    }

    /// The rows of `source` without a fault, or None where all are good.
    pub(super) fn without_faults(
        &self,
        source: &RecordBatch,
        faults: &[RowFault],
        origin: Option<&[u32]>,
    ) -> Option<BooleanArray> {
        let of_columns: FxHashSet<usize> = faults.iter().filter(|f| f.column.is_some()).map(|f| f.row).collect();
        if of_columns.is_empty() {
            return None;
        }
        let row = |i: usize| origin.map_or(i, |o| usize::try_from(o[i]).unwrap_or(0));
        Some((0..source.num_rows()).map(|i| Some(!of_columns.contains(&row(i)))).collect())
    }
}

/// The Arrow schema of columns.
pub fn schema_of(columns: &[OutputColumn]) -> SchemaRef {
    Arc::new(Schema::new(columns.iter().map(OutputColumn::field).collect::<Vec<_>>()))
}

fn nullable(schema: &SchemaRef) -> SchemaRef {
    Arc::new(Schema::new(schema.fields().iter().map(|f| f.as_ref().clone().with_nullable(true)).collect::<Vec<_>>()))
}

/// Adds the faults of one column; a row is at fault once.
fn add_faults(faults: &mut Vec<RowFault>, errors: RowErrors, column: Option<&str>, origin: Option<&[u32]>) {
    if errors.is_empty() {
        return;
    }
    let known: FxHashSet<usize> = faults.iter().map(|f| f.row).collect();
    for (row, message) in errors.into_iter() {
        let row = origin.map_or(row, |o| usize::try_from(o[row]).unwrap_or(0));
        if !known.contains(&row) {
            let column = column.map(str::to_string);
            faults.push(RowFault { row, column, reason: Reason::EXPRESSION, message });
        }
    }
}

fn keep_mask(condition: &ArrayRef, errors: &RowErrors) -> BooleanArray {
    let values = condition.as_boolean();
    let mask = match values.nulls() {
        Some(nulls) => BooleanArray::new(values.values() & nulls.inner(), None),
        None => values.clone(),
    };
    if errors.is_empty() {
        return mask;
    }
    mask.iter().enumerate().map(|(i, v)| v.map(|v| v && !errors.has(i))).collect()
}

fn indices(mask: &BooleanArray) -> Vec<u32> {
    mask.values().set_indices().map(|i| u32::try_from(i).unwrap_or(u32::MAX)).collect()
}

pub(crate) fn filter(batch: &RecordBatch, mask: &BooleanArray) -> RecordBatch {
    let predicate = FilterBuilder::new(mask).optimize().build();
    predicate.filter_record_batch(batch).expect("mask and batch have one length")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::{ScopeColumn, bind_condition, bind_select};
    use crate::problem::Problems;
    use crate::sql::tests::embed;
    use crate::types::SqlType;
    use arrow_array::Int32Array;
    use arrow_array::types::Int32Type;
    use rstest::rstest;

    fn apply(values: &[Option<i32>], when: &str, columns: &str) -> Transformed {
        let input = vec![OutputColumn { name: "n".into(), ty: SqlType::Integer, nullable: true, limit: None }];
        let scope = vec![ScopeColumn { name: "n".into(), ty: SqlType::Integer, nullable: true, limit: None }];
        let mut problems = Problems::new();
        let when = (!when.is_empty()).then(|| bind_condition(&embed(when), &scope, &mut problems).unwrap());
        let items = if columns.is_empty() { Vec::new() } else { bind_select(&embed(columns), &scope, &mut problems) };
        assert!(!problems.has_errors());
        let array: ArrayRef = Arc::new(Int32Array::from(values.to_vec()));
        let batch = RecordBatch::try_new(schema_of(&input), vec![array]).unwrap();
        let rows = values.len();
        let result = Transform::new(when, items, &input).apply(&batch, 0);
        let counted = result.batch.num_rows() + usize::try_from(result.filtered).unwrap() + result.faults.len();
        assert_eq!(counted, rows, "in = out + filtered + faults");
        result
    }

    fn first(result: &Transformed) -> Vec<Option<i32>> {
        result.batch.column(0).as_primitive::<Int32Type>().iter().collect()
    }

    #[test]
    fn without_anything_rows_pass_as_they_are() {
        let result = apply(&[Some(1), None], "", "");
        assert_eq!(first(&result), [Some(1), None]);
        assert_eq!(result.origin, None);
    }

    #[test]
    fn a_filtered_row_is_led_to_its_part_of_the_condition() {
        let scope = vec![ScopeColumn { name: "n".into(), ty: SqlType::Integer, nullable: true, limit: None }];
        let input = vec![OutputColumn { name: "n".into(), ty: SqlType::Integer, nullable: true, limit: None }];
        let mut problems = Problems::new();
        let when = bind_condition(&embed("n <> 1 and (n > 2 and 10 / n > 1)"), &scope, &mut problems).unwrap();
        let texts: Vec<&str> = when.parts.iter().map(|p| p.0.as_str()).collect();
        assert_eq!(texts, ["n <> 1", "n > 2", "10 / n > 1"]);
        let array: ArrayRef = Arc::new(Int32Array::from(vec![Some(1), Some(2), Some(9), None, Some(0)]));
        let batch = RecordBatch::try_new(schema_of(&input), vec![array]).unwrap();
        let transform = Transform::new(Some(when), Vec::new(), &input);
        let why = transform.why_filtered(&batch, &[0, 1, 2, 3, 4], 0);
        assert_eq!(why, [(0, false), (1, false), (2, false), (0, true), (1, false)]);
    }

    #[rstest]
    #[case("", "", &[])]
    #[case("", "n, m", &[])]
    #[case("", "n as m, m as n", &[0, 1])]
    #[case("m > 1", "n", &[1])]
    #[case("coalesce(n, m) > 1 and not (n is null)", "case when n > 1 then m else 0 end as k, n", &[1])]
    #[case("", "cast(n as text) || lower('X') as k", &[0])]
    fn what_a_transform_reads_and_changes(#[case] when: &str, #[case] columns: &str, #[case] expected: &[usize]) {
        let column = |name: &str| OutputColumn { name: name.into(), ty: SqlType::Integer, nullable: true, limit: None };
        let input = vec![column("n"), column("m")];
        let scope: Vec<ScopeColumn> =
            input.iter().map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: true, limit: None }).collect();
        let mut problems = Problems::new();
        let when = (!when.is_empty()).then(|| bind_condition(&embed(when), &scope, &mut problems).unwrap());
        let items = if columns.is_empty() { Vec::new() } else { bind_select(&embed(columns), &scope, &mut problems) };
        assert!(!problems.has_errors(), "{:?}", problems.into_sorted());
        assert_eq!(Transform::new(when, items, &input).reads(&input), expected);
    }

    #[test]
    fn null_conditions_filter() {
        let result = apply(&[Some(1), None, Some(5)], "n > 2", "n + 1 as m");
        assert_eq!(first(&result), [Some(6)]);
        assert_eq!((result.filtered, result.origin), (2, Some(vec![2])));
    }

    #[rstest]
    #[case("", "10 / n as m", &[0], Some("m"))]
    #[case("10 / n > 1", "", &[0], None)]
    #[case("n < 4", "10 / n as m, 10 / n as k", &[0], Some("m"))]
    fn a_fault_takes_out_its_row_alone(
        #[case] when: &str,
        #[case] columns: &str,
        #[case] rows: &[usize],
        #[case] column: Option<&str>,
    ) {
        let result = apply(&[Some(0), Some(2), Some(5)], when, columns);
        assert_eq!(result.faults.iter().map(|f| f.row).collect::<Vec<_>>(), rows);
        assert_eq!(result.faults[0].column.as_deref(), column);
        assert_eq!(result.source.num_rows(), result.batch.num_rows());
    }

    #[test]
    fn rows_that_all_fail_are_each_at_fault_once() {
        let values = vec![Some(0); 100_000];
        let result = apply(&values, "n < 1", "10 / n as m, 5 / n as k");
        assert_eq!((result.faults.len(), result.batch.num_rows()), (100_000, 0));
        assert!(result.faults.iter().all(|f| f.column.as_deref() == Some("m")));
    }

    #[test]
    fn a_faulty_row_after_filtering_is_named_by_its_place_in_the_event() {
        let result = apply(&[Some(9), Some(0), Some(3)], "n < 5", "6 / n as m");
        assert_eq!(result.faults[0].row, 1);
        assert_eq!((first(&result), result.origin), (vec![Some(2)], Some(vec![2])));
    }
}
