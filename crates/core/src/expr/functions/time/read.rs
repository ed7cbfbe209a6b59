//! `to_timestamp` and `to_date`: moments and days from text.

use arrow_array::types::{Date32Type, Float64Type, TimestampMicrosecondType};

use super::layout::{DAYS, Field, Kind, Layout, MONTHS, Part, strip};
use super::{Arguments, Prepared, inside};
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
use crate::values::time::{self, DAY};

fn layout<'a>(a: &Arguments<'a>) -> Option<&'a Layout> {
    match a.prepared {
        Prepared::Moment(layout) => Some(layout),
        _ => None,
    }
}

pub(super) fn to_date(a: &Arguments<'_>) -> Column {
    let Some(layout) = layout(a) else { unreachable!("bind prepares patterns") };
    map_primitive::<Date32Type>(&[&a.columns[0]], a.rows, SqlType::Date, |row| {
        let fields = layout.read_text(a.text(0, row))?;
        // A time that does not exist is wrong for a day as well.
        fields.micros()?;
        let days = fields.days()?;
        i32::try_from(days).map(Some).map_err(|_| "there is no such day".into())
    })
}

pub(super) fn to_timestamp(a: &Arguments<'_>) -> Column {
    match layout(a) {
        Some(layout) => {
            map_primitive::<TimestampMicrosecondType>(&[&a.columns[0]], a.rows, SqlType::Timestamptz, |row| {
                inside(Some(layout.read_text(a.text(0, row))?.micros()?))
            })
        }
        None => map_primitive::<TimestampMicrosecondType>(&[&a.columns[0]], a.rows, SqlType::Timestamptz, |row| {
            let seconds = a.columns[0].primitive::<Float64Type>().value(a.columns[0].index(row));
            inside(micros_of(seconds))
        }),
    }
}

#[expect(clippy::cast_possible_truncation, reason = "bounds are checked just before")]
fn micros_of(seconds: f64) -> Option<i64> {
    let micros = (seconds * 1e6).round();
    (micros.is_finite() && micros.abs() < 9e18).then_some(micros as i64)
}

/// The fields that a text had.
#[derive(Default)]
struct Fields {
    year: Option<i64>,
    month: Option<u32>,
    day: Option<u32>,
    day_of_year: Option<u32>,
    iso_year: Option<i32>,
    iso_week: Option<u32>,
    iso_day: Option<u32>,
    hour: Option<u32>,
    hour12: Option<u32>,
    minute: u32,
    second: u32,
    micros: u32,
    second_of_day: Option<u32>,
    is_afternoon: Option<bool>,
    offset: i64,
    is_west: bool,
}

impl Layout {
    fn read_text(&self, text: &str) -> Result<Fields, String> {
        let mut fields = Fields::default();
        let mut rest = text.trim_start();
        for (i, part) in self.0.iter().enumerate() {
            match part {
                Part::Text(expected) => rest = skip_text(rest, expected).ok_or_else(|| mismatch(text, expected))?,
                Part::Field(field) => {
                    // A field before another one takes its own digits; before a separator or the end, as many as there are.
                    let is_before_digits = matches!(self.0.get(i + 1), Some(Part::Field(next)) if next.is_number());
                    rest = rest.trim_start();
                    fields.read(*field, is_before_digits, &mut rest).ok_or_else(|| mismatch(text, field.shown()))?;
                }
            }
        }
        match rest.trim().is_empty() {
            true => Ok(fields),
            false => Err(format!("`{}` has more than its pattern", shown(text))),
        }
    }
}

fn shown(text: &str) -> String {
    text.chars().take(80).collect()
}

fn mismatch(text: &str, wanted: &str) -> String {
    format!("`{}` does not fit its pattern: expected {wanted}", shown(text))
}

/// What follows a separator. Any blank stands for any number of them.
fn skip_text<'t>(text: &'t str, expected: &str) -> Option<&'t str> {
    let mut rest = text;
    for c in expected.chars() {
        rest = if c.is_whitespace() { rest.trim_start() } else { rest.strip_prefix(c)? };
    }
    Some(rest)
}

