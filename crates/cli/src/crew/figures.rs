//! What a pipeline has moved while this process runs it: second by second, and minute by minute.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use sluice_core::batch::LaneId;
use sluice_core::run::RunEvent;
use sluice_core::run::busy::{self, Work};

use crate::output::times;

/// What is told of a pipeline that runs.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Moved {
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Batches settled.
    pub batches: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Rejected events by station and reason, as `station: reason`.
    pub reasons: BTreeMap<String, u64>,
    /// Rows landed in all landings.
    pub landed: u64,
    /// How long batches took.
    pub took: Took,
    /// What each landing got, by name.
    pub landings: BTreeMap<String, LandingFigures>,
    /// Events read a second, over the last ten seconds.
    pub now: f64,
    /// The same over the last minute.
    pub minute: f64,
    /// The same over the last hour.
    pub hour: f64,
    /// Events read in each of the last 60 minutes, the present one last.
    pub minutes: Vec<u64>,
    /// Whether all there is has been read.
    pub caught_up: bool,
    /// What does not answer, in words, one text each.
    pub away: Vec<String>,
    /// What limits it, by the last minute; None where no thread is busy for half of the time.
    pub limit: Option<Limit>,
}

/// What one landing got.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct LandingFigures {
    /// Rows.
    pub rows: u64,
    /// The event time of the newest, in microseconds since 1970.
    pub newest: Option<i64>,
    /// How old the newest event of each batch was when it had landed.
    pub delay: Took,
}

/// How long batches took, from their opening to their settling.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Took {
    /// All of them together, in seconds.
    pub seconds: f64,
    /// How many took at most as long as each of the bounds, and not as short as the one before; those above all of them last.
    pub counts: [u64; BOUNDS.len() + 1],
}

/// Bounds of the time of a batch, in seconds.
const BOUNDS: [f64; 11] = [0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0, 300.0, 1800.0];

impl Took {
    /// Counts a batch.
    pub(crate) fn add(&mut self, seconds: f64) {
        self.seconds += seconds;
        let place = BOUNDS.iter().position(|bound| seconds <= *bound).unwrap_or(BOUNDS.len());
        self.counts[place] += 1;
    }

    /// How many batches.
    pub(crate) fn count(&self) -> u64 {
        self.counts.iter().sum()
    }

    /// Each bound with the batches that it has for itself; the last one is infinite.
    pub(crate) fn buckets(&self) -> impl Iterator<Item = (f64, u64)> + '_ {
        BOUNDS.iter().copied().chain([f64::MAX]).zip(self.counts.iter().copied())
    }
}

/// The work that limits a lane.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Limit {
    /// The lane.
    pub lane: String,
    /// `reading`, `limited`, `decoding`, `remembering`, `staging`, `publishing` or `recording`.
    pub work: String,
    /// The landing, of `staging` and `publishing`.
    pub landing: Option<String>,
    /// The share of the time that it takes, from 0 to 1.
    pub share: f64,
}

impl Limit {
    fn new(lane: &str, work: &Work, share: f64) -> Self {
        let (word, landing) = match work {
            Work::Reading => ("reading", None),
            Work::Limited => ("limited", None),
            Work::Decoding => ("decoding", None),
            Work::Remembering => ("remembering", None),
            Work::Staging(landing) => ("staging", Some(landing)),
            Work::Publishing(landing) => ("publishing", Some(landing)),
            Work::Recording => ("recording", None),
        };
        Self { lane: lane.into(), work: word.into(), landing: landing.cloned(), share: share.min(1.0) }
    }
}

/// Counts what a run reports.
#[derive(Debug)]
pub(crate) struct Figures {
    since: Instant,
    inner: Mutex<Counted>,
}

#[derive(Debug, Default)]
struct Counted {
    moved: Moved,
    seconds: Series,
    minutes: Series,
    /// By lane: whether it has read everything, and what it waits for.
    lanes: Vec<(String, LaneStanding)>,
    /// By lane and work: nanoseconds in each second.
    busy: Vec<(String, Work, Series)>,
}

