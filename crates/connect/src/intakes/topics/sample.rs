//! Readers for looking: they join no group, commit nothing and move no position.

use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Mark, Read, ReadLimit};

use super::TopicsIntake;
use super::partitions::Partition;
use super::reader::{Ends, TopicsReader};

/// Bytes that are read at a time.
const PIECE: u64 = 256 << 10;

/// Takes turns: no more than a share from one partition at a time.
struct TurnReader {
    reader: Box<dyn LaneReader>,
    share: u64,
}

impl LaneReader for TurnReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let limit = ReadLimit { records: limit.records.min(self.share), bytes: limit.bytes.min(PIECE), ends: false };
        self.reader.read(limit)
    }

    fn remarks(&self) -> Vec<String> {
        self.reader.remarks()
    }
}

/// A reader from a mark on, of about `events` events from all partitions. One that is live does not end.
pub(super) fn reader(intake: &TopicsIntake, mark: &Mark, events: u64, live: bool) -> Outcome<Box<dyn LaneReader>> {
    let partitions = intake.partitions()?;
    let mut reader = intake.reader("sluice.look", partitions.len())?;
    for (partition, offset) in partitions.iter().zip(intake.offsets(&partitions, mark)?) {
        reader.add_at(partition, offset, None)?;
    }
    if live {
        return Ok(Box::new(reader));
    }
    Ok(shared(reader, events, partitions.len()))
}

/// A reader of the last events: an even share of each partition.
pub(super) fn last(intake: &TopicsIntake, events: u64) -> Outcome<Box<dyn LaneReader>> {
    let partitions = intake.partitions()?;
    let mut reader = intake.reader("sluice.look", partitions.len())?;
    let bounds = intake.bounds(&partitions)?;
    // Partitions with few events leave their share to the others.
    let mut left = events;
    let mut order: Vec<usize> = (0..partitions.len()).collect();
    order.sort_by_key(|i| bounds[*i].1 - bounds[*i].0);
    for (done, i) in order.iter().enumerate() {
        let (low, high) = bounds[*i];
        let share = left.div_ceil((partitions.len() - done) as u64).min(high - low);
        left -= share;
        reader.add_at(&partitions[*i], high - share, Some(high))?;
    }
    Ok(shared(reader, events, partitions.len()))
}

/// Moves offsets on to the first event of a moment or later: brokers may name the block that it lies in.
pub(super) fn refine(intake: &TopicsIntake, partitions: &[Partition], offsets: &mut [u64], at: i64) -> Outcome<()> {
    let ends: Vec<u64> = intake.bounds(partitions)?.into_iter().map(|(_, high)| high).collect();
    let mut reader = intake.reader("sluice.look", partitions.len())?;
    let mut open = Vec::new();
    for (i, partition) in partitions.iter().enumerate().filter(|(i, _)| offsets[*i] < ends[*i]) {
        reader.add_at(partition, offsets[i], Some(ends[i]))?;
        open.push(i);
    }
    let mut reader = Ends(reader);
    while !open.is_empty() {
        let Read::Chunk(chunk) = reader.read(ReadLimit { records: 10_000, bytes: PIECE, ends: false })? else { break };
        let Some(place) = open.iter().position(|i| partitions[*i].name() == chunk.partition) else { continue };
        let messages = chunk.messages.as_ref().map_or(&[][..], |m| &m.each);
        if let Some(first) = messages.iter().find(|m| m.time.is_none_or(|time| time >= at)) {
            offsets[open.swap_remove(place)] = first.offset;
            reader.0.pause(&chunk.partition);
        }
    }
    // What was read to its end has no such event.
    open.into_iter().for_each(|i| offsets[i] = ends[i]);
    Ok(())
}

fn shared(reader: TopicsReader, events: u64, partitions: usize) -> Box<dyn LaneReader> {
    let share = match events {
        u64::MAX => u64::MAX,
        events => events.div_ceil(partitions.max(1) as u64).max(1),
    };
    Box::new(TurnReader { reader: Box::new(Ends(reader)), share })
}
