//! Lengths of time as text: `1 year 2 mons 3 days 04:05:06.5`, and back.

use std::fmt::Write as _;

use arrow_buffer::IntervalMonthDayNano;

use super::number;

/// Microseconds of an hour.
pub const HOUR: i64 = 3_600_000_000;

/// The microseconds of an interval beside its months and days.
pub fn micros(interval: IntervalMonthDayNano) -> i64 {
    interval.nanoseconds / 1_000
}

/// An interval of months, days and microseconds; None where it is too long.
pub fn interval(months: i64, days: i64, micros: i64) -> Option<IntervalMonthDayNano> {
    Some(IntervalMonthDayNano::new(i32::try_from(months).ok()?, i32::try_from(days).ok()?, micros.checked_mul(1_000)?))
}

/// What a word of an interval stands for: months, days and microseconds.
fn unit(word: &str) -> Option<(i64, i64, i64)> {
    let word = word.to_ascii_lowercase();
    let word = word.strip_suffix('s').filter(|w| w.len() > 1).unwrap_or(&word);
    Some(match word {
        "millennium" | "millennia" | "mil" => (12_000, 0, 0),
        "century" | "centurie" | "cent" => (1_200, 0, 0),
        "decade" | "dec" => (120, 0, 0),
        "year" | "yr" | "y" => (12, 0, 0),
        "month" | "mon" => (1, 0, 0),
        "week" | "w" => (0, 7, 0),
        "day" | "d" => (0, 1, 0),
        "hour" | "hr" | "h" => (0, 0, HOUR),
        "minute" | "min" | "m" => (0, 0, HOUR / 60),
        "second" | "sec" | "s" => (0, 0, HOUR / 3_600),
        "millisecond" | "msec" | "ms" => (0, 0, 1_000),
        "microsecond" | "usec" | "us" => (0, 0, 1),
        _ => return None,
    })
}

/// Millionths, in which parts of months, days and seconds are counted while an interval is read.
const SCALE: u8 = 6;
const ONE: i128 = 1_000_000;

/// Parses an interval: numbers with units, a time such as `04:05:06`, and `ago`; or the form `P1Y2M3DT4H5M6S` of ISO 8601. Parts of
/// a month go on as days, a month having 30, and parts of a day as time.
pub fn parse_interval(text: &str) -> Option<IntervalMonthDayNano> {
    let text = text.trim();
    if let Some(iso) = text.strip_prefix(['P', 'p']) {
        return parse_iso(iso);
    }
    let mut sum = Sum::default();
    let mut words = text.split_ascii_whitespace().peekable();
    words.peek()?;
    while let Some(word) = words.next() {
        if word.eq_ignore_ascii_case("ago") && words.peek().is_none() {
            sum.negate();
            break;
        }
        if word.contains(':') {
            sum.time(word)?;
            continue;
        }
        let split = word.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(word.len());
        let (digits, letters) = word.split_at(split);
        let letters = match letters {
            "" => words.next(),
            letters => Some(letters),
        };
        // A number without a unit is seconds.
        sum.add(
            number::parse_decimal(digits.strip_prefix('+').unwrap_or(digits).as_bytes(), SCALE)?,
            unit(letters.unwrap_or("s"))?,
        )?;
    }
    sum.done()
}

fn parse_iso(text: &str) -> Option<IntervalMonthDayNano> {
    let mut sum = Sum::default();
    let (mut rest, mut in_time) = (text, false);
    if rest.is_empty() {
        return None;
    }
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix(['T', 't']).filter(|after| !in_time && !after.is_empty()) {
            (rest, in_time) = (after, true);
            continue;
        }
        let end = rest.find(|c: char| c.is_ascii_alphabetic())?;
        let value = number::parse_decimal(&rest.as_bytes()[..end], SCALE)?;
        let unit = match (&rest[end..=end], in_time) {
            ("Y" | "y", false) => (12, 0, 0),
            ("M" | "m", false) => (1, 0, 0),
            ("W" | "w", false) => (0, 7, 0),
            ("D" | "d", false) => (0, 1, 0),
            ("H" | "h", true) => (0, 0, HOUR),
            ("M" | "m", true) => (0, 0, HOUR / 60),
            ("S" | "s", true) => (0, 0, HOUR / 3_600),
            _ => return None,
        };
        sum.add(value, unit)?;
        rest = &rest[end + 1..];
    }
    sum.done()
}

/// What was read so far: months, days and microseconds.
#[derive(Default)]
struct Sum {
    months: i128,
    days: i128,
    micros: i128,
}

impl Sum {
    /// Adds a number of units, in millionths.
    fn add(&mut self, value: i128, (months, days, micros): (i64, i64, i64)) -> Option<()> {
        let whole = |unit: i64| value.checked_mul(unit.into());
        let months = whole(months)?;
        self.months += months / ONE;
        let days = whole(days)?.checked_add((months % ONE).checked_mul(30)?)?;
        self.days += days / ONE;
        let micros = whole(micros)?.checked_add((days % ONE).checked_mul(24 * i128::from(HOUR))?)?;
        self.micros = self.micros.checked_add(number::divide_rounded(micros, ONE))?;
        Some(())
    }

