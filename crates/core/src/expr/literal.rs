//! Constants: their types and values.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array,
    IntervalMonthDayNanoArray, StringArray, TimestampMicrosecondArray, new_null_array,
};

use super::{Expr, Node};
use crate::types::{MAX_PRECISION, SqlType};
use crate::values::{interval, number, time};

impl Expr {
    /// A constant of a type.
    pub(super) fn literal(array: ArrayRef, ty: SqlType) -> Self {
        let nullable = array.is_null(0) || ty == SqlType::Null;
        Self::new(Node::Literal(array), ty, nullable)
    }

    /// A bare null.
    pub(super) fn null() -> Self {
        Self::literal(new_null_array(&SqlType::Null.arrow(), 1), SqlType::Null)
    }

    /// A constant text.
    pub(super) fn text_literal(text: &str) -> Self {
        Self::literal(Arc::new(StringArray::from(vec![text])), SqlType::Text)
    }

    /// The constant text that this is.
    pub(super) fn as_text(&self) -> Option<String> {
        match (&self.node, self.ty) {
            (Node::Literal(array), SqlType::Text) => {
                let array = array.as_any().downcast_ref::<StringArray>()?;
                Some(array.value(0).to_string())
            }
            _ => None,
        }
    }
}

/// A constant number: the smallest whole type that holds it, else a decimal with its digits, else a double.
pub(super) fn number_literal(spelled: &str) -> Option<Expr> {
    let bytes = spelled.as_bytes();
    if !spelled.contains(['e', 'E', '.'])
        && let Some(value) = number::parse_whole(bytes)
    {
        return Some(match i32::try_from(value) {
            Ok(value) => Expr::literal(Arc::new(Int32Array::from(vec![value])), SqlType::Integer),
            Err(_) => Expr::literal(Arc::new(Int64Array::from(vec![value])), SqlType::Bigint),
        });
    }
    if spelled.contains(['e', 'E']) {
        let value = number::parse_double(bytes)?;
        return Some(Expr::literal(Arc::new(Float64Array::from(vec![value])), SqlType::Double));
    }
    let fraction = spelled.split_once('.').map_or(0, |(_, f)| f.len());
    let scale = u8::try_from(fraction).ok().filter(|s| *s <= MAX_PRECISION)?;
    let value = number::parse_decimal(bytes, scale)?;
    Some(decimal_literal(value, scale))
}

/// A decimal constant with as many digits as it needs.
pub(super) fn decimal_literal(value: i128, scale: u8) -> Expr {
    let precision = (1..=MAX_PRECISION).find(|p| number::fits_precision(value, *p)).unwrap_or(MAX_PRECISION);
    let ty = SqlType::Decimal { precision: precision.max(scale).max(1), scale };
    let array = Decimal128Array::from(vec![value]).with_data_type(ty.arrow());
    Expr::literal(Arc::new(array), ty)
}

/// What a word says of truth, as PostgreSQL has it: true, yes, on and 1, their beginnings where they are clear, and the contrary.
pub(crate) fn boolean_word(word: &str) -> Option<bool> {
    let word = word.trim().to_ascii_lowercase();
    match word.as_str() {
        "t" | "tr" | "tru" | "true" | "y" | "ye" | "yes" | "on" | "1" => Some(true),
        "f" | "fa" | "fal" | "fals" | "false" | "n" | "no" | "of" | "off" | "0" => Some(false),
        _ => None,
    }
}

/// A constant text read as another type, as SQL reads a quoted literal beside a value of that type.
pub(super) fn text_as(text: &str, ty: SqlType) -> Option<Expr> {
    let trimmed = text.trim();
    let bytes = trimmed.as_bytes();
    let array: ArrayRef = match ty {
        SqlType::Json if serde_json::from_str::<&serde_json::value::RawValue>(text).is_err() => return None,
        SqlType::Text | SqlType::Json => Arc::new(StringArray::from(vec![text])),
        SqlType::Boolean => Arc::new(BooleanArray::from(vec![boolean_word(trimmed)?])),
        SqlType::Integer => Arc::new(Int32Array::from(vec![i32::try_from(number::parse_whole(bytes)?).ok()?])),
        SqlType::Bigint => Arc::new(Int64Array::from(vec![number::parse_whole(bytes)?])),
        SqlType::Double => Arc::new(Float64Array::from(vec![number::parse_double(bytes)?])),
        SqlType::Decimal { precision, scale } => {
            let value = number::parse_decimal(bytes, scale).filter(|v| number::fits_precision(*v, precision))?;
            Arc::new(Decimal128Array::from(vec![value]).with_data_type(ty.arrow()))
        }
        SqlType::Date => Arc::new(Date32Array::from(vec![time::parse_date(bytes)?])),
        SqlType::Timestamptz => {
            let value =
                time::parse_timestamp(bytes).or_else(|| time::parse_date(bytes).map(|d| i64::from(d) * time::DAY))?;
            Arc::new(TimestampMicrosecondArray::from(vec![value]).with_timezone("UTC"))
        }
        SqlType::Timestamp => Arc::new(TimestampMicrosecondArray::from(vec![time::parse_local(bytes)?])),
        SqlType::Interval => Arc::new(IntervalMonthDayNanoArray::from(vec![interval::parse_interval(trimmed)?])),
        SqlType::Null => return None,
    };
    Some(Expr::literal(array, ty))
}
