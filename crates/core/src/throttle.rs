//! A limit on how much is read in a second, shared by everyone who reads under it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::config::{OptionSpec, Options, ValueKind};

/// How many events and bytes may be read in a second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReadRate {
    /// Events a second.
    pub events: Option<u64>,
    /// Bytes a second.
    pub bytes: Option<u64>,
}

/// The keys that limit how much is read.
pub const RATE_EVENTS: OptionSpec = OptionSpec::optional(
    "events",
    ValueKind::Integer { min: 1, max: 1_000_000_000 },
    "maximum number of events read per second",
);

/// As [`RATE_EVENTS`], for bytes.
pub const RATE_BYTES: OptionSpec =
    OptionSpec::optional("bytes", ValueKind::Size, "maximum number of bytes read per second");

impl ReadRate {
    /// Reads the table of options.
    pub fn read(options: &Options) -> Self {
        Self {
            events: options.is_set("events").then(|| options.integer("events")),
            bytes: options.is_set("bytes").then(|| options.size("bytes").max(1)),
        }
    }

    /// Whether nothing is limited.
    pub fn is_open(self) -> bool {
        self == Self::default()
    }

    /// How long this much takes under it.
    fn time_of(self, records: u64, bytes: u64) -> Duration {
        let part = |count: u64, limit: Option<u64>| limit.map_or(0.0, |limit| count as f64 / limit as f64);
        // Longer than a year is not waited for in any case.
        Duration::from_secs_f64(part(records, self.events).max(part(bytes, self.bytes)).min(3.2e7))
    }
}

/// Keeps those who read under one limit together below it.
///
/// What is read at once is paid for by waiting before the next: over more than a few reads the rate holds, however large each is.
#[derive(Debug)]
pub struct Throttle {
    rate: ReadRate,
    /// When all that was read has been paid for.
    free_at: Mutex<Option<Instant>>,
}

impl Throttle {
    /// Nothing has been read yet.
    pub fn new(rate: ReadRate) -> Self {
        Self { rate, free_at: Mutex::new(None) }
    }

    /// How long to wait before the next may be read.
    pub fn wait(&self, now: Instant) -> Duration {
        self.free_at().map_or(Duration::ZERO, |at| at.saturating_duration_since(now))
    }

    /// Notes what was read.
    pub fn take(&self, records: u64, bytes: u64, now: Instant) {
        let mut free_at = self.free_at();
        let begins = free_at.map_or(now, |at| at.max(now));
        *free_at = begins.checked_add(self.rate.time_of(records, bytes)).or(*free_at);
    }

    /// At most so much is read at once, so that the waiting between is short.
    pub fn at_once(&self, records: u64, bytes: u64) -> (u64, u64) {
        // A fifth of a second's worth, but whole records of some size.
        const LEAST: u64 = 64 << 10;
        let least = |limit: Option<u64>, least: u64| limit.map_or(u64::MAX, |limit| (limit / 5).max(least));
        (records.min(least(self.rate.events, 1)), bytes.min(least(self.rate.bytes, LEAST)))
    }

    fn free_at(&self) -> std::sync::MutexGuard<'_, Option<Instant>> {
        self.free_at.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The limits of connections in this process, by name: pipelines that read from one place share its limit.
#[derive(Debug, Default)]
pub struct Throttles(Mutex<HashMap<String, (ReadRate, Arc<Throttle>)>>);

impl Throttles {
    /// The limit of a connection. One that has changed is a new one.
    pub fn of(&self, connection: &str, rate: ReadRate) -> Arc<Throttle> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match known.get(connection) {
            Some((before, throttle)) if *before == rate => Arc::clone(throttle),
            _ => {
                let throttle = Arc::new(Throttle::new(rate));
                known.insert(connection.to_string(), (rate, Arc::clone(&throttle)));
                throttle
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rate(events: Option<u64>, bytes: Option<u64>) -> ReadRate {
        ReadRate { events, bytes }
    }

    #[rstest]
    #[case(rate(Some(100), None), 50, 1_000_000, 500)]
    #[case(rate(None, Some(1000)), 50, 2000, 2000)]
    #[case(rate(Some(100), Some(1000)), 100, 100, 1000)]
    #[case(rate(Some(100), Some(1000)), 10, 1000, 1000)]
    #[case(rate(None, None), 10, 1000, 0)]
    fn what_was_read_is_paid_for(
        #[case] rate: ReadRate,
        #[case] records: u64,
        #[case] bytes: u64,
        #[case] millis: u64,
    ) {
        let throttle = Throttle::new(rate);
        let now = Instant::now();
        assert_eq!(throttle.wait(now), Duration::ZERO);
        throttle.take(records, bytes, now);
        assert_eq!(throttle.wait(now), Duration::from_millis(millis));
        assert_eq!(throttle.wait(now + Duration::from_secs(60)), Duration::ZERO);
    }

    /// Over any number of reads the rate holds; what was not used is not saved up.
    #[test]
    fn many_who_read_are_together_below_it() {
        let throttle = Throttle::new(rate(Some(1000), None));
        let start = Instant::now();
        let (mut now, mut read) = (start, 0);
        for turn in 0..500 {
            now += throttle.wait(now);
            throttle.take(7, 0, now);
            throttle.take(5, 0, now);
            read += 12;
            if turn % 50 == 0 {
                now += Duration::from_secs(3);
            }
        }
        let seconds = (now + throttle.wait(now) - start).as_secs_f64();
        assert!(seconds >= read as f64 / 1000.0, "{read} in {seconds} s");
        assert!(seconds <= read as f64 / 1000.0 + 10.0 * 3.0, "{read} in {seconds} s");
    }

    #[rstest]
    #[case(rate(Some(1), None), (1, 2 << 20))]
    #[case(rate(Some(1000), Some(1)), (200, 64 << 10))]
    #[case(rate(None, Some(10 << 20)), (u64::MAX, 2 << 20))]
    #[case(rate(None, Some(1 << 20)), (u64::MAX, (1 << 20) / 5))]
    fn little_is_read_at_once(#[case] rate: ReadRate, #[case] expected: (u64, u64)) {
        assert_eq!(Throttle::new(rate).at_once(u64::MAX, 2 << 20), expected);
    }

    #[test]
    fn a_connection_has_one_limit() {
        let all = Throttles::default();
        let first = all.of("lock-broker", rate(Some(5), None));
        assert!(Arc::ptr_eq(&first, &all.of("lock-broker", rate(Some(5), None))));
        assert!(!Arc::ptr_eq(&first, &all.of("lock-broker", rate(Some(6), None))));
        assert!(!Arc::ptr_eq(&first, &all.of("depot", rate(Some(5), None))));
    }
}
