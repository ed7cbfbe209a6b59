//! Single values of a record, pushed to their columns. None means that the text is not such a value.

use arrow_buffer::BooleanBufferBuilder;

use super::builders::Values;
use crate::types::SqlType;
use crate::values::number;
use crate::values::time::{self, TimeFormat};

pub(in crate::formats) fn push<T>(values: &mut Vec<T>, value: Option<T>) -> Option<()> {
    values.push(value?);
    Some(())
}

pub(in crate::formats) fn push_bit(values: &mut BooleanBufferBuilder, value: bool) -> Option<()> {
    values.append(value);
    Some(())
}

#[inline]
pub(in crate::formats) fn push_number(values: &mut Values, ty: SqlType, text: &[u8]) -> Option<()> {
    match (values, ty) {
        (Values::Integer(values), _) => push(values, number::parse_whole(text).and_then(|v| i32::try_from(v).ok())),
        (Values::Bigint(values), _) => push(values, number::parse_whole(text)),
        (Values::Double(values), _) => push(values, number::parse_double(text)),
        (Values::Decimal(values), SqlType::Decimal { precision, scale }) => {
            push(values, number::parse_decimal(text, scale).filter(|v| number::fits_precision(*v, precision)))
        }
        _ => None,
    }
}

pub(in crate::formats) fn parse_timestamp(text: &[u8], format: Option<&TimeFormat>) -> Option<i64> {
    match format {
        None | Some(TimeFormat::Rfc3339) => time::parse_timestamp(text),
        Some(TimeFormat::Epoch(unit)) => parse_epoch(text, *unit),
        Some(TimeFormat::Pattern(pattern)) => time::parse_timestamp_pattern(std::str::from_utf8(text).ok()?, pattern),
    }
}

pub(in crate::formats) fn parse_date(text: &[u8], format: Option<&TimeFormat>) -> Option<i32> {
    match format {
        Some(TimeFormat::Pattern(pattern)) => time::parse_date_pattern(std::str::from_utf8(text).ok()?, pattern),
        _ => time::parse_date(text),
    }
}

/// A count of units since 1970; digits after the point are rounded to the microsecond.
pub(in crate::formats) fn parse_epoch(text: &[u8], unit: i64) -> Option<i64> {
    if let Some(whole) = number::parse_whole(text) {
        return whole.checked_mul(unit);
    }
    let units = number::parse_decimal(text, 9)?.checked_mul(i128::from(unit))?;
    i64::try_from(number::divide_rounded(units, 1_000_000_000)).ok()
}
