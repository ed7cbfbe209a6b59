//! Rehearsals: real events through a whole plan, nothing written, no position moved.
//!
//! [`rehearse`] does what a run does with the rows of a chunk and keeps for every event what became of it at every
//! station. [`trace`] shows one event's way, [`kept`] the file that holds a sample with its outcome, [`compare`] finds
//! what differs between two outcomes.

pub mod compare;
pub mod kept;
pub mod trace;

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use arrow_array::{Array as _, RecordBatch, UInt32Array};
use arrow_select::concat::concat_batches;
use arrow_select::take::take_record_batch;

use crate::batch::LaneId;
use crate::batch::StationCount;
use crate::event::{Chunk, Position, RecordSpan, RowOrigin};
use crate::failure::{Failure, Outcome};
use crate::flow::{
    ArrivalFlow, Arrived, Arriving, Ending, FlowSink, Memory, MemorySink, Passed, Remembered, Waiting, Walk,
    event_times, station_names,
};
use crate::kinds::Fits;
use crate::plan::transform::{RowFault, schema_of};
use crate::plan::{BatchFolders, Plan};
use crate::reject::Reason;
use crate::state::{NoState, Unread};

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
    let mut work = RehearsedWork { now, ..RehearsedWork::new(plan) };
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
            work.decoded = work.add_records(chunk, &arrived);
            work.spans = arrived.spans.as_slice().into();
            work.count(&arrived.count);
            let rows = Arriving { rows: &arrived.rows, marks: arrived.marks.as_ref(), origin: None };
            walk.event(arrived.event, rows, &mut work);
            let Some(memory) = memory else { continue };
            let times = event_times(plan, arrived.event, &arrived.rows);
            let later = chunks[place + 1..].iter().filter(|(a, _)| of_arrival(*a) == meeting);
            let left: BTreeSet<Arc<str>> = later.map(|(arrival, chunk)| name(*arrival, chunk)).collect();
            let unread = Unread { partitions: left.into_iter().collect(), at: now };
            let waiting = work.take_waiting();
            memory.take(&walk, &name(*arrival, chunk), &times, &unread, waiting, &mut work)?;
        }
    }
    for (meeting, memory) in &mut memories {
        let Some(memory) = memory else { continue };
        work.arrival = plan.arrivals.iter().position(|a| a.label == meetings[*meeting].first().label).unwrap_or(0);
        memory.end(&walk, Ending::Everything, &mut work)?;
    }
    work.finish(now)
}

/// The place of the first record that a station makes, while others still arrive: beyond every sample.
const MADE: usize = usize::MAX / 2;

struct RehearsedWork<'a> {
    plan: &'a Plan,
    now: i64,
    records: Vec<RehearsedRecord>,
    /// Records that stations made, whose places count from [`MADE`] until all records have arrived.
    made: Vec<RehearsedRecord>,
    /// The arrival whose chunks are taken, by its place in the plan.
    arrival: usize,
    /// The records of the rows that were decoded last, and where these stand in their chunk.
    decoded: Vec<usize>,
    spans: Arc<[RecordSpan]>,
    /// The records behind rows that wait, by where these stand: other rows may be made before it is their turn.
    records_at: HashMap<*const RecordSpan, Vec<usize>>,
    waiting: Vec<Waiting>,
    counts: HashMap<String, StationCount>,
    events: Vec<Vec<RehearsedPart>>,
    landings: Vec<Vec<RehearsedPart>>,
    stopped: Vec<Stopped>,
}

struct RehearsedPart {
    rows: RecordBatch,
    records: Vec<usize>,
    folders: Vec<Arc<str>>,
}

impl<'a> RehearsedWork<'a> {
    fn new(plan: &'a Plan) -> Self {
        Self {
            plan,
            now: 0,
            records: Vec::new(),
            made: Vec::new(),
            arrival: 0,
            decoded: Vec::new(),
            spans: Arc::from([]),
            records_at: HashMap::new(),
            waiting: Vec::new(),
            counts: HashMap::new(),
            events: plan.events.iter().map(|_| Vec::new()).collect(),
            landings: plan.landings.iter().map(|_| Vec::new()).collect(),
            stopped: Vec::new(),
        }
    }

