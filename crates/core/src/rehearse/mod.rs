//! Rehearsals: real events through a whole plan, nothing written, no position moved.
//!
//! [`rehearse`] does what a run does with the rows of a chunk and keeps for every event what became of it at every
//! station. [`trace`] shows one event's way, [`kept`] the file that holds a sample with its outcome, [`compare`] finds
//! what differs between two outcomes.

mod company;
pub mod compare;
mod elements;
pub mod kept;
pub mod trace;
mod work;

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use arrow_array::{Array as _, RecordBatch, UInt32Array};
use arrow_select::take::take_record_batch;

use crate::batch::LaneId;
use crate::batch::StationCount;
use crate::event::{Chunk, Position};
use crate::failure::{Failure, Outcome};
use crate::flow::{ArrivalFlow, Arriving, Ending, Memory, MemorySink, Walk, event_times};
use crate::kinds::Fits;
use crate::plan::{BatchFolders, Plan};
use crate::reject::Reason;
use crate::state::{NoState, Unread};
use work::RehearsedWork;

/// One record of the sample.
#[derive(Clone, Debug)]
pub struct RehearsedRecord {
    /// The arrival, by its place in the plan.
    pub arrival: usize,
    /// The event, by its place in the plan.
    pub event: usize,
    /// The partition.
    pub partition: Arc<str>,
    /// Its position there.
    pub position: Position,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// The header row of its partition, where the format has one.
    pub head: Option<Arc<[u8]>>,
    /// What a broker reports about it, where it is a message.
    pub reported: Option<MessageOrigin>,
    /// Whether it did not arrive: a station made it of many. These stand after all that arrived.
    pub is_made: bool,
}

/// What a broker reports about one message.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MessageOrigin {
    /// The topic.
    pub topic: String,
    /// The broker's time, in microseconds since 1970.
    pub time: Option<i64>,
    /// The key.
    pub key: Option<Vec<u8>>,
    /// The headers, as a JSON object.
    pub headers: Option<Vec<u8>>,
}

impl MessageOrigin {
    fn of(chunk: &Chunk, offset: u64) -> Option<Self> {
        let messages = chunk.messages.as_ref()?;
        let at = messages.each.binary_search_by_key(&offset, |m| m.offset).ok()?;
        let message = &messages.each[at];
        let side = |span: Option<crate::event::RecordSpan>| span.map(|s| s.of(&messages.side).to_vec());
        let topic = messages.topic.to_string();
        Some(Self { topic, time: message.time, key: side(message.key), headers: side(message.headers) })
    }
}

/// Why an event did not go on from a station.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StopCause {
    /// It did not meet the condition.
    Filtered {
        /// The part of the condition that was not true.
        part: String,
        /// Whether that was null rather than false.
        is_null: bool,
    },
    /// It was rejected.
    Rejected {
        /// The reason.
        reason: Reason,
        /// The field or column.
        field: Option<String>,
        /// What was wrong.
        message: String,
    },
    /// It had come before.
    Repeated,
}

/// An event that did not go on.
#[derive(Clone, Debug)]
pub struct Stopped {
    /// The station: the name of an event, or the label of a landing.
    pub station: String,
    /// The record, by its place in the sample.
    pub record: usize,
    /// Why.
    pub fate: StopCause,
}

/// Rows with the records that they came from.
#[derive(Clone, Debug)]
pub struct View {
    /// The rows.
    pub rows: RecordBatch,
    /// For each row its record, by its place in the sample.
    pub records: Vec<usize>,
    /// For each row its folder; empty where there is no path.
    pub folders: Vec<Arc<str>>,
}

/// What became of a sample.
pub struct Rehearsal {
    /// The records, in the order of the sample.
    pub records: Vec<RehearsedRecord>,
    /// What each station did, in the order of the plan.
    pub counts: Vec<StationCount>,
    /// The rows of each event, by its place in the plan.
    pub events: Vec<View>,
    /// The rows of each landing, by its place in the plan.
    pub landings: Vec<View>,
    /// All events that stopped somewhere.
    pub stopped: Vec<Stopped>,
    /// The value of `now()`.
    pub now: i64,
}

/// Takes chunks through a plan; each comes with its arrival's place in the plan. `now` is the value of `now()`.
///
/// # Errors
/// Never for a resolved plan.
pub fn rehearse<'c>(plan: &Plan, chunks: impl IntoIterator<Item = (usize, &'c Chunk)>, now: i64) -> Outcome<Rehearsal> {
    rehearse_fitting(plan, chunks, now, &Fits::default())
}

