//! From the records of a chunk to the rows of events.

use arrow_array::RecordBatch;

use crate::batch::{StationCount, arrival_in};
use crate::change::{Absent, Changes, Marks};
use crate::context::with_context;
use crate::event::{Chunk, RecordSpan};
use crate::failure::{Failure, Outcome};
use crate::formats::{Decoder, MissingFields, UnknownField};
use crate::plan::{ArrivalPlan, Plan};
use crate::reject::Reject;

/// Decodes the chunks of one arrival, under the contract of each of its events.
pub struct ArrivalFlow<'a> {
    plan: &'a Plan,
    /// The events of the arrival, in the order of their numbers in a change feed.
    events: Vec<(usize, Box<dyn Decoder>)>,
}

/// Decodes the chunks of a lane: of the arrivals that share it.
pub struct LaneFlow<'a> {
    /// By the arrivals' names in the ledger; the first is the one whose lane it is.
    arrivals: Vec<(String, ArrivalFlow<'a>)>,
}

impl<'a> LaneFlow<'a> {
    /// Decoders for the events of arrivals.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub fn new(plan: &'a Plan, arrivals: &[&ArrivalPlan]) -> Outcome<Self> {
        let one = |arrival: &&ArrivalPlan| Ok((arrival.label.clone(), ArrivalFlow::new(plan, arrival)?));
        Ok(Self { arrivals: arrivals.iter().map(one).collect::<Outcome<_>>()? })
    }

    /// Decodes a chunk; one of no arrival has nothing.
    pub fn decode(&mut self, chunk: &Chunk) -> Vec<Arrived> {
        let own = match arrival_in(&chunk.partition) {
            None => self.arrivals.first_mut(),
            Some(label) => self.arrivals.iter_mut().find(|(known, _)| known == label),
        };
        own.map_or_else(Vec::new, |(_, flow)| flow.decode(chunk))
    }
}

/// What arrived of one event in a chunk.
pub struct Arrived {
    /// The event, by its place in the plan.
    pub event: usize,
    /// What its contract did.
    pub count: StationCount,
    /// The good rows, with the columns of their origin.
    pub rows: RecordBatch,
    /// Where each of them stands in the chunk.
    pub spans: Vec<RecordSpan>,
    /// What goes along with them, where they are changes.
    pub marks: Option<Marks>,
    /// The bad records.
    pub rejects: Vec<Reject>,
    /// For each field of the contract, how many good rows have no value.
    pub nulls: Vec<u64>,
    /// What the header row of the chunk's partition lacks.
    pub lacks: Option<MissingFields>,
    /// Fields that the contract does not name.
    pub unknown: Vec<UnknownField>,
}

impl<'a> ArrivalFlow<'a> {
    /// Decoders for the events of an arrival.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub fn new(plan: &'a Plan, arrival: &ArrivalPlan) -> Outcome<Self> {
        let one = |event: usize| {
            let contract = plan.events[event].contract.as_ref();
            let missing = || Failure::internal(format!("{} has no contract", arrival.label));
            Ok((event, arrival.format()?.decoder(contract.ok_or_else(missing)?)))
        };
        Ok(Self { plan, events: arrival.events().map(one).collect::<Outcome<_>>()? })
    }

    /// Decodes a chunk: all of its records, or of a change feed the changes of each table.
    pub fn decode(&mut self, chunk: &Chunk) -> Vec<Arrived> {
        if chunk.list.is_some() && chunk.records == 0 && chunk.bytes.is_empty() {
            // The end of a reading.
            return Vec::new();
        }
        let Some(changes) = &chunk.changes else { return vec![self.records(chunk, 0, None)] };
        let mut records = vec![0_u64; self.events.len()];
        for change in &changes.each {
            records[usize::try_from(change.table).unwrap_or(usize::MAX)] += 1;
        }
        let filled = records.iter().enumerate().filter(|(_, count)| **count > 0);
        filled.map(|(table, count)| self.records(chunk, table, Some(*count))).collect()
    }

    /// The records of one event, all of the chunk or the changes of a table.
    fn records(&mut self, chunk: &Chunk, table: usize, count: Option<u64>) -> Arrived {
        let (event, decoder) = &mut self.events[table];
        let event_plan = &self.plan.events[*event];
        let number = count.map(|_| u32::try_from(table).unwrap_or(u32::MAX));
        let decoded = decoder.decode_table(chunk, number);
        let spans = decoded.rows.spans;
        let marks = chunk.changes.as_ref().map(|changes| marks(changes, &spans, decoded.absent));
        let batch = decoded.rows.batch;
        let nulls = batch.columns().iter().map(|c| c.null_count() as u64).collect();
        Arrived {
            event: *event,
            // What came in is what the reader counted: a record that the decoder lost shows here.
            count: StationCount {
                input: count.unwrap_or(chunk.records),
                output: spans.len() as u64,
                filtered: chunk.left_out(),
                rejected: decoded.rejects.len() as u64,
                ..StationCount::new(event_plan.name.as_str())
            },
            rows: with_context(batch, chunk, &spans, &event_plan.context, marks.as_ref()),
            spans,
            marks,
            rejects: decoded.rejects,
            nulls,
            lacks: decoded.lacks,
            unknown: decoded.unknown,
        }
    }
}

/// What goes along with the rows of changes.
fn marks(changes: &Changes, spans: &[RecordSpan], absent: Absent) -> Marks {
    let mut each = changes.each.iter();
    let mut kind = |span: &RecordSpan| each.find(|c| c.span.start == span.start).map(|c| c.kind);
    Marks { kinds: spans.iter().filter_map(&mut kind).collect(), absent }
}
