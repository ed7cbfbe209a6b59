//! Reads ranges of files again, and nothing else.

use std::collections::VecDeque;

use sluice_core::batch::{Range, Ranges};
use sluice_core::decode::Format;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};

use super::reader::FilesReader;
use super::scan::Scan;

/// One range after the other.
struct RangesReader {
    waiting: VecDeque<(FilesReader, Range)>,
}

/// A reader of the ranges.
///
/// # Errors
/// Where a file is not the one that was read, or has gone.
pub(super) fn reader(
    scan: &Scan,
    ranges: &Ranges,
    format: impl Fn() -> Outcome<Box<dyn Format>>,
    max_record: u64,
) -> Outcome<Box<dyn LaneReader>> {
    let mut waiting = VecDeque::new();
    for range in &ranges.0 {
        if !scan.path(&range.partition).exists() {
            let path = scan.path(&range.partition);
            return Err(Failure::findings(format!("{} has gone since it was read", path.display()))
                .with_help("put it back; what it held has landed and stays as it is"));
        }
        let known = PartitionPosition {
            partition: range.partition.clone(),
            position: range.from,
            identity: range.identity.clone(),
        };
        let one = FilesReader::new(scan.only(&range.partition), format()?, max_record, (0, 1), vec![known])?;
        waiting.push_back((one, range.clone()));
    }
    Ok(Box::new(RangesReader { waiting }))
}

impl LaneReader for RangesReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        loop {
            let Some((reader, range)) = self.waiting.front_mut() else { return Ok(Read::CaughtUp) };
            let left = range.to.major.saturating_sub(range.from.major);
            if left == 0 {
                self.waiting.pop_front();
                continue;
            }
            match reader.read(ReadLimit { records: limit.records, bytes: limit.bytes.min(left), ends: false })? {
                Read::Chunk(chunk) if chunk.to <= range.to => {
                    range.from = chunk.to;
                    return Ok(Read::Chunk(chunk));
                }
                // A range of one record may end before its line end.
                Read::Chunk(chunk) if chunk.records == 1 => {
                    self.waiting.pop_front();
                    return Ok(Read::Chunk(chunk));
                }
                Read::Chunk(_) | Read::CaughtUp => {
                    return Err(Failure::findings(format!(
                        "{} does not hold the same records any more as when it was read",
                        range.partition
                    ))
                    .with_help("put the old file back; what it held has landed and stays as it is"));
                }
                other => return Ok(other),
            }
        }
    }
}
