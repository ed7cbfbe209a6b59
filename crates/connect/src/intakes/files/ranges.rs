//! Reads ranges of files again, and nothing else.

use std::collections::VecDeque;
use std::sync::Arc;

use sluice_core::batch::{Range, Ranges};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::Format;
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};

use super::fingerprint::Fingerprint;
use super::open::is_as;
use super::reader::{AllProgress, FilesReader};
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
    format: impl Fn() -> Outcome<Arc<dyn Format>>,
    max_record: u64,
) -> Outcome<Box<dyn LaneReader>> {
    let mut waiting = VecDeque::new();
    for range in &ranges.0 {
        if !scan.path(&range.partition).exists() {
            let path = scan.path(&range.partition);
            return Err(Failure::findings(format!("{} was deleted after it was read", path.display()))
                .with_help("put the file back; its rows have landed and stay as they are"));
        }
        // What guards the range is about its end.
        let guard = Fingerprint::read(&range.identity);
        let path = scan.path(&range.partition);
        let format = format()?;
        if !is_as(&path, &guard, range.to.major, &*format).map_err(|e| Failure::io("read", &path, &e))? {
            return Err(changed(&range.partition));
        }
        let known = PartitionPosition {
            partition: range.partition.clone(),
            position: range.from,
            identity: guard.start_only().text(),
        };
        let scan = scan.only(&range.partition);
        let one = FilesReader::new(scan, format, max_record, (0, 1), vec![known], AllProgress::default());
        waiting.push_back((one, range.clone()));
    }
    Ok(Box::new(RangesReader { waiting }))
}

fn changed(name: &str) -> Failure {
    Failure::findings(format!("{name} no longer holds the records that were read"))
        .with_help("put the old file back; its rows have landed and stay as they are")
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
            // Positions count bytes, or rows of a file that is read as a whole.
            let bytes = if Fingerprint::read(&range.identity).is_whole() { limit.bytes } else { limit.bytes.min(left) };
            match reader.read(ReadLimit { records: limit.records.min(left), bytes, ends: false })? {
                Read::Chunk(chunk) if chunk.to <= range.to => {
                    range.from = chunk.to;
                    return Ok(Read::Chunk(chunk));
                }
                // A range of one record may end before its line end.
                Read::Chunk(chunk) if chunk.records == 1 => {
                    self.waiting.pop_front();
                    return Ok(Read::Chunk(chunk));
                }
                Read::Stuck(failure) => return Err(failure),
                Read::Chunk(_) | Read::CaughtUp => {
                    return Err(changed(&range.partition));
                }
                other => return Ok(other),
            }
        }
    }
}
