//! The workers of a lane: decode chunks and transform rows, each chunk on its own.

use std::sync::Arc;

use arrow_array::{Array as _, RecordBatch};
use crossbeam_channel::{Receiver, Sender};

use super::Shared;
use super::reader::Task;
use crate::batch::{BatchIdentity, StationCount};
use crate::change::{Absent, Changes, Marks};
use crate::context::with_context;
use crate::event::{Chunk, EventRows, LandingRows, RecordSpan, RowOrigin};
use crate::failure::{Failure, Outcome};
use crate::formats::{Decoder, MissingFields};
use crate::kinds::{BatchOrder, ChangeSupport, Fits};
use crate::plan::transform::{RowFault, Transform, Transformed};
use crate::plan::{ArrivalPlan, BatchFolders, Plan};
use crate::reject::{Reason, Reject};

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
    /// The events of the arrival, each with its decoder.
    events: Vec<(usize, Box<dyn Decoder>)>,
}

/// What is gathered while the rows of a chunk go through the plan.
struct ChunkResults<'c> {
    fits: &'c Fits,
    folders: &'c BatchFolders,
    chunk: &'c Arc<Chunk>,
    rows: EventRows,
    /// The spans of the rows, once a landing has asked.
    spans: Option<Arc<[RecordSpan]>>,
    now: i64,
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
        let one = |event: usize| {
            let contract = plan.events[event].contract.as_ref();
            let missing = || Failure::internal(format!("{} has no contract", arrival.label));
            Ok((event, arrival.format()?.decoder(contract.ok_or_else(missing)?)))
        };
        Ok(Self { plan, fits, folders, events: arrival.events().map(one).collect::<Outcome<_>>()? })
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
        match chunk.changes.clone() {
            None => self.records(&chunk, 0, None, now, &mut done),
            Some(changes) => {
                let mut records = vec![0_u64; self.events.len()];
                for change in &changes.each {
                    records[usize::try_from(change.table).unwrap_or(usize::MAX)] += 1;
                }
                for (table, count) in records.iter().enumerate().filter(|(_, count)| **count > 0) {
                    self.records(&chunk, table, Some(*count), now, &mut done);
                }
            }
        }
        drop(std::mem::replace(&mut done.chunk, Arc::new(Chunk::default())));
        if let Some(chunk) = Arc::get_mut(&mut chunk) {
            chunk.bytes = Vec::new();
        }
        done.chunk = chunk;
        done
    }

    /// Takes the records of one event, all of the chunk or the changes of a table, through the plan.
    fn records(&mut self, chunk: &Arc<Chunk>, table: usize, count: Option<u64>, now: i64, done: &mut Processed) {
        let (event, decoder) = &mut self.events[table];
        let (event, plan) = (*event, self.plan);
        let number = count.map(|_| u32::try_from(table).unwrap_or(u32::MAX));
        let mut decoded = decoder.decode_table(chunk, number);
        done.lacks = decoded.lacks.take();
        let name = &plan.events[event].name;
        let good = decoded.rows.spans.len() as u64;
        let rejected = decoded.rejects.len() as u64;
        let marks = chunk.changes.as_ref().map(|changes| marks(changes, &decoded.rows.spans, decoded.absent));
        let mut gathered = ChunkResults {
            fits: self.fits,
            folders: self.folders,
            chunk,
            rows: decoded.rows,
            spans: None,
            now,
            // What came in is what the reader counted: a record that the decoder lost shows here.
            counts: vec![StationCount {
                input: count.unwrap_or(chunk.records),
                output: good,
                filtered: chunk.left_out(),
                rejected,
                ..StationCount::new(name)
            }],
            landings: Vec::new(),
            rejects: decoded.rejects.into_iter().map(|r| (name.clone(), r)).collect(),
        };
        let batch = gathered.rows.batch.clone();
        let nulls = batch.columns().iter().map(|c| c.null_count() as u64).collect();
        let context = &plan.events[event].context;
        let batch = with_context(batch, chunk, &gathered.rows.spans, context, marks.as_ref());
        gathered.event(plan, event, &batch, marks.as_ref(), None);
        let ChunkResults { counts, landings, rejects, .. } = gathered;
        done.counts.extend(counts);
        done.nulls.push((event, nulls));
        done.rows.extend(landings);
        done.rejects.extend(rejects);
    }
}

