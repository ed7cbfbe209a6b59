//! What every format does.

use std::fmt::Debug;
use std::sync::Arc;

use arrow_array::RecordBatch;

use super::recognise::{Recognised, Start};
use super::unknown::UnknownField;
use super::whole::WholeFile;
use crate::change::Absent;
use crate::columns::OutputColumn;
use crate::config::{OptionSpec, OptionValue, Options};
use crate::contract::Contract;
use crate::event::{Chunk, EventRows};
use crate::problem::Problems;
use crate::profile::Profile;
use crate::reject::Reject;

/// A format by name. It opens formats with the options of an arrival, and writers with those of a landing.
pub trait FormatKind: Sync {
    /// The names that `format` takes, the usual one of files first and that of messages last.
    fn names(&self) -> &'static [&'static str];

    /// Its name for people.
    fn title(&self) -> &'static str;

    /// The keys of the table that has its first name, of arrivals.
    fn options(&self) -> &'static [OptionSpec] {
        &[]
    }

    /// The keys of the table that has its first name, of landings.
    fn landing_options(&self) -> &'static [OptionSpec] {
        &[]
    }

    /// The format as the options of an arrival spell it.
    fn open(&self, options: &Options) -> Arc<dyn Format>;

    /// Reports options of an arrival that do not go together, or whose texts cannot be read.
    fn check(&self, options: &Options, problems: &mut Problems) {
        let _ = (options, problems);
    }

    /// A writer as the options of a landing spell it; None for a format that is only read.
    fn writer(&self, options: &Options) -> Option<Arc<dyn RowWriter>>;

    /// What text is that may be of this format; None where it is not.
    fn recognise(&self, start: &Start<'_>) -> Option<Recognised>;
}

/// A way to write events as bytes.
pub trait Format: Send + Sync + Debug {
    /// Its kind.
    fn kind(&self) -> &'static dyn FormatKind;

    /// Its name and spelling for people.
    fn describe(&self) -> String {
        self.kind().title().into()
    }

    /// The options that spell it, those left out that have their defaults.
    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        Vec::new()
    }

    /// What files of it are, where they are read as a whole and positions count rows.
    fn whole(&self) -> Option<WholeFile> {
        None
    }

    /// Finds the whole records at the start of a buffer, `limit` at most.
    fn cut(&self, bytes: &[u8], limit: u64) -> Cut;

    /// Whether the first record of a partition is a header row, which says how to read the others. It is part of the
    /// first chunk, and stands beside every chunk as [`Chunk::head`].
    fn has_head(&self) -> bool {
        false
    }

    /// Why messages cannot be of it as it is spelled, and what to do about it.
    fn fault_in_messages(&self) -> Option<(&'static str, &'static str)> {
        None
    }

    /// The same format in messages, which have no header row.
    fn of_messages(&self) -> Arc<dyn Format>;

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

    /// The messages of a chunk with their values as text, for people, those left out that cannot be read. None where they are text
    /// as they are.
    fn spelled(&self, chunk: &Chunk) -> Option<Chunk> {
        let _ = chunk;
        None
    }

    /// A decoder for events of a contract.
    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder>;

    /// Adds the records of a chunk to a profile. Exactly those are good that a decoder takes under a contract which accepts
    /// every value.
    fn profile(&self, chunk: &Chunk, profile: &mut Profile);

    /// The names of the fields that a header row names, in order.
    fn header_names(&self, head: &[u8]) -> Vec<String> {
        let _ = head;
        Vec::new()
    }

    /// The format with what a profile shows beside the types: the spellings of null.
    fn fitted(&self, profile: &Profile) -> Arc<dyn Format>;

    /// The path that leads to the column at an index, from 0, of rows that Sluice wrote.
    fn path(&self, index: usize, name: &str) -> Vec<String> {
        let _ = index;
        vec![name.to_string()]
    }

    /// The names of all fields that records can have, where the format knows them beforehand.
    fn field_names(&self) -> Option<Vec<String>> {
        None
    }

    /// Whether the path of a field can lead to a value.
    fn takes_path(&self, path: &[String]) -> bool {
        let _ = path;
        true
    }
}

/// Writes rows as text.
pub trait RowWriter: Send + Sync + Debug {
    /// The ending of files, without the dot.
    fn extension(&self) -> &'static str;

    /// The format that reads what it writes.
    fn format(&self) -> Arc<dyn Format>;

    /// Writes what stands before the first row of a file.
    fn write_head(&self, out: &mut String, columns: &[OutputColumn]) {
        let _ = (out, columns);
    }

    /// Writes rows, each ended by a line end.
    fn write_rows(&self, out: &mut String, rows: &RecordBatch, columns: &[OutputColumn]);

    /// As [`Self::write_rows`]; gives where each row ends, without its line end.
    fn write_messages(&self, out: &mut String, rows: &RecordBatch, columns: &[OutputColumn]) -> Vec<usize>;
}

/// What decoding a chunk gave. `rows` and `rejects` together are all records of the chunk.
#[derive(Debug)]
pub struct Decoded {
    /// The good events.
    pub rows: EventRows,
    /// The bad ones.
    pub rejects: Vec<Reject>,
    /// Where records are changes: which values of the rows are absent.
    pub absent: Absent,
    /// Where the partition begins with a header row: what it lacks, reported once for each partition.
    pub lacks: Option<MissingFields>,
    /// Fields that the contract does not name.
    pub unknown: Vec<UnknownField>,
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
