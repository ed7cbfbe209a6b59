//! Starts of units and stretches of time.

use arrow_array::types::TimestampMicrosecondType;

use super::arithmetic::interval_at;
use super::{Arguments, OUTSIDE, inside, micros_at, zone};
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
use crate::values::interval::micros;
use crate::values::time::{DAY, truncate};

/// The start of a unit of time. Bind makes sure that the unit is one of the known words.
pub(super) fn date_trunc(a: &Arguments<'_>) -> Column {
    let word = a.columns[0].constant_text().unwrap_or_default().to_lowercase();
    let is_in_zone = a.columns.len() > 2;
    let ty = if is_in_zone { SqlType::Timestamptz } else { zone::moment_type(&a.columns[1]) };
    map_primitive::<TimestampMicrosecondType>(&a.all()[1..], a.rows, ty, |row| {
        let moment = micros_at(&a.columns[1], row);
        if !is_in_zone {
            return truncate(&word, moment).map(Some).ok_or_else(|| OUTSIDE.into());
        }
        let zone = zone::of_row(a, 2, row)?;
        let local = zone::local(zone, moment).ok_or(OUTSIDE)?;
        inside(truncate(&word, local).and_then(|local| zone::moment(zone, local)))
    })
}

/// The start of a stretch of a length, counted from an origin.
pub(super) fn date_bin(a: &Arguments<'_>) -> Column {
    let ty = zone::moment_type(&a.columns[1]);
    map_primitive::<TimestampMicrosecondType>(&a.all(), a.rows, ty, |row| {
        let length = interval_at(&a.columns[0], row);
        if length.months != 0 {
            return Err("date_bin: months have no fixed length; take days or less, or date_trunc".into());
        }
        let length = i64::from(length.days).checked_mul(DAY).and_then(|days| days.checked_add(micros(length)));
        let length = length.filter(|length| *length > 0).ok_or("date_bin: the length must be above zero")?;
        let (moment, origin) = (micros_at(&a.columns[1], row), micros_at(&a.columns[2], row));
        let past = moment.checked_sub(origin).map(|past| past.rem_euclid(length));
        inside(past.and_then(|past| moment.checked_sub(past)))
    })
}