impl Field {
    fn is_number(self) -> bool {
        !matches!(
            self.kind,
            Kind::MonthName
                | Kind::MonthShort
                | Kind::DayName
                | Kind::DayShort
                | Kind::Half
                | Kind::HalfWithPoints
                | Kind::Zone
                | Kind::Offset
                | Kind::OffsetHour
        )
    }

    fn shown(self) -> &'static str {
        match self.kind {
            Kind::MonthName | Kind::MonthShort => "the name of a month",
            Kind::DayName | Kind::DayShort => "the name of a day",
            Kind::Half | Kind::HalfWithPoints => "AM or PM",
            Kind::Zone => "UTC",
            Kind::Offset | Kind::OffsetHour | Kind::OffsetMinute => "an offset such as +02:00",
            _ => "a number",
        }
    }
}

impl Fields {
    fn read(&mut self, field: Field, is_before_digits: bool, rest: &mut &str) -> Option<()> {
        let mut number = |width: usize| {
            let most = if is_before_digits { width } else { width.max(9) };
            let length = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
            let value: u32 = rest[..length].parse().ok()?;
            *rest = &rest[length..];
            Some((value, length))
        };
        match field.kind {
            Kind::Year => self.year = Some(number(4)?.0.into()),
            // Of two digits, the year that is nearest to 2020.
            Kind::YearOfCentury => {
                let (year, length) = number(2)?;
                let century = if length > 2 {
                    0
                } else if year < 70 {
                    2000
                } else {
                    1900
                };
                self.year = Some(i64::from(year) + century);
            }
            Kind::IsoYear => self.iso_year = i32::try_from(number(4)?.0).ok(),
            Kind::IsoWeek => self.iso_week = Some(number(2)?.0),
            Kind::IsoDayOfWeek => self.iso_day = Some(number(1)?.0),
            Kind::Month => self.month = Some(number(2)?.0),
            Kind::DayOfMonth => self.day = Some(number(2)?.0),
            Kind::DayOfYear => self.day_of_year = Some(number(3)?.0),
            Kind::Hour24 => self.hour = Some(number(2)?.0),
            Kind::Hour12 => self.hour12 = Some(number(2)?.0),
            Kind::Minute => self.minute = number(2)?.0,
            Kind::Second => self.second = number(2)?.0,
            Kind::SecondOfDay => self.second_of_day = Some(number(5)?.0),
            Kind::Millisecond => self.micros = fraction(number(3)?, 3)? * 1_000,
            Kind::Microsecond => self.micros = fraction(number(6)?, 6)?,
            // These say nothing about which day it is.
            Kind::Quarter | Kind::DayOfWeek | Kind::Week => {
                number(2)?;
            }
            Kind::MonthName | Kind::MonthShort => {
                let month = named(&MONTHS, field.kind == Kind::MonthShort, rest)?;
                self.month = u32::try_from(month + 1).ok();
            }
            Kind::DayName | Kind::DayShort => {
                named(&DAYS, field.kind == Kind::DayShort, rest)?;
            }
            Kind::Half => self.is_afternoon = Some(half(rest, ["AM", "PM"])?),
            Kind::HalfWithPoints => self.is_afternoon = Some(half(rest, ["A.M.", "P.M."])?),
            Kind::Zone => *rest = strip(rest, "UTC").or_else(|| strip(rest, "GMT")).or_else(|| strip(rest, "Z"))?,
            Kind::Offset => self.offset(rest, true)?,
            Kind::OffsetHour => self.offset(rest, false)?,
            Kind::OffsetMinute => {
                let minutes = i64::from(number(2)?.0);
                self.offset += if self.is_west { -minutes } else { minutes } * 60;
            }
        }
        Some(())
    }

