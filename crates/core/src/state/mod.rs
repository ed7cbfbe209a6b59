//! Stations that remember: what they keep from event to event, and from batch to batch.
//!
//! A [`Station`] takes the rows of an event in the order of its lane. What it keeps changes in memory while a batch is staged;
//! the changes go into the ledger with the seal of the batch, in the same transaction, and come back from there when a run
//! takes the lane over. So what is kept is always that of the last sealed batch, whatever happened.

mod aggregate;
mod cell;
mod cost;
mod ends;
mod join;
mod once;
mod partial;
mod reference;
mod scratch;
mod shares;
#[cfg(test)]
mod testing;
mod watermark;
mod window;

use std::sync::Arc;

use arrow_array::RecordBatch;

use crate::batch::{LaneId, StationCount};
use crate::change::Marks;
use crate::failure::{Failure, Outcome};
use crate::ledger::Ledger;
use crate::plan::transform::RowFault;

pub(crate) use aggregate::LONGEST_LIST;
pub use aggregate::{AGGREGATES, Aggregate, AggregateCall, AggregateKind};
pub use cost::StateCost;
pub use ends::Passed;
pub use join::{JoinPlan, JoinSide, LEFT, Nearness, RIGHT};
pub use once::OncePlan;
pub use reference::ReferencePlan;
pub use scratch::ScratchState;
pub use watermark::{NEVER, TimeReached, Unread, WATERMARKS_STATION, Watermarks};
pub use window::{FixedShape, SessionShape, WindowOf, WindowPlan, WindowShape};
pub(crate) use window::{virtual_columns, windows_of};

/// One change of what a station keeps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateChange {
    /// The key.
    pub key: Box<[u8]>,
    /// What is kept under it; None where nothing is kept any more.
    pub value: Option<Vec<u8>>,
    /// When the key expires, in microseconds since 1970 of the station's time; None for never.
    pub due: Option<i64>,
}

/// Keys that follow each other in the order of their bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KeyRange {
    /// The first one.
    pub from: Box<[u8]>,
    /// The first one after them; None where all that follow belong to them.
    pub to: Option<Box<[u8]>>,
}

impl KeyRange {
    /// All keys that begin with some bytes.
    pub fn beginning_with(prefix: &[u8]) -> Self {
        let mut to = prefix.to_vec();
        while to.pop_if(|last| *last == u8::MAX).is_some() {}
        if let Some(last) = to.last_mut() {
            *last += 1;
        }
        Self { from: prefix.into(), to: (!to.is_empty()).then(|| to.into()) }
    }

    /// Whether a key is one of them.
    pub fn has(&self, key: &[u8]) -> bool {
        *self.from <= *key && self.to.as_ref().is_none_or(|to| *key < **to)
    }
}

/// What has changed of what a station keeps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changed {
    /// Keys that are not kept any more; what is changed under some of them comes after that.
    pub gone: Vec<KeyRange>,
    /// Keys of an order by ends that are not kept any more, each with the key that it names ([`Changed::named_by`]), unless that
    /// goes on ([`Changed::passed`]). So many may end in one batch that there is no room to list them.
    pub ended: Option<KeyRange>,
    /// The changes, each key once.
    pub changes: Vec<StateChange>,
    /// Keys that expired by this time may be removed, at the latest together with all keys of their batch.
    pub due: Option<i64>,
}

/// What one station changed in a batch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StationChanges {
    /// The station.
    pub station: String,
    /// What it is: another one under the same name does not understand what is kept.
    pub manner: String,
    /// What has changed.
    pub changed: Changed,
}

/// What a station keeps, in figures.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct StateSize {
    /// The lane.
    pub lane: LaneId,
    /// The station.
    pub station: String,
    /// Keys.
    pub keys: u64,
    /// Bytes of keys and values.
    pub bytes: u64,
}

/// How a station was when it kept something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptStation {
    /// What it was.
    pub manner: String,
    /// The last batch that went through it.
    pub batch: u64,
    /// The last batch of its lane.
    pub last: u64,
}

