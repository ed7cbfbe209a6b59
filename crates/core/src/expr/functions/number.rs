//! Functions of numbers.

use std::sync::Arc;

use arrow_array::PrimitiveArray;
use arrow_array::types::{ArrowPrimitiveType, Decimal128Type, Float64Type, Int32Type, Int64Type};
use arrow_schema::DataType;

use crate::expr::column::{Column, merged, nulls, shape};
use crate::types::SqlType;
use crate::values::number;

/// The number without its sign.
pub(super) fn abs(columns: &[Column], rows: usize) -> Column {
    let column = &columns[0];
    match column.array.data_type() {
        DataType::Int32 => map::<Int32Type>(columns, rows, |v, _| v.checked_abs()),
        DataType::Int64 => map::<Int64Type>(columns, rows, |v, _| v.checked_abs()),
        DataType::Float64 => map::<Float64Type>(columns, rows, |v, _| Some(v.abs())),
        _ => map::<Decimal128Type>(columns, rows, |v, _| v.checked_abs()),
    }
}

/// Rounding keeps the kind of number; a decimal gets room for the digit that it can gain.
pub(super) fn round_type(types: &[SqlType]) -> SqlType {
    match types[0] {
        SqlType::Decimal { precision, scale } if types.len() == 1 => {
            SqlType::Decimal { precision: (precision - scale + 1).min(38), scale: 0 }
        }
        SqlType::Decimal { precision, scale } => SqlType::Decimal { precision: (precision + 1).min(38), scale },
        other => other,
    }
}

/// The nearest number with so many digits after the point, halves away from zero; digits before the point are counted below
/// zero.
pub(super) fn round(columns: &[Column], rows: usize) -> Column {
    let digits = |row: usize| -> i64 {
        let Some(column) = columns.get(1) else { return 0 };
        match column.array.data_type() {
            DataType::Int32 => column.primitive::<Int32Type>().value(column.index(row)).into(),
            _ => column.primitive::<Int64Type>().value(column.index(row)),
        }
    };
    match *columns[0].array.data_type() {
        DataType::Float64 => map::<Float64Type>(columns, rows, |v, row| Some(round_double(v, digits(row)))),
        DataType::Decimal128(precision, scale) => {
            let scale = u8::try_from(scale).unwrap_or(0);
            let result = map::<Decimal128Type>(columns, rows, |v, row| {
                let rounded = round_units(v, i64::from(scale) - digits(row))?;
                let kept = if columns.len() == 1 { number::rescale(rounded, scale, 0)? } else { rounded };
                number::fits_precision(kept, 38).then_some(kept)
            });
            let types = [SqlType::Decimal { precision, scale }, SqlType::Integer];
            let ty = round_type(&types[..columns.len()]);
            let array = result.primitive::<Decimal128Type>().clone().with_data_type(ty.arrow());
            Column { array: Arc::new(array), ..result }
        }
        DataType::Int32 => map::<Int32Type>(columns, rows, |v, row| {
            round_units(v.into(), -digits(row)).and_then(|v| i32::try_from(v).ok())
        }),
        _ => map::<Int64Type>(columns, rows, |v, row| {
            round_units(v.into(), -digits(row)).and_then(|v| i64::try_from(v).ok())
        }),
    }
}

/// Rounds away so many of the last digits.
fn round_units(value: i128, digits: i64) -> Option<i128> {
    match usize::try_from(digits) {
        Err(_) | Ok(0) => Some(value),
        Ok(digits) => match number::POWERS.get(digits) {
            Some(power) => number::divide_rounded(value, *power).checked_mul(*power),
            None => Some(0),
        },
    }
}

/// Rounds by the shortest decimal spelling, so that 1.005 becomes 1.01.
fn round_double(value: f64, digits: i64) -> f64 {
    let Some((units, lowest)) = number::double_to_units(value) else { return value };
    // The value is `units` times ten to the power of `lowest`.
    if -lowest <= digits {
        return value;
    }
    match round_units(units, -lowest - digits) {
        Some(rounded) => format!("{rounded}e{lowest}").parse().unwrap_or(value),
        None => value,
    }
}

/// Maps the first column; the others may be constants. None is an error of the row.
fn map<T: ArrowPrimitiveType>(
    columns: &[Column],
    rows: usize,
    f: impl Fn(T::Native, usize) -> Option<T::Native>,
) -> Column {
    let all: Vec<&Column> = columns.iter().collect();
    let (scalar, len) = shape(&all, rows);
    let nulls = nulls(&all, len);
    let mut errors = merged(&all, rows);
    let values = columns[0].primitive::<T>();
    let mut out = Vec::with_capacity(len);
    for row in 0..len {
        let value = match nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
            true => f(values.value(columns[0].index(row)), row),
            false => Some(T::Native::default()),
        };
        if value.is_none() {
            errors.add(row, "the result is too large for its type");
        }
        out.push(value.unwrap_or_default());
    }
    let array = PrimitiveArray::<T>::new(out.into(), nulls).with_data_type(columns[0].array.data_type().clone());
    Column::computed(Arc::new(array), scalar, errors)
}
