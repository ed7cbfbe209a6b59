//! Computes typed expressions over record batches.

use arrow_array::{RecordBatch, TimestampMicrosecondArray};

use super::column::Column;
use super::functions::Arguments;
use super::{Expr, Node, SharedValues, arithmetic, cast, condition, limit};

/// What an expression is computed over.
pub struct EvalContext<'a> {
    /// The rows.
    pub batch: &'a RecordBatch,
    /// The moment at which the batch was opened, in microseconds since 1970: the value of `now()`.
    pub now: i64,
    /// What was computed for parts that are used in several places.
    pub shared: SharedValues,
}

impl<'a> EvalContext<'a> {
    /// For rows of a batch that was opened at a moment.
    pub fn new(batch: &'a RecordBatch, now: i64) -> Self {
        Self { batch, now, shared: SharedValues::default() }
    }
}

/// Computes an expression for all rows.
pub fn evaluate(expr: &Expr, context: &EvalContext<'_>) -> Column {
    let rows = context.batch.num_rows();
    let eval = |e: &Expr| evaluate(e, context);
    match &expr.node {
        Node::Column(index) => Column::of(context.batch.column(*index).clone()),
        Node::Literal(array) => Column::constant(array.clone()),
        Node::Now => {
            let moment = TimestampMicrosecondArray::from(vec![context.now]).with_timezone("UTC");
            Column::constant(std::sync::Arc::new(moment))
        }
        Node::Cast { inner, lenient } => cast::compute(eval(inner), inner.ty, expr.ty, *lenient, rows),
        Node::Limit { inner, limit, lenient } => limit::compute(&eval(inner), *limit, *lenient),
        Node::Shared(number, inner) => context.shared.get(*number, || eval(inner)),
        Node::Arithmetic(op, left, right) => {
            arithmetic::compute(*op, expr.ty, (left, right), &eval(left), &eval(right), rows)
        }
        Node::Compare(op, left, right) => condition::compare(*op, &eval(left), &eval(right), rows),
        Node::And(left, right) => condition::logic(true, eval(left), eval(right), rows),
        Node::Or(left, right) => condition::logic(false, eval(left), eval(right), rows),
        Node::Not(inner) => condition::not(&eval(inner)),
        Node::IsNull(inner) => condition::is_null(&eval(inner)),
        Node::IsTruth(inner, wanted) => condition::is_truth(&eval(inner), *wanted),
        Node::Case(branches, otherwise) => case(branches, otherwise, context),
        Node::Coalesce(items) => coalesce(items, context),
        Node::Call(call) => {
            let columns: Vec<Column> = call.arguments.iter().map(eval).collect();
            (call.function.compute)(&Arguments { columns: &columns, rows, prepared: &call.prepared })
        }
    }
}

fn case(branches: &[(Expr, Expr)], otherwise: &Expr, context: &EvalContext<'_>) -> Column {
    let rows = context.batch.num_rows();
    let mut result = evaluate(otherwise, context);
    // From the last to the first, so that an earlier branch wins, also with its errors.
    for (when, then) in branches.iter().rev() {
        let condition = evaluate(when, context).expand(rows);
        let mask = condition::truths(&condition, rows);
        let condition_errors = condition.errors;
        result = condition::choose(&mask, evaluate(then, context), result);
        result.errors.merge(condition_errors);
    }
    result
}

fn coalesce(items: &[Expr], context: &EvalContext<'_>) -> Column {
    let rows = context.batch.num_rows();
    let mut columns = items.iter().rev().map(|e| evaluate(e, context));
    let Some(mut result) = columns.next() else { unreachable!("bind refuses an empty coalesce") };
    for column in columns {
        let column = column.expand(rows);
        let mut mask = condition::present(&column, rows);
        if !column.errors.is_empty() {
            // A value that could not be computed is not null: its error stands.
            let failed: Vec<bool> = (0..rows).map(|row| mask.value(row) || column.errors.has(row)).collect();
            mask = failed.into();
        }
        result = condition::choose(&mask, column, result);
    }
    result
}
