//! The interface of ledgers: the durable record of batches, positions and counts.

use std::sync::Arc;

use serde::Serialize;

use crate::batch::{BatchIdentity, BatchMarks, BatchName, LaneId, Ranges, Reread, Sealed, Staged, StationCount};
use crate::drift::FieldRecord;
use crate::event::Position;
use crate::failure::Outcome;
use crate::kinds::PartitionPosition;
use crate::plan::{LedgerName, SealedTexts};
use crate::state::{FoundState, KeptPart, KeyRange, StateSize};

/// The process that runs a pipeline.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct Holder {
    /// The process.
    pub pid: u32,
    /// The machine.
    pub host: String,
    /// Since when, as RFC 3339.
    pub since: String,
}

/// The lock of a pipeline. Dropping it frees the pipeline; so does the end of the process, however it ends.
pub trait PipelineLock: Send + Sync {}

/// A lane as this process took it over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TakenLane {
    /// The lane.
    pub lane: LaneId,
    /// Grows with every take-over; sealing checks it.
    pub epoch: u64,
    /// The number of the next batch.
    pub next: u64,
}

/// A batch's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum BatchState {
    /// Being read and staged.
    Open,
    /// Sealed, with at least one landing to publish.
    Sealed,
    /// Everything has landed.
    Landed,
    /// Done.
    Settled,
    /// Taken over from a landing's own record.
    Adopted,
}

impl BatchState {
    /// The word for people and for the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Sealed => "sealed",
            Self::Landed => "landed",
            Self::Settled => "settled",
            Self::Adopted => "adopted",
        }
    }
}

/// What a batch did in one landing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LandingRecord {
    /// The landing's name in the ledger.
    pub landing: String,
    /// Rows.
    pub rows: u64,
    /// Bytes.
    pub bytes: u64,
    /// When it landed, in microseconds since 1970.
    pub landed_at: Option<i64>,
    /// The event time of its newest row, in microseconds since 1970, where its event has a time.
    pub newest: Option<i64>,
    /// What the landing's kind staged.
    pub detail: serde_json::Value,
}

/// One batch as the ledger has it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct BatchRecord {
    /// The lane.
    pub lane: LaneId,
    /// The number.
    pub number: u64,
    /// Its place in the order in which the batches of the whole ledger were opened.
    pub opened: u64,
    /// The state.
    pub state: BatchState,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// When it was opened, in microseconds since 1970.
    pub opened_at: i64,
    /// When it was sealed.
    pub sealed_at: Option<i64>,
    /// When it was settled.
    pub settled_at: Option<i64>,
    /// SHA-256 of the texts that it was sealed with.
    pub texts: Option<String>,
    /// What was read.
    pub ranges: Ranges,
    /// What each station did.
    pub counts: Vec<StationCount>,
    /// What each landing got.
    pub landings: Vec<LandingRecord>,
    /// The batch that read the events first, where this one reads them again.
    pub first: Option<BatchName>,
    /// Where it reads events again: whether it reads all of its first batch.
    pub whole: bool,
    /// The last batch that replaced this one in all of its landings.
    pub replaced_by: Option<BatchName>,
    /// Where stations that remember stood at its end.
    pub marks: Option<BatchMarks>,
}

impl BatchRecord {
    /// Whether events of an arrival were read for it.
    pub fn reads(&self, arrival: &str) -> bool {
        let named = || self.ranges.0.iter().any(|range| self.lane.arrival_of(&range.partition).0 == arrival);
        named() || (self.ranges.0.is_empty() && self.lane.arrival() == arrival)
    }
}

/// One position that somebody set.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PositionChange {
    /// The arrival.
    pub arrival: String,
    /// The partition.
    pub partition: Arc<str>,
    /// Where it was; None where it had none.
    pub from: Option<Position>,
    /// Where it is then.
    pub to: Position,
    /// When, in microseconds since 1970.
    pub at: i64,
    /// Why.
    pub reason: String,
}

/// One reading of events that had been read before.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ReplayRecord {
    /// Its number in the pipeline, from 1.
    pub number: u64,
    /// What was asked for, in words.
    pub what: String,
    /// Why.
    pub reason: String,
    /// When it began, in microseconds since 1970.
    pub at: i64,
    /// When all of it had settled.
    pub ended_at: Option<i64>,
    /// Settled batches.
    pub batches: u64,
    /// Rows landed, rejects not counted.
    pub rows: u64,
}

