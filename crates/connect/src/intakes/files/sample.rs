//! A sample from all over the folder: some events of each file, from its beginning.

use std::collections::VecDeque;
use std::sync::Arc;

use sluice_core::failure::Outcome;
use sluice_core::formats::Format;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use super::reader::{AllProgress, FilesReader};
use super::scan::Scan;

/// Files that a sample of a limited size is taken from: those of more are picked at even distances.
const FILES: usize = 24;

/// Bytes that are read of a file at a time.
const PIECE: u64 = 256 << 10;

/// Takes turns over the files.
struct SampleReader {
    waiting: VecDeque<FilesReader>,
    /// Events of a file at its turn.
    share: u64,
}

/// A reader of about `events` events from all over; all of them, one file after the other, for `u64::MAX`.
pub(super) fn reader(
    scan: &Scan,
    events: u64,
    format: impl Fn() -> Outcome<Arc<dyn Format>>,
    max_record: u64,
) -> Outcome<Box<dyn LaneReader>> {
    if events == u64::MAX {
        let progress = AllProgress::default();
        return Ok(Box::new(FilesReader::new(scan.clone(), format()?, max_record, (0, 1), Vec::new(), progress)));
    }
    let files = scan.files()?;
    let count = files.len().min(FILES);
    let mut waiting = VecDeque::new();
    for turn in 0..count {
        let (name, _) = &files[turn * files.len() / count];
        let progress = AllProgress::default();
        waiting.push_back(FilesReader::new(scan.only(name), format()?, max_record, (0, 1), Vec::new(), progress));
    }
    Ok(Box::new(SampleReader { waiting, share: events.div_ceil(count.max(1) as u64).max(1) }))
}

impl LaneReader for SampleReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        while let Some(mut file) = self.waiting.pop_front() {
            let limit =
                ReadLimit { records: limit.records.min(self.share), bytes: limit.bytes.min(PIECE), ends: false };
            if let Read::Chunk(chunk) = file.read(limit)? {
                self.waiting.push_back(file);
                return Ok(Read::Chunk(chunk));
            }
        }
        Ok(Read::CaughtUp)
    }
}
