//! Times of day as text: `08:05:09.5`. Texts so spelled are in the order of their times.

use std::fmt::Write as _;

use super::interval::HOUR;
use super::number;
use super::time::DAY;

/// Parses a time of day, in microseconds since midnight: hours and minutes, then seconds with digits after a point, which are rounded
/// to the microsecond, then AM or PM. The end of a day is none: most stores and formats have no such time.
pub fn parse_clock(text: &str) -> Option<i64> {
    let text = text.trim();
    let (text, half) = match text.len().checked_sub(2).and_then(|at| text.split_at_checked(at)) {
        Some((time, half)) if half.eq_ignore_ascii_case("am") => (time.trim_end(), Some(0)),
        Some((time, half)) if half.eq_ignore_ascii_case("pm") => (time.trim_end(), Some(12)),
        _ => (text, None),
    };
    let mut parts = text.split(':');
    let (hours, minutes, seconds) = (parts.next()?, parts.next()?, parts.next());
    let hours = digits(hours, 1)?;
    let minutes = digits(minutes, 2)?;
    let micros = seconds.map_or(Some(0), micros)?;
    let hours = match half {
        None => hours,
        Some(half) => (1..=12).contains(&hours).then_some(hours % 12 + half)?,
    };
    let all = hours * HOUR + minutes * HOUR / 60 + micros;
    (parts.next().is_none() && minutes < 60 && all < DAY).then_some(all)
}

/// So many digits, or two.
fn digits(text: &str, least: usize) -> Option<i64> {
    let is_good = (least..=2).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit());
    is_good.then(|| text.parse().ok())?
}

/// Seconds in microseconds.
fn micros(text: &str) -> Option<i64> {
    let whole = digits(text.split('.').next()?, 2)?;
    let is_good = text.bytes().all(|b| b.is_ascii_digit() || b == b'.') && whole < 60;
    let micros = number::parse_decimal_rounded(text.trim_end_matches('.').as_bytes(), 6)?;
    i64::try_from(micros).ok().filter(|_| is_good)
}

/// Appends a time of day, without zeros at the end of its fraction.
pub fn write_clock(micros: i64, out: &mut String) {
    let (seconds, rest) = (micros.div_euclid(1_000_000), micros.rem_euclid(1_000_000));
    let _ = write!(out, "{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    if rest > 0 {
        let digits = format!(".{rest:06}");
        out.push_str(digits.trim_end_matches('0'));
    }
}

/// A time of day as text.
pub fn show_clock(micros: i64) -> String {
    let mut out = String::with_capacity(15);
    write_clock(micros, &mut out);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("08:05", Some("08:05:00"))]
    #[case("8:05:09.50", Some("08:05:09.5"))]
    #[case("08:05:09.1234567", Some("08:05:09.123457"))]
    #[case("24:00:00", None)]
    #[case("23:59:60", None)]
    #[case("23:58:59.9999999", Some("23:59:00"))]
    #[case("23:59:59.9999999", None)]
    #[case("25:00", None)]
    #[case("08:60", None)]
    #[case("08:05:61", None)]
    #[case("12:30 am", Some("00:30:00"))]
    #[case("12:30PM", Some("12:30:00"))]
    #[case("1:05 pm", Some("13:05:00"))]
    #[case("13:05 pm", None)]
    #[case("0:05 am", None)]
    #[case("08", None)]
    #[case("-8:00", None)]
    #[case("08:05:09:01", None)]
    #[case("8:5", None)]
    #[case("08:05:9", None)]
    #[case("08:05:09.", Some("08:05:09"))]
    #[case("08:05:.5", None)]
    #[case("", None)]
    #[case("é", None)]
    fn times_of_day(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(parse_clock(text).map(show_clock).as_deref(), expected);
    }

    proptest::proptest! {
        #[test]
        fn they_are_read_back_and_in_order(a in 0..DAY, b in 0..DAY) {
            let (x, y) = (show_clock(a), show_clock(b));
            proptest::prop_assert_eq!(parse_clock(&x), Some(a));
            proptest::prop_assert_eq!(x.cmp(&y), a.cmp(&b));
        }
    }
}
