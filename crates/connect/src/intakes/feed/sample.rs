//! Some rows of tables as they are, for looking. No slot is made or moved.

use std::collections::VecDeque;
use std::sync::Arc;

use sluice_core::change::ChangeKind;
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use super::FeedTable;
use super::gather::{ChangeDetails, ChunkBuilder};
use super::rows::FeedRows;

/// More than this of a table is not looked at.
const MOST: u64 = 100_000;

struct Sample {
    chunks: VecDeque<Chunk>,
}

/// A reader of about so many rows, an even share of each table. `first` reads some rows of one, and the place in the log at
/// which they were read.
pub(crate) fn open(
    tables: &[FeedTable],
    events: u64,
    mut first: impl FnMut(u32, &FeedTable, u64) -> Outcome<(FeedRows, u64)>,
) -> Outcome<Box<dyn LaneReader>> {
    let share = events.div_ceil(tables.len().max(1) as u64).clamp(1, MOST);
    let mut chunks = VecDeque::new();
    for (number, table) in (0..).zip(tables) {
        let (rows, mark) = first(number, table, share)?;
        chunks.push_back(chunk(tables, number, &rows, mark));
    }
    Ok(Box::new(Sample { chunks }))
}

/// Rows as a chunk that was loaded.
fn chunk(tables: &[FeedTable], table: u32, rows: &FeedRows, mark: u64) -> Chunk {
    let mut gather = ChunkBuilder::new(tables.iter().map(|t| Arc::clone(&t.name)).collect());
    let mut position = Position::at(mark);
    for row in 0..usize::try_from(rows.len()).unwrap_or(0) {
        let reported = ChangeDetails { table, kind: ChangeKind::Loaded, position, transaction: None, time: None };
        let (object, key) = (rows.object(row), rows.key_json(row));
        gather.add(reported, |out| out.extend_from_slice(object), |out| out.extend_from_slice(key), |_| {});
        position.minor += 1;
    }
    gather.chunk(Position::at(mark), position, String::new(), false)
}

impl LaneReader for Sample {
    fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
        Ok(self.chunks.pop_front().map_or(Read::CaughtUp, Read::Chunk))
    }
}
