//! Functions of dates, moments and lengths of time. A moment is one in UTC unless a zone is named.

mod arithmetic;
mod bin;
mod clock;
mod layout;
mod parts;
mod read;
mod write;
mod zone;

use arrow_array::types::{Date32Type, TimestampMicrosecondType};

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::Expr;
use crate::expr::column::{Column, map_primitive, map_text};
use crate::limit::Limit;
use crate::types::SqlType;
use crate::values::time;
pub(in crate::expr) use arithmetic::{ADD_DAYS, ADD_INTERVAL, BETWEEN_DAYS, BETWEEN_MOMENTS, SCALE_INTERVAL};
pub(in crate::expr) use clock::{CLOCK_OF, MOVE_CLOCK};
pub(crate) use layout::Layout;
use parts::part_type;
pub(in crate::expr) use parts::{OF_CALENDAR as FIELDS_OF_CALENDAR, OF_TIME as FIELDS_OF_TIME};
pub(in crate::expr) use zone::{LOCAL_TIME, MOMENT_OF};

const OUTSIDE: &str = "the moment lies outside the years 1 to 9999";

/// Functions of time.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "age",
        signature: "age([later,] earlier) → interval",
        about: "What lies between two moments, in years, months, days and time. Without the first one, up to the beginning of the \
                present day in UTC.",
        example: "age(timestamptz '2026-07-01T00:00:00Z', timestamptz '2026-05-31T12:00:00Z')::text",
        gives: "1 mon 12:00:00",
        parameters: &[Parameter::Moment, Parameter::Moment],
        result: |_| SqlType::Interval,
        compute: arithmetic::age,
        ..Function::PLAIN
    },
    Function {
        name: "date_bin",
        signature: "date_bin(length, moment, origin) → the type of the moment",
        about: "The start of the stretch of time that the moment lies in; stretches have one length and follow the origin.",
        example: "date_bin(interval '15 minutes', timestamptz '2026-04-01T08:20:30Z', timestamptz '2026-01-01T00:00:00Z')",
        gives: "2026-04-01T08:15:00Z",
        parameters: &[Parameter::Interval, Parameter::Moment, Parameter::Moment],
        result: |arguments| arguments[1].ty,
        compute: bin::date_bin,
        ..Function::PLAIN
    },
    Function {
        name: "date_part",
        signature: "date_part(field, date or moment or interval) → integer, or decimal for seconds and epoch",
        about: "A field: year, quarter, month, week, day, hour, minute, second, milliseconds, microseconds, dow (Sunday is 0), \
                isodow (Monday is 1), doy, isoyear, decade, century, millennium, epoch (seconds since 1970). Also written \
                extract(field from moment).",
        example: "date_part('isodow', date '2026-07-01')",
        gives: "3",
        parameters: &[Parameter::Word(parts::FIELDS), Parameter::Temporal],
        result: |arguments| part_type(&arguments[0].as_text().unwrap_or_default()),
        compute: parts::date_part,
        ..Function::PLAIN
    },
    Function {
        name: "date_trunc",
        signature: "date_trunc(unit, moment [, zone]) → the type of the moment",
        about: "The start of the unit: microseconds, milliseconds, second, minute, hour, day, week, month, quarter, year, \
                decade, century, millennium; of a timestamptz, in UTC or in the zone.",
        example: "date_trunc('hour', timestamptz '2026-04-01T08:15:30Z')",
        gives: "2026-04-01T08:00:00Z",
        parameters: &[Parameter::Word(time::UNITS), Parameter::Moment],
        optional: &[Parameter::Text],
        prepare: Some(|arguments| zone::prepare(arguments, 2)),
        result: |arguments| if arguments.len() > 2 { SqlType::Timestamptz } else { arguments[1].ty },
        compute: bin::date_trunc,
        ..Function::PLAIN
    },
    Function {
        name: "make_date",
        signature: "make_date(year, month, day) → date",
        about: "The day of a year, a month and a day of the month.",
        example: "make_date(2026, 7, 1)",
        gives: "2026-07-01",
        parameters: &[Parameter::Whole, Parameter::Whole, Parameter::Whole],
        result: |_| SqlType::Date,
        compute: make_date,
        ..Function::PLAIN
    },
    Function {
        name: "make_time",
        signature: "make_time(hour, minute, second) → time",
        about: "The time of day of an hour, a minute and a second with its fraction.",
        example: "make_time(8, 5, 9.5)",
        gives: "08:05:09.5",
        parameters: &[Parameter::Whole, Parameter::Whole, Parameter::Double],
        limit: |_| Some(Limit::Time),
        compute: clock::make_time,
        ..Function::PLAIN
    },
    Function {
        name: "to_char",
        signature: "to_char(moment or number, pattern) → text",
        about: "The moment written by a pattern: YYYY YY MM Mon Month DD DDD D Dy Day HH24 HH12 MI SS MS US AM IW IYYY Q TZ OF, \
                with FM before one that is not to be filled, and text in double quotes. Of an exact number: 9 and 0 for digits, . and , \
                (also D and G), S MI PL SG PR for its sign.",
        example: "to_char(timestamptz '2026-07-01T08:05:09Z', 'DD.MM.YYYY HH24:MI')",
        gives: "01.07.2026 08:05",
        parameters: &[Parameter::Moment, Parameter::Constant],
        prepare: Some(|arguments| layout::prepare(&arguments[1])),
        compute: write::to_char,
        ..Function::PLAIN
    },
    Function {
        name: "to_date",
        signature: "to_date(text, pattern) → date",
        about: "The day that a text has by a pattern, written as for to_char.",
        example: "to_date('1 Jul 2026', 'FMDD Mon YYYY')",
        gives: "2026-07-01",
        parameters: &[Parameter::Text, Parameter::Constant],
        result: |_| SqlType::Date,
        prepare: Some(|arguments| layout::prepare_to_read(&arguments[1])),
        compute: read::to_date,
        ..Function::PLAIN
    },
    Function {
        name: "to_timestamp",
        signature: "to_timestamp(text, pattern) → timestamptz",
        about: "The moment in UTC that a text has by a pattern, written as for to_char; or, of one number, the moment so many \
                seconds after 1970.",
        example: "to_timestamp('01/Jul/2026:08:05:09', 'DD/Mon/YYYY:HH24:MI:SS')",
        gives: "2026-07-01T08:05:09Z",
        parameters: &[Parameter::TextOrNumber],
        optional: &[Parameter::Constant],
        result: |_| SqlType::Timestamptz,
        prepare: Some(prepare_to_timestamp),
        compute: read::to_timestamp,
        ..Function::PLAIN
    },
];

