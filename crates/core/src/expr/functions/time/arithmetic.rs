//! Dates, moments and intervals added to and taken from each other.

use arrow_array::types::{Date32Type, Int32Type, IntervalMonthDayNanoType, TimestampMicrosecondType};
use arrow_buffer::IntervalMonthDayNano;
use chrono::{Datelike as _, Months};

use super::{Arguments, Function, OUTSIDE, Parameter, inside, micros_at};
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
use crate::values::interval::{interval, micros};
use crate::values::time::{self, DAY};

const TOO_LONG: &str = "the interval is too long";

/// A moment and an interval; the result has the type of the moment, a timestamp where that is a date.
pub(in crate::expr) static ADD_INTERVAL: Function = Function {
    name: "+",
    signature: "moment + interval",
    parameters: &[Parameter::Temporal, Parameter::Interval],
    result: |arguments| match arguments[0].ty {
        SqlType::Date => SqlType::Timestamp,
        other => other,
    },
    compute: add_interval,
    ..Function::PLAIN
};

/// A date and a whole number of days.
pub(in crate::expr) static ADD_DAYS: Function = Function {
    name: "+",
    signature: "date + days",
    parameters: &[Parameter::Temporal, Parameter::Whole],
    result: |_| SqlType::Date,
    compute: |a| {
        map_primitive::<Date32Type>(&a.all(), a.rows, SqlType::Date, |row| {
            let day = i64::from(a.columns[0].primitive::<Date32Type>().value(a.columns[0].index(row)));
            let moved = day.checked_add(a.whole(1, row)).and_then(|day| day.checked_mul(DAY));
            let moved = inside(moved)?.unwrap_or_default() / DAY;
            i32::try_from(moved).map(Some).map_err(|_| OUTSIDE.into())
        })
    },
    ..Function::PLAIN
};

/// The days between two dates.
pub(in crate::expr) static BETWEEN_DAYS: Function = Function {
    name: "-",
    signature: "date - date",
    parameters: &[Parameter::Temporal, Parameter::Temporal],
    result: |_| SqlType::Integer,
    compute: |a| {
        map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
            let [later, earlier] =
                [0, 1].map(|i| a.columns[i].primitive::<Date32Type>().value(a.columns[i].index(row)));
            Ok(later.checked_sub(earlier))
        })
    },
    ..Function::PLAIN
};

/// What lies between two moments, in days and time.
pub(in crate::expr) static BETWEEN_MOMENTS: Function = Function {
    name: "-",
    signature: "moment - moment",
    parameters: &[Parameter::Temporal, Parameter::Temporal],
    result: |_| SqlType::Interval,
    compute: |a| {
        intervals(a, |row| {
            let micros = micros_at(&a.columns[0], row).checked_sub(micros_at(&a.columns[1], row))?;
            interval(0, micros / DAY, micros % DAY)
        })
    },
    ..Function::PLAIN
};

/// An interval so many times.
pub(in crate::expr) static SCALE_INTERVAL: Function = Function {
    name: "*",
    signature: "interval * number",
    parameters: &[Parameter::Interval, Parameter::Double],
    result: |_| SqlType::Interval,
    compute: |a| intervals(a, |row| scale(interval_at(&a.columns[0], row), a.columns[1].double_at(row))),
    ..Function::PLAIN
};

pub(super) fn interval_at(column: &Column, row: usize) -> IntervalMonthDayNano {
    column.primitive::<IntervalMonthDayNanoType>().value(column.index(row))
}

fn intervals(a: &Arguments<'_>, value: impl Fn(usize) -> Option<IntervalMonthDayNano>) -> Column {
    map_primitive::<IntervalMonthDayNanoType>(&a.all(), a.rows, SqlType::Interval, |row| {
        value(row).map(Some).ok_or_else(|| TOO_LONG.into())
    })
}

