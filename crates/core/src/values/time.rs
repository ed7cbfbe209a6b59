//! Days and moments from text and back. Days count from 1970-01-01, moments are microseconds since then in UTC.

use chrono::{DateTime, Datelike as _, NaiveDate, NaiveDateTime, SecondsFormat, Utc};

/// Microseconds of a day.
pub const DAY: i64 = 86_400_000_000;

/// How a timestamp is spelled in the source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TimeFormat {
    /// RFC 3339 text with its zone.
    Rfc3339,
    /// A number of units since 1970 in UTC; the number is microseconds per unit.
    Epoch(i64),
    /// A pattern of `%` letters; without a zone in it, UTC is meant.
    Pattern(String),
}

impl TimeFormat {
    /// Reads the text after `format` in a contract.
    ///
    /// # Errors
    /// Says in words what is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        match text {
            "rfc3339" => Ok(Self::Rfc3339),
            "epoch_s" => Ok(Self::Epoch(1_000_000)),
            "epoch_ms" => Ok(Self::Epoch(1_000)),
            "epoch_us" => Ok(Self::Epoch(1)),
            pattern => check_pattern(pattern).map(|()| Self::Pattern(pattern.into())),
        }
    }
}

/// Checks a pattern of `%` letters, in a format or a path.
///
/// # Errors
/// Says in words what is wrong with it.
pub fn check_pattern(pattern: &str) -> Result<(), String> {
    use chrono::format::{Item, StrftimeItems};
    if !pattern.contains('%') {
        return Err(format!(
            "`{pattern}` is neither a pattern such as '%Y-%m-%d' nor rfc3339, epoch_s, epoch_ms, epoch_us"
        ));
    }
    if StrftimeItems::new(pattern).any(|item| matches!(item, Item::Error)) {
        return Err(format!("`{pattern}` holds a % letter that stands for nothing"));
    }
    Ok(())
}

/// Parses a day as `YYYY-MM-DD`.
pub fn parse_date(text: &[u8]) -> Option<i32> {
    let [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2] = text else { return None };
    // There is no year 0.
    let year = digits(&[*y1, *y2, *y3, *y4]).filter(|year| *year > 0)?;
    let (month, day) = (digits(&[*m1, *m2])?, digits(&[*d1, *d2])?);
    days_of(i64::from(year), month, day)
}

/// Parses a day by a pattern.
pub fn parse_date_pattern(text: &str, pattern: &str) -> Option<i32> {
    let date = NaiveDate::parse_from_str(text, pattern).ok()?;
    days_since_epoch(date).filter(|_| is_whole_year(date.year(), text, pattern))
}

/// Whether a year stands in a text with all of its four digits, where the pattern wants them: 26 is not a year.
fn is_whole_year(year: i32, text: &str, pattern: &str) -> bool {
    let is_spelled = ["%Y", "%F", "%G", "%+"].iter().any(|letter| pattern.contains(letter));
    match year {
        1000..=9999 => true,
        1..=999 => !is_spelled || text.contains(&format!("{year:04}")),
        _ => false,
    }
}

fn days_since_epoch(date: NaiveDate) -> Option<i32> {
    let epoch = NaiveDate::from_ymd_opt(1970, 1, 1)?;
    i32::try_from(date.signed_duration_since(epoch).num_days()).ok()
}

fn digits(text: &[u8]) -> Option<u32> {
    text.iter().try_fold(0_u32, |v, b| b.is_ascii_digit().then(|| v * 10 + u32::from(b - b'0')))
}

/// Days since 1970 of a Gregorian date, None where there is no such day.
///
/// After Howard Hinnant, "chrono-compatible low-level date algorithms", `days_from_civil`.
pub fn days_of(year: i64, month: u32, day: u32) -> Option<i32> {
    const LENGTHS: [u32; 12] = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
    let length = *LENGTHS.get(usize::try_from(month).ok()?.checked_sub(1)?)? + u32::from(leap && month == 2);
    if day == 0 || day > length {
        return None;
    }
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let shifted_month = i64::from((month + 9) % 12);
    let day_of_year = (153 * shifted_month + 2) / 5 + i64::from(day) - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    i32::try_from(era * 146_097 + day_of_era - 719_468).ok()
}

/// Parses a moment as RFC 3339: `2026-04-01T08:15:00.25+02:00`, with `T` or a space, and `Z` or an offset.
///
/// Digits beyond the microsecond are rounded, halves up. The offset is less than 16 hours.
pub fn parse_timestamp(text: &[u8]) -> Option<i64> {
    if text.len() < 20 || !matches!(text[10], b'T' | b't' | b' ') || text[13] != b':' || text[16] != b':' {
        return None;
    }
    let days = parse_date(&text[..10])?;
    let (hour, minute, second) = (digits(&text[11..13])?, digits(&text[14..16])?, digits(&text[17..19])?);
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let (micros, rest) = parse_fraction(&text[19..])?;
    let offset = parse_offset(rest)?;
    let seconds = i64::from(hour * 3600 + minute * 60 + second) - offset;
    (i64::from(days) * DAY).checked_add(seconds * 1_000_000 + micros)
}