/// A pipeline in figures.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct PipelineTotals {
    /// Settled batches.
    pub batches: u64,
    /// Sealed batches that are not settled.
    pub unfinished: u64,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// Rows landed, rejects not counted.
    pub landed: u64,
    /// When the last batch was settled, in microseconds since 1970.
    pub last_settled_at: Option<i64>,
}

/// What a landing holds beyond the ledger, of one lane, to be taken over.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AdoptedLane {
    /// The batches that are taken over, by number.
    pub batches: Vec<AdoptedBatch>,
    /// The number of the last batch.
    pub last: u64,
    /// Where reading goes on.
    pub positions: Vec<PartitionPosition>,
}

/// All that is taken over at once.
#[derive(Clone, Copy, Debug)]
pub struct Adoption<'a> {
    /// By lane.
    pub lanes: &'a [(LaneId, AdoptedLane)],
    /// Batches that are opened from then on stand after this place in the order of opening.
    pub order: u64,
    /// What landings lack is read under these texts.
    pub texts: &'a SealedTexts,
    /// The names under which arrivals and landings are known from then on.
    pub known: &'a [LedgerName],
}

/// One batch that is taken over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AdoptedBatch {
    /// Its number.
    pub number: u64,
    /// What was read for it.
    pub ranges: Ranges,
    /// The landings that have it.
    pub present: Vec<String>,
    /// The landings that do not have it yet, although it was sealed for them.
    pub lacks: Vec<String>,
    /// Where it reads events again.
    pub reread: Option<Reread>,
}

/// Why the last run of a pipeline ended before it was asked to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RunEnd {
    /// The exit code's word: `unreachable`, say.
    pub kind: String,
    /// What happened.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// When, in microseconds since 1970.
    pub at: i64,
}

/// Which batches to list.
#[derive(Clone, Copy, Debug, Default)]
pub struct BatchQuery {
    /// Only the newest so many.
    pub last: Option<u64>,
    /// Only those of this number.
    pub number: Option<u64>,
}

/// The durable record of batches, positions and counts.
///
/// Every call is one transaction and is durable on return. Calls may come from several threads.
pub trait Ledger: Send + Sync {
    /// The ledger's UUID.
    fn id(&self) -> &str;

    /// Locks a pipeline for this process.
    ///
    /// # Errors
    /// Where another process runs it, and which.
    fn lock(&self, pipeline: &str) -> Outcome<Box<dyn PipelineLock>>;

    /// Which process runs a pipeline now.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn holder(&self, pipeline: &str) -> Outcome<Option<Holder>>;

    /// Takes a lane over: its epoch grows, and batches that were never sealed are forgotten.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn take_lane(&self, pipeline: &str, lane: &LaneId) -> Outcome<TakenLane>;

    /// The number of the last sealed batch of a lane; 0 where there is none.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn last_sealed(&self, pipeline: &str, lane: &LaneId) -> Outcome<u64>;

    /// The lanes that a pipeline has had, those beside others left out.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn lanes(&self, pipeline: &str) -> Outcome<Vec<LaneId>>;

    /// Where each partition of an arrival has been read to: after its last sealed range.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn positions(&self, pipeline: &str, arrival: &str) -> Outcome<Vec<PartitionPosition>>;

    /// Whether an arrival has begun to be read: partitions that come later are new.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn has_begun(&self, pipeline: &str, arrival: &str) -> Outcome<bool>;

    /// Notes that an arrival has begun, and where partitions start that have no position yet.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn begin(&self, pipeline: &str, arrival: &str, starts: &[PartitionPosition]) -> Outcome<()>;

