//! `to_char`: moments as text.

use std::fmt::Write as _;

use chrono::{DateTime, Datelike as _, Timelike as _, Utc};

use super::layout::{Case, DAYS, Field, Kind, Layout, MONTHS, Part};
use super::{Arguments, OUTSIDE, Prepared, map_text, micros_at, zone};
use crate::expr::column::Column;
use crate::types::SqlType;
use crate::values::time;

pub(super) fn to_char(a: &Arguments<'_>) -> Column {
    let Prepared::Moment(layout) = a.prepared else { unreachable!("bind prepares patterns") };
    let has_zone = zone::moment_type(&a.columns[0]) == SqlType::Timestamptz;
    let mut text = String::new();
    map_text(&[&a.columns[0]], a.rows, |row, out| {
        let moment = time::moment(micros_at(&a.columns[0], row)).ok_or(OUTSIDE)?;
        text.clear();
        layout.write(&moment, has_zone, &mut text);
        out.extend_from_slice(text.as_bytes());
        Ok(())
    })
}

impl Layout {
    fn write(&self, at: &DateTime<Utc>, has_zone: bool, out: &mut String) {
        for part in &self.0 {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Field(field) => field.write(at, has_zone, out),
            }
        }
    }
}

impl Field {
    fn write(&self, at: &DateTime<Utc>, has_zone: bool, out: &mut String) {
        let month = MONTHS[usize::try_from(at.month0()).unwrap_or(0)];
        let day = DAYS[usize::try_from(at.weekday().num_days_from_sunday()).unwrap_or(0)];
        let micros = at.timestamp_subsec_micros();
        match self.kind {
            Kind::Year => self.number(at.year().unsigned_abs(), 4, out),
            Kind::YearOfCentury => self.number(at.year().unsigned_abs() % 100, 2, out),
            Kind::IsoYear => self.number(at.iso_week().year().unsigned_abs(), 4, out),
            Kind::Quarter => self.number(at.month0() / 3 + 1, 1, out),
            Kind::Month => self.number(at.month(), 2, out),
            Kind::MonthName => self.name(month, 9, out),
            Kind::MonthShort => self.name(&month[..3], 3, out),
            Kind::DayOfMonth => self.number(at.day(), 2, out),
            Kind::DayOfYear => self.number(at.ordinal(), 3, out),
            Kind::DayOfWeek => self.number(at.weekday().number_from_sunday(), 1, out),
            Kind::IsoDayOfWeek => self.number(at.weekday().number_from_monday(), 1, out),
            Kind::DayName => self.name(day, 9, out),
            Kind::DayShort => self.name(&day[..3], 3, out),
            Kind::Week => self.number(at.ordinal0() / 7 + 1, 2, out),
            Kind::IsoWeek => self.number(at.iso_week().week(), 2, out),
            Kind::Hour24 => self.number(at.hour(), 2, out),
            Kind::Hour12 => self.number(at.hour12().1, 2, out),
            Kind::Minute => self.number(at.minute(), 2, out),
            Kind::Second => self.number(at.second(), 2, out),
            Kind::Millisecond => self.number(micros / 1_000, 3, out),
            Kind::Microsecond => self.number(micros, 6, out),
            Kind::SecondOfDay => self.number(at.num_seconds_from_midnight(), 1, out),
            Kind::Half => self.name(if at.hour() < 12 { "AM" } else { "PM" }, 2, out),
            Kind::HalfWithPoints => self.name(if at.hour() < 12 { "A.M." } else { "P.M." }, 4, out),
            // A timestamp has no zone, and nothing is written for it.
            Kind::Zone if has_zone => self.name("UTC", 3, out),
            Kind::Zone => {}
            Kind::Offset | Kind::OffsetHour => out.push_str("+00"),
            Kind::OffsetMinute => out.push_str("00"),
        }
    }

    fn number(&self, value: u32, width: usize, out: &mut String) {
        let width = if self.is_short { 1 } else { width };
        let _ = write!(out, "{value:0width$}");
    }

    fn name(&self, name: &str, width: usize, out: &mut String) {
        let width = if self.is_short { 0 } else { width };
        let cased = match self.case {
            Case::Capital => name.to_string(),
            Case::Upper => name.to_uppercase(),
            Case::Lower => name.to_lowercase(),
        };
        let _ = write!(out, "{cased:width$}");
    }
}