#[derive(Debug, Default)]
struct LaneStanding {
    caught_up: bool,
    source_away: Option<String>,
    store_away: Option<String>,
}

/// Counts of the last 60 intervals of one length.
#[derive(Debug)]
struct Series {
    counts: [u64; Self::LENGTH],
    /// The interval that was counted last.
    at: u64,
}

impl Default for Series {
    fn default() -> Self {
        Self { counts: [0; Self::LENGTH], at: 0 }
    }
}

impl Series {
    const LENGTH: usize = 61;

    fn place(interval: u64) -> usize {
        usize::try_from(interval % Self::LENGTH as u64).unwrap_or(0)
    }

    /// Moves on to an interval: those between had nothing.
    fn go_to(&mut self, interval: u64) {
        let passed = interval.saturating_sub(self.at).min(Self::LENGTH as u64);
        for k in 1..=passed {
            self.counts[Self::place(self.at.max(interval.saturating_sub(passed)) + k)] = 0;
        }
        self.at = self.at.max(interval);
    }

    fn add(&mut self, interval: u64, count: u64) {
        self.go_to(interval);
        self.counts[Self::place(self.at)] += count;
    }

    /// Adds to an interval that may be over.
    fn add_at(&mut self, interval: u64, count: u64) {
        self.go_to(interval);
        if self.at - interval < Self::LENGTH as u64 {
            self.counts[Self::place(interval)] += count;
        }
    }

    /// The counts of so many intervals, the present one last.
    fn last(&self, many: u64) -> Vec<u64> {
        let from = (self.at + 1).saturating_sub(many);
        (from..=self.at).map(|interval| self.counts[Self::place(interval)]).collect()
    }
}

impl Figures {
    /// Nothing has been moved.
    pub(crate) fn new() -> Self {
        Self { since: Instant::now(), inner: Mutex::default() }
    }

    /// What has been moved until now.
    pub(crate) fn moved(&self) -> Moved {
        self.moved_at(self.since.elapsed().as_secs())
    }

    fn moved_at(&self, second: u64) -> Moved {
        let mut inner = self.lock();
        inner.seconds.go_to(second);
        inner.minutes.go_to(second / 60);
        // The present second is not over.
        let mut seconds = inner.seconds.last(61);
        let present = seconds.pop().unwrap_or(0);
        let rate = |counts: &[u64], length: f64| counts.iter().sum::<u64>() as f64 / length.max(1.0);
        let of_last = |many: usize| &seconds[seconds.len().saturating_sub(many)..];
        let minutes = inner.minutes.last(60);
        let known = (second as f64).min(3600.0);
        let mut away: Vec<String> =
            inner.lanes.iter().flat_map(|(_, lane)| [&lane.source_away, &lane.store_away]).flatten().cloned().collect();
        away.sort();
        away.dedup();
        let limit = inner.limit(second);
        let first = if second == 0 { present as f64 } else { 0.0 };
        Moved {
            now: first.max(rate(of_last(10), seconds.len().min(10) as f64)),
            minute: first.max(rate(&seconds, seconds.len() as f64)),
            hour: first.max(minutes.iter().sum::<u64>() as f64 / known.max(1.0)),
            minutes,
            caught_up: inner.has_caught_up(),
            away,
            limit,
            ..inner.moved.clone()
        }
    }

