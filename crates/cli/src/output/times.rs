//! Moments for people.

use sluice_core::units;
use sluice_core::values::time::{self, DAY, show_timestamp};

/// The present moment in microseconds since 1970.
pub(crate) fn now() -> i64 {
    chrono::Utc::now().timestamp_micros()
}

/// A moment to the second, in UTC.
pub(crate) fn second(micros: i64) -> String {
    show_timestamp(micros.div_euclid(1_000_000) * 1_000_000).replace('T', " ").replace('Z', "")
}

/// How long ago a moment was.
pub(crate) fn ago(micros: i64) -> String {
    match (now() - micros) / 1_000_000 {
        s if s < 2 => "just now".into(),
        s if s < 120 => format!("{s} s ago"),
        s if s < 7200 => format!("{} min ago", s / 60),
        s if s < 172_800 => format!("{} h ago", s / 3600),
        s => format!("{} days ago", s / 86_400),
    }
}

/// How long until a moment.
pub(crate) fn ahead(micros: i64) -> String {
    // Rounded up: "in 0 s" says nothing.
    match (micros - now() + 999_999) / 1_000_000 {
        s if s <= 0 => "now".into(),
        s if s < 120 => format!("in {s} s"),
        s if s < 7200 => format!("in {} min", s / 60),
        s if s < 172_800 => format!("in {} h", s / 3600),
        s => format!("in {} days", s / 86_400),
    }
}

/// A moment on the command line, in microseconds since 1970: RFC 3339, a day in UTC, or how long ago.
pub(crate) fn parse_moment(text: &str) -> Result<i64, String> {
    if let Some(micros) = time::parse_timestamp(text.as_bytes()) {
        return Ok(micros);
    }
    if let Some(days) = time::parse_date(text.as_bytes()) {
        return Ok(i64::from(days) * DAY);
    }
    let ago = units::parse_duration(text).ok().and_then(|d| i64::try_from(d.as_micros()).ok());
    ago.map(|ago| now() - ago).ok_or_else(|| {
        "write a moment such as 2026-04-01T08:15:00Z, a day such as 2026-04-01, or how long ago, such as 2h".into()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_ahead() {
        let seconds = |s: i64| ahead(now() + s * 1_000_000);
        assert_eq!(
            [seconds(-5), seconds(60), seconds(600), seconds(86_400), seconds(864_000)],
            ["now", "in 60 s", "in 10 min", "in 24 h", "in 10 days"]
        );
    }

    #[test]
    fn moments() {
        assert_eq!(parse_moment("2026-04-01"), Ok(20_544 * DAY));
        assert_eq!(parse_moment("2026-04-01T00:00:01Z"), Ok(20_544 * DAY + 1_000_000));
        let moment = parse_moment("2h").unwrap();
        assert!((7_200_000_000..7_205_000_000).contains(&(now() - moment)));
        assert!(parse_moment("yesterday").unwrap_err().contains("2026-04-01"));
    }
}
