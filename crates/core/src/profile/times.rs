//! Spellings of days and moments that are recognised.

use crate::values::time;

/// One spelling, as `format '…'` of a contract takes it; None for what needs no format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Spelling {
    /// The pattern, or None for RFC 3339 and for `YYYY-MM-DD`.
    pub pattern: Option<&'static str>,
    /// Whether it is a day without a time.
    pub is_date: bool,
}

const fn moment(pattern: &'static str) -> Spelling {
    Spelling { pattern: Some(pattern), is_date: false }
}

const fn day(pattern: &'static str) -> Spelling {
    Spelling { pattern: Some(pattern), is_date: true }
}

/// All spellings; where several fit, the first is meant.
pub(super) const SPELLINGS: &[Spelling] = &[
    Spelling { pattern: None, is_date: false },
    Spelling { pattern: None, is_date: true },
    moment("%Y-%m-%d %H:%M:%S"),
    moment("%Y-%m-%dT%H:%M:%S"),
    moment("%Y-%m-%d %H:%M:%S%.f"),
    moment("%Y-%m-%dT%H:%M:%S%.f"),
    moment("%Y-%m-%d %H:%M"),
    moment("%Y-%m-%dT%H:%M"),
    moment("%Y/%m/%d %H:%M:%S"),
    moment("%d.%m.%Y %H:%M:%S"),
    moment("%d.%m.%Y %H:%M"),
    moment("%d/%m/%Y %H:%M:%S"),
    moment("%d/%m/%Y %H:%M"),
    moment("%m/%d/%Y %H:%M:%S"),
    moment("%m/%d/%Y %H:%M"),
    moment("%a, %d %b %Y %H:%M:%S %z"),
    moment("%d/%b/%Y:%H:%M:%S %z"),
    moment("%Y-%m-%dT%H:%M:%S%z"),
    day("%d.%m.%Y"),
    day("%d/%m/%Y"),
    day("%m/%d/%Y"),
    day("%Y/%m/%d"),
    day("%d %b %Y"),
    day("%d-%b-%Y"),
];

impl Spelling {
    /// The moment that a text spells, in microseconds since 1970.
    pub(super) fn parse(&self, text: &[u8]) -> Option<i64> {
        let days = |d: i32| i64::from(d) * time::DAY;
        match (self.pattern, self.is_date) {
            (None, false) => time::parse_timestamp(text),
            (None, true) => time::parse_date(text).map(days),
            (Some(pattern), true) => time::parse_date_pattern(std::str::from_utf8(text).ok()?, pattern).map(days),
            (Some(pattern), false) => time::parse_timestamp_pattern(std::str::from_utf8(text).ok()?, pattern),
        }
        // Two digits are not a year: 01.04.26 is the year 26 to the parser and 2026 to the writer.
        .filter(|micros| (YEAR_1000..YEAR_3000).contains(micros))
    }

    /// Whether another spelling fits the same texts with another meaning: day and month swapped.
    pub(super) fn is_ambiguous_with(&self, other: &Self) -> bool {
        let swapped = |p: &str| match p.get(..5) {
            Some("%d/%m") => Some("%m/%d"),
            Some("%m/%d") => Some("%d/%m"),
            _ => None,
        };
        match (self.pattern, other.pattern) {
            (Some(a), Some(b)) => swapped(a).is_some_and(|s| b.starts_with(s) && a[5..] == b[5..]),
            _ => false,
        }
    }
}

const YEAR_1000: i64 = -30_610_224_000_000_000;
const YEAR_3000: i64 = 32_503_680_000_000_000;

/// The unit of a count since 1970 for which all counts from `low` to `high` lie between 1990 and 2100: its name in a
/// contract.
pub(super) fn epoch_unit(low: i64, high: i64) -> Option<&'static str> {
    const FROM: i64 = 631_152_000;
    const TO: i64 = 4_102_444_800;
    let units = [("epoch_s", 1), ("epoch_ms", 1_000), ("epoch_us", 1_000_000)];
    units.into_iter().find(|(_, per)| low >= FROM * per && high <= TO * per).map(|(name, _)| name)
}

/// Whether a name says that its field holds a time.
pub(super) fn names_a_time(name: &str) -> bool {
    let lower = name.to_lowercase();
    let words: Vec<&str> = lower.split(|c: char| !c.is_alphanumeric()).collect();
    let camel = name.ends_with("At") || name.ends_with("Time") || name.ends_with("Date") || name.ends_with("Ts");
    const WORDS: &[&str] =
        &["at", "ts", "time", "date", "day", "when", "timestamp", "epoch", "created", "updated", "datetime", "on"];
    camel || words.iter().any(|w| WORDS.contains(w)) || lower.ends_with("timestamp") || lower.ends_with("time")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2026-04-01T08:15:00Z", None)]
    #[case("2026-04-01 08:15:00", Some("%Y-%m-%d %H:%M:%S"))]
    #[case("01.04.2026 08:15", Some("%d.%m.%Y %H:%M"))]
    #[case("13/04/2026", Some("%d/%m/%Y"))]
    #[case("04/13/2026", Some("%m/%d/%Y"))]
    #[case("Wed, 01 Apr 2026 08:15:00 +0200", Some("%a, %d %b %Y %H:%M:%S %z"))]
    #[case("01-Apr-2026", Some("%d-%b-%Y"))]
    fn the_first_that_fits(#[case] text: &str, #[case] pattern: Option<&str>) {
        let found = SPELLINGS.iter().find(|s| s.parse(text.as_bytes()).is_some()).unwrap();
        assert_eq!(found.pattern, pattern);
    }

    #[rstest]
    #[case("01.04.26")]
    #[case("12")]
    #[case("barge")]
    fn what_is_no_time(#[case] text: &str) {
        assert!(SPELLINGS.iter().all(|s| s.parse(text.as_bytes()).is_none()));
    }

    #[rstest]
    #[case(1_775_000_000, Some("epoch_s"))]
    #[case(1_775_000_000_000, Some("epoch_ms"))]
    #[case(1_775_000_000_000_000, Some("epoch_us"))]
    #[case(42, None)]
    fn units(#[case] count: i64, #[case] unit: Option<&str>) {
        assert_eq!(epoch_unit(count, count + 1), unit);
    }

    #[rstest]
    #[case("passed_at", true)]
    #[case("createdAt", true)]
    #[case("event.ts", true)]
    #[case("lattice", false)]
    #[case("state", false)]
    fn names_of_times(#[case] name: &str, #[case] is_time: bool) {
        assert_eq!(names_a_time(name), is_time);
    }
}