/// What goes along with the rows of changes.
fn marks(changes: &Changes, spans: &[RecordSpan], absent: Absent) -> Marks {
    let mut each = changes.each.iter();
    let mut kind = |span: &RecordSpan| each.find(|c| c.span.start == span.start).map(|c| c.kind);
    Marks { kinds: spans.iter().filter_map(&mut kind).collect(), absent }
}

impl ChunkResults<'_> {
    /// Hands the rows of an event to its landings and to the events made of it. `origin` leads from its rows to those
    /// that were decoded.
    fn event(&mut self, plan: &Plan, index: usize, rows: &RecordBatch, marks: Option<&Marks>, origin: Option<&[u32]>) {
        let event = &plan.events[index];
        for place in &event.landings {
            let landing = &plan.landings[*place];
            let (mut result, mut marks) =
                apply(&landing.transform, rows, marks, self.now, landing.takes() == ChangeSupport::Mirror);
            let path = landing.path.as_ref();
            let mut groups = path.and_then(|path| path.refuse(&mut result, self.folders, *place, self.now));
            if let Some(fit) = self.fits.get(&landing.label) {
                let kept = result.take_out(fit.unfit(&result.batch), Reason::UNFIT);
                groups = groups.filter(|_| kept.is_none());
                marks = marks.map(|marks| kept.map_or_else(|| marks.clone(), |kept| marks.take(&kept)));
            }
            self.count(&landing.label, rows.num_rows(), result.batch.num_rows(), result.filtered, &result.faults);
            self.reject(&event.name, &landing.label, &result.faults, origin);
            let rows = result.batch.num_rows();
            let parts = match &landing.path {
                Some(_) if groups.is_some() => groups.map_or_else(Vec::new, |groups| groups.split(result.batch)),
                Some(path) => path.split(result.batch, &result.source),
                None if rows == 0 => Vec::new(),
                None => {
                    let wanted = landing.kind.wants_origin();
                    let origin = wanted.then(|| self.origin(compose(origin, result.origin.as_deref())));
                    vec![LandingRows { origin, marks, folder: "".into(), batch: result.batch }]
                }
            };
            self.landings.push((*place, parts));
        }
        for (made, transform) in &event.makes {
            let name = &plan.events[*made].name;
            let (result, marks) = apply(transform, rows, marks, self.now, true);
            self.count(name, rows.num_rows(), result.batch.num_rows(), result.filtered, &result.faults);
            self.reject(name, name, &result.faults, origin);
            let composed = compose(origin, result.origin.as_deref());
            self.event(plan, *made, &result.batch, marks.as_ref(), composed.as_deref());
        }
    }

    fn origin(&mut self, rows: Option<Vec<u32>>) -> RowOrigin {
        let spans = self.spans.get_or_insert_with(|| self.rows.spans.as_slice().into());
        RowOrigin { chunk: Arc::clone(self.chunk), spans: Arc::clone(spans), rows: rows.map(Into::into) }
    }

    fn count(&mut self, station: &str, input: usize, output: usize, filtered: u64, faults: &[RowFault]) {
        self.counts.push(StationCount {
            input: input as u64,
            output: output as u64,
            filtered,
            rejected: faults.len() as u64,
            ..StationCount::new(station)
        });
    }

    fn reject(&mut self, event: &str, station: &str, faults: &[RowFault], origin: Option<&[u32]>) {
        if faults.is_empty() {
            return;
        }
        let station: Arc<str> = station.into();
        for fault in faults {
            let row = origin.map_or(fault.row, |o| usize::try_from(o[fault.row]).unwrap_or(0));
            let span = self.rows.spans[row];
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

fn apply(
    transform: &Transform,
    rows: &RecordBatch,
    marks: Option<&Marks>,
    now: i64,
    keeps_left: bool,
) -> (Transformed, Option<Marks>) {
    match marks {
        None => (transform.apply(rows, now), None),
        Some(marks) => {
            let (result, marks) = transform.apply_changes(rows, marks, now, keeps_left);
            (result, Some(marks))
        }
    }
}

/// Rows of a made event, led back through the event that it is made of.
fn compose(outer: Option<&[u32]>, inner: Option<&[u32]>) -> Option<Vec<u32>> {
    match (outer, inner) {
        (None, None) => None,
        (Some(rows), None) | (None, Some(rows)) => Some(rows.to_vec()),
        (Some(outer), Some(inner)) => Some(inner.iter().map(|i| outer[usize::try_from(*i).unwrap_or(0)]).collect()),
    }
}
