//! Conditions: comparisons, three-valued logic, case and coalesce.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{Array, ArrayRef, BooleanArray};
use arrow_buffer::BooleanBuffer;
use arrow_ord::cmp;
use arrow_select::zip::zip;

use super::CompareOp;
use super::column::{Column, RowErrors, merged};

const TYPED: &str = "bind gives both sides one type";

/// Compares two columns of one type.
pub(super) fn compare(op: CompareOp, left: &Column, right: &Column, rows: usize) -> Column {
    let result = match op {
        CompareOp::Equal => cmp::eq(left, right),
        CompareOp::NotEqual => cmp::neq(left, right),
        CompareOp::Less => cmp::lt(left, right),
        CompareOp::LessOrEqual => cmp::lt_eq(left, right),
        CompareOp::Greater => cmp::gt(left, right),
        CompareOp::GreaterOrEqual => cmp::gt_eq(left, right),
    };
    let array = Arc::new(result.expect(TYPED));
    Column::computed(array, left.scalar && right.scalar, merged(&[left, right], rows))
}

/// `and` or `or`. An error on one side does not count where the other side decides alone.
pub(super) fn logic(is_and: bool, left: Column, right: Column, rows: usize) -> Column {
    let scalar = left.scalar && right.scalar;
    let rows = if scalar { 1 } else { rows };
    let (mut left, mut right) = (left.expand(rows), right.expand(rows));
    let decides = |column: &Column, row: usize| {
        let values = column.array.as_boolean();
        values.is_valid(row) && values.value(row) != is_and
    };
    let (mut a, mut b) = (std::mem::take(&mut left.errors), std::mem::take(&mut right.errors));
    a.retain(|row| !decides(&right, row));
    b.retain(|row| !decides(&left, row));
    a.merge(b);
    let (l, r) = (left.array.as_boolean(), right.array.as_boolean());
    let array = if is_and {
        arrow_arith::boolean::and_kleene(l, r)
    } else {
        arrow_arith::boolean::or_kleene(l, r)
    };
    Column::computed(Arc::new(array.expect(TYPED)), scalar, a)
}

/// `not`.
pub(super) fn not(column: &Column) -> Column {
    let array = arrow_arith::boolean::not(column.array.as_boolean()).expect(TYPED);
    Column::computed(Arc::new(array), column.scalar, column.errors.clone())
}

/// `is null`.
pub(super) fn is_null(column: &Column) -> Column {
    let array = arrow_arith::boolean::is_null(column.array.as_ref()).expect(TYPED);
    Column::computed(Arc::new(array), column.scalar, column.errors.clone())
}

/// `is true` or `is false`.
pub(super) fn is_truth(column: &Column, wanted: bool) -> Column {
    let values = column.array.as_boolean();
    let bits = BooleanBuffer::collect_bool(values.len(), |i| values.is_valid(i) && values.value(i) == wanted);
    Column::computed(Arc::new(BooleanArray::new(bits, None)), column.scalar, column.errors.clone())
}

/// The rows for which a condition is true; null counts as false.
pub(super) fn truths(column: &Column, rows: usize) -> BooleanArray {
    let values = column.array.as_boolean();
    let bits = BooleanBuffer::collect_bool(rows, |row| {
        let i = column.index(row);
        values.is_valid(i) && values.value(i)
    });
    BooleanArray::new(bits, None)
}

/// Takes each row's value from `yes` where the mask is true, else from `no`; so with the errors.
pub(super) fn choose(mask: &BooleanArray, yes: Column, no: Column) -> Column {
    let rows = mask.len();
    let array: ArrayRef = zip(mask, &yes, &no).expect(TYPED);
    let errors = if yes.errors.is_empty() && no.errors.is_empty() {
        RowErrors::none()
    } else {
        let (mut a, mut b) = (yes.expand(rows).errors, no.expand(rows).errors);
        a.retain(|row| mask.value(row));
        b.retain(|row| !mask.value(row));
        a.merge(b);
        a
    };
    Column::computed(array, false, errors)
}

/// The rows whose value is not null.
pub(super) fn present(column: &Column, rows: usize) -> BooleanArray {
    BooleanArray::new(BooleanBuffer::collect_bool(rows, |row| !column.is_null(row)), None)
}
