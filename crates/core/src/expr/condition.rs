//! Conditions: comparisons, three-valued logic, case and coalesce.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, IntervalMonthDayNanoType,
    TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, BooleanArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
use arrow_select::zip::zip;

use super::CompareOp;
use super::column::{Column, RowErrors, merged, nulls, shape};
use crate::values::interval::length;

const TYPED: &str = "bind gives both sides one type";

impl CompareOp {
    /// Whether two values of this order meet the comparison; without an order (not a number) only `<>` does.
    pub(super) fn holds(self, order: Option<std::cmp::Ordering>) -> bool {
        match self {
            Self::Equal => order.is_some_and(|o| o.is_eq()),
            Self::NotEqual => order.is_none_or(|o| o.is_ne()),
            Self::Less => order.is_some_and(|o| o.is_lt()),
            Self::LessOrEqual => order.is_some_and(|o| o.is_le()),
            Self::Greater => order.is_some_and(|o| o.is_gt()),
            Self::GreaterOrEqual => order.is_some_and(|o| o.is_ge()),
        }
    }
}

/// Compares two columns of one type.
pub(super) fn compare(op: CompareOp, left: &Column, right: &Column, rows: usize) -> Column {
    let (scalar, len) = shape(&[left, right], rows);
    let at = |row: usize| (left.index(row), right.index(row));
    let bits = match left.array.data_type() {
        DataType::Int32 => primitives::<Int32Type>(op, left, right, len),
        DataType::Int64 => primitives::<Int64Type>(op, left, right, len),
        DataType::Float64 => primitives::<Float64Type>(op, left, right, len),
        DataType::Decimal128(..) => primitives::<Decimal128Type>(op, left, right, len),
        DataType::Date32 => primitives::<Date32Type>(op, left, right, len),
        DataType::Timestamp(..) => primitives::<TimestampMicrosecondType>(op, left, right, len),
        DataType::Interval(_) => {
            let (a, b) = (left.primitive::<IntervalMonthDayNanoType>(), right.primitive::<IntervalMonthDayNanoType>());
            BooleanBuffer::collect_bool(len, |row| {
                let (i, j) = at(row);
                op.holds(Some(length(a.value(i)).cmp(&length(b.value(j)))))
            })
        }
        DataType::Boolean => {
            let (a, b) = (left.array.as_boolean(), right.array.as_boolean());
            BooleanBuffer::collect_bool(len, |row| {
                let (i, j) = at(row);
                op.holds(Some(a.value(i).cmp(&b.value(j))))
            })
        }
        _ => {
            let (a, b) = (left.text(), right.text());
            BooleanBuffer::collect_bool(len, |row| {
                let (i, j) = at(row);
                op.holds(Some(a.value(i).cmp(b.value(j))))
            })
        }
    };
    let array = BooleanArray::new(bits, nulls(&[left, right], len));
    Column::computed(Arc::new(array), scalar, merged(&[left, right], rows))
}

fn primitives<T: ArrowPrimitiveType>(op: CompareOp, left: &Column, right: &Column, len: usize) -> BooleanBuffer {
    let (a, b) = (left.primitive::<T>(), right.primitive::<T>());
    let of = |x: T::Native, y: T::Native| op.holds(x.partial_cmp(&y));
    match (left.scalar, right.scalar) {
        (false, true) => {
            let y = b.value(0);
            BooleanBuffer::collect_bool(len, |row| of(a.value(row), y))
        }
        _ => BooleanBuffer::collect_bool(len, |row| of(a.value(left.index(row)), b.value(right.index(row)))),
    }
}

/// `and` or `or`. An error on one side does not count where the other side decides alone. The value that stands in for one that
/// could not be computed decides nothing.
pub(super) fn logic(is_and: bool, left: Column, right: Column, rows: usize) -> Column {
    let scalar = left.scalar && right.scalar;
    let rows = if scalar { 1 } else { rows };
    let (left, right) = (left.expand(rows), right.expand(rows));
    let decides = |column: &Column, row: usize| {
        let values = column.array.as_boolean();
        values.is_valid(row) && values.value(row) != is_and && !column.errors.has(row)
    };
    let (mut a, mut b) = (left.errors.clone(), right.errors.clone());
    a.retain(|row| !decides(&right, row));
    b.retain(|row| !decides(&left, row));
    a.merge(b);
    let (l, r) = (certain(&left), certain(&right));
    // Kleene's logic: true and false are certain, null is neither.
    let (yes, no) = match is_and {
        true => (&l.0 & &r.0, &l.1 | &r.1),
        false => (&l.0 | &r.0, &l.1 & &r.1),
    };
    let known = NullBuffer::new(&yes | &no);
    let array = BooleanArray::new(yes, (known.null_count() > 0).then_some(known));
    Column::computed(Arc::new(array), scalar, a)
}

/// The rows that are certainly true, and those that are certainly false.
fn certain(column: &Column) -> (BooleanBuffer, BooleanBuffer) {
    let values = column.array.as_boolean();
    match values.nulls() {
        Some(nulls) => (values.values() & nulls.inner(), &!values.values() & nulls.inner()),
        None => (values.values().clone(), !values.values()),
    }
}

/// `not`.
pub(super) fn not(column: &Column) -> Column {
    let values = column.array.as_boolean();
    let array = BooleanArray::new(!values.values(), values.nulls().cloned());
    Column::computed(Arc::new(array), column.scalar, column.errors.clone())
}

/// `is null`.
pub(super) fn is_null(column: &Column) -> Column {
    let bits = match column.array.logical_nulls() {
        Some(nulls) => !nulls.inner(),
        None => BooleanBuffer::new_unset(column.array.len()),
    };
    Column::computed(Arc::new(BooleanArray::new(bits, None)), column.scalar, column.errors.clone())
}

/// `is true` or `is false`.
pub(super) fn is_truth(column: &Column, wanted: bool) -> Column {
    let (yes, no) = certain(column);
    let bits = if wanted { yes } else { no };
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
