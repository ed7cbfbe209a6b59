//! From bytes to columns under a contract. One bad event never spoils its neighbours: it becomes a reject.

mod builders;
pub mod csv;
#[cfg(test)]
mod hostile;
pub(crate) mod json;
pub mod recognise;
mod rows;
mod values;

use crate::change::Absent;
use crate::config::Options;
use crate::contract::Contract;
use crate::event::{Chunk, EventRows};
use crate::reject::Reject;

pub use csv::Csv;
pub use json::JsonLines;

/// Some programs begin a file with this mark of its byte order; it belongs to no record.
pub const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// The names of the formats, as an arrival's `format` takes them.
pub const FORMATS: &[&str] = &["jsonl", "json", "csv"];

/// What decoding a chunk gave. `rows` and `rejects` together are all records of the chunk.
#[derive(Debug)]
pub struct Decoded {
    /// The good events.
    pub rows: EventRows,
    /// The bad ones.
    pub rejects: Vec<Reject>,
    /// Where records are changes: which values of the rows are absent.
    pub absent: Absent,
    /// Where the partition begins with a header row: what it lacks, told once for each partition.
    pub lacks: Option<MissingFields>,
}

/// Fields of a contract that the header row of a partition does not name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingFields {
    /// The names of the columns.
    pub names: Vec<String>,
    /// The fields that no column leads to.
    pub fields: Vec<String>,
    /// Whether that is every field.
    pub all: bool,
}

/// Decodes chunks of one event. It keeps its buffers from chunk to chunk.
pub trait Decoder: Send {
    /// Decodes whole records. Never fails as a whole.
    fn decode(&mut self, chunk: &Chunk) -> Decoded {
        self.decode_table(chunk, None)
    }

    /// Decodes the records of a chunk that are changes of one table, by its number in the feed; None for all.
    fn decode_table(&mut self, chunk: &Chunk, table: Option<u32>) -> Decoded;
}

/// How many bytes of a buffer are whole records, and how many records they are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cut {
    /// Bytes of whole records, from the start of the buffer.
    pub bytes: usize,
    /// Records in them.
    pub records: u64,
}

/// A way to write events as bytes.
pub trait Format: Send + Sync {
    /// Its name in files.
    fn name(&self) -> &'static str;

    /// Finds the whole records at the start of a buffer, `limit` at most.
    fn cut(&self, bytes: &[u8], limit: u64) -> Cut;

    /// Whether the first record of a partition is no event but the head that tells how to read the others. The head
    /// is part of the first chunk, and stands beside every chunk as [`Chunk::head`].
    fn has_head(&self) -> bool {
        false
    }

    /// Whether an unfinished last record is whole all the same.
    fn is_whole(&self, tail: &[u8], head: Option<&[u8]>) -> Tail;

    /// Whether a record without a line end may be read as a whole one and still grow.
    fn may_grow(&self) -> bool {
        false
    }

    /// How many bytes at the start of a buffer to give up as one bad record, where no record ends within the longest
    /// length that is allowed. None where only the end of the line can tell.
    fn give_up(&self, bytes: &[u8]) -> Option<usize> {
        let _ = bytes;
        None
    }

    /// A decoder for events of a contract.
    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder>;
}

/// What the bytes after the last whole record are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tail {
    /// A part of a record; more must come.
    Part,
    /// It could be a whole record, or the beginning of a longer one.
    Perhaps,
    /// A whole record: nothing that follows can change it.
    Whole,
}

/// The format that the options of an arrival or of a file name.
pub fn format(options: &Options) -> Option<Box<dyn Format>> {
    match options.text("format").as_deref() {
        Some("jsonl" | "json") => Some(Box::new(JsonLines)),
        Some("csv") => Some(Box::new(Csv::new(csv::Dialect::read(&options.table("csv"))))),
        _ => None,
    }
}
