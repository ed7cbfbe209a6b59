//! Lengths of time: months, days and microseconds beside each other, as in PostgreSQL, since a month and a day have no fixed length.

use arrow_buffer::IntervalMonthDayNano;

/// Microseconds of an hour.
pub(super) const HOUR: i64 = 3_600_000_000;

/// The microseconds of an interval beside its months and days.
pub(super) fn micros(interval: IntervalMonthDayNano) -> i64 {
    interval.nanoseconds / 1_000
}

/// An interval of months, days and microseconds; None where it is too long.
pub(super) fn interval(months: i64, days: i64, micros: i64) -> Option<IntervalMonthDayNano> {
    Some(IntervalMonthDayNano::new(i32::try_from(months).ok()?, i32::try_from(days).ok()?, micros.checked_mul(1_000)?))
}