    /// A run begins: what lanes waited for in an earlier one does not count.
    pub(crate) fn begin(&self) {
        self.lock().lanes.clear();
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Counted> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Counts something that happened now.
    pub(crate) fn note(&self, event: &RunEvent) {
        self.note_at(event, self.since.elapsed().as_secs());
    }

    /// Counts what a thread was busy with until now.
    pub(crate) fn busy(&self, lane: &LaneId, work: Work, time: Duration) {
        self.busy_at(lane, work, time, self.since.elapsed());
    }

    fn busy_at(&self, lane: &LaneId, work: Work, time: Duration, now: Duration) {
        let mut inner = self.lock();
        let known = inner.busy.iter().position(|(l, w, _)| *l == lane.as_str() && *w == work);
        let place = known.unwrap_or_else(|| {
            inner.busy.push((lane.to_string(), work, Series::default()));
            inner.busy.len() - 1
        });
        let series = &mut inner.busy[place].2;
        // Work that took longer than a second belongs to several of them.
        let begin = now.saturating_sub(time.min(Duration::from_secs(60)));
        for second in begin.as_secs()..=now.as_secs() {
            let (from, to) = (Duration::from_secs(second).max(begin), Duration::from_secs(second + 1).min(now));
            series.add_at(second, u64::try_from(to.saturating_sub(from).as_nanos()).unwrap_or(0));
        }
    }

    fn note_at(&self, event: &RunEvent, second: u64) {
        let mut inner = self.lock();
        match event {
            RunEvent::Read { lane, records, bytes } => {
                inner.moved.read += records;
                inner.moved.bytes += bytes;
                inner.seconds.add(second, *records);
                inner.minutes.add(second / 60, *records);
                let lane = inner.lane(lane.to_string());
                (lane.caught_up, lane.source_away) = (false, None);
            }
            RunEvent::Settled(batch) => {
                inner.moved.batches += 1;
                inner.moved.rejected += batch.rejected;
                inner.moved.landed += batch.landed;
                inner.moved.took.add(batch.took.as_secs_f64());
                for (station, reason, count) in &batch.reasons {
                    *inner.moved.reasons.entry(format!("{station}: {reason}")).or_default() += count;
                }
                for landed in &batch.landings {
                    let known = inner.moved.landings.entry(landed.landing.clone()).or_default();
                    known.rows += landed.rows;
                    if let Some(newest) = landed.newest.filter(|_| landed.rows > 0) {
                        known.newest = known.newest.max(Some(newest));
                        known.delay.add((times::now() - newest).max(0) as f64 / 1e6);
                    }
                }
            }
            RunEvent::CaughtUp(lane) => {
                let lane = inner.lane(lane.to_string());
                (lane.caught_up, lane.source_away) = (true, None);
            }
            RunEvent::SourceAway { lane, message } => {
                inner.lane(lane.to_string()).source_away = Some(message.clone());
            }
            RunEvent::StoreAway { lane, message, .. } => {
                inner.lane(lane.to_string()).store_away = Some(message.clone());
            }
            RunEvent::StoreBack(lane) => inner.lane(lane.to_string()).store_away = None,
            RunEvent::Notice(_) | RunEvent::Drift { .. } | RunEvent::Recovered(_) => {}
        }
    }
}

impl Counted {
    fn has_caught_up(&self) -> bool {
        !self.lanes.is_empty() && self.lanes.iter().all(|(_, lane)| lane.caught_up)
    }

    /// What limits the lane that is limited most.
    fn limit(&mut self, second: u64) -> Option<Limit> {
        // The present second is not over.
        let seconds = second.min(60);
        if seconds == 0 {
            return None;
        }
        let mut lanes: BTreeMap<&str, Vec<(Work, f64)>> = BTreeMap::new();
        for (lane, work, series) in &mut self.busy {
            series.go_to(second);
            let nanos: u64 = series.last(seconds + 1).iter().take(usize::try_from(seconds).unwrap_or(60)).sum();
            let share = nanos as f64 / 1e9 / seconds as f64;
            lanes.entry(lane).or_default().push((work.clone(), share));
        }
        let limits = lanes.iter().filter_map(|(lane, shares)| {
            let (work, share) = busy::limiting(shares)?;
            Some(Limit::new(lane, work, share))
        });
        limits.max_by(|a, b| a.share.total_cmp(&b.share))
    }

