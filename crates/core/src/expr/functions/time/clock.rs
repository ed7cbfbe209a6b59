//! Times of day. They come as text, see [`crate::values::clock`].

use arrow_schema::DataType;

use super::arithmetic::interval_at;
use super::{Arguments, Function, Parameter, micros_at};
use crate::expr::column::{Column, map_text};
use crate::limit::Limit;
use crate::values::clock::{parse_clock, write_clock};
use crate::values::interval::{HOUR, micros};
use crate::values::time::DAY;

/// The time of day of a moment in UTC, or of an interval.
pub(in crate::expr) static CLOCK_OF: Function = Function {
    name: "time",
    signature: "moment::time",
    parameters: &[Parameter::Temporal],
    limit: |_| Some(Limit::Time),
    compute: |a| {
        let is_interval = matches!(a.columns[0].array.data_type(), DataType::Interval(_));
        clocks(a, |row| {
            let since = match is_interval {
                true => micros(interval_at(&a.columns[0], row)),
                false => micros_at(&a.columns[0], row),
            };
            Ok(since.rem_euclid(DAY))
        })
    },
    ..Function::PLAIN
};

/// A time of day so much later, past midnight from the beginning.
pub(in crate::expr) static MOVE_CLOCK: Function = Function {
    name: "+",
    signature: "time + interval",
    parameters: &[Parameter::Clock, Parameter::Interval],
    limit: |_| Some(Limit::Time),
    compute: |a| {
        clocks(a, |row| {
            let time = parse_clock(a.text(0, row)).ok_or("this is no time")?;
            let by = micros(interval_at(&a.columns[1], row)).rem_euclid(DAY);
            Ok((time + by).rem_euclid(DAY))
        })
    },
    ..Function::PLAIN
};

fn clocks(a: &Arguments<'_>, value: impl Fn(usize) -> Result<i64, String>) -> Column {
    let mut text = String::new();
    map_text(&a.all(), a.rows, |row, out| {
        text.clear();
        write_clock(value(row)?, &mut text);
        out.extend_from_slice(text.as_bytes());
        Ok(())
    })
}

/// The time of an hour, a minute and a second.
pub(super) fn make_time(a: &Arguments<'_>) -> Column {
    clocks(a, |row| {
        let (hour, minute, second) = (a.whole(0, row), a.whole(1, row), a.columns[2].double_at(row));
        let good = (0..24).contains(&hour) && (0..60).contains(&minute) && (0.0..60.0).contains(&second);
        #[expect(clippy::cast_possible_truncation, reason = "it lies between 0 and 60 million")]
        let micros = if good { (second * 1e6).round_ties_even() as i64 } else { 0 };
        let all = if good { hour * HOUR + minute * (HOUR / 60) + micros } else { DAY };
        match all < DAY {
            true => Ok(all),
            false => Err(format!("make_time: there is no time {hour}:{minute}:{second}")),
        }
    })
}
