//! What a running feed reports about itself, once a second, in a file: the ledger notes only what has been sealed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use sluice_core::event::Position;
use sluice_core::kinds::{PartitionPosition, PartitionState, RetainedLog, TableLoad};
use sluice_core::private;

use super::state::State;

/// How often it is written.
const EVERY: Duration = Duration::from_secs(1);

/// After so long what it says is of no use any more, in microseconds.
const STALE: i64 = 5_000_000;

/// What is reported.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Live {
    /// When, in microseconds since 1970.
    pub written: i64,
    /// To where the log has been seen.
    pub seen: u64,
    /// To where what was handed on goes.
    #[serde(default)]
    pub handed: u64,
    /// Rows that were read of each table that is being loaded.
    #[serde(default)]
    pub rows: BTreeMap<String, u64>,
    /// And how many a second.
    #[serde(default)]
    pub rates: BTreeMap<String, f64>,
}

/// Writes it.
pub(crate) struct StatePublisher {
    path: PathBuf,
    last: Instant,
    rows: BTreeMap<String, u64>,
    live: Live,
}

fn path(work: &Path, label: &str) -> PathBuf {
    work.join("live").join(format!("{label}.json"))
}

impl StatePublisher {
    pub(crate) fn new(work: &Path, label: &str) -> Self {
        Self { path: path(work, label), last: Instant::now(), rows: BTreeMap::new(), live: Live::default() }
    }

    /// Publishes where the feed is, if it is time to. A failure to write it is ignored.
    pub(crate) fn publish(&mut self, seen: u64, state: &State) {
        let took = self.last.elapsed();
        if took < EVERY {
            return;
        }
        self.last = Instant::now();
        let (mut rates, mut rows) = (BTreeMap::new(), BTreeMap::new());
        for (name, load) in state.loading() {
            rows.insert(name.clone(), load.rows);
            let before = self.rows.insert(name.clone(), load.rows).unwrap_or(load.rows);
            let now = load.rows.saturating_sub(before) as f64 / took.as_secs_f64();
            let smooth = self.live.rates.get(name).map_or(now, |last| 0.7 * last + 0.3 * now);
            rates.insert(name.clone(), smooth);
        }
        self.live = Live { written: chrono::Utc::now().timestamp_micros(), seen, handed: state.read, rows, rates };
        let _ = self.path.parent().map(private::make_folders);
        let text = serde_json::to_string(&self.live).unwrap_or_default();
        let fresh = self.path.with_extension("new");
        if private::write(&fresh, text).is_ok() {
            let _ = std::fs::rename(&fresh, &self.path);
        }
    }
}

/// What a feed reported last; None where it does not run.
fn lately(work: &Path, label: &str) -> Option<Live> {
    let text = std::fs::read_to_string(path(work, label)).ok()?;
    let live: Live = serde_json::from_str(&text).ok()?;
    (chrono::Utc::now().timestamp_micros() - live.written < STALE).then_some(live)
}

/// Whether all that stands before a place of the log has landed.
pub(crate) fn has_landed(work: &Path, label: &str, known: &PartitionPosition, place: Position) -> bool {
    let Ok(state) = State::read(&known.identity) else { return false };
    // What has been seen counts once all that was handed on of it has landed.
    let seen = lately(work, label).filter(|live| state.read >= live.handed).map_or(0, |live| live.seen);
    state.read.max(seen) >= place.major
}

/// Where a feed stands by what it reported and by the ledger's state.
pub(crate) struct FeedProgress<'s> {
    pub work: &'s Path,
    pub label: &'s str,
    pub state: Option<&'s State>,
    /// To where the ledger has the log.
    pub at: u64,
    /// Where the log ends.
    pub end: u64,
    /// From where on the source keeps it.
    pub retained_from: u64,
    /// From which size on that is worth a warning.
    pub warning: u64,
}

impl FeedProgress<'_> {
    /// The state of the feed's partition.
    pub(crate) fn partition(&self) -> PartitionState {
        let live = lately(self.work, self.label);
        // What has been seen counts once all that was handed on of it has landed.
        let landed = live.as_ref().filter(|l| self.at >= l.handed);
        let seen = landed.map_or(self.at, |l| l.seen.max(self.at));
        let behind = self.end.saturating_sub(seen);
        let (read, rates) = live.map(|l| (l.rows, l.rates)).unwrap_or_default();
        let tables = self.state.iter().flat_map(|s| s.tables.iter());
        let load = |(name, table): (&String, &super::state::TableState)| {
            let load = table.load.as_ref()?;
            let rate = rates.get(name).copied().filter(|_| !load.done);
            let rows = read.get(name).copied().unwrap_or(0).max(load.rows);
            Some(TableLoad { table: name.clone(), rows, about: load.about, done: load.done, rate })
        };
        let time = self.state.and_then(|s| s.time);
        PartitionState {
            partition: super::PARTITION.into(),
            earliest: Position::at(self.retained_from),
            waiting: None,
            latest: Position::at(self.end),
            events: None,
            bytes: Some(behind),
            counts_bytes: false,
            oldest_unread: time.filter(|_| behind > 0),
            retention: None,
            arrived_last_hour: None,
            loads: tables.filter_map(load).collect(),
            retained: Some(RetainedLog { bytes: self.end.saturating_sub(self.retained_from), warning: self.warning }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::state::{Load, TableState};
    use super::*;

    #[test]
    fn what_a_running_feed_reports_counts_more_than_the_ledger() {
        let folder = tempfile::tempdir().unwrap();
        let load = Load { rows: 50, about: 200, ..Load::default() };
        let mut state = State { time: Some(7), ..State::default() };
        state.tables.insert("public.permit".into(), TableState { load: Some(load), ..TableState::default() });
        let stand = |state| FeedProgress {
            work: folder.path(),
            label: "office.feed",
            state: Some(state),
            at: 100,
            end: 1000,
            retained_from: 40,
            warning: 5,
        };
        let rest = stand(&state).partition();
        assert_eq!((rest.bytes, rest.oldest_unread, rest.loads[0].rate), (Some(900), Some(7), None));
        let mut publisher = StatePublisher::new(folder.path(), "office.feed");
        publisher.last -= EVERY;
        publisher.publish(1000, &state);
        let runs = stand(&state).partition();
        assert_eq!((runs.bytes, runs.oldest_unread, runs.loads[0].rate), (Some(0), None, Some(0.0)));
        assert_eq!(runs.retained.unwrap().bytes, 960);
        // Changes up to there have been handed on, and have not landed yet.
        publisher.last -= EVERY;
        publisher.publish(1000, &State { read: 600, ..state.clone() });
        let works = stand(&state).partition();
        assert_eq!((works.bytes, works.oldest_unread), (Some(900), Some(7)));
    }
}
