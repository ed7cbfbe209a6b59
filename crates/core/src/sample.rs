//! Samples: some real events as they were read, with their positions. Taking one moves nothing.

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;

use crate::contract::Contract;
use crate::decode::{Decoder, Format};
use crate::event::{Chunk, Position};
use crate::failure::Outcome;
use crate::kinds::{LaneReader, Read, ReadLimit};
use crate::run::Stop;
use crate::values::time::DAY;

/// Bytes that are read at a time.
const PIECE: u64 = 1 << 20;

/// Events in the order in which they were read.
#[derive(Debug, Default)]
pub struct Sample {
    /// Their bytes.
    pub chunks: Vec<Chunk>,
    /// How many records they are.
    pub events: u64,
    /// How many were looked at, those outside the window included.
    pub looked_at: u64,
    /// Whether there may be more than was taken.
    pub more: bool,
    /// Records that were left out because their time could not be read.
    pub without_time: u64,
}

/// A window of event time: `since` is in it, `until` is not. Microseconds since 1970.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Window {
    /// The first moment.
    pub since: Option<i64>,
    /// The moment after the last.
    pub until: Option<i64>,
}

impl Window {
    /// Whether it holds every moment.
    pub fn is_open(&self) -> bool {
        self.since.is_none() && self.until.is_none()
    }

    fn holds(&self, micros: i64) -> bool {
        self.since.is_none_or(|s| micros >= s) && self.until.is_none_or(|u| micros < u)
    }
}

/// Picks events by their time.
pub struct TimeFilter {
    decoder: Box<dyn Decoder>,
    column: usize,
    window: Window,
}

impl TimeFilter {
    /// A filter by a column of the contract, a timestamptz or a date.
    pub fn new(format: &dyn Format, contract: &Contract, column: usize, window: Window) -> Self {
        Self { decoder: format.decoder(contract), column, window }
    }

    /// The records of a chunk within the window, each as a chunk of its own, and how many have no time.
    fn pick(&mut self, chunk: &Chunk) -> (Vec<Chunk>, u64) {
        let decoded = self.decoder.decode(chunk);
        let mut without = decoded.rejects.len() as u64;
        let mut picked = Vec::new();
        for (row, span) in decoded.rows.spans.iter().enumerate() {
            match moment(&decoded.rows.batch, self.column, row) {
                Some(micros) if self.window.holds(micros) => {
                    picked.push(record(chunk, span.start, span.of(&chunk.bytes)));
                }
                Some(_) => {}
                None => without += 1,
            }
        }
        (picked, without)
    }
}

fn moment(batch: &RecordBatch, column: usize, row: usize) -> Option<i64> {
    let column = batch.columns().get(column)?;
    if column.is_null(row) {
        return None;
    }
    match column.data_type() {
        DataType::Timestamp(..) => Some(column.as_primitive::<TimestampMicrosecondType>().value(row)),
        DataType::Date32 => Some(i64::from(column.as_primitive::<Date32Type>().value(row)) * DAY),
        _ => None,
    }
}

/// One record of a chunk as a chunk of its own.
fn record(chunk: &Chunk, start: u32, bytes: &[u8]) -> Chunk {
    let from = Position::at(chunk.from.major + u64::from(start));
    let mut line = bytes.to_vec();
    line.push(b'\n');
    Chunk {
        partition: chunk.partition.clone(),
        from,
        to: Position::at(from.major + line.len() as u64),
        identity: chunk.identity.clone(),
        bytes: line,
        head: chunk.head.clone(),
        records: 1,
        too_long: None,
    }
}

/// Takes up to `events` events, those within the filter's window where there is one.
///
/// # Errors
/// Where the source cannot be read.
pub fn take(reader: &mut dyn LaneReader, events: u64, mut filter: Option<TimeFilter>, stop: &Stop) -> Outcome<Sample> {
    let mut sample = Sample { more: true, ..Sample::default() };
    while sample.events < events {
        if stop.is_settling() {
            return Ok(sample);
        }
        let left = events - sample.events;
        let records = if filter.is_some() { u64::MAX } else { left };
        let Read::Chunk(chunk) = reader.read(ReadLimit { records, bytes: PIECE })? else {
            sample.more = false;
            return Ok(sample);
        };
        sample.looked_at += chunk.records;
        match &mut filter {
            None => {
                sample.events += chunk.records;
                sample.chunks.push(chunk);
            }
            Some(filter) => {
                let (mut picked, without) = filter.pick(&chunk);
                sample.without_time += without;
                picked.truncate(usize::try_from(left).unwrap_or(usize::MAX));
                sample.events += picked.len() as u64;
                sample.chunks.append(&mut picked);
            }
        }
    }
    Ok(sample)
}
