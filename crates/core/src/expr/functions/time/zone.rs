//! Time zones by name, from the database that is built in.

use std::str::FromStr as _;

use arrow_array::types::TimestampMicrosecondType;
use arrow_schema::DataType;
use chrono::{LocalResult, Offset as _, TimeDelta, TimeZone as _};
use chrono_tz::Tz;

use super::{Arguments, Function, Parameter, Prepared, inside, micros_at};
use crate::expr::Expr;
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
use crate::values::time;

/// `timestamptz at time zone`: what the clocks of the zone show.
pub(in crate::expr) static LOCAL_TIME: Function = Function {
    name: "at time zone",
    signature: "moment at time zone 'Europe/Oslo'",
    parameters: &[Parameter::Moment, Parameter::Text],
    prepare: Some(|arguments| prepare(arguments, 1)),
    result: |_| SqlType::Timestamp,
    compute: |a| convert(a, SqlType::Timestamp, local),
    ..Function::PLAIN
};

/// `timestamp at time zone`: the moment at which the clocks of the zone show it.
pub(in crate::expr) static MOMENT_OF: Function = Function {
    name: "at time zone",
    signature: "moment at time zone 'Europe/Oslo'",
    parameters: &[Parameter::Moment, Parameter::Text],
    prepare: Some(|arguments| prepare(arguments, 1)),
    result: |_| SqlType::Timestamptz,
    compute: |a| convert(a, SqlType::Timestamptz, moment),
    ..Function::PLAIN
};

fn convert(a: &Arguments<'_>, ty: SqlType, to: fn(Tz, i64) -> Option<i64>) -> Column {
    map_primitive::<TimestampMicrosecondType>(&a.all(), a.rows, ty, |row| {
        inside(to(of_row(a, 1, row)?, micros_at(&a.columns[0], row)))
    })
}

/// Looks a constant name up, once; a name that nobody has is found before anything runs.
pub(super) fn prepare(arguments: &[Expr], place: usize) -> Result<Prepared, String> {
    match arguments.get(place).and_then(Expr::as_text) {
        Some(name) => of(&name).map(Prepared::Zone),
        None => Ok(Prepared::Nothing),
    }
}

/// The zone that an argument names in a row.
pub(super) fn of_row(a: &Arguments<'_>, argument: usize, row: usize) -> Result<Tz, String> {
    match a.prepared {
        Prepared::Zone(zone) => Ok(*zone),
        _ => of(a.text(argument, row)),
    }
}

/// The zone of a name, such as Europe/Oslo; the case of letters does not matter.
fn of(name: &str) -> Result<Tz, String> {
    let any_case = || chrono_tz::TZ_VARIANTS.iter().copied().find(|zone| zone.name().eq_ignore_ascii_case(name));
    Tz::from_str(name)
        .ok()
        .or_else(any_case)
        .ok_or_else(|| format!("there is no time zone `{name}`; zones are named like Europe/Oslo or UTC"))
}

/// What the clocks of a zone show at a moment.
pub(super) fn local(zone: Tz, micros: i64) -> Option<i64> {
    let moment = time::moment(micros)?.naive_utc();
    let offset = i64::from(zone.offset_from_utc_datetime(&moment).fix().local_minus_utc());
    micros.checked_add(offset * 1_000_000)
}

/// The moment at which the clocks of a zone show a time. Of a time that they show twice it is the later one, and of one that
/// they skip it is reckoned by the offset before, both as in PostgreSQL.
pub(super) fn moment(zone: Tz, local: i64) -> Option<i64> {
    let clock = time::moment(local)?.naive_utc();
    let offset = match zone.offset_from_local_datetime(&clock) {
        LocalResult::Single(offset) => offset,
        LocalResult::Ambiguous(_, later) => later,
        LocalResult::None => (1..=24).find_map(|hours| {
            zone.offset_from_local_datetime(&clock.checked_sub_signed(TimeDelta::hours(hours))?).earliest()
        })?,
    };
    local.checked_sub(i64::from(offset.fix().local_minus_utc()) * 1_000_000)
}

/// Whether moments of a column have a zone.
pub(super) fn moment_type(column: &Column) -> SqlType {
    match column.array.data_type() {
        DataType::Timestamp(_, None) => SqlType::Timestamp,
        _ => SqlType::Timestamptz,
    }
}
