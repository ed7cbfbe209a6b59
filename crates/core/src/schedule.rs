//! When a pipeline runs that does not run all the time: every so often, or at the times of a cron line.

use std::fmt;
use std::str::FromStr as _;
use std::time::Duration;

use chrono::{DateTime, LocalResult, NaiveDateTime, TimeDelta, TimeZone as _, Utc};
use chrono_tz::Tz;
use croner::Cron;

use crate::config::{OptionSpec, Options, ValueKind};
use crate::problem::{Problem, Problems};
use crate::units::show_duration;

/// Keys of `schedule`.
pub const SCHEDULE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("every", ValueKind::Duration, "time from one start to the next; the first run starts at once"),
    OptionSpec::optional(
        "cron",
        ValueKind::Text,
        "start times as a cron line: minute, hour, day of month, month, weekday, such as \"15 4 * * mon-fri\"",
    )
    .with(&["zone"]),
    OptionSpec::with_default("zone", ValueKind::Text, "UTC", "time zone of the cron line, such as Europe/Oslo")
        .with(&["cron"]),
];

/// Times at which a run begins. It ends when it has caught up, and the pipeline rests until the next time.
#[derive(Clone, Debug)]
pub enum Schedule {
    /// At multiples of a duration after the first start. Times that pass during a run are left out.
    Every(Duration),
    /// When the clocks of a zone show what a cron line names.
    Cron(Box<CronTimes>),
}

/// A cron line in a zone.
#[derive(Clone, Debug)]
pub struct CronTimes {
    line: String,
    cron: Cron,
    zone: Tz,
}

impl Schedule {
    /// Reads the table `schedule`. What is wrong is added to `problems`.
    pub fn read(options: &Options, problems: &mut Problems) -> Option<Self> {
        let every = options.is_set("every").then(|| options.duration("every"));
        let line = options.located_text("cron");
        match (every, line) {
            (Some(every), None) if every < Duration::from_secs(1) => {
                problems.add(
                    Problem::error("value.range", "`every` is shorter than a second", options.place_of("every"))
                        .with_label("expected at least 1s")
                        .with_help("without `schedule` the pipeline runs all the time"),
                );
                None
            }
            (Some(every), None) => Some(Self::Every(every)),
            (None, Some(line)) => {
                let zone = options.text("zone").unwrap_or_default();
                let Ok(zone) = Tz::from_str(&zone) else {
                    problems.add(
                        Problem::error(
                            "value.type",
                            format!("there is no time zone `{zone}`"),
                            options.place_of("zone"),
                        )
                        .with_help("zones are named as in the database of time zones: Europe/Oslo, UTC"),
                    );
                    return None;
                };
                match CronTimes::parse(&line.value, zone) {
                    Ok(times) => Some(Self::Cron(Box::new(times))),
                    Err(why) => {
                        problems.add(
                            Problem::error("value.type", format!("not a valid cron line: {why}"), line.place)
                                .with_help(
                                    "five parts: minute, hour, day, month, weekday; `*/15 * * * *` is every 15 minutes",
                                ),
                        );
                        None
                    }
                }
            }
            (both, line) => {
                let both = both.is_some() && line.is_some();
                let message = if both {
                    "a schedule has `every` or `cron`, not both"
                } else {
                    "a schedule needs `every` or `cron`"
                };
                problems.add(Problem::error("key.missing", message, options.place.clone()));
                None
            }
        }
    }

    /// The first start after `now`, in microseconds since 1970, where the first of all was at `first`. None where there is
    /// none before the year 5000.
    pub fn next(&self, first: i64, now: i64) -> Option<i64> {
        match self {
            Self::Every(every) => {
                let every = i64::try_from(every.as_micros()).ok()?.max(1);
                let passed = now.checked_sub(first)?.max(0).checked_div(every)?;
                first.checked_add(passed.checked_add(1)?.checked_mul(every)?)
            }
            Self::Cron(times) => Some(times.next(DateTime::from_timestamp_micros(now)?)?.timestamp_micros()),
        }
    }

    /// Whether its first run is at once.
    pub fn starts_at_once(&self) -> bool {
        matches!(self, Self::Every(_))
    }
}

