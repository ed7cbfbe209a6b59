//! Readers for looking: they join no group, commit nothing and move no position.

use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Mark, Read, ReadLimit};

use super::TopicsIntake;
use super::reader::{Ends, TopicsReader};

/// Bytes that are read at a time.
const PIECE: u64 = 256 << 10;

/// Takes turns: no more than a share from one partition at a time.
struct Shared {
    reader: Box<dyn LaneReader>,
    share: u64,
}

impl LaneReader for Shared {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let limit = ReadLimit { records: limit.records.min(self.share), bytes: limit.bytes.min(PIECE) };
        self.reader.read(limit)
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

fn shared(reader: TopicsReader, events: u64, partitions: usize) -> Box<dyn LaneReader> {
    let share = match events {
        u64::MAX => u64::MAX,
        events => events.div_ceil(partitions.max(1) as u64).max(1),
    };
    Box::new(Shared { reader: Box::new(Ends(reader)), share })
}
