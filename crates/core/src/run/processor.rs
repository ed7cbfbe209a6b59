//! The workers of a lane: take chunks through the flow, each on its own.

use std::sync::Arc;
use std::time::Instant;

use crossbeam_channel::{Receiver, Sender};

use super::Shared;
use super::busy::Work;
use super::reader::{Question, Task};
use crate::batch::{BatchIdentity, LaneId, StationCount};
use crate::event::{Chunk, LandingRows, RecordSpan, RowOrigin};
use crate::failure::Outcome;
use crate::flow::{Arrived, Arriving, FlowSink, LaneFlow, MemorySink, Passed, Remembered, Waiting, Walk, event_times};
use crate::formats::{MissingFields, UnknownField};
use crate::kinds::{BatchOrder, Fits};
use crate::plan::transform::RowFault;
use crate::plan::{ArrivalPlan, BatchFolders, Plan};
use crate::reject::Reject;
use crate::state::Unread;

/// What became of one chunk.
pub struct Processed {
    /// The chunk, without its bytes unless a landing wants them.
    pub chunk: Arc<Chunk>,
    /// The bytes that it had.
    pub bytes: u64,
    /// What each station did.
    pub counts: Vec<StationCount>,
    /// Which fields the events had, for each event that came.
    pub fields: Vec<ChunkFields>,
    /// Rows for each landing, by its place in the plan.
    pub rows: Vec<(usize, Vec<LandingRows>)>,
    /// Rejects, each with the name of its event.
    pub rejects: Vec<(String, Reject)>,
    /// What the header row of the chunk's partition lacks.
    pub lacks: Option<MissingFields>,
    /// Rows that wait for stations which remember.
    pub waiting: Vec<Waiting>,
    /// The event times of the good events, where such stations want to know.
    pub times: Vec<Option<i64>>,
    /// What is left to read after the chunk.
    pub unread: Unread,
}

/// Which fields the events of one name had in a chunk.
pub struct ChunkFields {
    /// The event, by its place in the plan.
    pub event: usize,
    /// Good events.
    pub events: u64,
    /// For each field of the contract: how many of them had no value.
    pub nulls: Vec<u64>,
    /// Fields that the contract does not name.
    pub unknown: Vec<UnknownField>,
}

/// A task that is done, or that only passes through.
pub(super) enum ProcessedTask {
    Open(BatchIdentity, BatchOrder, i64),
    Processed(Box<Processed>),
    Ask(Question),
    End { caught_up: bool },
}

/// Takes tasks until there are no more.
pub(super) fn work(
    shared: &Shared<'_>,
    (lane, workers): (&LaneId, usize),
    (arrivals, folders): (&[&ArrivalPlan], &BatchFolders),
    tasks: &Receiver<(u64, i64, Task)>,
    done: &Sender<(u64, ProcessedTask)>,
) {
    let mut processor = match Processor::new(shared.plan, arrivals, &shared.fits, folders) {
        Ok(processor) => processor,
        Err(failure) => return shared.fail(failure),
    };
    for (sequence, now, task) in tasks {
        if shared.stop.is_aborting() {
            return;
        }
        let result = match task {
            Task::Open(identity, order, opened_at) => ProcessedTask::Open(identity, order, opened_at),
            Task::Ask(question) => ProcessedTask::Ask(question),
            Task::End { caught_up } => ProcessedTask::End { caught_up },
            Task::Chunk(chunk, unread) => {
                let started = Instant::now();
                let processed = processor.process(chunk, now);
                let share = started.elapsed() / u32::try_from(workers).unwrap_or(u32::MAX).max(1);
                shared.observer.busy(lane, Work::Decoding, share);
                ProcessedTask::Processed(Box::new(Processed { unread, ..processed }))
            }
        };
        if done.send((sequence, result)).is_err() {
            return;
        }
    }
}

/// Decodes and transforms the chunks of one lane.
pub struct Processor<'a> {
    plan: &'a Plan,
    fits: &'a Fits,
    folders: &'a BatchFolders,
    flow: LaneFlow<'a>,
}

/// What is gathered while rows go through the plan.
pub(super) struct FlowResults<'c> {
    plan: &'c Plan,
    chunk: Arc<Chunk>,
    /// Where the decoded rows stand in the chunk.
    spans: Spans,
    pub(super) counts: Vec<StationCount>,
    pub(super) landings: Vec<(usize, Vec<LandingRows>)>,
    /// Rejects, each with the name of its event.
    pub(super) rejects: Vec<(String, Reject)>,
    waiting: Vec<Waiting>,
}

/// Where rows stand in their chunk: shared as soon as somebody keeps it.
enum Spans {
    Own(Vec<RecordSpan>),
    Shared(Arc<[RecordSpan]>),
}

impl Spans {
    fn at(&self, row: usize) -> RecordSpan {
        match self {
            Self::Own(spans) => spans[row],
            Self::Shared(spans) => spans[row],
        }
    }

    fn share(&mut self) -> Arc<[RecordSpan]> {
        let shared: Arc<[RecordSpan]> = match self {
            Self::Own(spans) => spans.as_slice().into(),
            Self::Shared(spans) => Arc::clone(spans),
        };
        *self = Self::Shared(Arc::clone(&shared));
        shared
    }
}