/// Receives what a station keeps: keys with their values.
pub type FoundState<'a> = dyn FnMut(&[u8], &[u8]) -> Outcome<()> + 'a;

/// Keys with their values, in the order of the keys.
pub type KeptPart = Vec<(Vec<u8>, Vec<u8>)>;

/// After so many more batches of the lane, a batch has certainly been sealed: the stager is never further ahead.
pub(crate) const SEALED_AFTER: u64 = 3;

/// Reads what a station kept in earlier batches.
pub trait StateStore: Send {
    /// How the station was when it kept something; None where it has kept nothing.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn kept(&self, station: &str) -> Outcome<Option<KeptStation>>;

    /// What is kept under each of the keys.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn values(&self, station: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>>;

    /// Everything that is kept.
    ///
    /// # Errors
    /// Where the ledger cannot be read, or `found` fails.
    fn each(&self, station: &str, found: &mut FoundState<'_>) -> Outcome<()>;

    /// The first of the keys of each range that are kept, at most so many of each.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn parts(&self, station: &str, ranges: &[KeyRange], most: usize) -> Outcome<Vec<KeptPart>>;

    /// The first of the keys of a range that are kept, at most so many.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    fn part(&self, station: &str, range: &KeyRange, most: usize) -> Outcome<KeptPart> {
        Ok(self.parts(station, std::slice::from_ref(range), most)?.pop().unwrap_or_default())
    }

    /// Whether what a station changes can be looked up here once it is sealed, so that it may leave memory.
    fn keeps(&self, station: &str) -> bool;
}

/// What a lane has kept in its ledger.
pub struct LaneState<'a> {
    /// The ledger.
    pub ledger: &'a dyn Ledger,
    /// The pipeline.
    pub pipeline: &'a str,
    /// The lane.
    pub lane: LaneId,
}

impl StateStore for LaneState<'_> {
    fn kept(&self, station: &str) -> Outcome<Option<KeptStation>> {
        let last = self.ledger.last_sealed(self.pipeline, &self.lane)?;
        let kept = self.ledger.station_state(self.pipeline, &self.lane, station)?;
        Ok(kept.map(|(manner, batch)| KeptStation { manner, batch, last }))
    }

    fn values(&self, station: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        self.ledger.state_values(self.pipeline, &self.lane, station, keys)
    }

    fn each(&self, station: &str, found: &mut FoundState<'_>) -> Outcome<()> {
        self.ledger.each_state(self.pipeline, &self.lane, station, found)
    }

    fn parts(&self, station: &str, ranges: &[KeyRange], most: usize) -> Outcome<Vec<KeptPart>> {
        self.ledger.state_parts(self.pipeline, &self.lane, station, ranges, most)
    }

    fn keeps(&self, _: &str) -> bool {
        true
    }
}

/// Nothing was kept: the state of a rehearsal.
pub struct NoState;

impl StateStore for NoState {
    fn kept(&self, _: &str) -> Outcome<Option<KeptStation>> {
        Ok(None)
    }

    fn values(&self, _: &str, keys: &[&[u8]]) -> Outcome<Vec<Option<Vec<u8>>>> {
        Ok(vec![None; keys.len()])
    }

    fn each(&self, _: &str, _: &mut FoundState<'_>) -> Outcome<()> {
        Ok(())
    }

    fn parts(&self, _: &str, ranges: &[KeyRange], _: usize) -> Outcome<Vec<KeptPart>> {
        Ok(vec![KeptPart::new(); ranges.len()])
    }

    fn keeps(&self, _: &str) -> bool {
        false
    }
}

/// Rows on their way into a station that remembers, in the order of the lane.
#[derive(Clone, Copy)]
pub struct StateInput<'a> {
    /// The rows, as the station's transform prepared them.
    pub rows: &'a RecordBatch,
    /// For each row the watermark before it, lateness not taken off; [`NEVER`] where time is not known.
    pub watermarks: &'a [i64],
    /// The moment at which the batch was opened, in microseconds since 1970.
    pub now: i64,
    /// Of a join, the side that they come from; else 0.
    pub side: usize,
    /// Of rows of a list, the number of its reading; else 0.
    pub reading: u64,
    /// What goes along with the rows, where they are changes.
    pub marks: Option<&'a Marks>,
}

