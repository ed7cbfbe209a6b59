//! Arithmetic: result types and values. Overflow and division by zero are errors of their row.
//!
//! Decimals follow the usual rules of exact numerics: sums keep the larger scale, products add their digits, and a
//! quotient has `max(6, s1 + p2 + 1)` digits after the point; what would need more than 38 digits gives up digits
//! after the point, six at the least. Only a quotient is rounded: a sum or product that would lose digits other than zero is an
//! error of its row.

use std::sync::Arc;

use arrow_array::types::{ArrowPrimitiveType, Decimal128Type, Float64Type, Int32Type, Int64Type};
use arrow_array::{ArrowNativeTypeOp, PrimitiveArray};
use arrow_buffer::i256;

use super::column::{Column, zip_checked};
use super::{ArithmeticOp, Expr};
use crate::types::{MAX_PRECISION, SqlType};
use crate::values::number;

const OVERFLOW: &str = "the result is too large for its type";
const UNDERFLOW: &str = "the result is too close to zero for its type";
const DIGITS: &str = "the result has more digits after the point than its type";
const ZERO: &str = "division by zero";

/// The type of a result, None where the operands are not numbers.
pub(super) fn result_type(op: ArithmeticOp, left: SqlType, right: SqlType) -> Option<SqlType> {
    if !left.is_numeric() || !right.is_numeric() {
        return None;
    }
    if !matches!((left, right), (SqlType::Decimal { .. }, _) | (_, SqlType::Decimal { .. }))
        || left == SqlType::Double
        || right == SqlType::Double
    {
        return left.common(right);
    }
    let ((p1, s1), (p2, s2)) = (left.as_decimal()?, right.as_decimal()?);
    let [p1, s1, p2, s2] = [p1, s1, p2, s2].map(u32::from);
    let (precision, scale) = match op {
        ArithmeticOp::Add | ArithmeticOp::Subtract => {
            let scale = s1.max(s2);
            ((p1 - s1).max(p2 - s2) + scale + 1, scale)
        }
        ArithmeticOp::Multiply => (p1 + p2 + 1, s1 + s2),
        ArithmeticOp::Divide => {
            let scale = (s1 + p2 + 1).max(6);
            (p1 - s1 + s2 + scale, scale)
        }
        ArithmeticOp::Remainder => {
            let scale = s1.max(s2);
            ((p1 - s1).min(p2 - s2) + scale, scale)
        }
    };
    let whole = precision - scale;
    let (precision, scale) = match u32::from(MAX_PRECISION) {
        max if precision <= max => (precision, scale),
        max => (max, max.saturating_sub(whole).max(scale.min(6))),
    };
    Some(SqlType::Decimal { precision: u8::try_from(precision).ok()?, scale: u8::try_from(scale).ok()? })
}

/// Computes an operation whose operands already have their types: that of the result, or decimals of any scale.
pub(super) fn compute(
    op: ArithmeticOp,
    ty: SqlType,
    operands: (&Expr, &Expr),
    left: &Column,
    right: &Column,
    rows: usize,
) -> Column {
    match ty {
        SqlType::Integer => whole::<Int32Type>(op, ty, left, right, rows),
        SqlType::Bigint => whole::<Int64Type>(op, ty, left, right, rows),
        SqlType::Double => apply::<Float64Type>(left, right, rows, ty, |a, b| {
            let value = match op {
                ArithmeticOp::Add => a + b,
                ArithmeticOp::Subtract => a - b,
                ArithmeticOp::Multiply => a * b,
                _ if b == 0.0 => return Err(ZERO),
                ArithmeticOp::Divide => a / b,
                ArithmeticOp::Remainder => a % b,
            };
            let is_lost = match op {
                ArithmeticOp::Multiply => value == 0.0 && a != 0.0 && b != 0.0,
                ArithmeticOp::Divide => value == 0.0 && a != 0.0 && b.is_finite(),
                _ => false,
            };
            match () {
                () if is_lost => Err(UNDERFLOW),
                () if value.is_finite() || !a.is_finite() || !b.is_finite() => Ok(value),
                () => Err(OVERFLOW),
            }
        }),
        SqlType::Decimal { precision, scale } => {
            let scales = (scale_of(operands.0), scale_of(operands.1), scale);
            apply::<Decimal128Type>(left, right, rows, ty, move |a, b| {
                if b == 0 && matches!(op, ArithmeticOp::Divide | ArithmeticOp::Remainder) {
                    return Err(ZERO);
                }
                let value = decimal(op, a, b, scales)?;
                if number::fits_precision(value, precision) { Ok(value) } else { Err(OVERFLOW) }
            })
        }
        other => unreachable!("bind gives arithmetic a numeric type, not {other}"),
    }
}