/// Parses what clocks show, as `2026-04-01 08:15:00.25`, or a day alone; no zone stands there.
pub fn parse_local(text: &[u8]) -> Option<i64> {
    if text.len() == 10 {
        return parse_date(text).map(|days| i64::from(days) * DAY);
    }
    let mut whole = text.to_vec();
    if text.len() == 16 {
        whole.extend_from_slice(b":00");
    }
    whole.push(b'Z');
    parse_timestamp(&whole)
}

fn parse_fraction(text: &[u8]) -> Option<(i64, &[u8])> {
    let [b'.' | b',', rest @ ..] = text else { return Some((0, text)) };
    let length = rest.iter().take_while(|b| b.is_ascii_digit()).count();
    if length == 0 {
        return None;
    }
    let kept = &rest[..length.min(6)];
    let value = i64::from(digits(kept)?);
    let missing = u32::try_from(6 - kept.len()).ok()?;
    let up = i64::from(rest[..length].get(6).is_some_and(|digit| *digit >= b'5'));
    Some((value * 10_i64.pow(missing) + up, &rest[length..]))
}

/// Seconds east of UTC.
fn parse_offset(text: &[u8]) -> Option<i64> {
    let (sign, hours, minutes) = match text {
        [b'Z' | b'z'] => return Some(0),
        [sign @ (b'+' | b'-'), h1, h2, b':', m1, m2] | [sign @ (b'+' | b'-'), h1, h2, m1, m2] => {
            (*sign, digits(&[*h1, *h2])?, digits(&[*m1, *m2])?)
        }
        [sign @ (b'+' | b'-'), h1, h2] => (*sign, digits(&[*h1, *h2])?, 0),
        _ => return None,
    };
    if hours > 15 || minutes > 59 {
        return None;
    }
    let seconds = i64::from(hours * 3600 + minutes * 60);
    Some(if sign == b'-' { -seconds } else { seconds })
}

/// Parses a moment by a pattern; without a zone in the text, UTC is meant.
pub fn parse_timestamp_pattern(text: &str, pattern: &str) -> Option<i64> {
    if let Ok(moment) = DateTime::parse_from_str(text, pattern) {
        return rounded(&moment.to_utc()).filter(|_| is_whole_year(moment.year(), text, pattern));
    }
    if let Ok(moment) = NaiveDateTime::parse_from_str(text, pattern) {
        return rounded(&moment.and_utc()).filter(|_| is_whole_year(moment.year(), text, pattern));
    }
    parse_date_pattern(text, pattern).map(|days| i64::from(days) * DAY)
}

/// A moment in microseconds, rounded as all others are.
fn rounded(moment: &DateTime<Utc>) -> Option<i64> {
    moment.timestamp_micros().checked_add(i64::from(moment.timestamp_subsec_nanos() % 1_000 >= 500))
}

/// The moment as chrono has it, None outside its years.
pub fn moment(micros: i64) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp_micros(micros)
}

/// The day as chrono has it, None outside its years.
pub fn day(days: i32) -> Option<NaiveDate> {
    NaiveDate::from_ymd_opt(1970, 1, 1)?.checked_add_signed(chrono::TimeDelta::days(i64::from(days)))
}

/// A moment as RFC 3339 in UTC, with as many digits of the second as it needs.
pub fn show_timestamp(micros: i64) -> String {
    moment(micros).map_or_else(|| format!("{micros} µs"), |m| m.to_rfc3339_opts(SecondsFormat::AutoSi, true))
}

/// A day as `YYYY-MM-DD`.
pub fn show_date(days: i32) -> String {
    day(days).map_or_else(|| format!("day {days}"), |d| d.format("%Y-%m-%d").to_string())
}

/// The units of `date_trunc`.
pub const UNITS: &[&str] = &[
    "microseconds",
    "milliseconds",
    "second",
    "minute",
    "hour",
    "day",
    "week",
    "month",
    "quarter",
    "year",
    "decade",
    "century",
    "millennium",
];

/// Whether a moment lies in the years that have a spelling, 1 to 9999.
pub fn is_inside(micros: i64) -> bool {
    const FIRST: i64 = -719_162 * DAY;
    const END: i64 = 2_932_897 * DAY;
    (FIRST..END).contains(&micros)
}

