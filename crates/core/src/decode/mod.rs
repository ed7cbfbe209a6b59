//! From bytes to columns under a contract. One bad event never spoils its neighbours: it becomes a reject.

mod builders;
mod json;

use crate::contract::Contract;
use crate::event::{Chunk, EventRows};
use crate::reject::Reject;

pub use json::JsonLines;

/// What decoding a chunk gave. `rows` and `rejects` together are all records of the chunk.
#[derive(Debug)]
pub struct Decoded {
    /// The good events.
    pub rows: EventRows,
    /// The bad ones.
    pub rejects: Vec<Reject>,
}

/// Decodes chunks of one event. It keeps its buffers from chunk to chunk.
pub trait Decoder: Send {
    /// Decodes whole records. Never fails as a whole.
    fn decode(&mut self, chunk: &Chunk) -> Decoded;
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

    /// Whether an unfinished last record is whole all the same, so that nothing that follows can change it.
    fn is_whole(&self, tail: &[u8]) -> bool;

    /// A decoder for events of a contract.
    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder>;
}

/// The format of a name.
pub fn format(name: &str) -> Option<Box<dyn Format>> {
    match name {
        "jsonl" => Some(Box::new(JsonLines)),
        _ => None,
    }
}
