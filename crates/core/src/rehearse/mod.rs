//! Rehearsals: real events through a whole plan, nothing written, no position moved.
//!
//! [`rehearse`] does what a run does with the rows of a chunk and keeps for every event what became of it at every
//! station. [`trace`] shows one event's way, [`kept`] the file that holds a sample with its outcome, [`compare`] finds
//! what differs between two outcomes.

pub mod compare;
pub mod kept;
pub mod trace;

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{Array as _, RecordBatch, UInt32Array};
use arrow_select::concat::concat_batches;
use arrow_select::take::take_record_batch;

use crate::batch::StationCount;
use crate::context::with_context;
use crate::event::{Chunk, Position};
use crate::failure::{Failure, Outcome};
use crate::kinds::Fits;
use crate::plan::transform::{Transformed, schema_of};
use crate::plan::{BatchFolders, PathTemplate, Plan, Transform};
use crate::reject::Reason;

/// One record of the sample.
#[derive(Clone, Debug)]
pub struct RehearsedRecord {
    /// The arrival, by its place in the plan.
    pub arrival: usize,
    /// The partition.
    pub partition: Arc<str>,
    /// Its position there.
    pub position: Position,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// The head of its partition, where the format has one.
    pub head: Option<Arc<[u8]>>,
    /// What a broker reports about it, where it is a message.
    pub reported: Option<MessageOrigin>,
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
    let mut work = RehearsedWork { plan, now, ..RehearsedWork::new(plan, fits) };
    let mut decoders = HashMap::new();
    for (arrival, chunk) in chunks {
        let event = plan.arrivals[arrival].event;
        let decoder = match decoders.entry(arrival) {
            std::collections::hash_map::Entry::Occupied(known) => known.into_mut(),
            std::collections::hash_map::Entry::Vacant(place) => {
                let contract = plan.events[event].contract.as_ref();
                let contract = contract.ok_or_else(|| Failure::internal("an event that arrives has a contract"))?;
                place.insert(plan.arrivals[arrival].format()?.decoder(contract))
            }
        };
        let decoded = decoder.decode(chunk);
        let records = work.add_records(arrival, chunk, &decoded);
        let count = work.counts.entry(plan.events[event].name.clone()).or_default();
        count.input += chunk.records;
        count.output += decoded.rows.spans.len() as u64;
        count.filtered += chunk.left_out();
        count.rejected += decoded.rejects.len() as u64;
        let rows = with_context(decoded.rows.batch, chunk, &decoded.rows.spans, &plan.events[event].context, None);
        work.event(event, &rows, &records);
    }
    work.finish()
}

