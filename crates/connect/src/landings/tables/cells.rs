//! Values of loaded rows, one after the other, for stores that take rows.

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, TimestampMicrosecondType};
use arrow_array::{
    Array as _, ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array,
    RecordBatch, StringArray, TimestampMicrosecondArray,
};
use arrow_schema::DataType;
use sluice_core::values::time;

/// A column, resolved once for all of its rows.
pub(crate) enum Cells<'a> {
    Text(&'a StringArray),
    Bool(&'a BooleanArray),
    Int(&'a Int32Array),
    Long(&'a Int64Array),
    Double(&'a Float64Array),
    Decimal(&'a Decimal128Array, i8),
    Day(&'a Date32Array),
    Moment(&'a TimestampMicrosecondArray),
    Nothing,
}

/// One value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Cell<'a> {
    Null,
    Text(&'a str),
    Bool(bool),
    Int(i64),
    Double(f64),
    /// A decimal as a whole number, and its digits after the point.
    Decimal(i128, i8),
    /// Days since 1970.
    Day(i32),
    /// Microseconds since 1970.
    Moment(i64),
}

impl<'a> Cells<'a> {
    pub(crate) fn of(column: &'a ArrayRef) -> Self {
        match column.data_type() {
            DataType::Utf8 => Self::Text(column.as_string()),
            DataType::Boolean => Self::Bool(column.as_boolean()),
            DataType::Int32 => Self::Int(column.as_primitive::<Int32Type>()),
            DataType::Int64 => Self::Long(column.as_primitive::<Int64Type>()),
            DataType::Float64 => Self::Double(column.as_primitive::<Float64Type>()),
            DataType::Decimal128(_, scale) => Self::Decimal(column.as_primitive::<Decimal128Type>(), *scale),
            DataType::Date32 => Self::Day(column.as_primitive::<Date32Type>()),
            DataType::Timestamp(..) => Self::Moment(column.as_primitive::<TimestampMicrosecondType>()),
            _ => Self::Nothing,
        }
    }

    /// The columns of some rows.
    pub(crate) fn all(rows: &'a RecordBatch) -> Vec<Self> {
        rows.columns().iter().map(Self::of).collect()
    }

    #[inline]
    pub(crate) fn at(&self, row: usize) -> Cell<'a> {
        match self {
            Self::Text(a) if a.is_valid(row) => Cell::Text(a.value(row)),
            Self::Bool(a) if a.is_valid(row) => Cell::Bool(a.value(row)),
            Self::Int(a) if a.is_valid(row) => Cell::Int(a.value(row).into()),
            Self::Long(a) if a.is_valid(row) => Cell::Int(a.value(row)),
            Self::Double(a) if a.is_valid(row) => Cell::Double(a.value(row)),
            Self::Decimal(a, scale) if a.is_valid(row) => Cell::Decimal(a.value(row), *scale),
            Self::Day(a) if a.is_valid(row) => Cell::Day(a.value(row)),
            Self::Moment(a) if a.is_valid(row) => Cell::Moment(a.value(row)),
            _ => Cell::Null,
        }
    }
}

/// Writes a day as `2026-07-01`; false outside of the years 1 to 9999.
pub(crate) fn write_day(out: &mut String, days: i32) -> bool {
    use std::fmt::Write as _;
    let Some(day) = time::day(days).filter(|d| (1..=9999).contains(&chrono::Datelike::year(d))) else { return false };
    let _ = write!(out, "{}", day.format("%Y-%m-%d"));
    true
}

/// Writes a moment as `2026-07-01 05:06:07.000008`, in UTC; false outside of the years 1 to 9999.
pub(crate) fn write_moment(out: &mut String, micros: i64) -> bool {
    use std::fmt::Write as _;
    let Some(moment) = time::moment(micros).filter(|m| (1..=9999).contains(&chrono::Datelike::year(m))) else {
        return false;
    };
    let _ = write!(out, "{}", moment.format("%Y-%m-%d %H:%M:%S%.6f"));
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_and_moments_have_bounds() {
        let mut out = String::new();
        assert!(write_day(&mut out, 20_635) && write_moment(&mut out, -1));
        assert_eq!(out, "2026-07-011969-12-31 23:59:59.999999");
        assert!(!write_day(&mut out, i32::MAX) && !write_moment(&mut out, i64::MAX));
    }
}