/// Clocks are not set by more than this.
const SHIFT: TimeDelta = TimeDelta::hours(3);

impl CronTimes {
    fn parse(line: &str, zone: Tz) -> Result<Self, String> {
        // Names for whole lines, and a part for seconds, are read by some programs only.
        if line.contains('@') || line.split_whitespace().count() != 5 {
            return Err("expected five parts".into());
        }
        let cron = Cron::new(line).parse().map_err(|e| e.to_string())?;
        let times = Self { line: line.split_whitespace().collect::<Vec<_>>().join(" "), cron, zone };
        match times.shown_after(DateTime::UNIX_EPOCH.naive_utc()) {
            Some(_) => Ok(times),
            None => Err("it never matches a day".into()),
        }
    }

    /// Whether it names all hours: it then goes on through the hour that clocks show twice.
    fn is_of_all_hours(&self) -> bool {
        self.line.split(' ').nth(1).is_some_and(|hours| hours.starts_with('*'))
    }

    /// The next time of the line that clocks show.
    fn shown_after(&self, local: NaiveDateTime) -> Option<NaiveDateTime> {
        self.cron.find_next_occurrence(&local.and_utc(), false).ok().map(|at| at.naive_utc())
    }

    /// The first moment after `now`. A time of the day that clocks show twice is meant once; one that they skip is when they have
    /// skipped it.
    fn next(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let local = now.with_timezone(&self.zone).naive_local();
        let all_hours = self.is_of_all_hours();
        let mut shown = if all_hours { local.checked_sub_signed(SHIFT)? } else { local };
        let mut best: Option<DateTime<Utc>> = None;
        loop {
            let Some(next) = self.shown_after(shown) else { return best };
            shown = next;
            let moments = self.moments(shown, all_hours).into_iter().flatten();
            best = moments.filter(|at| *at > now).chain(best).min();
            let is_enough = !all_hours || shown > local.checked_add_signed(SHIFT)?;
            if is_enough && best.is_some() {
                return best;
            }
        }
    }

    /// When clocks show a time.
    fn moments(&self, shown: NaiveDateTime, all_hours: bool) -> [Option<DateTime<Utc>>; 2] {
        let utc = |at: DateTime<Tz>| at.with_timezone(&Utc);
        match self.zone.from_local_datetime(&shown) {
            LocalResult::Single(at) => [Some(utc(at)), None],
            LocalResult::Ambiguous(first, second) => [Some(utc(first)), all_hours.then(|| utc(second))],
            LocalResult::None if all_hours => [None, None],
            LocalResult::None => {
                let minutes = (1..=SHIFT.num_minutes()).filter_map(|m| shown.checked_add_signed(TimeDelta::minutes(m)));
                // The first full minute after what was skipped.
                let after = minutes.filter_map(|at| self.zone.from_local_datetime(&at).earliest()).next();
                [after.map(utc), None]
            }
        }
    }
}

