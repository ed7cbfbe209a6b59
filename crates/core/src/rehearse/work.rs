//! What a rehearsal notes while events go through the plan.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_select::concat::concat_batches;

use super::{MessageOrigin, Rehearsal, RehearsedRecord, StopCause, Stopped, View};
use crate::batch::StationCount;
use crate::event::{Chunk, Position, RecordSpan, RowOrigin};
use crate::failure::{Failure, Outcome};
use crate::flow::{Arrived, Arriving, FlowSink, MemorySink, Passed, Remembered, Waiting, station_names};
use crate::plan::Plan;
use crate::plan::transform::{RowFault, schema_of};

/// The place of the first record that a station makes, while others still arrive: beyond every sample.
const MADE: usize = usize::MAX / 2;

pub(super) struct RehearsedWork<'a> {
    plan: &'a Plan,
    now: i64,
    records: Vec<RehearsedRecord>,
    /// Records that stations made, whose places count from [`MADE`] until all records have arrived.
    made: Vec<RehearsedRecord>,
    /// The arrival whose chunks are taken, by its place in the plan.
    pub(super) arrival: usize,
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
    pub(super) fn new(plan: &'a Plan, now: i64) -> Self {
        Self {
            plan,
            now,
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

    /// Takes what was decoded of a chunk.
    pub(super) fn take(&mut self, chunk: &Chunk, arrived: &Arrived) {
        self.decoded = self.add_records(chunk, arrived);
        self.spans = arrived.spans.as_slice().into();
        self.count(&arrived.count);
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

    pub(super) fn finish(mut self, now: i64) -> Outcome<Rehearsal> {
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
        self.waiting.push(Waiting {
            event,
            rows: passed.result.batch,
            origin,
            watermark: None,
            side,
            marks: passed.marks,
        });
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