/// A moment of a row that is not null, in microseconds since 1970; of a date, the one at which it begins.
fn micros_at(column: &Column, row: usize) -> i64 {
    let i = column.index(row);
    match column.array.data_type() {
        arrow_schema::DataType::Date32 => i64::from(column.primitive::<Date32Type>().value(i)) * time::DAY,
        _ => column.primitive::<TimestampMicrosecondType>().value(i),
    }
}

/// A moment inside the calendar.
fn inside(micros: Option<i64>) -> Result<Option<i64>, String> {
    micros.filter(|micros| time::is_inside(*micros)).map(Some).ok_or_else(|| OUTSIDE.into())
}

/// One number, or a text and its pattern.
fn prepare_to_timestamp(arguments: &[Expr]) -> Result<Prepared, String> {
    match (arguments, arguments[0].ty) {
        ([_], SqlType::Double) => Ok(Prepared::Nothing),
        ([_, pattern], SqlType::Text) => layout::prepare_to_read(pattern),
        ([_], _) => Err("to_timestamp of a text needs a pattern: to_timestamp(t, 'YYYY-MM-DD')".into()),
        _ => Err("to_timestamp of a number takes no pattern: it is seconds since 1970".into()),
    }
}

fn make_date(a: &Arguments<'_>) -> Column {
    map_primitive::<Date32Type>(&a.all(), a.rows, SqlType::Date, |row| {
        let [year, month, day] = [0, 1, 2].map(|argument| a.whole(argument, row));
        let parts = || Some((u32::try_from(month).ok()?, u32::try_from(day).ok()?));
        let found = parts().filter(|_| (1..=9999).contains(&year)).and_then(|(m, d)| time::days_of(year, m, d));
        found.map(Some).ok_or_else(|| format!("make_date: there is no day {year}-{month}-{day}"))
    })
}
