//! Fields of dates, moments and intervals.

use arrow_array::types::{Decimal128Type, Int32Type};
use arrow_schema::{DataType, IntervalUnit};
use chrono::{Datelike as _, Timelike as _};

use super::arithmetic::interval_at;
use super::{Arguments, OUTSIDE, micros_at};
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
use crate::values::interval::{HOUR, micros};
use crate::values::time::{self, DAY};

/// The fields of a moment.
pub(super) const FIELDS: &[&str] = &[
    "century",
    "day",
    "decade",
    "dow",
    "doy",
    "epoch",
    "hour",
    "isodow",
    "isoyear",
    "microseconds",
    "millennium",
    "milliseconds",
    "minute",
    "month",
    "quarter",
    "second",
    "week",
    "year",
];

/// Fields that a date does not have.
pub(in crate::expr) const OF_TIME: &[&str] = &["hour", "microseconds", "milliseconds", "minute", "second"];

/// Fields that an interval does not have.
pub(in crate::expr) const OF_CALENDAR: &[&str] = &["dow", "doy", "isodow", "isoyear", "week"];

/// The type of a field: seconds have digits after the point.
pub(in crate::expr) fn part_type(field: &str) -> SqlType {
    match field.to_lowercase().as_str() {
        "epoch" => SqlType::Decimal { precision: 20, scale: 6 },
        "second" => SqlType::Decimal { precision: 8, scale: 6 },
        "milliseconds" => SqlType::Decimal { precision: 8, scale: 3 },
        _ => SqlType::Integer,
    }
}

/// A field of each row.
pub(super) fn date_part(a: &Arguments<'_>) -> Column {
    let field = a.columns[0].constant_text().unwrap_or_default().to_lowercase();
    let column = &a.columns[1];
    let is_interval = *column.array.data_type() == DataType::Interval(IntervalUnit::MonthDayNano);
    let of = |row: usize| match is_interval {
        true => of_interval(&field, column, row),
        false => of_moment(&field, micros_at(column, row)).ok_or_else(|| OUTSIDE.into()),
    };
    match part_type(&field) {
        SqlType::Integer => {
            map_primitive::<Int32Type>(&[column], a.rows, SqlType::Integer, |row| Ok(i32::try_from(of(row)?).ok()))
        }
        decimal => map_primitive::<Decimal128Type>(&[column], a.rows, decimal, |row| of(row).map(Some)),
    }
}

/// A field of a moment; of those with digits after the point, in their last unit.
fn of_moment(field: &str, moment: i64) -> Option<i128> {
    let within_minute = i128::from(moment.rem_euclid(60_000_000));
    match field {
        "epoch" => return Some(moment.into()),
        "microseconds" | "second" | "milliseconds" => return Some(within_minute),
        _ => {}
    }
    let at = time::moment(moment)?;
    let year = at.year();
    let whole: i64 = match field {
        "century" => i64::from(year + 99) / 100,
        "day" => at.day().into(),
        "decade" => i64::from(year.div_euclid(10)),
        "dow" => at.weekday().num_days_from_sunday().into(),
        "doy" => at.ordinal().into(),
        "hour" => at.hour().into(),
        "isodow" => at.weekday().number_from_monday().into(),
        "isoyear" => at.iso_week().year().into(),
        "millennium" => i64::from(year + 999) / 1000,
        "minute" => at.minute().into(),
        "month" => at.month().into(),
        "quarter" => i64::from(at.month0() / 3 + 1),
        "week" => at.iso_week().week().into(),
        _ => year.into(),
    };
    Some(whole.into())
}

fn of_interval(field: &str, column: &Column, row: usize) -> Result<i128, String> {
    let value = interval_at(column, row);
    let (months, days, micros) = (i64::from(value.months), i64::from(value.days), micros(value));
    let within_minute = i128::from(micros % 60_000_000);
    Ok(match field {
        // A year has 365.25 days here and a month 30, as in PostgreSQL.
        "epoch" => {
            let years = i128::from(months / 12) * i128::from(DAY) * 1461 / 4;
            years + i128::from((months % 12) * 30 + days) * i128::from(DAY) + i128::from(micros)
        }
        "microseconds" | "second" | "milliseconds" => within_minute,
        "minute" => (micros % HOUR / 60_000_000).into(),
        "hour" => (micros / HOUR).into(),
        "day" => days.into(),
        "month" => (months % 12).into(),
        "quarter" => (months % 12 / 3 + 1).into(),
        "year" => (months / 12).into(),
        "decade" => (months / 120).into(),
        "century" => (months / 1_200).into(),
        "millennium" => (months / 12_000).into(),
        other => return Err(format!("an interval has no {other}")),
    })
}
