//! How far event time has come: the smallest of what the partitions of an arrival have reached.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::StateChange;
use super::cell::take;

/// The station under which a lane's watermarks are kept: the newest event time by partition.
pub const WATERMARKS_STATION: &str = "@watermarks";

/// The time before any event.
pub const NEVER: i64 = i64::MIN;

/// What is known of one partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Reached {
    /// The newest event time, in microseconds since 1970.
    newest: i64,
    /// When its last event was read, in microseconds since 1970.
    read_at: i64,
}

/// The event times that the partitions of one arrival have reached.
///
/// A partition holds the watermark at its newest event while something of it is unread, and for a while after its last
/// event. One of which nothing was read yet, although something is there, holds it before everything.
#[derive(Debug, Default)]
pub struct Watermarks {
    partitions: HashMap<Arc<str>, Reached>,
    changed: BTreeSet<Arc<str>>,
}

/// How far event time has come, in microseconds since 1970.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TimeReached {
    /// The newest event time of all partitions.
    pub newest: Option<i64>,
    /// The partition that is furthest behind, with its newest event time.
    pub slowest: Option<(i64, Arc<str>)>,
}

impl TimeReached {
    /// How far the event time of two arrivals has come together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        let slowest = match (self.slowest, other.slowest) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (one, None) | (None, one) => one,
        };
        Self { newest: self.newest.max(other.newest), slowest }
    }
}

/// What is left to read, and when that was looked at.
#[derive(Clone, Debug, Default)]
pub struct Unread {
    /// Partitions in which something is left.
    pub partitions: Arc<[Arc<str>]>,
    /// The moment, in microseconds since 1970.
    pub at: i64,
}

impl Watermarks {
    /// What was kept of a partition by an earlier run.
    pub fn restore(&mut self, key: &[u8], value: &[u8]) -> Option<()> {
        let mut rest = value;
        let newest = i64::from_le_bytes(take(&mut rest)?);
        let read_at = i64::from_le_bytes(take(&mut rest)?);
        let name = std::str::from_utf8(key).ok()?;
        self.partitions.insert(name.into(), Reached { newest, read_at });
        Some(())
    }

    /// What holds the watermark, one partition left out of account; None where nothing does.
    pub fn held(&self, left_out: Option<&str>, unread: &Unread, idle: i64) -> Option<i64> {
        let mut waiting: Option<i64> = None;
        for partition in unread.partitions.iter().filter(|p| Some(&***p) != left_out) {
            // One of which nothing is known decides: of very many files nearly all are like this.
            let Some(reached) = self.partitions.get(partition).map(|r| r.newest) else { return Some(NEVER) };
            waiting = Some(waiting.map_or(reached, |least| least.min(reached)));
        }
        let is_heard = |r: &Reached| unread.at.saturating_sub(r.read_at) < idle;
        let heard = self.partitions.iter().filter(|(name, r)| Some(&***name) != left_out && is_heard(r));
        waiting.into_iter().chain(heard.map(|(_, r)| r.newest)).min()
    }

    /// The newest event time of all partitions.
    pub fn newest(&self) -> i64 {
        self.partitions.values().map(|r| r.newest).max().unwrap_or(NEVER)
    }

    /// For each event of a partition in order, the watermark before it, where the others hold it at `others` at most.
    /// `times` are the event times; None counts for nothing, and so does a time after `latest`.
    pub fn before(&self, partition: &str, times: &[Option<i64>], latest: i64, others: i64) -> Vec<i64> {
        let mut newest = self.partitions.get(partition).map_or(NEVER, |r| r.newest);
        let mut before = Vec::with_capacity(times.len());
        for time in times {
            before.push(others.min(newest));
            newest = time.filter(|t| *t <= latest).map_or(newest, |t| newest.max(t));
        }
        before
    }

    /// Notes the event times of a partition.
    pub fn advance(&mut self, partition: &Arc<str>, times: &[Option<i64>], latest: i64, read_at: i64) {
        let Some(newest) = times.iter().flatten().filter(|t| **t <= latest).max() else { return };
        let reached = self.partitions.entry(Arc::clone(partition)).or_insert(Reached { newest: *newest, read_at });
        *reached = Reached { newest: reached.newest.max(*newest), read_at: reached.read_at.max(read_at) };
        self.changed.insert(Arc::clone(partition));
    }

