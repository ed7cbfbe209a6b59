//! Signs and rounding: the kind of number stays.

use std::sync::Arc;

use arrow_array::PrimitiveArray;
use arrow_array::types::{ArrowPrimitiveType, Decimal128Type, Float64Type, Int32Type, Int64Type};
use arrow_schema::DataType;

use super::Arguments;
use crate::expr::column::{Column, merged, nulls, shape};
use crate::types::SqlType;
use crate::values::number;

/// The number without its sign.
pub(super) fn abs(a: &Arguments<'_>) -> Column {
    let (columns, rows) = (a.columns, a.rows);
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

/// Which whole number takes the place of one with digits behind it.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Toward {
    /// The nearest, halves away from zero.
    Nearest,
    /// The one nearer to zero.
    Zero,
    /// The smaller one.
    Floor,
    /// The larger one.
    Ceiling,
}

/// The number with so many digits after the point; digits before the point are counted below zero.
pub(super) fn round(a: &Arguments<'_>, toward: Toward) -> Column {
    let (columns, rows) = (a.columns, a.rows);
    let digits = |row: usize| if columns.len() > 1 { a.whole(1, row) } else { 0 };
    match *columns[0].array.data_type() {
        DataType::Float64 => map::<Float64Type>(columns, rows, |v, row| match (toward, columns.len()) {
            (Toward::Floor, _) => Some(v.floor()),
            (Toward::Ceiling, _) => Some(v.ceil()),
            (Toward::Zero, 1) => Some(v.trunc()),
            _ => Some(round_double(v, digits(row), toward)),
        }),
        DataType::Decimal128(precision, scale) => {
            let scale = u8::try_from(scale).unwrap_or(0);
            let result = map::<Decimal128Type>(columns, rows, |v, row| {
                let rounded = round_units(v, i64::from(scale).saturating_sub(digits(row)), toward)?;
                let kept = if columns.len() == 1 { number::rescale(rounded, scale, 0)? } else { rounded };
                number::fits_precision(kept, 38).then_some(kept)
            });
            let types = [SqlType::Decimal { precision, scale }, SqlType::Integer];
            let ty = round_type(&types[..columns.len()]);
            let array = result.primitive::<Decimal128Type>().clone().with_data_type(ty.arrow());
            Column { array: Arc::new(array), ..result }
        }
        DataType::Int32 => map::<Int32Type>(columns, rows, |v, row| {
            round_units(v.into(), digits(row).saturating_neg(), toward).and_then(|v| i32::try_from(v).ok())
        }),
        _ => map::<Int64Type>(columns, rows, |v, row| {
            round_units(v.into(), digits(row).saturating_neg(), toward).and_then(|v| i64::try_from(v).ok())
        }),
    }
}

/// -1, 0 or 1.
pub(super) fn sign(a: &Arguments<'_>) -> Column {
    let (columns, rows) = (a.columns, a.rows);
    match *columns[0].array.data_type() {
        DataType::Int32 => map::<Int32Type>(columns, rows, |v, _| Some(v.signum())),
        DataType::Int64 => map::<Int64Type>(columns, rows, |v, _| Some(v.signum())),
        DataType::Float64 => map::<Float64Type>(columns, rows, |v, _| {
            Some(match v {
                v if v > 0.0 => 1.0,
                v if v < 0.0 => -1.0,
                v => v,
            })
        }),
        DataType::Decimal128(_, scale) => {
            let one = number::POWERS.get(usize::try_from(scale).unwrap_or(0)).copied();
            map::<Decimal128Type>(columns, rows, |v, _| one.and_then(|one| v.signum().checked_mul(one)))
        }
        _ => columns[0].clone(),
    }
}

/// Rounds away so many of the last digits.
fn round_units(value: i128, digits: i64, toward: Toward) -> Option<i128> {
    let Some(digits) = usize::try_from(digits).ok().filter(|digits| *digits > 0) else { return Some(value) };
    let Some(power) = number::POWERS.get(digits) else { return Some(0) };
    let whole = match toward {
        Toward::Nearest => number::divide_rounded(value, *power),
        Toward::Zero => value / power,
        Toward::Floor => value.div_euclid(*power),
        Toward::Ceiling => -(-value).div_euclid(*power),
    };
    whole.checked_mul(*power)
}

/// Rounds by the shortest decimal spelling, so that 1.005 becomes 1.01.
fn round_double(value: f64, digits: i64, toward: Toward) -> f64 {
    let Some((units, lowest)) = number::double_to_units(value) else { return value };
    // The value is `units` times ten to the power of `lowest`.
    if -lowest <= digits {
        return value;
    }
    match round_units(units, (-lowest).saturating_sub(digits), toward) {
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