    /// Hours east of UTC, and minutes with or without a colon where they may stand there.
    fn offset(&mut self, rest: &mut &str, with_minutes: bool) -> Option<()> {
        if with_minutes && let Some(after) = strip(rest, "Z") {
            *rest = after;
            return Some(());
        }
        self.is_west = rest.starts_with('-');
        let after = rest.strip_prefix(['+', '-'])?;
        let length = after.bytes().take(2).take_while(u8::is_ascii_digit).count();
        let hours: i64 = after[..length].parse().ok()?;
        let mut after = &after[length..];
        let mut minutes = 0;
        let digits = after.strip_prefix(':').unwrap_or(after);
        if with_minutes && digits.len() >= 2 && digits.bytes().take(2).all(|b| b.is_ascii_digit()) {
            minutes = digits[..2].parse().ok()?;
            after = &digits[2..];
        }
        *rest = after;
        let seconds = (hours * 60 + minutes) * 60;
        self.offset = if self.is_west { -seconds } else { seconds };
        (hours < 16 && minutes < 60).then_some(())
    }

    /// The day, in days since 1970.
    fn days(&self) -> Result<i64, String> {
        let year = self.year.unwrap_or(1);
        let day = match (self.iso_year, self.iso_week) {
            (Some(year), Some(week)) => {
                let weekday =
                    chrono::Weekday::try_from(u8::try_from(self.iso_day.unwrap_or(1).wrapping_sub(1)).unwrap_or(9));
                let day = weekday.ok().and_then(|weekday| chrono::NaiveDate::from_isoywd_opt(year, week, weekday));
                day.map(|day| i64::from(chrono::Datelike::num_days_from_ce(&day)) - 719_163)
            }
            _ => match self.day_of_year {
                Some(place) if self.month.is_none() => time::days_of(year, 1, 1)
                    .zip(time::days_of(year, 12, 31))
                    .map(|(first, last)| (i64::from(first), i64::from(last)))
                    .and_then(|(first, last)| {
                        Some(first + i64::from(place) - 1).filter(|day| place > 0 && *day <= last)
                    }),
                _ => time::days_of(year, self.month.unwrap_or(1), self.day.unwrap_or(1)).map(i64::from),
            },
        };
        day.filter(|_| (1..=9999).contains(&year)).ok_or_else(|| "there is no such day".into())
    }

    fn micros(&self) -> Result<i64, String> {
        let hour = match (self.hour, self.hour12, self.is_afternoon) {
            (Some(hour), ..) => hour,
            (None, Some(hour), _) if hour == 0 || hour > 12 => {
                return Err(format!("there is no hour {hour} of twelve"));
            }
            (None, Some(hour), afternoon) => hour % 12 + if afternoon == Some(true) { 12 } else { 0 },
            (None, None, _) => 0,
        };
        if hour > 23 || self.minute > 59 || self.second > 59 || self.second_of_day.is_some_and(|s| s >= 86_400) {
            return Err(format!("there is no time {hour}:{:02}:{:02}", self.minute, self.second));
        }
        let seconds = match self.second_of_day {
            Some(seconds) => i64::from(seconds),
            None => i64::from(hour * 3_600 + self.minute * 60 + self.second),
        };
        Ok(self.days()? * DAY + (seconds - self.offset) * 1_000_000 + i64::from(self.micros))
    }
}

/// Digits after a point, filled up with zeros to a width.
fn fraction((value, length): (u32, usize), width: usize) -> Option<u32> {
    let missing = u32::try_from(width.checked_sub(length)?).ok()?;
    value.checked_mul(10_u32.pow(missing))
}

/// The place of a name; of short ones, of its first three letters.
fn named(names: &[&str], is_short: bool, rest: &mut &str) -> Option<usize> {
    let (place, after) = names
        .iter()
        .enumerate()
        .find_map(|(place, name)| strip(rest, if is_short { &name[..3] } else { name }).map(|after| (place, after)))?;
    *rest = after;
    Some(place)
}

fn half(rest: &mut &str, [morning, afternoon]: [&str; 2]) -> Option<bool> {
    let found =
        strip(rest, morning).map(|after| (false, after)).or_else(|| strip(rest, afternoon).map(|a| (true, a)))?;
    *rest = found.1;
    Some(found.0)
}