impl fmt::Display for Schedule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Every(every) => write!(f, "every {}", show_duration(*every)),
            Self::Cron(times) => write!(f, "at `{}` ({})", times.line, times.zone),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(text: &str) -> i64 {
        DateTime::parse_from_rfc3339(text).unwrap().timestamp_micros()
    }

    fn shown(micros: i64) -> String {
        DateTime::<Utc>::from_timestamp_micros(micros).unwrap().to_rfc3339_opts(chrono::SecondsFormat::Secs, true)
    }

    fn cron(line: &str, zone: &str) -> Schedule {
        Schedule::Cron(Box::new(CronTimes::parse(line, Tz::from_str(zone).unwrap()).unwrap()))
    }

    #[rstest]
    #[case("2026-07-01T10:00:00Z", "2026-07-01T10:00:00Z", "2026-07-01T10:15:00Z")]
    #[case("2026-07-01T10:00:00Z", "2026-07-01T10:14:59Z", "2026-07-01T10:15:00Z")]
    #[case("2026-07-01T10:00:00Z", "2026-07-01T10:15:00Z", "2026-07-01T10:30:00Z")]
    // What passed during a long run is left out.
    #[case("2026-07-01T10:00:00Z", "2026-07-01T11:01:00Z", "2026-07-01T11:15:00Z")]
    // A clock that was set back does not make it rest for longer than the interval.
    #[case("2026-07-01T10:00:00Z", "2026-07-01T09:00:00Z", "2026-07-01T10:15:00Z")]
    fn starts_are_multiples_after_the_first(#[case] first: &str, #[case] now: &str, #[case] expected: &str) {
        let every = Schedule::Every(Duration::from_secs(900));
        assert_eq!(shown(every.next(at(first), at(now)).unwrap()), expected);
    }

    #[rstest]
    #[case("15 4 * * *", "UTC", "2026-07-01T04:15:00Z", "2026-07-02T04:15:00Z")]
    #[case("15 4 * * *", "Europe/Oslo", "2026-07-01T00:00:00Z", "2026-07-01T02:15:00Z")]
    #[case("0 6 * * mon-fri", "UTC", "2026-07-03T06:00:00Z", "2026-07-06T06:00:00Z")]
    // 0 and 7 are Sunday.
    #[case("0 6 * * 0", "UTC", "2026-07-03T06:00:00Z", "2026-07-05T06:00:00Z")]
    #[case("0 6 * * 7", "UTC", "2026-07-03T06:00:00Z", "2026-07-05T06:00:00Z")]
    #[case("*/20 * * * *", "UTC", "2026-07-01T10:20:00.000001Z", "2026-07-01T10:40:00Z")]
    // Day and weekday: either.
    #[case("0 0 13 * fri", "UTC", "2026-07-01T00:00:00Z", "2026-07-03T00:00:00Z")]
    #[case("0 0 29 2 *", "UTC", "2026-07-01T00:00:00Z", "2028-02-29T00:00:00Z")]
    fn cron_lines_name_times(#[case] line: &str, #[case] zone: &str, #[case] now: &str, #[case] expected: &str) {
        assert_eq!(shown(cron(line, zone).next(0, at(now)).unwrap()), expected);
    }

    /// A line for all hours goes on in the hour that clocks show twice, and in the one that they skip there is nothing to do.
    #[rstest]
    #[case("2026-10-24T23:50:00Z", "2026-10-25T02:10:00Z", 7)]
    #[case("2026-03-28T23:50:00Z", "2026-03-29T02:10:00Z", 7)]
    fn a_line_for_all_hours_goes_on(#[case] from: &str, #[case] to: &str, #[case] count: usize) {
        let often = cron("*/20 * * * *", "Europe/Oslo");
        let mut times = vec![at(from)];
        while let Some(next) = often.next(0, *times.last().unwrap()).filter(|next| *next < at(to)) {
            times.push(next);
        }
        assert_eq!(times.len() - 1, count, "{:?}", times.iter().map(|t| shown(*t)).collect::<Vec<_>>());
        assert!(times[1..].windows(2).all(|pair| pair[1] - pair[0] == 1_200_000_000));
    }

    /// In the night in which clocks skip from two to three, and in that in which they show two to three twice.
    #[rstest]
    #[case("2026-03-29T00:00:00Z", "2026-03-29T01:00:00Z")]
    #[case("2026-10-24T23:00:00Z", "2026-10-25T00:30:00Z")]
    fn a_night_of_other_length_has_one_start(#[case] now: &str, #[case] expected: &str) {
        let nightly = cron("30 2 * * *", "Europe/Oslo");
        let first = nightly.next(0, at(now)).unwrap();
        let second = nightly.next(0, first).unwrap();
        assert_eq!(shown(first), expected);
        assert!(second - first > 20 * 3600 * 1_000_000, "{}", shown(second));
    }

    #[rstest]
    #[case("")]
    #[case("* * * *")]
    #[case("0 0 15 4 * *")]
    #[case("60 * * * *")]
    #[case("* * * * pond")]
    #[case("0 0 31 2 *")]
    #[case("@daily")]
    #[case("-5 * * * *")]
    fn lines_that_name_nothing_are_refused(#[case] line: &str) {
        assert!(CronTimes::parse(line, Tz::UTC).is_err(), "{line}");
    }
}
