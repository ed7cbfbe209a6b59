//! Where the time of a run goes. The thread that has no time left limits all of them: the others wait for it.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use super::Observer;
use crate::batch::LaneId;

/// What a thread of a lane spends its time with.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Work {
    /// Reading from the source, or waiting for its answer.
    Reading,
    /// Waiting, since a limit of its own holds it back.
    Limited,
    /// Decoding and transforming; of several workers the average.
    Decoding,
    /// Stations that remember.
    Remembering,
    /// Staging the rows of a landing.
    Staging(String),
    /// Publishing what was staged for a landing.
    Publishing(String),
    /// Writing down what was done in the ledger.
    Recording,
}

/// The threads of a lane.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LaneThread {
    /// Reads.
    Reader,
    /// Decode and transform.
    Workers,
    /// Puts in order and stages.
    Stager,
    /// Seals, lands and settles.
    Committer,
}

impl Work {
    /// Who does it.
    pub fn thread(&self) -> LaneThread {
        match self {
            Self::Reading | Self::Limited => LaneThread::Reader,
            Self::Decoding => LaneThread::Workers,
            Self::Remembering | Self::Staging(_) => LaneThread::Stager,
            Self::Publishing(_) | Self::Recording => LaneThread::Committer,
        }
    }
}

/// Does something, and tells how long it took.
pub(super) fn measured<T>(observer: &dyn Observer, lane: &LaneId, work: Work, does: impl FnOnce() -> T) -> T {
    let started = Instant::now();
    let done = does();
    observer.busy(lane, work, started.elapsed());
    done
}

/// Time spent by landing, told when a chunk or a batch is through.
#[derive(Debug, Default)]
pub(super) struct Spent(BTreeMap<String, Duration>);

impl Spent {
    pub(super) fn add(&mut self, landing: &str, time: Duration) {
        match self.0.get_mut(landing) {
            Some(known) => *known += time,
            None => _ = self.0.insert(landing.to_string(), time),
        }
    }

    pub(super) fn tell(&mut self, observer: &dyn Observer, lane: &LaneId) {
        for (landing, time) in std::mem::take(&mut self.0) {
            observer.busy(lane, Work::Staging(landing), time);
        }
    }
}

/// What limits a lane: the work of the thread that is busy for the largest share of the time, where that is more than half of it.
/// Each work comes with the share of the time that it took, from 0 to 1.
pub fn limiting(shares: &[(Work, f64)]) -> Option<(&Work, f64)> {
    let mut threads: BTreeMap<LaneThread, f64> = BTreeMap::new();
    for (work, share) in shares {
        *threads.entry(work.thread()).or_default() += share;
    }
    let (thread, _) = threads.into_iter().filter(|(_, sum)| *sum > 0.5).max_by(|a, b| a.1.total_cmp(&b.1))?;
    let own = shares.iter().filter(|(work, _)| work.thread() == thread);
    own.max_by(|a, b| a.1.total_cmp(&b.1)).map(|(work, share)| (work, *share))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn staging(name: &str) -> Work {
        Work::Staging(name.into())
    }

    #[rstest]
    #[case(vec![(Work::Reading, 0.97), (Work::Decoding, 0.2)], Some(Work::Reading))]
    #[case(vec![(Work::Reading, 0.3), (Work::Decoding, 0.9), (Work::Recording, 0.1)], Some(Work::Decoding))]
    // One thread does several things: together they limit it, and the largest is named.
    #[case(vec![(Work::Decoding, 0.6), (staging("a"), 0.4), (staging("b"), 0.5)], Some(staging("b")))]
    #[case(vec![(Work::Publishing("a".into()), 0.3), (Work::Recording, 0.6), (Work::Decoding, 0.7)], Some(Work::Recording))]
    #[case(vec![(Work::Reading, 0.1), (Work::Decoding, 0.2)], None)]
    #[case(vec![], None)]
    fn the_thread_without_time_left_limits(#[case] shares: Vec<(Work, f64)>, #[case] expected: Option<Work>) {
        assert_eq!(limiting(&shares).map(|(work, _)| work.clone()), expected);
    }
}