/// Whole numbers of either width.
fn whole<T: ArrowPrimitiveType>(op: ArithmeticOp, ty: SqlType, left: &Column, right: &Column, rows: usize) -> Column
where
    T::Native: ArrowNativeTypeOp,
{
    apply::<T>(left, right, rows, ty, |a, b| {
        match op {
            ArithmeticOp::Add => a.add_checked(b),
            ArithmeticOp::Subtract => a.sub_checked(b),
            ArithmeticOp::Multiply => a.mul_checked(b),
            _ if b.is_zero() => return Err(ZERO),
            ArithmeticOp::Divide => a.div_checked(b),
            // The remainder by -1 is 0, also of the least number, where the check would see an overflow.
            ArithmeticOp::Remainder => Ok(a.mod_wrapping(b)),
        }
        .map_err(|_| OVERFLOW)
    })
}

fn scale_of(expr: &Expr) -> u8 {
    expr.ty.as_decimal().map_or(0, |(_, scale)| scale)
}

/// One decimal operation; scales are those of the operands and of the result.
fn decimal(op: ArithmeticOp, a: i128, b: i128, (s1, s2, scale): (u8, u8, u8)) -> Result<i128, &'static str> {
    let common = s1.max(s2);
    let same = |v: i128, from: u8| number::rescale(v, from, common).ok_or(OVERFLOW);
    let exactly = |v: Option<i128>, from: u8| {
        let v = v.ok_or(OVERFLOW)?;
        number::rescale_exactly(v, from, scale).ok_or(if scale < from { DIGITS } else { OVERFLOW })
    };
    match op {
        ArithmeticOp::Add => exactly(same(a, s1)?.checked_add(same(b, s2)?), common),
        ArithmeticOp::Subtract => exactly(same(a, s1)?.checked_sub(same(b, s2)?), common),
        ArithmeticOp::Multiply => exactly(a.checked_mul(b), s1 + s2),
        ArithmeticOp::Remainder => exactly(Some(same(a, s1)? % same(b, s2)?), common),
        ArithmeticOp::Divide => {
            let shift = i32::from(scale) + i32::from(s2) - i32::from(s1);
            let power = usize::try_from(shift.unsigned_abs()).ok().and_then(|shift| number::POWERS.get(shift));
            let power = power.ok_or(OVERFLOW)?;
            let (a, b) = if shift >= 0 { ((a, *power), (b, 1)) } else { ((a, 1), (b, *power)) };
            quotient(a, b).ok_or(OVERFLOW)
        }
    }
}

/// The quotient of two products, rounded. They may need more than 128 bits where the quotient does not.
fn quotient(a: (i128, i128), b: (i128, i128)) -> Option<i128> {
    if let (Some(a), Some(b)) = (a.0.checked_mul(a.1), b.0.checked_mul(b.1)) {
        return Some(number::divide_rounded(a, b));
    }
    let wide = |(x, y): (i128, i128)| i256::from_i128(x).checked_mul(i256::from_i128(y));
    let (a, b) = (wide(a)?, wide(b)?);
    let (whole, rest) = (a.checked_div(b)?, a.checked_rem(b)?);
    let is_half = rest.wrapping_abs() >= b.wrapping_abs().wrapping_sub(rest.wrapping_abs()) && rest != i256::ZERO;
    let away = if a.is_negative() == b.is_negative() { i256::ONE } else { i256::MINUS_ONE };
    (if is_half { whole.checked_add(away)? } else { whole }).to_i128()
}

fn apply<T: ArrowPrimitiveType>(
    left: &Column,
    right: &Column,
    rows: usize,
    ty: SqlType,
    f: impl Fn(T::Native, T::Native) -> Result<T::Native, &'static str>,
) -> Column {
    let (values, nulls, errors, scalar) = zip_checked::<T, T, T>(left, right, rows, f);
    let array = PrimitiveArray::<T>::new(values.into(), nulls).with_data_type(ty.arrow());
    Column::computed(Arc::new(array), scalar, errors)
}