    /// Sets positions, with the reason.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn set_positions(
        &self,
        pipeline: &str,
        arrival: &str,
        positions: &[PartitionPosition],
        reason: &str,
    ) -> Outcome<()>;

    /// The positions that somebody set, oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn position_changes(&self, pipeline: &str) -> Outcome<Vec<PositionChange>>;

    /// Notes that events will be read again; gives its number.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn begin_replay(&self, pipeline: &str, what: &str, reason: &str) -> Outcome<u64>;

    /// Notes that all of a replay has settled.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn end_replay(&self, pipeline: &str, number: u64) -> Outcome<()>;

    /// The replays of a pipeline, oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn replays(&self, pipeline: &str) -> Outcome<Vec<ReplayRecord>>;

    /// Notes that a batch was opened; gives its place in the order in which the batches of the whole ledger were opened.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn open_batch(&self, batch: &BatchIdentity, opened_at: i64) -> Outcome<u64>;

    /// Seals a batch: identity, ranges, counts, texts, staged work and new positions, in one transaction that checks
    /// the lane's epoch and that the number is the lane's next.
    ///
    /// # Errors
    /// Where the lane was taken over, or the ledger cannot be written.
    fn seal(&self, batch: &Staged, epoch: u64) -> Outcome<()>;

    /// Notes that one landing of a sealed batch is published, and that its store refused so many of its rows: they
    /// count as rejected from then on. `unmerged` of its rows landed although they had been merged into a refused one.
    /// Noting it again changes nothing.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn landed(&self, batch: &BatchIdentity, landing: &str, refused: u64, unmerged: u64) -> Outcome<()>;

    /// Notes that a batch is done.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn settle(&self, batch: &BatchIdentity) -> Outcome<()>;

    /// Sealed batches that are not settled, in the order of their lanes and numbers, each with its texts.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn unfinished(&self, pipeline: &str) -> Outcome<Vec<(Sealed, SealedTexts)>>;

    /// Whether landings lack something of batches that were adopted.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn lacks_adopted(&self, pipeline: &str) -> Outcome<bool>;

    /// What a station that remembers was when it kept something of a lane, and the last batch that went through it; None
    /// where it has kept nothing. What is kept is sealed with its batch.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn station_state(&self, pipeline: &str, lane: &LaneId, station: &str) -> Outcome<Option<(String, u64)>>;

    /// What a station has kept under each of the keys.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn state_values(
        &self,
        pipeline: &str,
        lane: &LaneId,
        station: &str,
        keys: &[&[u8]],
    ) -> Outcome<Vec<Option<Vec<u8>>>>;

    /// Everything that a station has kept: keys with their values.
    ///
    /// # Errors
    /// Where the ledger cannot be read, or `found` fails.
    fn each_state(&self, pipeline: &str, lane: &LaneId, station: &str, found: &mut FoundState<'_>) -> Outcome<()>;

    /// The first of the keys of each range that a station has kept, at most so many of each, with their values.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn state_parts(
        &self,
        pipeline: &str,
        lane: &LaneId,
        station: &str,
        ranges: &[KeyRange],
        most: usize,
    ) -> Outcome<Vec<KeptPart>>;

    /// The stations of a pipeline that keep something, each with its lane.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn state_stations(&self, pipeline: &str) -> Outcome<Vec<(LaneId, String)>>;

    /// What the stations of a pipeline keep, in figures. It takes as long as reading all of it.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn state_sizes(&self, pipeline: &str) -> Outcome<Vec<StateSize>>;

    /// The fields that the events of a pipeline have had, and for each event a row without a name that counts its events.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn fields(&self, pipeline: &str) -> Outcome<Vec<FieldRecord>>;

    /// Takes over batches that landings hold and the ledger does not know: positions move behind them.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn adopt(&self, pipeline: &str, adoption: &Adoption<'_>) -> Outcome<()>;

    /// The texts of a digest.
    ///
    /// # Errors
    /// Where the ledger cannot be read, or does not have them.
    fn texts(&self, digest: &str) -> Outcome<SealedTexts>;

    /// The names under which the ledger knows the arrivals and landings of a pipeline.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn known(&self, pipeline: &str) -> Outcome<Vec<LedgerName>>;

    /// The same of all pipelines, each with its pipeline.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn all_known(&self) -> Outcome<Vec<(String, LedgerName)>>;

    /// Notes the names of arrivals and landings, with what they read and write now, and the reason for a choice that
    /// somebody made about an arrival.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn note_known(&self, pipeline: &str, known: &[LedgerName], reason: Option<&str>) -> Outcome<()>;

    /// Notes how a run ended; None where it runs, or ended as it was asked to.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    fn note_end(&self, pipeline: &str, end: Option<&RunEnd>) -> Outcome<()>;

    /// Why the last run ended before it was asked to.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn last_end(&self, pipeline: &str) -> Outcome<Option<RunEnd>>;

    /// Batches, oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn batches(&self, pipeline: &str, query: BatchQuery) -> Outcome<Vec<BatchRecord>>;

    /// The pipeline in figures.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn totals(&self, pipeline: &str) -> Outcome<PipelineTotals>;
}