/// Cuts a moment to the start of its unit in UTC. None for an unknown unit, or outside the years of the calendar.
pub fn truncate(unit: &str, micros: i64) -> Option<i64> {
    let down = |step: i64| Some(micros - micros.rem_euclid(step));
    match unit {
        "microseconds" => return Some(micros),
        "milliseconds" => return down(1_000),
        "second" => return down(1_000_000),
        "minute" => return down(60_000_000),
        "hour" => return down(3_600_000_000),
        "day" => return down(DAY),
        // 1970-01-01 was a Thursday; weeks start on Monday.
        "week" => return Some(micros - (micros + 3 * DAY).rem_euclid(7 * DAY)),
        _ => {}
    }
    let date = moment(micros)?.date_naive();
    let year = i64::from(date.year());
    let (year, month) = match unit {
        "month" => (year, date.month()),
        "quarter" => (year, (date.month0() / 3) * 3 + 1),
        "year" => (year, 1),
        // The first decade begins before the year 1.
        "decade" => (Some(year.div_euclid(10) * 10).filter(|year| *year > 0)?, 1),
        "century" => ((year - 1).div_euclid(100) * 100 + 1, 1),
        "millennium" => ((year - 1).div_euclid(1000) * 1000 + 1, 1),
        _ => return None,
    };
    days_of(year, month, 1).map(|days| i64::from(days) * DAY)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("1970-01-01T00:00:00Z", Some(0))]
    #[case("2026-04-01T08:15:00.25+02:00", Some(1_775_024_100_250_000))]
    #[case("2026-04-01 06:15:00.250000499Z", Some(1_775_024_100_250_000))]
    #[case("2026-04-01 06:15:00.2500005Z", Some(1_775_024_100_250_001))]
    #[case("1969-12-31T23:59:59.9999999Z", Some(0))]
    #[case("2026-04-01T08:15:00+15:59", Some(1_774_973_760_000_000))]
    #[case("2026-04-01T08:15:00+16:00", None)]
    #[case("0000-01-01T00:00:00Z", None)]
    #[case("1969-12-31T23:59:59.999999Z", Some(-1))]
    #[case("2026-04-01T08:15:00", None)]
    #[case("2026-02-29T08:15:00Z", None)]
    #[case("2026-04-01T24:00:00Z", None)]
    #[case("2026-04-01T08:15:00+99:00", None)]
    #[case("garbage", None)]
    fn timestamps(#[case] text: &str, #[case] expected: Option<i64>) {
        assert_eq!(parse_timestamp(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("2024-02-29", Some(19_782))]
    #[case("1970-01-01", Some(0))]
    #[case("0001-01-01", Some(-719_162))]
    #[case("2026-13-01", None)]
    #[case("0000-12-31", None)]
    #[case("2026-00-10", None)]
    fn dates(#[case] text: &str, #[case] expected: Option<i32>) {
        assert_eq!(parse_date(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("01.04.2026 08:15", "%d.%m.%Y %H:%M", Some(1_775_031_300_000_000))]
    #[case("01.04.2026", "%d.%m.%Y", Some(1_775_001_600_000_000))]
    #[case("x", "%d.%m.%Y", None)]
    #[case("01.04.26", "%d.%m.%Y", None)]
    #[case("01.04.26", "%d.%m.%y", Some(1_775_001_600_000_000))]
    #[case("01.04.0926", "%d.%m.%Y", Some(-32_937_667_200_000_000))]
    #[case("01.04.+12026", "%d.%m.%Y", None)]
    #[case("2026-04-01 08:15:00.1234567", "%Y-%m-%d %H:%M:%S%.f", Some(1_775_031_300_123_457))]
    fn patterns(#[case] text: &str, #[case] pattern: &str, #[case] expected: Option<i64>) {
        assert_eq!(parse_timestamp_pattern(text, pattern), expected);
    }

    #[rstest]
    #[case("hour", "2026-04-01T08:00:00Z")]
    #[case("day", "2026-04-01T00:00:00Z")]
    #[case("week", "2026-03-30T00:00:00Z")]
    #[case("quarter", "2026-04-01T00:00:00Z")]
    #[case("year", "2026-01-01T00:00:00Z")]
    fn truncation(#[case] unit: &str, #[case] expected: &str) {
        let micros = parse_timestamp(b"2026-04-01T08:15:30.5Z").unwrap();
        assert_eq!(show_timestamp(truncate(unit, micros).unwrap()), expected);
    }

    #[rstest]
    #[case("%Y/%m", true)]
    #[case("%Q", false)]
    #[case("Ymd", false)]
    fn pattern_check(#[case] pattern: &str, #[case] ok: bool) {
        assert_eq!(check_pattern(pattern).is_ok(), ok);
    }

    proptest::proptest! {
        #[test]
        fn dates_agree_with_chrono(days in -700_000_i32..2_900_000) {
            let text = show_date(days);
            proptest::prop_assert_eq!(parse_date(text.as_bytes()), Some(days));
        }

        #[test]
        fn timestamps_survive_text(micros in -60_000_000_000_000_000_i64..200_000_000_000_000_000) {
            let text = show_timestamp(micros);
            proptest::prop_assert_eq!(parse_timestamp(text.as_bytes()), Some(micros));
        }
    }
}
