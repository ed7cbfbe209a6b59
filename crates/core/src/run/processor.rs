//! The workers of a lane: take chunks through the flow, each on its own.

use std::sync::Arc;

use crossbeam_channel::{Receiver, Sender};

use super::Shared;
use super::reader::Task;
use crate::batch::{BatchIdentity, StationCount};
use crate::event::{Chunk, LandingRows, RecordSpan, RowOrigin};
use crate::failure::Outcome;
use crate::flow::{ArrivalFlow, Arrived, Arriving, FlowSink, Passed, Walk};
use crate::formats::MissingFields;
use crate::kinds::{BatchOrder, Fits};
use crate::plan::{ArrivalPlan, BatchFolders, Plan};
use crate::reject::Reject;

/// What became of one chunk.
pub struct Processed {
    /// The chunk, without its bytes unless a landing wants them.
    pub chunk: Arc<Chunk>,
    /// The bytes that it had.
    pub bytes: u64,
    /// What each station did.
    pub counts: Vec<StationCount>,
    /// For each event that came, and each field of its contract: how many good events had no value.
    pub nulls: Vec<(usize, Vec<u64>)>,
    /// Rows for each landing, by its place in the plan.
    pub rows: Vec<(usize, Vec<LandingRows>)>,
    /// Rejects, each with the name of its event.
    pub rejects: Vec<(String, Reject)>,
    /// What the header row of the chunk's partition lacks.
    pub lacks: Option<MissingFields>,
}

/// A task that is done, or that only passes through.
pub(super) enum ProcessedTask {
    Open(BatchIdentity, BatchOrder, i64),
    Processed(Box<Processed>),
    End,
}

/// Takes tasks until there are no more.
pub(super) fn work(
    shared: &Shared<'_>,
    arrival: &ArrivalPlan,
    folders: &BatchFolders,
    tasks: &Receiver<(u64, i64, Task)>,
    done: &Sender<(u64, ProcessedTask)>,
) {
    let mut processor = match Processor::new(shared.plan, arrival, &shared.fits, folders) {
        Ok(processor) => processor,
        Err(failure) => return shared.fail(failure),
    };
    for (sequence, now, task) in tasks {
        if shared.stop.is_aborting() {
            return;
        }
        let result = match task {
            Task::Open(identity, order, opened_at) => ProcessedTask::Open(identity, order, opened_at),
            Task::End => ProcessedTask::End,
            Task::Chunk(chunk) => ProcessedTask::Processed(Box::new(processor.process(chunk, now))),
        };
        if done.send((sequence, result)).is_err() {
            return;
        }
    }
}

/// Decodes and transforms the chunks of one arrival.
pub struct Processor<'a> {
    plan: &'a Plan,
    fits: &'a Fits,
    folders: &'a BatchFolders,
    flow: ArrivalFlow<'a>,
}

/// What is gathered while the rows of one event go through the plan.
struct ChunkResults<'c> {
    plan: &'c Plan,
    chunk: &'c Arc<Chunk>,
    /// Where the decoded rows stand in the chunk.
    spans: Vec<RecordSpan>,
    /// The same, once a landing has asked.
    shared_spans: Option<Arc<[RecordSpan]>>,
    counts: Vec<StationCount>,
    landings: Vec<(usize, Vec<LandingRows>)>,
    rejects: Vec<(String, Reject)>,
}

