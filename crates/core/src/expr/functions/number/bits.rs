//! Whole numbers as bits.

use arrow_array::types::{ArrowPrimitiveType, Int32Type, Int64Type};
use arrow_schema::DataType;

use super::{Arguments, Function, Parameter};
use crate::expr::column::{Column, map_primitive, map_text};
use crate::types::SqlType;

const TWO: &[Parameter] = &[Parameter::Whole, Parameter::Whole];

macro_rules! operator {
    ($static:ident, $name:literal, $narrow:expr, $wide:expr) => {
        /// The operator; both sides have one type, but for shifts, whose right side is any whole number.
        pub(in crate::expr) static $static: Function = Function {
            name: $name,
            signature: concat!("number ", $name, " number, both whole"),
            parameters: TWO,
            result: |arguments| arguments[0].ty,
            compute: |a| of_two(a, $narrow, $wide),
            ..Function::PLAIN
        };
    };
}

operator!(BIT_AND, "&", |a, b| a & low(b), |a, b| a & b);
operator!(BIT_OR, "|", |a, b| a | low(b), |a, b| a | b);
operator!(BIT_XOR, "#", |a, b| a ^ low(b), |a, b| a ^ b);
operator!(SHIFT_LEFT, "<<", |a, b| a.wrapping_shl(places(b)), |a, b| a.wrapping_shl(places(b)));
operator!(SHIFT_RIGHT, ">>", |a, b| a.wrapping_shr(places(b)), |a, b| a.wrapping_shr(places(b)));

/// The operator `~` before a whole number.
pub(in crate::expr) static BIT_NOT: Function = Function {
    name: "~",
    signature: "~ number, a whole one",
    parameters: &[Parameter::Whole],
    result: |arguments| arguments[0].ty,
    compute: |a| match a.columns[0].array.data_type() {
        DataType::Int32 => of_one::<Int32Type>(a, SqlType::Integer, |v| !v),
        _ => of_one::<Int64Type>(a, SqlType::Bigint, |v| !v),
    },
    ..Function::PLAIN
};

fn of_one<T: ArrowPrimitiveType>(a: &Arguments<'_>, ty: SqlType, f: fn(T::Native) -> T::Native) -> Column {
    let values = a.columns[0].primitive::<T>();
    map_primitive::<T>(&a.all(), a.rows, ty, |row| Ok(Some(f(values.value(a.columns[0].index(row))))))
}

fn of_two(a: &Arguments<'_>, narrow: fn(i32, i64) -> i32, wide: fn(i64, i64) -> i64) -> Column {
    match a.columns[0].array.data_type() {
        DataType::Int32 => map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
            let left = a.columns[0].primitive::<Int32Type>().value(a.columns[0].index(row));
            Ok(Some(narrow(left, a.whole(1, row))))
        }),
        _ => map_primitive::<Int64Type>(&a.all(), a.rows, SqlType::Bigint, |row| {
            Ok(Some(wide(a.whole(0, row), a.whole(1, row))))
        }),
    }
}

/// A number of 32 bits that came as one of 64.
fn low(value: i64) -> i32 {
    i32::try_from(value).unwrap_or_default()
}

/// By how many places is shifted: the width of the type is taken away as often as it fits, as processors do.
fn places(count: i64) -> u32 {
    u32::try_from(count.rem_euclid(64)).unwrap_or(0)
}

/// Hexadecimal digits.
pub(super) fn to_hex(a: &Arguments<'_>) -> Column {
    let is_narrow = *a.columns[0].array.data_type() == DataType::Int32;
    map_text(&a.all(), a.rows, |row, out| {
        let value = a.whole(0, row);
        let digits = match is_narrow {
            true => format!("{:x}", low(value)),
            false => format!("{value:x}"),
        };
        out.extend_from_slice(digits.as_bytes());
        Ok(())
    })
}