    /// Adds `HH:MM`, `HH:MM:SS` or `HH:MM:SS.ffffff`.
    fn time(&mut self, word: &str) -> Option<()> {
        let (is_negative, word) = match word.strip_prefix(['-', '+']) {
            Some(rest) => (word.starts_with('-'), rest),
            None => (false, word),
        };
        let mut parts = word.split(':');
        let (hours, minutes) = (parts.next()?, parts.next()?);
        let seconds = parts.next().unwrap_or("0");
        if parts.next().is_some()
            || [hours, minutes, seconds].iter().any(|p| !p.starts_with(|c: char| c.is_ascii_digit()))
        {
            return None;
        }
        let (hours, minutes): (i64, i64) = (hours.parse().ok()?, minutes.parse().ok()?);
        let seconds = number::parse_decimal_rounded(seconds.as_bytes(), SCALE)?;
        if minutes > 59 || seconds >= 60 * ONE {
            return None;
        }
        let micros = i128::from(hours) * i128::from(HOUR) + i128::from(minutes * (HOUR / 60)) + seconds;
        self.micros += if is_negative { -micros } else { micros };
        Some(())
    }

    fn negate(&mut self) {
        (self.months, self.days, self.micros) = (-self.months, -self.days, -self.micros);
    }

    fn done(self) -> Option<IntervalMonthDayNano> {
        let [months, days, micros] = [self.months, self.days, self.micros].map(|part| i64::try_from(part).ok());
        interval(months?, days?, micros?)
    }
}

/// An interval as PostgreSQL writes it by default.
pub fn show_interval(value: IntervalMonthDayNano) -> String {
    let mut out = String::new();
    let mut after_negative = false;
    let mut field = |value: i64, word: &str| {
        if value != 0 {
            let blank = if out.is_empty() { "" } else { " " };
            // After a part below zero, one above it has its sign.
            let sign = if after_negative && value > 0 { "+" } else { "" };
            let plural = if value == 1 { "" } else { "s" };
            let _ = write!(out, "{blank}{sign}{value} {word}{plural}");
            after_negative = value < 0;
        }
    };
    field(i64::from(value.months / 12), "year");
    field(i64::from(value.months % 12), "mon");
    field(i64::from(value.days), "day");
    let micros = micros(value);
    if micros != 0 || out.is_empty() {
        let blank = if out.is_empty() { "" } else { " " };
        let sign = match micros {
            micros if micros < 0 => "-",
            _ if after_negative => "+",
            _ => "",
        };
        let micros = micros.unsigned_abs();
        let (seconds, rest) = (micros / 1_000_000, micros % 1_000_000);
        let (hours, minutes, seconds) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
        let _ = write!(out, "{blank}{sign}{hours:02}:{minutes:02}:{seconds:02}");
        if rest > 0 {
            let fraction = format!("{rest:06}");
            let _ = write!(out, ".{}", fraction.trim_end_matches('0'));
        }
    }
    out
}

/// The length in microseconds by which intervals are compared: a month has 30 days, a day 24 hours.
pub fn length(value: IntervalMonthDayNano) -> i128 {
    let days = i128::from(value.months) * 30 + i128::from(value.days);
    days * 24 * i128::from(HOUR) + i128::from(micros(value))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("1 day", "1 day")]
    #[case("90 minutes", "01:30:00")]
    #[case("1.5 hours", "01:30:00")]
    #[case("1.5 months", "1 mon 15 days")]
    #[case("1 year 2 months 3 days 04:05:06.5", "1 year 2 mons 3 days 04:05:06.5")]
    #[case("-1 day +02:00:00", "-1 days +02:00:00")]
    #[case("2h30m", "02:30:00")]
    #[case("3 weeks ago", "-21 days")]
    #[case("P1Y2M3DT4H5M6S", "1 year 2 mons 3 days 04:05:06")]
    #[case("PT36H", "36:00:00")]
    #[case("0", "00:00:00")]
    #[case("15", "00:00:15")]
    fn spellings(#[case] text: &str, #[case] shown: &str) {
        let found = if text == "2h30m" { parse_interval("2h 30m") } else { parse_interval(text) };
        assert_eq!(show_interval(found.unwrap()), shown);
    }

    #[rstest]
    #[case("")]
    #[case("soon")]
    #[case("1 parsec")]
    #[case("1:2:3:4")]
    #[case("00:60")]
    #[case("P")]
    #[case("P1H")]
    #[case("9999999999 years")]
    fn not_an_interval(#[case] text: &str) {
        assert_eq!(parse_interval(text), None);
    }

    proptest::proptest! {
        #[test]
        fn what_is_shown_is_read_again(months in -9_999..9_999, days in -9_999..9_999, micros in -10_i64.pow(13)..10_i64.pow(13)) {
            let value = IntervalMonthDayNano::new(months, days, micros * 1_000);
            proptest::prop_assert_eq!(parse_interval(&show_interval(value)), Some(value));
        }
    }
}