/// The end of a batch.
#[derive(Clone, Copy, Debug)]
pub struct BatchEnd {
    /// The watermark of what the station takes, lateness not taken off.
    pub watermark: i64,
    /// The moment at which the batch was opened, in microseconds since 1970.
    pub now: i64,
    /// How many batches before this one may not be sealed yet.
    pub unsealed: u64,
}

/// What a station gives on.
#[derive(Default)]
pub struct Given {
    /// Rows of the event that it makes.
    pub rows: Option<RecordBatch>,
    /// For each of them the row that came in; None where they were made here.
    pub origin: Option<Vec<u32>>,
    /// Rows that came in and cannot be taken.
    pub faults: Vec<RowFault>,
    /// Groups that cannot be given on: what is wrong, and what they are, as JSON.
    pub lost: Vec<(RowFault, String)>,
    /// What it did with the rows.
    pub count: StationCount,
    /// Whether more is given at the end of this batch.
    pub has_more: bool,
}

/// A station that remembers.
pub trait Station: Send {
    /// Takes rows.
    ///
    /// # Errors
    /// Where what was kept cannot be read.
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given>;

    /// Gives on what a batch leaves, at its end: a part of it where it says that there is more. `watermark` is that of the
    /// events so far, lateness not taken off; with `all` nothing more is expected.
    ///
    /// # Errors
    /// Where what was kept cannot be read.
    fn end(&mut self, watermark: i64, all: bool, store: &dyn StateStore) -> Outcome<Given>;

    /// A list whose rows it looks up has been read whole: those that this reading did not have are gone.
    ///
    /// # Errors
    /// Never for a resolved plan.
    fn read_whole(&mut self, reading: u64) -> Outcome<Given> {
        let _ = reading;
        Ok(Given::default())
    }

    /// Whether [`Station::end`] would give something on.
    fn would_give(&self, watermark: i64, all: bool) -> bool;

    /// The changes since the last call. What is in the ledger by now may leave memory where the store keeps it.
    ///
    /// # Errors
    /// Never for a resolved plan.
    fn changes(&mut self, end: BatchEnd, store: &dyn StateStore) -> Outcome<Changed>;

    /// Where it makes events with a time of their own: the watermark of those that it has made so far.
    fn passed(&self) -> i64 {
        NEVER
    }

    /// What is open now, in figures.
    fn standing(&self) -> Standing;
}

/// What a station holds in memory.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Standing {
    /// Windows that are open.
    pub windows: u64,
    /// Groups in them.
    pub groups: u64,
    /// Events in them, each counted once.
    pub events: u64,
    /// Of a reference, events that wait for their row.
    pub waiting: u64,
    /// Windows that end here or before are closed, in microseconds since 1970.
    pub closed: Option<i64>,
}

/// What a station that remembers does.
#[derive(Clone, Debug)]
pub enum StatePlan {
    /// It drops what comes twice.
    Once(Arc<OncePlan>),
    /// It gathers events into windows.
    Window(Arc<WindowPlan>),
    /// It joins two events.
    Join(Arc<JoinPlan>),
    /// It looks rows of another event up.
    Reference(Arc<ReferencePlan>),
}

impl StatePlan {
    /// What the station is, for the comparison with what is kept.
    pub fn manner(&self) -> String {
        match self {
            Self::Once(plan) => plan.manner(),
            Self::Window(plan) => plan.manner(),
            Self::Join(plan) => plan.manner(),
            Self::Reference(plan) => plan.manner(),
        }
    }

