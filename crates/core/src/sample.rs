//! Samples: some real events as they were read, with their positions. Taking one moves nothing.

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;

use crate::contract::Contract;
use crate::event::Chunk;
use crate::failure::{Failure, Outcome};
use crate::formats::{Decoder, Format};
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
    /// What cannot be read although it is there, in words.
    pub remarks: Vec<String>,
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
    /// The decoder and the column that holds the time; None takes the broker's.
    by: Option<(Box<dyn Decoder>, usize)>,
    window: Window,
}

impl TimeFilter {
    /// A filter by a column of the contract, a timestamptz or a date.
    pub fn new(format: &dyn Format, contract: &Contract, column: usize, window: Window) -> Self {
        Self { by: Some((format.decoder(contract), column)), window }
    }

    /// A filter by the broker's time of messages.
    pub fn by_broker(window: Window) -> Self {
        Self { by: None, window }
    }

    /// The messages of a chunk within the window.
    fn pick_messages(&self, chunk: &Chunk) -> (Vec<Chunk>, u64) {
        let messages = chunk.messages.as_ref().map_or(&[][..], |m| &m.each);
        let is_in = |m: &&crate::event::Message| m.time.is_some_and(|t| self.window.holds(t));
        let without = messages.iter().filter(|m| m.time.is_none()).count() as u64;
        (messages.iter().filter(is_in).map(|m| chunk.single(m.span)).collect(), without)
    }

    /// The records of a chunk within the window, each as a chunk of its own, and how many have no time.
    fn pick(&mut self, chunk: &Chunk) -> (Vec<Chunk>, u64) {
        let Some((decoder, column)) = &mut self.by else { return self.pick_messages(chunk) };
        let column = *column;
        let decoded = decoder.decode(chunk);
        let mut without = decoded.rejects.len() as u64;
        let mut picked = Vec::new();
        for (row, span) in decoded.rows.spans.iter().enumerate() {
            match moment(&decoded.rows.batch, column, row) {
                Some(micros) if self.window.holds(micros) => {
                    picked.push(chunk.single(*span));
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
        let chunk = match reader.read(ReadLimit { records, bytes: PIECE, ends: false })? {
            Read::Chunk(chunk) => chunk,
            Read::CaughtUp => {
                sample.more = false;
                sample.remarks = reader.remarks();
                return Ok(sample);
            }
            Read::Pending => continue,
            Read::Away(reason) => return Err(Failure::away(reason)),
            // What can be read is looked at.
            Read::Stuck(_) if sample.events > 0 => {
                sample.more = false;
                return Ok(sample);
            }
            Read::Halt(failure) | Read::Stuck(failure) => return Err(failure),
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::ExtraFields;
    use crate::contract::parse_fields;
    use crate::event::Position;
    use crate::formats::JsonLines;
    use crate::problem::Problems;
    use crate::sql::tests::embed;
    use rstest::rstest;

    /// A source of chunks, each of so many events that are a second apart.
    struct Source {
        sizes: std::vec::IntoIter<u64>,
        next: u64,
        at: u64,
    }

    impl Source {
        fn new(sizes: &[u64]) -> Self {
            Self { sizes: Vec::from(sizes).into_iter(), next: 0, at: 0 }
        }
    }

    impl LaneReader for Source {
        fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
            let Some(size) = self.sizes.next() else { return Ok(Read::CaughtUp) };
            let size = size.min(limit.records);
            let mut bytes = String::new();
            for _ in 0..size {
                let at = match self.next % 5 {
                    4 => "\"no time\"".to_string(),
                    _ => (1_000 + self.next).to_string(),
                };
                bytes.push_str(&format!("{{\"n\":{},\"at\":{at}}}\n", self.next));
                self.next += 1;
            }
            let from = self.at;
            self.at += bytes.len() as u64;
            Ok(Read::Chunk(Chunk {
                partition: "a".into(),
                from: Position::at(from),
                to: Position::at(self.at),
                bytes: bytes.into_bytes(),
                records: size,
                ..Chunk::default()
            }))
        }
    }

    fn filter(since: Option<i64>, until: Option<i64>) -> TimeFilter {
        let mut problems = Problems::new();
        let fields = parse_fields(&embed("n integer, at timestamptz format 'epoch_s'"), &mut problems);
        let seconds = |s: i64| s * 1_000_000;
        let window = Window { since: since.map(seconds), until: until.map(seconds) };
        TimeFilter::new(&JsonLines, &Contract { fields, extra: ExtraFields::Ignore, may_lack: false }, 1, window)
    }

    fn numbers(sample: &Sample) -> Vec<u64> {
        let number = |line: &str| serde_json::from_str::<serde_json::Value>(line).unwrap()["n"].as_u64().unwrap();
        let text = |c: &Chunk| String::from_utf8(c.bytes.clone()).unwrap();
        sample.chunks.iter().flat_map(|c| text(c).lines().map(number).collect::<Vec<_>>()).collect()
    }

    #[rstest]
    #[case(5, 5, true)]
    #[case(12, 12, true)]
    #[case(100, 30, false)]
    fn as_many_as_are_wanted_and_there(#[case] wanted: u64, #[case] events: u64, #[case] more: bool) {
        let sample = take(&mut Source::new(&[10, 10, 10]), wanted, None, &Stop::new()).unwrap();
        assert_eq!((sample.events, sample.looked_at, sample.more), (events, events, more));
        assert_eq!(numbers(&sample), (0..events).collect::<Vec<_>>());
    }

    #[rstest]
    #[case(Some(1_010), Some(1_014), &[10, 11, 12, 13])]
    #[case(Some(1_026), None, &[26, 27, 28])]
    #[case(None, Some(1_003), &[0, 1, 2])]
    #[case(Some(2_000), None, &[])]
    fn a_window_of_time(#[case] since: Option<i64>, #[case] until: Option<i64>, #[case] expected: &[u64]) {
        let filter = filter(since, until);
        let sample = take(&mut Source::new(&[10, 10, 10]), 100, Some(filter), &Stop::new()).unwrap();
        assert_eq!(numbers(&sample), expected);
        assert_eq!((sample.looked_at, sample.without_time), (30, 6));
        // Each event stands where it stood, so that it is distinguished from every other.
        let places: std::collections::BTreeSet<u64> = sample.chunks.iter().map(|c| c.from.major).collect();
        assert_eq!(places.len(), expected.len());
    }

    #[test]
    fn a_window_ends_when_enough_is_found() {
        let sample = take(&mut Source::new(&[10, 10, 10]), 3, Some(filter(Some(1_011), None)), &Stop::new()).unwrap();
        assert_eq!((numbers(&sample), sample.looked_at, sample.more), (vec![11, 12, 13], 20, true));
    }

    #[test]
    fn a_stop_ends_it_with_what_there_is() {
        let stop = Stop::new();
        stop.settle();
        assert_eq!(take(&mut Source::new(&[10]), 5, None, &stop).unwrap().events, 0);
    }
}