    /// What has changed since the last call. A partition that has nothing left to read, and that is behind another one,
    /// holds nothing any more once it is silent: it is forgotten.
    pub fn changes(&mut self, unread: &Unread, idle: i64) -> Vec<StateChange> {
        let top = self.newest();
        let is_over = |name: &Arc<str>, r: &Reached| {
            r.newest < top && unread.at.saturating_sub(r.read_at) >= idle && !unread.partitions.contains(name)
        };
        let over: Vec<Arc<str>> =
            self.partitions.iter().filter(|(name, r)| is_over(name, r)).map(|(name, _)| Arc::clone(name)).collect();
        for name in &over {
            self.partitions.remove(name);
            self.changed.insert(Arc::clone(name));
        }
        let one = |name: Arc<str>| {
            let value = self.partitions.get(&name).map(|r| {
                let mut value = r.newest.to_le_bytes().to_vec();
                value.extend(r.read_at.to_le_bytes());
                value
            });
            StateChange { key: name.as_bytes().into(), value, due: None }
        };
        std::mem::take(&mut self.changed).into_iter().map(one).collect()
    }

    /// How far event time has come.
    pub fn reached(&self) -> TimeReached {
        let all = || self.partitions.iter().map(|(name, r)| (r.newest, Arc::clone(name)));
        TimeReached { newest: all().map(|(time, _)| time).max(), slowest: all().min() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const IDLE: i64 = 60;

    fn unread(partitions: &[&str], at: i64) -> Unread {
        Unread { partitions: partitions.iter().map(|p| Arc::from(*p)).collect(), at }
    }

    fn watermarks(reached: &[(&str, i64, i64)]) -> Watermarks {
        let mut all = Watermarks::default();
        for (name, newest, read_at) in reached {
            all.advance(&Arc::from(*name), &[Some(*newest)], i64::MAX, *read_at);
        }
        all
    }

    #[rstest]
    #[case::nothing_was_read(&[], &[], NEVER)]
    #[case::the_smaller_of_two(&[("a", 10, 1000), ("b", 5, 1000)], &[], 5)]
    #[case::one_is_unread_and_unseen(&[("a", 10, 1000)], &["b"], NEVER)]
    #[case::one_is_silent(&[("a", 10, 1000), ("b", 5, 940)], &[], 10)]
    #[case::silent_but_unread(&[("a", 10, 1000), ("b", 5, 940)], &["b"], 5)]
    #[case::all_are_silent(&[("a", 10, 900), ("b", 5, 800)], &[], 10)]
    fn the_slowest_partition_holds(#[case] reached: &[(&str, i64, i64)], #[case] left: &[&str], #[case] expected: i64) {
        let all = watermarks(reached);
        assert_eq!(all.held(None, &unread(left, 1000), IDLE).unwrap_or(all.newest()), expected);
    }

    #[test]
    fn each_event_sees_those_before_it_and_none_from_a_wrong_clock() {
        let all = watermarks(&[("a", 10, 1000), ("b", 30, 1000)]);
        let times = [Some(12), Some(99), None, Some(40), Some(11)];
        let before = |partition: &str, times: &[Option<i64>]| {
            let others = all.held(Some(partition), &unread(&[partition], 1000), IDLE).unwrap_or(i64::MAX);
            all.before(partition, times, 50, others)
        };
        assert_eq!(before("a", &times), [10, 12, 12, 12, 30], "of its own partition, and never beyond the other");
        assert_eq!(before("c", &[Some(7), Some(8)]), [NEVER, 7]);
    }

    #[test]
    fn what_changed_comes_back_and_what_is_over_is_forgotten() {
        let mut all = watermarks(&[("a", 10, 1000), ("old", 5, 900)]);
        let changes = all.changes(&unread(&["a"], 1000), IDLE);
        assert_eq!(changes.iter().map(|c| c.value.is_some()).collect::<Vec<_>>(), [true, false]);
        let mut again = Watermarks::default();
        for change in changes.iter().filter(|c| c.value.is_some()) {
            again.restore(&change.key, change.value.as_ref().unwrap()).unwrap();
        }
        assert_eq!(again.partitions, all.partitions);
        assert!(all.changes(&unread(&["a"], 1000), IDLE).is_empty());
        assert_eq!(again.restore(b"a", b"short"), None);
    }

    #[test]
    fn the_slowest_partition_is_named() {
        let all = watermarks(&[("a", 10, 1000), ("b", 5, 1000), ("c", 7, 100)]);
        assert_eq!(all.reached(), TimeReached { newest: Some(10), slowest: Some((5, "b".into())) });
        assert_eq!(Watermarks::default().reached(), TimeReached::default());
    }
}
