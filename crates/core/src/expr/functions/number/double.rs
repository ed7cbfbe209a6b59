//! Floating-point functions. What has no result, or one that is too large or too small, is an error of its row.

use std::sync::Arc;

use arrow_array::Float64Array;
use arrow_array::types::Float64Type;

use super::Arguments;
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;

type Computed = Result<f64, &'static str>;

const OVERFLOW: &str = "the result is too large for its type";
const UNDERFLOW: &str = "the result is too close to zero for its type";
const RANGE: &str = "the number is outside the range of the function";

pub(super) fn constant(value: f64) -> Column {
    Column::constant(Arc::new(Float64Array::from(vec![value])))
}

pub(super) fn of_one(a: &Arguments<'_>, f: impl Fn(f64) -> Computed) -> Column {
    map_primitive::<Float64Type>(&a.all(), a.rows, SqlType::Double, |row| {
        f(a.columns[0].double_at(row)).map(Some).map_err(str::to_string)
    })
}

pub(super) fn of_two(a: &Arguments<'_>, f: impl Fn(f64, f64) -> Computed) -> Column {
    map_primitive::<Float64Type>(&a.all(), a.rows, SqlType::Double, |row| {
        f(a.columns[0].double_at(row), a.columns[1].double_at(row)).map(Some).map_err(str::to_string)
    })
}

/// The whole part of a number that fits into 32 bits.
#[expect(clippy::cast_possible_truncation, reason = "bounds are checked just before")]
pub(super) fn whole(value: f64) -> Option<i32> {
    (value.is_finite() && value.abs() <= f64::from(i32::MAX)).then_some(value as i32)
}

pub(super) fn sqrt(x: f64) -> Computed {
    if x < 0.0 { Err("a negative number has no square root") } else { Ok(x.sqrt()) }
}

pub(super) fn exp(x: f64) -> Computed {
    match x.exp() {
        y if y.is_infinite() && x.is_finite() => Err(OVERFLOW),
        y if y == 0.0 && x.is_finite() => Err(UNDERFLOW),
        y => Ok(y),
    }
}

pub(super) fn ln(x: f64) -> Computed {
    positive(x).map(f64::ln)
}

pub(super) fn log10(x: f64) -> Computed {
    positive(x).map(f64::log10)
}

/// The logarithm to a base.
pub(super) fn log(base: f64, x: f64) -> Computed {
    let (base, x) = (positive(base)?, positive(x)?);
    // For these two the result is exact where it is whole.
    match base {
        2.0 => Ok(x.log2()),
        10.0 => Ok(x.log10()),
        1.0 => Err("there is no logarithm to the base 1"),
        base => Ok(x.ln() / base.ln()),
    }
}

fn positive(x: f64) -> Computed {
    if x <= 0.0 { Err("only numbers above zero have a logarithm") } else { Ok(x) }
}

pub(super) fn asin(x: f64) -> Computed {
    within_one(x).map(f64::asin)
}

pub(super) fn acos(x: f64) -> Computed {
    within_one(x).map(f64::acos)
}

fn within_one(x: f64) -> Computed {
    if x.abs() > 1.0 { Err(RANGE) } else { Ok(x) }
}

pub(super) fn sin(x: f64) -> Computed {
    finite(x).map(f64::sin)
}

pub(super) fn cos(x: f64) -> Computed {
    finite(x).map(f64::cos)
}

pub(super) fn tan(x: f64) -> Computed {
    finite(x).map(f64::tan)
}

fn finite(x: f64) -> Computed {
    if x.is_infinite() { Err(RANGE) } else { Ok(x) }
}

pub(super) fn power(base: f64, exponent: f64) -> Computed {
    if base == 0.0 && exponent < 0.0 {
        return Err("zero to a negative power is not defined");
    }
    if base < 0.0 && exponent.is_finite() && exponent.fract() != 0.0 {
        return Err("a negative number to a power that is not whole is not defined");
    }
    match base.powf(exponent) {
        y if y.is_infinite() && base.is_finite() && exponent.is_finite() => Err(OVERFLOW),
        y if y == 0.0 && base != 0.0 && base.is_finite() && exponent.is_finite() => Err(UNDERFLOW),
        y => Ok(y),
    }
}