    fn lane(&mut self, name: String) -> &mut LaneStanding {
        let place = match self.lanes.iter().position(|(known, _)| *known == name) {
            Some(place) => place,
            None => {
                self.lanes.push((name, LaneStanding::default()));
                self.lanes.len() - 1
            }
        };
        &mut self.lanes[place].1
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(records: u64) -> RunEvent {
        RunEvent::Read { lane: LaneId::new("passage.0", 0), records, bytes: records * 10 }
    }

    #[test]
    fn rates_are_those_of_the_time_before() {
        let figures = Figures::new();
        (0..120).for_each(|second| figures.note_at(&read(if second < 60 { 100 } else { 40 }), second));
        let moved = figures.moved_at(120);
        assert_eq!((moved.read, moved.bytes), (8400, 84_000));
        assert_eq!((moved.now, moved.minute, moved.hour), (40.0, 40.0, 70.0));
        assert_eq!(moved.minutes, [6000, 2400, 0]);
        // Silence counts too.
        let later = figures.moved_at(150);
        assert_eq!((later.now, later.minute), (0.0, 20.0));
        assert_eq!(figures.moved_at(100_000).minutes, [0; 60]);
    }

    #[test]
    fn the_first_second_has_a_rate() {
        let figures = Figures::new();
        figures.note_at(&read(70), 0);
        assert_eq!(figures.moved_at(0).now, 70.0);
        assert_eq!(figures.moved_at(1).now, 70.0);
        assert_eq!(figures.moved_at(2).now, 35.0);
    }

    /// Against sums over a list of everything.
    #[test]
    fn a_series_knows_its_last_intervals() {
        let (mut series, mut all) = (Series::default(), vec![0_u64; 1000]);
        let mut at = 0;
        for step in [0, 1, 0, 3, 60, 1, 61, 62, 5, 200, 0, 1, 59, 60, 61] {
            at += step;
            series.add(at, at + 1);
            all[usize::try_from(at).unwrap()] += at + 1;
            for many in [1, 2, 10, 60, 61] {
                let end = usize::try_from(at).unwrap() + 1;
                let start = end.saturating_sub(usize::try_from(many).unwrap());
                assert_eq!(series.last(many), all[start..end], "at {at}, {many}");
            }
        }
    }

    #[test]
    fn the_busiest_thread_is_told_with_its_share() {
        let figures = Figures::new();
        let lane = LaneId::new("passage.0", 0);
        assert_eq!(figures.moved_at(0).limit, None);
        for second in 0..20 {
            let now = Duration::from_millis(second * 1000 + 999);
            figures.busy_at(&lane, Work::Reading, Duration::from_millis(200), now);
            figures.busy_at(&lane, Work::Staging("passage.archive".into()), Duration::from_millis(300), now);
        }
        // One that takes ten seconds is told when it is over.
        figures.busy_at(
            &lane,
            Work::Publishing("passage.archive".into()),
            Duration::from_secs(10),
            Duration::from_secs(12),
        );
        figures.busy_at(
            &lane,
            Work::Publishing("passage.archive".into()),
            Duration::from_secs(8),
            Duration::from_secs(20),
        );
        let limit = figures.moved_at(20).limit.unwrap();
        assert_eq!((limit.work.as_str(), limit.landing.as_deref()), ("publishing", Some("passage.archive")));
        assert!((0.85..=0.91).contains(&limit.share), "{limit:?}");
        assert_eq!(figures.moved_at(90).limit, None);
    }

    #[test]
    fn what_does_not_answer_is_known_until_it_does() {
        let figures = Figures::new();
        let lane = || LaneId::new("passage.0", 0);
        assert!(!figures.moved().caught_up);
        figures.note(&RunEvent::CaughtUp(lane()));
        assert!(figures.moved().caught_up);
        figures.note(&RunEvent::SourceAway { lane: lane(), message: "lock-broker does not answer".into() });
        figures.note(&RunEvent::SourceAway {
            lane: LaneId::new("toll.0", 0),
            message: "lock-broker does not answer".into(),
        });
        assert_eq!(figures.moved().away, ["lock-broker does not answer"]);
        figures.note(&read(1));
        assert_eq!(figures.moved().away.len(), 1);
        figures.note(&RunEvent::CaughtUp(LaneId::new("toll.0", 0)));
        assert!(figures.moved().away.is_empty());
        figures.begin();
        assert!(!figures.moved().caught_up);
    }
}
