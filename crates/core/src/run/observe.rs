//! What a run reports while it works.

use std::sync::Arc;
use std::time::Duration;

use super::busy::Work;
use crate::batch::{BatchIdentity, LaneId};
use crate::drift::Drift;

/// Rejects are counted by station, reason and field.
pub type RejectKey = (Arc<str>, &'static str, Option<String>);

/// One settled batch.
#[derive(Clone, Debug)]
pub struct BatchSummary {
    /// Its name.
    pub identity: BatchIdentity,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Rows landed in all landings.
    pub landed: u64,
    /// From opening to settling.
    pub took: Duration,
    /// What each landing got.
    pub landings: Vec<LandedSummary>,
    /// Rejected events by station and reason.
    pub reasons: Vec<(Arc<str>, &'static str, u64)>,
}

/// What one landing got of a batch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LandedSummary {
    /// The landing's name in the ledger.
    pub landing: String,
    /// Rows.
    pub rows: u64,
    /// The event time of the newest, in microseconds since 1970.
    pub newest: Option<i64>,
}

/// Something that happened.
#[derive(Clone, Debug)]
pub enum RunEvent {
    /// Something was made or changed in a store before the first row, in words.
    Notice(String),
    /// The fields of an event are not what they were, in words.
    Drift {
        /// The event.
        event: String,
        /// How.
        drift: Drift,
        /// What has changed.
        message: String,
    },
    /// So many batches of an earlier run were finished.
    Recovered(u64),
    /// Events were read and handed on.
    Read {
        /// The lane.
        lane: LaneId,
        /// Events.
        records: u64,
        /// Bytes.
        bytes: u64,
    },
    /// A batch is done.
    Settled(BatchSummary),
    /// A lane has read everything there is and waits for more.
    CaughtUp(LaneId),
    /// The source of a lane does not answer; the run waits for it. It is back when something is read again, or all has been.
    SourceAway {
        /// The lane.
        lane: LaneId,
        /// What the source said, in words.
        message: String,
    },
    /// The store of a landing does not answer; the run waits for it.
    StoreAway {
        /// The lane whose batch waits.
        lane: LaneId,
        /// The landing's name in the ledger.
        landing: String,
        /// What the store said, in words.
        message: String,
    },
    /// The batch of a lane has landed in all its stores.
    StoreBack(LaneId),
}

/// Sees what happens. Called from several threads; it must return soon.
pub trait Observer: Send + Sync {
    /// Notes one event.
    fn on(&self, event: RunEvent);

    /// Notes that a thread of a lane was busy for so long. Called about once a chunk.
    fn busy(&self, _lane: &LaneId, _work: Work, _time: Duration) {}
}

/// Ignores everything.
impl Observer for () {
    fn on(&self, _: RunEvent) {}
}
