//! Single values of columns: kept in state, compared, and put back into columns.

use std::cmp::Ordering;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, IntervalMonthDayNanoType, TimestampMicrosecondType,
};
use arrow_array::{
    Array as _, ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array,
    IntervalMonthDayNanoArray, StringArray, TimestampMicrosecondArray,
};

use crate::formats::ColumnBuilder;
use crate::formats::Values;
use crate::types::SqlType;
use crate::values::interval::length;

/// One value.
#[derive(Clone, Debug, PartialEq)]
pub(in crate::state) enum Cell {
    /// None.
    Null,
    /// Text or JSON.
    Text(Box<str>),
    /// A truth value.
    Boolean(bool),
    /// A whole number, a day since 1970, or a moment in microseconds since 1970.
    Whole(i64),
    /// A floating-point number.
    Double(f64),
    /// The digits of an exact number, without its point.
    Decimal(i128),
}

/// A column, to take cells from.
#[derive(Clone, Copy)]
pub(in crate::state) enum Cells<'a> {
    /// Text or JSON.
    Text(&'a StringArray),
    /// Truth values.
    Boolean(&'a BooleanArray),
    /// Whole numbers of 32 bits.
    Integer(&'a Int32Array),
    /// Whole numbers of 64 bits.
    Bigint(&'a Int64Array),
    /// Floating-point numbers.
    Double(&'a Float64Array),
    /// Exact numbers.
    Decimal(&'a Decimal128Array),
    /// Days.
    Date(&'a Date32Array),
    /// Moments.
    Timestamptz(&'a TimestampMicrosecondArray),
    /// Lengths of time, which are equal where they are as long.
    Interval(&'a IntervalMonthDayNanoArray),
}

impl<'a> Cells<'a> {
    /// A column of a type.
    pub(in crate::state) fn of(array: &'a ArrayRef, ty: SqlType) -> Self {
        match ty {
            SqlType::Text | SqlType::Json | SqlType::Null => Self::Text(array.as_string()),
            SqlType::Boolean => Self::Boolean(array.as_boolean()),
            SqlType::Integer => Self::Integer(array.as_primitive::<Int32Type>()),
            SqlType::Bigint => Self::Bigint(array.as_primitive::<Int64Type>()),
            SqlType::Double => Self::Double(array.as_primitive::<Float64Type>()),
            SqlType::Decimal { .. } => Self::Decimal(array.as_primitive::<Decimal128Type>()),
            SqlType::Date => Self::Date(array.as_primitive::<Date32Type>()),
            // Where an expression joins by it; no column has a timestamp.
            SqlType::Timestamptz | SqlType::Timestamp => {
                Self::Timestamptz(array.as_primitive::<TimestampMicrosecondType>())
            }
            SqlType::Interval => Self::Interval(array.as_primitive::<IntervalMonthDayNanoType>()),
        }
    }

    /// Whether a row has no value.
    pub(in crate::state) fn is_null(&self, row: usize) -> bool {
        match self {
            Self::Text(a) => a.is_null(row),
            Self::Boolean(a) => a.is_null(row),
            Self::Integer(a) => a.is_null(row),
            Self::Bigint(a) => a.is_null(row),
            Self::Double(a) => a.is_null(row),
            Self::Decimal(a) => a.is_null(row),
            Self::Date(a) => a.is_null(row),
            Self::Timestamptz(a) => a.is_null(row),
            Self::Interval(a) => a.is_null(row),
        }
    }

    /// The value of a row.
    pub(in crate::state) fn cell(&self, row: usize) -> Cell {
        if self.is_null(row) {
            return Cell::Null;
        }
        match self {
            Self::Text(a) => Cell::Text(a.value(row).into()),
            Self::Boolean(a) => Cell::Boolean(a.value(row)),
            Self::Integer(a) => Cell::Whole(a.value(row).into()),
            Self::Bigint(a) => Cell::Whole(a.value(row)),
            Self::Double(a) => Cell::Double(a.value(row)),
            Self::Decimal(a) => Cell::Decimal(a.value(row)),
            Self::Date(a) => Cell::Whole(a.value(row).into()),
            Self::Timestamptz(a) => Cell::Whole(a.value(row)),
            Self::Interval(a) => Cell::Decimal(length(a.value(row))),
        }
    }

    /// Appends a row's value as bytes that are equal for equal values.
    pub(in crate::state) fn write_key(&self, row: usize, key: &mut Vec<u8>) {
        if self.is_null(row) {
            return key.push(NULL);
        }
        match self {
            Self::Text(a) => write_text(a.value(row), key),
            Self::Boolean(a) => key.extend([BOOLEAN, u8::from(a.value(row))]),
            Self::Integer(a) => write_whole(a.value(row).into(), key),
            Self::Bigint(a) => write_whole(a.value(row), key),
            Self::Double(a) => write_double(a.value(row), key),
            Self::Decimal(a) => write_decimal(a.value(row), key),
            Self::Date(a) => write_whole(a.value(row).into(), key),
            Self::Timestamptz(a) => write_whole(a.value(row), key),
            Self::Interval(a) => write_decimal(length(a.value(row)), key),
        }
    }

    /// How a row's value compares with a cell of the same type; neither is null.
    pub(in crate::state) fn compare(&self, row: usize, cell: &Cell) -> Ordering {
        match (self, cell) {
            // No text is made where none is kept.
            (Self::Text(a), Cell::Text(text)) => a.value(row).cmp(text),
            _ => self.cell(row).compare(cell),
        }
    }
}

impl Cell {
    /// The order of values of one type; a floating-point number that is none comes after all others, as in PostgreSQL.
    pub(in crate::state) fn compare(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Text(a), Self::Text(b)) => a.cmp(b),
            (Self::Boolean(a), Self::Boolean(b)) => a.cmp(b),
            (Self::Whole(a), Self::Whole(b)) => a.cmp(b),
            (Self::Double(a), Self::Double(b)) => match (a.is_nan(), b.is_nan()) {
                (false, false) => a.partial_cmp(b).unwrap_or(Ordering::Equal),
                (a, b) => a.cmp(&b),
            },
            (Self::Decimal(a), Self::Decimal(b)) => a.cmp(b),
            _ => Ordering::Equal,
        }
    }

    /// Appends the value as bytes; [`Cell::read`] reads them.
    pub(in crate::state) fn write(&self, bytes: &mut Vec<u8>) {
        match self {
            Self::Null => bytes.push(NULL),
            Self::Text(text) => write_text(text, bytes),
            Self::Boolean(value) => bytes.extend([BOOLEAN, u8::from(*value)]),
            Self::Whole(value) => write_whole(*value, bytes),
            Self::Double(value) => {
                bytes.push(DOUBLE);
                bytes.extend(value.to_bits().to_le_bytes());
            }
            Self::Decimal(value) => write_decimal(*value, bytes),
        }
    }

    /// Reads a value off the front; None where the bytes are damaged.
    pub(in crate::state) fn read(bytes: &mut &[u8]) -> Option<Self> {
        Some(match take::<1>(bytes)?[0] {
            NULL => Self::Null,
            TEXT => {
                let length = usize::try_from(u32::from_le_bytes(take::<4>(bytes)?)).ok()?;
                let (text, rest) = bytes.split_at_checked(length)?;
                *bytes = rest;
                Self::Text(std::str::from_utf8(text).ok()?.into())
            }
            BOOLEAN => Self::Boolean(take::<1>(bytes)?[0] == 1),
            WHOLE => Self::Whole(i64::from_le_bytes(take::<8>(bytes)?)),
            DOUBLE => Self::Double(f64::from_bits(u64::from_le_bytes(take::<8>(bytes)?))),
            DECIMAL => Self::Decimal(i128::from_le_bytes(take::<16>(bytes)?)),
            _ => return None,
        })
    }
}

const NULL: u8 = 0;
const TEXT: u8 = 1;
const BOOLEAN: u8 = 2;
const WHOLE: u8 = 3;
const DOUBLE: u8 = 4;
const DECIMAL: u8 = 5;

fn write_text(text: &str, bytes: &mut Vec<u8>) {
    bytes.push(TEXT);
    // A text of a column is shorter than 2 GiB.
    bytes.extend(u32::try_from(text.len()).unwrap_or(u32::MAX).to_le_bytes());
    bytes.extend(text.as_bytes());
}

fn write_whole(value: i64, bytes: &mut Vec<u8>) {
    bytes.push(WHOLE);
    bytes.extend(value.to_le_bytes());
}

/// Both zeros are one value, and so is all that is not a number.
fn write_double(value: f64, bytes: &mut Vec<u8>) {
    let one = if value == 0.0 {
        0.0
    } else if value.is_nan() {
        f64::NAN
    } else {
        value
    };
    bytes.push(DOUBLE);
    bytes.extend(one.to_bits().to_le_bytes());
}

fn write_decimal(value: i128, bytes: &mut Vec<u8>) {
    bytes.push(DECIMAL);
    bytes.extend(value.to_le_bytes());
}

/// Takes bytes off the front; None where there are not so many.
pub(super) fn take<const N: usize>(bytes: &mut &[u8]) -> Option<[u8; N]> {
    let (first, rest) = bytes.split_first_chunk::<N>()?;
    *bytes = rest;
    Some(*first)
}

/// Adds a value to a column of its type.
pub(super) fn push(column: &mut ColumnBuilder, cell: &Cell) {
    match (column.values(), cell) {
        (Values::Text { .. }, Cell::Text(text)) => return column.push_text(text.as_bytes()),
        (Values::Boolean(values), Cell::Boolean(value)) => values.append(*value),
        (Values::Integer(values) | Values::Date(values), Cell::Whole(value)) => match i32::try_from(*value) {
            Ok(value) => values.push(value),
            Err(_) => return column.push_null(),
        },
        (Values::Bigint(values) | Values::Timestamptz(values), Cell::Whole(value)) => values.push(*value),
        (Values::Double(values), Cell::Double(value)) => values.push(*value),
        (Values::Decimal(values), Cell::Decimal(value)) => values.push(*value),
        _ => return column.push_null(),
    }
    column.pushed();
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Cell::Null)]
    #[case(Cell::Text("Tarrow".into()))]
    #[case(Cell::Text("".into()))]
    #[case(Cell::Boolean(true))]
    #[case(Cell::Whole(-7))]
    #[case(Cell::Double(-0.5))]
    #[case(Cell::Decimal(i128::MIN))]
    fn what_is_written_is_read(#[case] cell: Cell) {
        let mut bytes = Vec::new();
        cell.write(&mut bytes);
        for end in 0..bytes.len() {
            assert_eq!(Cell::read(&mut &bytes[..end]), None, "cut at {end}");
        }
        bytes.push(9);
        let mut rest = bytes.as_slice();
        assert_eq!((Cell::read(&mut rest), rest), (Some(cell), &[9][..]));
    }

    #[test]
    fn equal_numbers_have_one_key_and_texts_cannot_run_into_each_other() {
        let numbers: ArrayRef = Arc::new(Float64Array::from(vec![0.0, -0.0, f64::NAN, -f64::NAN, 1.0]));
        let cells = Cells::of(&numbers, SqlType::Double);
        let key = |row| {
            let mut key = Vec::new();
            cells.write_key(row, &mut key);
            key
        };
        assert_eq!((key(0) == key(1), key(2) == key(3), key(0) == key(4)), (true, true, false));
        let texts: ArrayRef = Arc::new(StringArray::from(vec!["ab", "c", "a", "bc"]));
        let cells = Cells::of(&texts, SqlType::Text);
        let (mut one, mut other) = (Vec::new(), Vec::new());
        [0, 1].iter().for_each(|row| cells.write_key(*row, &mut one));
        [2, 3].iter().for_each(|row| cells.write_key(*row, &mut other));
        assert_ne!(one, other);
    }
}
