//! Some rows of the tables as they are, for looking. No slot is made or moved.

use std::collections::VecDeque;
use std::sync::Arc;

use sluice_core::change::ChangeKind;
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use super::MariadbFeed;
use super::load::Portion;
use crate::intakes::feed::gather::{Gather, Told};

/// More than this is not looked at.
const MOST: u64 = 100_000;

struct Sample {
    chunks: VecDeque<Chunk>,
}

pub(super) fn open(feed: &Arc<MariadbFeed>, events: u64) -> Outcome<Box<dyn LaneReader>> {
    let mut catalog = feed.catalog()?;
    let mut chunks = VecDeque::new();
    let share = events.div_ceil(feed.tables.len().max(1) as u64).clamp(1, MOST);
    for (number, table) in feed.tables.iter().enumerate() {
        let number = u32::try_from(number).unwrap_or(u32::MAX);
        let portion = super::load::first_rows(&mut catalog, number, table, share)?;
        chunks.push_back(chunk(feed, &portion));
    }
    Ok(Box::new(Sample { chunks }))
}

/// Rows as a chunk that was loaded.
fn chunk(feed: &MariadbFeed, portion: &Portion) -> Chunk {
    let mut gather = Gather::new(feed.tables.iter().map(|t| Arc::clone(&t.name)).collect());
    let mut position = Position::at(portion.mark);
    for row in 0..usize::try_from(portion.rows.len()).unwrap_or(0) {
        let told = Told { table: portion.table, kind: ChangeKind::Loaded, position, transaction: None, time: None };
        let (object, key) = (portion.rows.object(row), portion.rows.key_json(row));
        gather.add(told, |out| out.extend_from_slice(object), |out| out.extend_from_slice(key), |_| {});
        position.minor += 1;
    }
    gather.chunk(Position::at(portion.mark), position, String::new(), false)
}

impl LaneReader for Sample {
    fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
        Ok(self.chunks.pop_front().map_or(Read::CaughtUp, Read::Chunk))
    }
}