/// As [`rehearse`], with what stores say of the rows that they take.
///
/// # Errors
/// Never for a resolved plan.
pub fn rehearse_fitting<'c>(
    plan: &Plan,
    chunks: impl IntoIterator<Item = (usize, &'c Chunk)>,
    now: i64,
    fits: &Fits,
) -> Outcome<Rehearsal> {
    let mut work = RehearsedWork::new(plan, now);
    let folders = BatchFolders::default();
    let walk = Walk { plan, fits, folders: &folders, now };
    let mut chunks: Vec<(usize, &Chunk)> = chunks.into_iter().collect();
    let meetings = plan.meetings();
    // Rows that are looked up come before the events that need them, as in a run.
    let references: Vec<bool> = plan
        .arrivals
        .iter()
        .map(|arrival| meetings.iter().any(|meeting| meeting.is_reference(plan, arrival)))
        .collect();
    chunks.sort_by_key(|(arrival, _)| !references[*arrival]);
    let of_arrival = |arrival: usize| {
        let label = &plan.arrivals[arrival].label;
        meetings.iter().position(|meeting| meeting.arrival(label).is_some()).unwrap_or(0)
    };
    let (mut flows, mut memories) = (BTreeMap::new(), BTreeMap::new());
    // Partitions have the names that they have in their lane.
    let name = |arrival: usize, chunk: &Chunk| {
        let lane = LaneId::new(&meetings[of_arrival(arrival)].first().label, 0);
        lane.partition_of(&plan.arrivals[arrival].label, &chunk.partition)
    };
    for (place, (arrival, chunk)) in chunks.iter().enumerate() {
        let meeting = of_arrival(*arrival);
        let flow = match flows.entry(*arrival) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(place) => place.insert(ArrivalFlow::new(plan, &plan.arrivals[*arrival])?),
        };
        let memory = match memories.entry(meeting) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(place) => place.insert(Memory::open(plan, &meetings[meeting].arrivals, Box::new(NoState))?),
        };
        work.arrival = *arrival;
        for arrived in flow.decode(chunk) {
            work.take(chunk, &arrived);
            let rows = Arriving { rows: &arrived.rows, marks: arrived.marks.as_ref(), origin: None };
            walk.event(arrived.event, rows, &mut work);
            let Some(memory) = memory else { continue };
            let times = event_times(plan, arrived.event, &arrived.rows);
            let later = chunks[place + 1..].iter().filter(|(a, _)| of_arrival(*a) == meeting);
            let left: BTreeSet<Arc<str>> = later.map(|(arrival, chunk)| name(*arrival, chunk)).collect();
            let unread = Unread { partitions: left.into_iter().collect(), at: now };
            let waiting = work.take_waiting();
            memory.take(&walk, (&name(*arrival, chunk), chunk.list), &times, &unread, waiting, &mut work)?;
        }
    }
    for (meeting, memory) in &mut memories {
        let Some(memory) = memory else { continue };
        work.arrival = plan.arrivals.iter().position(|a| a.label == meetings[*meeting].first().label).unwrap_or(0);
        memory.end(&walk, Ending::Everything, &mut work, |_| Ok(()))?;
    }
    work.finish(now)
}

impl Rehearsal {
    /// The records that arrived.
    pub fn arrived(&self) -> &[RehearsedRecord] {
        &self.records[..self.records.partition_point(|record| !record.is_made)]
    }
}

impl View {
    /// The row of a record, where it has one.
    pub fn row_of(&self, record: usize) -> Option<usize> {
        // Rows stand in the order of their records within an arrival, not over all of them.
        self.records.iter().position(|r| *r == record)
    }

    /// The row of each record of the sample.
    pub fn rows_by_record(&self, records: usize) -> Vec<Option<usize>> {
        let mut found = vec![None; records];
        for (row, record) in self.records.iter().enumerate() {
            found[*record] = Some(row);
        }
        found
    }

    /// Some rows, by their places.
    pub fn take(&self, rows: &[usize]) -> Outcome<RecordBatch> {
        let indices: UInt32Array = rows.iter().map(|r| u32::try_from(*r).ok()).collect();
        debug_assert_eq!(indices.null_count(), 0);
        take_record_batch(&self.rows, &indices).map_err(|e| Failure::internal(e.to_string()))
    }
}

/// How many events stopped at a station, by reason, the most frequent first.
pub fn reasons(rehearsal: &Rehearsal, station: &str) -> Vec<(StopCause, u64, usize)> {
    let mut found: Vec<(StopCause, u64, usize)> = Vec::new();
    let mut places: HashMap<(bool, String, Option<String>, bool), usize> = HashMap::new();
    for stopped in rehearsal.stopped.iter().filter(|s| s.station == station) {
        let key = match &stopped.fate {
            StopCause::Filtered { part, is_null } => (true, part.clone(), None, *is_null),
            StopCause::Rejected { reason, field, .. } => (false, reason.word().to_string(), field.clone(), false),
            StopCause::Repeated => (true, String::new(), None, false),
        };
        match places.get(&key) {
            Some(place) => found[*place].1 += 1,
            None => {
                places.insert(key, found.len());
                found.push((stopped.fate.clone(), 1, stopped.record));
            }
        }
    }
    found.sort_by_key(|(_, count, _)| std::cmp::Reverse(*count));
    found
}