    /// Notes the records of a chunk in the order in which they stand there; gives those of the good rows.
    fn add_records(&mut self, chunk: &Chunk, arrived: &Arrived) -> Vec<usize> {
        let mut found: Vec<(u64, Result<usize, usize>)> = arrived
            .spans
            .iter()
            .enumerate()
            .map(|(row, span)| (chunk.position_at(span.start).major, Ok(row)))
            .collect();
        found.extend(arrived.rejects.iter().enumerate().map(|(i, r)| (r.position.major, Err(i))));
        found.sort_by_key(|(at, _)| *at);
        let mut of_rows = vec![0; arrived.spans.len()];
        for (at, which) in found {
            let index = self.records.len();
            let bytes = match which {
                Ok(row) => {
                    of_rows[row] = index;
                    arrived.spans[row].of(&chunk.bytes).to_vec()
                }
                Err(i) => {
                    let reject = &arrived.rejects[i];
                    self.stopped.push(Stopped {
                        station: self.plan.events[arrived.event].name.clone(),
                        record: index,
                        fate: StopCause::Rejected {
                            reason: reject.reason,
                            field: reject.field.clone(),
                            message: reject.message.clone(),
                        },
                    });
                    reject.bytes.clone()
                }
            };
            let partition = Arc::clone(&chunk.partition);
            self.records.push(RehearsedRecord {
                arrival: self.arrival,
                event: arrived.event,
                partition,
                position: Position::at(at),
                bytes,
                head: chunk.head.clone(),
                reported: MessageOrigin::of(chunk, at),
                is_made: false,
            });
        }
        of_rows
    }

    fn count(&mut self, count: &StationCount) {
        let known =
            self.counts.entry(count.station.clone()).or_insert_with(|| StationCount::new(count.station.as_str()));
        known.add(count);
    }

    /// The records of rows on their way.
    fn records_of(&self, rows: Arriving<'_>) -> Vec<usize> {
        (0..rows.rows.num_rows()).map(|row| self.decoded[rows.decoded(row)]).collect()
    }

    /// Notes what a station did; gives the records of the rows that go on.
    fn passed(&mut self, passed: &Passed<'_>) -> Vec<usize> {
        let Passed { station, input, result, .. } = passed;
        let (rows, records) = (input.rows, self.records_of(*input));
        let all = || (0..u32::try_from(rows.num_rows()).unwrap_or(u32::MAX)).collect();
        let kept: Vec<u32> = result.origin.clone().unwrap_or_else(all);
        let mut gone = vec![true; rows.num_rows()];
        kept.iter().for_each(|row| gone[index(*row)] = false);
        result.faults.iter().for_each(|fault| gone[fault.row] = false);
        let filtered: Vec<u32> = all().into_iter().filter(|row: &u32| gone[index(*row)]).collect();
        self.count(&passed.count());
        if !filtered.is_empty() {
            let why = station.transform.why_filtered(rows, &filtered, self.now);
            for (row, (place, is_null)) in filtered.iter().zip(why) {
                let part = station.transform.when.as_ref().map_or_else(String::new, |w| w.parts[place].0.clone());
                let fate = StopCause::Filtered { part, is_null };
                self.stopped.push(Stopped { station: station.name.to_string(), record: records[index(*row)], fate });
            }
        }
        for fault in &result.faults {
            self.reject(station.name, records[fault.row], fault);
        }
        kept.iter().map(|row| records[index(*row)]).collect()
    }

    fn reject(&mut self, station: &str, record: usize, fault: &RowFault) {
        let fate =
            StopCause::Rejected { reason: fault.reason, field: fault.column.clone(), message: fault.message.clone() };
        self.stopped.push(Stopped { station: station.to_string(), record, fate });
    }

    /// Notes rows that a station made as records of their own.
    fn add_made(&mut self, event: usize, chunk: &Chunk, spans: &[RecordSpan]) {
        self.decoded = (MADE + self.made.len()..).take(spans.len()).collect();
        for span in spans {
            self.made.push(RehearsedRecord {
                arrival: self.arrival,
                event,
                partition: Arc::clone(&chunk.partition),
                position: chunk.position_at(span.start),
                bytes: span.of(&chunk.bytes).to_vec(),
                head: None,
                reported: None,
                is_made: true,
            });
        }
    }

