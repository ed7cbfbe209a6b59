//! Columns of values that a store gives as text.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, StringArray,
    TimestampMicrosecondArray,
};
use sluice_core::types::SqlType;
use sluice_core::values::{number, time};

/// A column of a type. Where one of the texts is not a value of it (an infinite day, say), the column is null there, and who
/// asks has to say so.
pub(crate) fn array<'t>(ty: SqlType, texts: impl Iterator<Item = Option<&'t str>>) -> ArrayRef {
    let whole = |t: &str| number::parse_whole(t.as_bytes());
    match ty {
        SqlType::Text | SqlType::Json | SqlType::Timestamp | SqlType::Interval | SqlType::Null => {
            Arc::new(texts.collect::<StringArray>())
        }
        SqlType::Boolean => Arc::new(texts.map(|t| t.map(is_true)).collect::<BooleanArray>()),
        SqlType::Integer => {
            let values = texts.map(|t| t.and_then(whole).and_then(|n| i32::try_from(n).ok()));
            Arc::new(values.collect::<Int32Array>())
        }
        SqlType::Bigint => Arc::new(texts.map(|t| t.and_then(whole)).collect::<Int64Array>()),
        SqlType::Double => Arc::new(texts.map(|t| t.and_then(|t| t.parse().ok())).collect::<Float64Array>()),
        SqlType::Decimal { scale, .. } => {
            let values = texts.map(|t| t.and_then(|t| number::parse_decimal(t.as_bytes(), scale)));
            Arc::new(values.collect::<Decimal128Array>().with_data_type(ty.arrow()))
        }
        SqlType::Date => {
            Arc::new(texts.map(|t| t.and_then(|t| time::parse_date(t.as_bytes()))).collect::<Date32Array>())
        }
        SqlType::Timestamptz => {
            let values = texts.map(|t| t.and_then(|t| time::parse_timestamp(t.as_bytes())));
            Arc::new(values.collect::<TimestampMicrosecondArray>().with_timezone("UTC"))
        }
    }
}

fn is_true(text: &str) -> bool {
    matches!(text, "t" | "true" | "1")
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Array as _;
    use rstest::rstest;

    #[rstest]
    #[case(SqlType::Boolean, "t")]
    #[case(SqlType::Integer, "-7")]
    #[case(SqlType::Bigint, "9223372036854775807")]
    #[case(SqlType::Double, "1e300")]
    #[case(SqlType::Double, "NaN")]
    #[case(SqlType::Decimal { precision: 6, scale: 2 }, "3.40")]
    #[case(SqlType::Date, "2026-07-01")]
    #[case(SqlType::Timestamptz, "2026-07-01T05:06:07.000008Z")]
    #[case(SqlType::Text, "")]
    fn values_are_read(#[case] ty: SqlType, #[case] text: &str) {
        let array = array(ty, [Some(text), None].into_iter());
        assert_eq!((array.data_type(), array.null_count(), array.is_null(1)), (&ty.arrow(), 1, true));
    }
}