fn add_interval(a: &Arguments<'_>) -> Column {
    if *a.columns[0].array.data_type() == SqlType::Interval.arrow() {
        return intervals(a, |row| {
            let [x, y] = [0, 1].map(|i| interval_at(&a.columns[i], row));
            let months = i64::from(x.months) + i64::from(y.months);
            interval(months, i64::from(x.days) + i64::from(y.days), micros(x).checked_add(micros(y))?)
        });
    }
    let ty = match a.columns[0].array.data_type() {
        arrow_schema::DataType::Timestamp(_, Some(_)) => SqlType::Timestamptz,
        _ => SqlType::Timestamp,
    };
    map_primitive::<TimestampMicrosecondType>(&a.all(), a.rows, ty, |row| {
        inside(add(micros_at(&a.columns[0], row), interval_at(&a.columns[1], row)))
    })
}

/// Months first, the day kept or cut to the end of its month, then days, then time.
fn add(moment: i64, by: IntervalMonthDayNano) -> Option<i64> {
    let mut moment = moment;
    if by.months != 0 {
        let local = time::moment(moment)?.naive_utc();
        let months = Months::new(by.months.unsigned_abs());
        let moved = if by.months > 0 { local.checked_add_months(months)? } else { local.checked_sub_months(months)? };
        moment = moved.and_utc().timestamp_micros();
    }
    moment.checked_add(i64::from(by.days).checked_mul(DAY)?)?.checked_add(micros(by))
}

/// What lies between two moments, in the fields of the calendar: days that are missing are borrowed from the month of the earlier
/// one, as in `timestamp_age` of PostgreSQL.
pub(super) fn age(a: &Arguments<'_>) -> Column {
    intervals(a, |row| {
        let (later, earlier) = (micros_at(&a.columns[0], row), micros_at(&a.columns[1], row));
        let is_negative = later < earlier;
        let (high, low) = if is_negative { (earlier, later) } else { (later, earlier) };
        let (from, to) = (time::moment(low)?, time::moment(high)?);
        let mut months = i64::from(to.year() - from.year()) * 12 + i64::from(to.month()) - i64::from(from.month());
        let mut days = i64::from(to.day()) - i64::from(from.day());
        let mut micros = high.rem_euclid(DAY) - low.rem_euclid(DAY);
        if micros < 0 {
            micros += DAY;
            days -= 1;
        }
        if days < 0 {
            days += i64::from(days_in_month(from.year(), from.month()));
            months -= 1;
        }
        let sign = if is_negative { -1 } else { 1 };
        interval(sign * months, sign * days, sign * micros)
    })
}

fn days_in_month(year: i32, month: u32) -> u32 {
    (28..=31).rev().find(|day| chrono::NaiveDate::from_ymd_opt(year, month, *day).is_some()).unwrap_or(28)
}

/// Parts that are not whole go on to the next smaller field: a month has 30 days there, a day 24 hours. After `interval_mul` of
/// PostgreSQL.
fn scale(value: IntervalMonthDayNano, factor: f64) -> Option<IntervalMonthDayNano> {
    const SECONDS: f64 = 86_400.0;
    let to_micro = |x: f64| (x * 1e6).round() / 1e6;
    let months = f64::from(value.months) * factor;
    let days = f64::from(value.days) * factor;
    let month_days = to_micro((months - months.trunc()) * 30.0);
    let mut seconds = to_micro((days - days.trunc() + month_days - month_days.trunc()) * SECONDS);
    let mut whole_days = days.trunc();
    if seconds.abs() >= SECONDS {
        whole_days += (seconds / SECONDS).trunc();
        seconds -= (seconds / SECONDS).trunc() * SECONDS;
    }
    whole_days += month_days.trunc();
    #[expect(clippy::cast_precision_loss, reason = "the factor is no more exact")]
    let time = (micros(value) as f64) * factor + seconds * 1e6;
    interval(whole(months.trunc())?, whole(whole_days)?, whole(time.round_ties_even())?)
}

#[expect(clippy::cast_possible_truncation, reason = "bounds are checked just before")]
fn whole(value: f64) -> Option<i64> {
    (value.is_finite() && value.abs() < 9.2e18).then_some(value as i64)
}