struct RehearsedWork<'a> {
    plan: &'a Plan,
    fits: &'a Fits,
    /// The folders that are filled, as if all were one batch.
    folders: BatchFolders,
    now: i64,
    records: Vec<RehearsedRecord>,
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
    fn new(plan: &'a Plan, fits: &'a Fits) -> Self {
        Self {
            plan,
            fits,
            folders: BatchFolders::default(),
            now: 0,
            records: Vec::new(),
            counts: HashMap::new(),
            events: plan.events.iter().map(|_| Vec::new()).collect(),
            landings: plan.landings.iter().map(|_| Vec::new()).collect(),
            stopped: Vec::new(),
        }
    }

    /// Notes the records of a chunk in the order in which they stand there; gives those of the good rows.
    fn add_records(&mut self, arrival: usize, chunk: &Chunk, decoded: &crate::formats::Decoded) -> Vec<usize> {
        let mut found: Vec<(u64, Result<usize, usize>)> = decoded
            .rows
            .spans
            .iter()
            .enumerate()
            .map(|(row, span)| (chunk.position_at(span.start).major, Ok(row)))
            .collect();
        found.extend(decoded.rejects.iter().enumerate().map(|(i, r)| (r.position.major, Err(i))));
        found.sort_by_key(|(at, _)| *at);
        let mut of_rows = vec![0; decoded.rows.spans.len()];
        for (at, which) in found {
            let index = self.records.len();
            let bytes = match which {
                Ok(row) => {
                    of_rows[row] = index;
                    decoded.rows.spans[row].of(&chunk.bytes).to_vec()
                }
                Err(i) => {
                    let reject = &decoded.rejects[i];
                    self.stopped.push(Stopped {
                        station: self.plan.events[self.plan.arrivals[arrival].event].name.clone(),
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
                arrival,
                partition,
                position: Position::at(at),
                bytes,
                head: chunk.head.clone(),
                reported: MessageOrigin::of(chunk, at),
            });
        }
        of_rows
    }

    fn event(&mut self, index: usize, rows: &RecordBatch, records: &[usize]) {
        let plan = self.plan;
        self.events[index].push(RehearsedPart { rows: rows.clone(), records: records.to_vec(), folders: Vec::new() });
        let event = &plan.events[index];
        for place in &event.landings {
            let landing = &plan.landings[*place];
            let path = landing.path.as_ref();
            let (result, kept) = self.station(&landing.label, &landing.transform, path, rows, records);
            let folders = landing.path.as_ref().map_or_else(Vec::new, |p| p.folders(&result.batch, &result.source));
            self.landings[*place].push(RehearsedPart { rows: result.batch, records: kept, folders });
        }
        for (made, transform) in &event.makes {
            let (result, kept) = self.station(&plan.events[*made].name, transform, None, rows, records);
            self.event(*made, &result.batch, &kept);
        }
    }

    /// Takes rows through one station; gives the records of those that go on.
    fn station(
        &mut self,
        station: &str,
        transform: &Transform,
        path: Option<&PathTemplate>,
        rows: &RecordBatch,
        records: &[usize],
    ) -> (Transformed, Vec<usize>) {
        let mut result = transform.apply(rows, self.now);
        if let Some(path) = path {
            let landing = self.plan.landings.iter().position(|l| l.label == station).unwrap_or(0);
            let _ = path.refuse(&mut result, &self.folders, landing, self.now);
        }
        if let Some(fit) = self.fits.get(station) {
            result.take_out(fit.unfit(&result.batch), Reason::UNFIT);
        }
        let kept: Vec<u32> = match &result.origin {
            Some(origin) => origin.clone(),
            None => (0..u32::try_from(result.batch.num_rows()).unwrap_or(u32::MAX)).collect(),
        };
        let mut gone = vec![true; rows.num_rows()];
        kept.iter().for_each(|row| gone[index(*row)] = false);
        result.faults.iter().for_each(|fault| gone[fault.row] = false);
        let filtered: Vec<u32> =
            (0..u32::try_from(rows.num_rows()).unwrap_or(u32::MAX)).filter(|row| gone[index(*row)]).collect();
        let count = self.counts.entry(station.to_string()).or_default();
        count.input += rows.num_rows() as u64;
        count.output += result.batch.num_rows() as u64;
        count.filtered += result.filtered;
        count.rejected += result.faults.len() as u64;
        if !filtered.is_empty() {
            let why = transform.why_filtered(rows, &filtered, self.now);
            for (row, (place, is_null)) in filtered.iter().zip(why) {
                let part = transform.when.as_ref().map_or_else(String::new, |w| w.parts[place].0.clone());
                let fate = StopCause::Filtered { part, is_null };
                self.stopped.push(Stopped { station: station.to_string(), record: records[index(*row)], fate });
            }
        }
        for fault in &result.faults {
            let fate = StopCause::Rejected {
                reason: fault.reason,
                field: fault.column.clone(),
                message: fault.message.clone(),
            };
            self.stopped.push(Stopped { station: station.to_string(), record: records[fault.row], fate });
        }
        let kept = kept.iter().map(|row| records[index(*row)]).collect();
        (result, kept)
    }

    fn finish(mut self) -> Outcome<Rehearsal> {
        let plan = self.plan;
        let mut events = Vec::new();
        for (event, parts) in plan.events.iter().zip(std::mem::take(&mut self.events)) {
            events.push(join(&event.columns, parts)?);
        }
        let mut landings = Vec::new();
        for (landing, parts) in plan.landings.iter().zip(std::mem::take(&mut self.landings)) {
            landings.push(join(&landing.transform.columns, parts)?);
        }
        let mut counts = Vec::new();
        for station in stations(plan) {
            let mut count = self.counts.remove(&station).unwrap_or_default();
            count.station = station;
            counts.push(count);
        }
        Ok(Rehearsal { records: self.records, counts, events, landings, stopped: self.stopped, now: self.now })
    }
}

/// All stations in the order of the plan: each event, then its landings.
fn stations(plan: &Plan) -> Vec<String> {
    let of = |event: &crate::plan::EventPlan| {
        let landings = event.landings.iter().map(|i| plan.landings[*i].label.clone());
        std::iter::once(event.name.clone()).chain(landings).collect::<Vec<_>>()
    };
    plan.events.iter().flat_map(of).collect()
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

/// How many events of a station stopped for what reason, the most frequent first.
pub fn reasons(rehearsal: &Rehearsal, station: &str) -> Vec<(StopCause, u64, usize)> {
    let mut found: Vec<(StopCause, u64, usize)> = Vec::new();
    let mut places: HashMap<(bool, String, Option<String>, bool), usize> = HashMap::new();
    for stopped in rehearsal.stopped.iter().filter(|s| s.station == station) {
        let key = match &stopped.fate {
            StopCause::Filtered { part, is_null } => (true, part.clone(), None, *is_null),
            StopCause::Rejected { reason, field, .. } => (false, reason.word().to_string(), field.clone(), false),
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