impl<'a> Processor<'a> {
    /// A processor for the events of the arrivals of a lane. `fits` are the landings that know beforehand what they cannot take,
    /// `folders` is shared by all processors of the same batches.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub fn new(plan: &'a Plan, arrivals: &[&ArrivalPlan], fits: &'a Fits, folders: &'a BatchFolders) -> Outcome<Self> {
        Ok(Self { plan, fits, folders, flow: LaneFlow::new(plan, arrivals)? })
    }

    /// Decodes and transforms one chunk. `now` is the moment at which its batch was opened.
    pub fn process(&mut self, chunk: Chunk, now: i64) -> Processed {
        let mut chunk = Arc::new(chunk);
        let mut done = Processed {
            bytes: chunk.too_long.unwrap_or(chunk.bytes.len() as u64),
            chunk: Arc::clone(&chunk),
            counts: Vec::new(),
            fields: Vec::new(),
            rows: Vec::new(),
            rejects: Vec::new(),
            lacks: None,
            waiting: Vec::new(),
            times: Vec::new(),
            unread: Unread::default(),
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
        let Arrived { event, count, rows, spans, marks, rejects, nulls, lacks, unknown } = arrived;
        let name = &self.plan.events[event].name;
        let events = spans.len() as u64;
        done.times = event_times(self.plan, event, &rows);
        let mut results = FlowResults {
            chunk: Arc::clone(chunk),
            spans: Spans::Own(spans),
            counts: vec![count],
            rejects: rejects.into_iter().map(|r| (name.clone(), r)).collect(),
            ..FlowResults::new(self.plan)
        };
        let walk = Walk { plan: self.plan, fits: self.fits, folders: self.folders, now };
        walk.event(event, Arriving { rows: &rows, marks: marks.as_ref(), origin: None }, &mut results);
        done.counts.extend(results.counts);
        done.fields.push(ChunkFields { event, events, nulls, unknown });
        done.rows.extend(results.landings);
        done.rejects.extend(results.rejects);
        done.lacks = lacks;
        done.waiting.extend(results.waiting);
    }
}

impl MemorySink for FlowResults<'_> {
    fn remembered(&mut self, out: &Remembered<'_>) {
        let event = &self.plan.events[out.event].name;
        self.chunk = Arc::clone(out.chunk);
        self.spans = Spans::Shared(Arc::clone(out.spans));
        self.counts.push(out.count.clone());
        for (fault, origin) in out.faults {
            let reject = rejected(&origin.chunk, origin.span(fault.row), event.as_str().into(), fault);
            self.rejects.push((event.clone(), reject));
        }
    }

    fn take_waiting(&mut self) -> Vec<Waiting> {
        std::mem::take(&mut self.waiting)
    }
}

impl FlowSink for FlowResults<'_> {
    fn made(&mut self, event: usize, passed: &Passed<'_>) {
        self.counts.push(passed.count());
        self.reject(&self.plan.events[event].name, passed);
    }

    fn waits(&mut self, event: usize, passed: Passed<'_>) {
        self.counts.push(passed.count());
        self.reject(&self.plan.events[event].name, &passed);
        if passed.result.batch.num_rows() > 0 {
            let origin = self.origin(passed.origin());
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
    }

    fn landed(&mut self, landing: usize, event: usize, passed: Passed<'_>) {
        let of = &self.plan.events[event];
        self.counts.push(StationCount { newest: passed.newest(of.time.or(of.clock)), ..passed.count() });
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

impl<'c> FlowResults<'c> {
    /// Nothing yet.
    pub(super) fn new(plan: &'c Plan) -> Self {
        Self {
            plan,
            chunk: Arc::new(Chunk::default()),
            spans: Spans::Own(Vec::new()),
            counts: Vec::new(),
            landings: Vec::new(),
            rejects: Vec::new(),
            waiting: Vec::new(),
        }
    }

    fn origin(&mut self, rows: Option<Vec<u32>>) -> RowOrigin {
        RowOrigin { chunk: Arc::clone(&self.chunk), spans: self.spans.share(), rows: rows.map(Into::into) }
    }

    /// Makes rejects of the rows that a station could not take.
    fn reject(&mut self, event: &str, passed: &Passed<'_>) {
        if passed.result.faults.is_empty() {
            return;
        }
        let station: Arc<str> = passed.station.name.into();
        for fault in &passed.result.faults {
            let span = self.spans.at(passed.input.decoded(fault.row));
            self.rejects.push((event.to_string(), rejected(&self.chunk, span, Arc::clone(&station), fault)));
        }
    }
}

/// The reject of a record that a station could not take.
fn rejected(chunk: &Chunk, span: RecordSpan, station: Arc<str>, fault: &RowFault) -> Reject {
    let bytes = span.of(&chunk.bytes);
    Reject {
        partition: Arc::clone(&chunk.partition),
        position: chunk.position_at(span.start),
        length: bytes.len() as u64,
        station,
        field: fault.column.clone(),
        reason: fault.reason,
        message: fault.message.clone(),
        bytes: bytes.to_vec(),
    }
}