impl<'a> Processor<'a> {
    /// A processor for the events of an arrival. `fits` are the landings that know beforehand what they cannot take,
    /// `folders` is shared by all processors of the same batches.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub fn new(plan: &'a Plan, arrival: &ArrivalPlan, fits: &'a Fits, folders: &'a BatchFolders) -> Outcome<Self> {
        Ok(Self { plan, fits, folders, flow: ArrivalFlow::new(plan, arrival)? })
    }

    /// Decodes and transforms one chunk. `now` is the moment at which its batch was opened.
    pub fn process(&mut self, chunk: Chunk, now: i64) -> Processed {
        let mut chunk = Arc::new(chunk);
        let mut done = Processed {
            bytes: chunk.too_long.unwrap_or(chunk.bytes.len() as u64),
            chunk: Arc::clone(&chunk),
            counts: Vec::new(),
            nulls: Vec::new(),
            rows: Vec::new(),
            rejects: Vec::new(),
            lacks: None,
        };
        for arrived in self.flow.decode(&chunk) {
            self.walk(&chunk, arrived, now, &mut done);
        }
        drop(std::mem::replace(&mut done.chunk, Arc::new(Chunk::default())));
        if let Some(chunk) = Arc::get_mut(&mut chunk) {
            chunk.bytes = Vec::new();
        }
        done.chunk = chunk;
        done
    }

    /// Takes what arrived of one event through the plan.
    fn walk(&self, chunk: &Arc<Chunk>, arrived: Arrived, now: i64, done: &mut Processed) {
        let Arrived { event, count, rows, spans, marks, rejects, nulls, lacks } = arrived;
        let name = &self.plan.events[event].name;
        let mut results = ChunkResults {
            plan: self.plan,
            chunk,
            spans,
            shared_spans: None,
            counts: vec![count],
            landings: Vec::new(),
            rejects: rejects.into_iter().map(|r| (name.clone(), r)).collect(),
        };
        let walk = Walk { plan: self.plan, fits: self.fits, folders: self.folders, now };
        walk.event(event, Arriving { rows: &rows, marks: marks.as_ref(), origin: None }, &mut results);
        done.counts.extend(results.counts);
        done.nulls.push((event, nulls));
        done.rows.extend(results.landings);
        done.rejects.extend(results.rejects);
        done.lacks = lacks;
    }
}

impl FlowSink for ChunkResults<'_> {
    fn made(&mut self, event: usize, passed: &Passed<'_>) {
        self.counts.push(passed.count());
        self.reject(&self.plan.events[event].name, passed);
    }

    fn landed(&mut self, landing: usize, event: usize, passed: Passed<'_>) {
        self.counts.push(passed.count());
        self.reject(&self.plan.events[event].name, &passed);
        let plan = &self.plan.landings[landing];
        let origin = (plan.path.is_none() && plan.kind.wants_origin()).then(|| self.origin(passed.origin()));
        let Passed { result, marks, groups, .. } = passed;
        let parts = match &plan.path {
            Some(_) if groups.is_some() => groups.map_or_else(Vec::new, |groups| groups.split(result.batch)),
            Some(path) => path.split(result.batch, &result.source),
            None if result.batch.num_rows() == 0 => Vec::new(),
            None => vec![LandingRows { origin, marks, folder: "".into(), batch: result.batch }],
        };
        self.landings.push((landing, parts));
    }
}

impl ChunkResults<'_> {
    fn origin(&mut self, rows: Option<Vec<u32>>) -> RowOrigin {
        let spans = self.shared_spans.get_or_insert_with(|| self.spans.as_slice().into());
        RowOrigin { chunk: Arc::clone(self.chunk), spans: Arc::clone(spans), rows: rows.map(Into::into) }
    }

    /// Makes rejects of the rows that a station could not take.
    fn reject(&mut self, event: &str, passed: &Passed<'_>) {
        if passed.result.faults.is_empty() {
            return;
        }
        let station: Arc<str> = passed.station.name.into();
        for fault in &passed.result.faults {
            let span = self.spans[passed.input.decoded(fault.row)];
            let bytes = span.of(&self.chunk.bytes);
            let reject = Reject {
                partition: Arc::clone(&self.chunk.partition),
                position: self.chunk.position_at(span.start),
                length: bytes.len() as u64,
                station: Arc::clone(&station),
                field: fault.column.clone(),
                reason: fault.reason,
                message: fault.message.clone(),
                bytes: bytes.to_vec(),
            };
            self.rejects.push((event.to_string(), reject));
        }
    }
}