    fn finish(mut self, now: i64) -> Outcome<Rehearsal> {
        let plan = self.plan;
        // What was made stands after all that arrived.
        let arrived = self.records.len();
        let place = |record: &mut usize| *record = record.checked_sub(MADE).map_or(*record, |made| arrived + made);
        self.records.append(&mut self.made);
        self.stopped.iter_mut().for_each(|stopped| place(&mut stopped.record));
        let parts = self.events.iter_mut().chain(&mut self.landings).flatten();
        parts.flat_map(|part| &mut part.records).for_each(place);
        let mut events = Vec::new();
        for (event, parts) in plan.events.iter().zip(std::mem::take(&mut self.events)) {
            events.push(join(&event.columns, parts)?);
        }
        let mut landings = Vec::new();
        for (landing, parts) in plan.landings.iter().zip(std::mem::take(&mut self.landings)) {
            landings.push(join(&landing.transform.columns, parts)?);
        }
        let mut counts = Vec::new();
        for station in station_names(plan) {
            let mut count = self.counts.remove(&station).unwrap_or_default();
            count.station = station;
            counts.push(count);
        }
        Ok(Rehearsal { records: self.records, counts, events, landings, stopped: self.stopped, now })
    }
}

impl FlowSink for RehearsedWork<'_> {
    fn arrived(&mut self, event: usize, rows: Arriving<'_>) {
        let records = self.records_of(rows);
        self.events[event].push(RehearsedPart { rows: rows.rows.clone(), records, folders: Vec::new() });
    }

    fn made(&mut self, _: usize, passed: &Passed<'_>) {
        self.passed(passed);
    }

    fn waits(&mut self, event: usize, passed: Passed<'_>) {
        self.passed(&passed);
        let rows = passed.origin().map(Into::into);
        let origin = RowOrigin { chunk: Arc::new(Chunk::default()), spans: Arc::clone(&self.spans), rows };
        self.records_at.insert(self.spans.as_ptr(), self.decoded.clone());
        let side = passed.station.side;
        self.waiting.push(Waiting { event, rows: passed.result.batch, origin, watermark: None, side });
    }

    fn landed(&mut self, landing: usize, _: usize, passed: Passed<'_>) {
        let records = self.passed(&passed);
        let path = self.plan.landings[landing].path.as_ref();
        let folders = path.map_or_else(Vec::new, |p| p.folders(&passed.result.batch, &passed.result.source));
        self.landings[landing].push(RehearsedPart { rows: passed.result.batch, records, folders });
    }
}

impl MemorySink for RehearsedWork<'_> {
    fn remembered(&mut self, out: &Remembered<'_>) {
        let station = self.plan.events[out.event].name.as_str();
        self.count(&out.count);
        let Some(waiting) = out.waiting else {
            self.add_made(out.event, out.chunk, out.spans);
            self.spans = Arc::clone(out.spans);
            for (fault, origin) in out.faults {
                self.reject(station, self.decoded[origin.decoded(fault.row)], fault);
            }
            return;
        };
        if let Some(records) = self.records_at.get(&waiting.origin.spans.as_ptr()) {
            self.decoded.clone_from(records);
        }
        self.spans = Arc::clone(&waiting.origin.spans);
        let mut gone: Vec<usize> = (0..waiting.rows.num_rows()).map(|row| waiting.origin.decoded(row)).collect();
        for (fault, origin) in out.faults {
            let decoded = origin.decoded(fault.row);
            gone.retain(|row| *row != decoded);
            self.reject(station, self.decoded[decoded], fault);
        }
        if out.count.repeated > 0 {
            let kept: BTreeSet<usize> =
                out.rows.iter().flat_map(|rows| (0..rows.rows.num_rows()).map(|row| rows.decoded(row))).collect();
            for row in gone.into_iter().filter(|row| !kept.contains(row)) {
                let record = self.decoded[row];
                self.stopped.push(Stopped { station: station.to_string(), record, fate: StopCause::Repeated });
            }
        }
    }

    fn take_waiting(&mut self) -> Vec<Waiting> {
        std::mem::take(&mut self.waiting)
    }
}

fn join(columns: &[crate::columns::OutputColumn], parts: Vec<RehearsedPart>) -> Outcome<View> {
    let schema = schema_of(columns);
    let batches: Vec<&RecordBatch> = parts.iter().map(|p| &p.rows).collect();
    let rows = match batches.is_empty() {
        true => RecordBatch::new_empty(schema),
        false => concat_batches(&schema, batches)
            .map_err(|e| Failure::internal(format!("the rows of a sample do not go together: {e}")))?,
    };
    let (mut records, mut folders) = (Vec::new(), Vec::new());
    for part in parts {
        records.extend(part.records);
        folders.extend(part.folders);
    }
    Ok(View { rows, records, folders })
}

fn index(row: u32) -> usize {
    usize::try_from(row).unwrap_or(0)
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