    /// How long a silent partition holds the watermark, in microseconds.
    pub fn idle(&self) -> i64 {
        match self {
            Self::Once(plan) => plan.idle,
            Self::Window(plan) => plan.idle,
            Self::Join(plan) => plan.idle,
            Self::Reference(plan) => plan.idle,
        }
    }

    /// How far ahead of the moment at which its batch was opened an event's time may be, in microseconds.
    pub fn ahead(&self) -> i64 {
        match self {
            Self::Once(plan) => plan.ahead,
            Self::Window(plan) => plan.ahead,
            Self::Join(plan) => plan.ahead,
            Self::Reference(plan) => plan.ahead,
        }
    }

    /// Whether it closes everything when all there is has been read.
    pub fn closes_when_caught_up(&self) -> bool {
        match self {
            Self::Once(_) | Self::Reference(_) => false,
            Self::Window(plan) => plan.closes_when_caught_up,
            Self::Join(plan) => plan.closes_when_caught_up,
        }
    }

    /// Whether the rows that it makes have another time than those that it takes.
    pub fn has_own_time(&self) -> bool {
        match self {
            Self::Once(_) => false,
            Self::Window(_) | Self::Join(_) => true,
            // An event that has waited comes later than others of its time.
            Self::Reference(plan) => plan.wait.is_some(),
        }
    }

    /// How long an event may be remembered, in microseconds of event time: a station that starts with an empty state needs
    /// as much of the source. None where there is no such limit.
    pub fn span(&self) -> Option<i64> {
        match self {
            Self::Once(plan) => Some(plan.within),
            Self::Window(plan) => Some(plan.shape.longest().saturating_add(plan.late)),
            Self::Join(plan) => Some(plan.near.span().saturating_add(plan.late)),
            Self::Reference(plan) => plan.wait,
        }
    }

    /// Why the station cannot go on with what was kept under its name.
    pub fn refusal(&self, name: &str, pipeline: &str, kept: &KeptStation) -> Option<Failure> {
        if kept.manner != self.manner() {
            return Some(another(name, pipeline, &kept.manner, &self.manner()));
        }
        (kept.batch != kept.last).then(|| passed_by(name, pipeline, kept))
    }

    /// Opens the station with what it has kept.
    ///
    /// # Errors
    /// Where what was kept is of another station under the same name, or damaged.
    pub fn open(&self, name: &str, pipeline: &str, store: &dyn StateStore) -> Outcome<Box<dyn Station>> {
        if let Some(refusal) = store.kept(name)?.and_then(|kept| self.refusal(name, pipeline, &kept)) {
            return Err(refusal);
        }
        Ok(match self {
            Self::Once(plan) => Box::new(once::Once::open(name, Arc::clone(plan))),
            Self::Window(plan) => Box::new(window::Windows::open(name, Arc::clone(plan), store)?),
            Self::Join(plan) => Box::new(join::Join::open(name, Arc::clone(plan), store)?),
            Self::Reference(plan) => reference::open(name, plan, store)?,
        })
    }
}

/// The file has changed what a station is, and what it keeps is of the old one.
fn another(name: &str, pipeline: &str, kept: &str, now: &str) -> Failure {
    Failure::findings(format!("what `{name}` remembers was gathered otherwise: {kept}; the file says now: {now}"))
        .with_help(format!(
            "give the event another name, which starts with an empty state, or undo the change in the file; \
             sluice ledger {pipeline} --state lists what is remembered"
        ))
}

/// Events have gone by without the station.
fn passed_by(name: &str, pipeline: &str, kept: &KeptStation) -> Failure {
    Failure::findings(format!(
        "`{name}` remembers events up to batch {}, and the pipeline has gone on to batch {} without it",
        kept.batch, kept.last
    ))
    .with_help(format!(
        "give the event another name, which starts with an empty state; sluice ledger {pipeline} --state lists what is remembered"
    ))
}

/// What is kept cannot be read.
fn damaged(name: &str) -> Failure {
    Failure::internal(format!("what `{name}` remembers in the ledger is damaged"))
        .with_help("restore the ledger from a backup, or give the event another name, which starts with an empty state")
}
