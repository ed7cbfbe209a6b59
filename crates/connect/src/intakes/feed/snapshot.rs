//! All rows of one table as they are at one place of the log, for comparing. Nothing is kept, and no position moves.

use std::sync::Arc;

use crossbeam_channel::{Receiver, bounded};
use sluice_core::change::ChangeKind;
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit, Settings};

use super::FeedTable;
use super::gather::{ChangeDetails, ChunkBuilder};
use super::rows::FeedRows;
use super::whole::{Keeper, ReadTable};

/// How many portions may wait.
const WAITING: usize = 2;

struct Snapshot {
    rows: Receiver<FeedRows>,
    /// The place of the log, once all rows have been read.
    ended: Receiver<Outcome<u64>>,
    gather: ChunkBuilder,
    at: Position,
    is_over: bool,
}

/// Begins to read a table.
pub(crate) fn open(table: &FeedTable, settings: &Settings, mut read: ReadTable) -> Box<dyn LaneReader> {
    let (send, rows) = bounded(WAITING);
    let (end, ended) = bounded(1);
    let options = &settings.options;
    let rate = options.is_set("load_rate").then(|| options.integer("load_rate").max(1));
    sluice_core::threads::spawn("snapshot", move || {
        let place = read(&mut Keeper::for_reader(send, rate));
        let _ = end.send(place);
    });
    let gather = ChunkBuilder::new(vec![Arc::clone(&table.name)]);
    Box::new(Snapshot { rows, ended, gather, at: Position::at(0), is_over: false })
}

impl LaneReader for Snapshot {
    fn read(&mut self, _: ReadLimit) -> Outcome<Read> {
        if self.is_over {
            return Ok(Read::CaughtUp);
        }
        let from = self.at;
        if let Ok(rows) = self.rows.recv() {
            for row in 0..usize::try_from(rows.len()).unwrap_or(0) {
                let reported = ChangeDetails {
                    table: 0,
                    kind: ChangeKind::Loaded,
                    position: self.at,
                    transaction: None,
                    time: None,
                };
                let (object, key) = (rows.object(row), rows.key_json(row));
                self.gather.add(
                    reported,
                    |out| out.extend_from_slice(object),
                    |out| out.extend_from_slice(key),
                    |_| {},
                );
                self.at.minor += 1;
            }
            return Ok(Read::Chunk(self.gather.chunk(from, self.at, String::new(), false)));
        }
        self.is_over = true;
        let place = self.ended.recv().map_err(|_| Failure::internal("a reader ended without a result"))??;
        Ok(Read::Chunk(self.gather.chunk(from, Position::at(place), String::new(), false)))
    }
}

#[cfg(test)]
mod tests {
    use super::super::json::{Spelling, member_name};
    use super::super::rows::RowWriter;
    use super::super::trial::settings;
    use super::*;

    const LIMIT: ReadLimit = ReadLimit { records: 10, bytes: 100, ends: false };

    fn chunks(read: ReadTable) -> Outcome<Vec<String>> {
        let table = FeedTable { name: "office.permit".into(), key: vec!["n".into()], contract: None };
        let mut reader = open(&table, &settings(std::path::Path::new("")), read);
        let mut found = Vec::new();
        while let Read::Chunk(chunk) = reader.read(LIMIT)? {
            found.push(format!(
                "{} {} {}",
                chunk.to.major,
                chunk.records,
                String::from_utf8_lossy(&chunk.bytes).trim()
            ));
        }
        Ok(found)
    }

    #[test]
    fn rows_come_in_portions_and_then_their_place() {
        let read: ReadTable = Box::new(|keeper| {
            let mut writer = RowWriter::new(vec![(member_name("n"), Spelling::Number)], vec![0]);
            for n in 1..3 {
                writer.row(|cell| *cell = Some(n.to_string().into_bytes()));
                keeper.keep(&mut writer.rows)?;
            }
            Ok(700)
        });
        assert_eq!(chunks(read).unwrap(), ["0 1 {\"n\":1}", "0 1 {\"n\":2}", "700 0 "]);
    }

    #[test]
    fn a_reading_that_fails_says_why() {
        let failure = chunks(Box::new(|_| Err(Failure::away("it went away")))).unwrap_err();
        assert_eq!(failure.message, "it went away");
    }
}
