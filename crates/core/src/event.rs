//! Events on their way: bytes with positions, then columns with positions, then rows for a landing.

use std::fmt;
use std::sync::Arc;

use arrow_array::RecordBatch;
use serde::{Deserialize, Serialize};

use crate::change::{Change, Changes, Marks};

/// A place in a partition: of a file, a byte, or a row where it is read as a whole; of a topic, an offset; of a change feed, a log position and the place
/// of the change within its transaction; of a list, the place in it and the number of the reading. It names the next event to read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Position {
    /// The byte, offset or log position.
    pub major: u64,
    /// The place within it, where one log position holds several events.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub minor: u64,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn is_zero(n: &u64) -> bool {
    *n == 0
}

impl Position {
    /// A position without a place within it.
    pub const fn at(major: u64) -> Self {
        Self { major, minor: 0 }
    }
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.minor {
            0 => write!(f, "{}", self.major),
            minor => write!(f, "{}.{minor}", self.major),
        }
    }
}

/// Whole records of one partition as they were read.
#[derive(Clone, Debug)]
pub struct Chunk {
    /// The partition.
    pub partition: Arc<str>,
    /// The position of the first byte.
    pub from: Position,
    /// The position after the last byte.
    pub to: Position,
    /// What the partition looks like up to `to`; see [`crate::kinds::PartitionPosition::identity`].
    pub identity: String,
    /// The records' bytes.
    pub bytes: Vec<u8>,
    /// The partition's first record, for formats that begin with one: the names of the columns, say. It is not an event;
    /// the first chunk holds it within its bytes.
    pub head: Option<Arc<[u8]>>,
    /// How many records the reader counted. The decoder counts again, and both must agree.
    pub records: u64,
    /// Set where the one record is longer than allowed: its length in bytes. `bytes` then holds its beginning.
    pub too_long: Option<u64>,
    /// Whether the one record is the rest of a record that was read before its line end had come.
    pub grown: bool,
    /// Where positions count records and not bytes: the byte of the chunk at which each begins.
    pub numbered: Option<Arc<[u32]>>,
    /// Set where the one record cannot be told from its neighbours, and why. `bytes` then holds what there is of it.
    pub broken: Option<Arc<str>>,
    /// Where each record is a message of a broker: what the broker reports about it. None where the format finds the
    /// records.
    pub messages: Option<Arc<Messages>>,
    /// Where messages name their schemas: those that they name.
    pub schemas: Option<Arc<MessageSchemas>>,
    /// Where each record is a change of a row: what the change feed reports about it.
    pub changes: Option<Arc<Changes>>,
    /// Where the records are rows of a list, which is read whole again and again.
    pub list: Option<ListPart>,
}

/// Part of one reading of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ListPart {
    /// The number of the reading, from 1.
    pub reading: u64,
    /// Whether the list has been read whole: rows that this reading did not have are gone.
    pub is_end: bool,
}

/// The language of a schema.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SchemaLanguage {
    /// Apache Avro.
    Avro,
    /// Protocol Buffers.
    Protobuf,
}

impl SchemaLanguage {
    /// Its name for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Avro => "Avro",
            Self::Protobuf => "Protobuf",
        }
    }
}

/// A schema as a registry knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RegisteredSchema {
    /// Its language.
    pub language: SchemaLanguage,
    /// Its text.
    pub text: String,
    /// The schemas that it refers to, and those that these refer to, each with the name that stands for it.
    pub references: Vec<(String, String)>,
}

impl RegisteredSchema {
    /// Whether it is of a language.
    ///
    /// # Errors
    /// Says in words of which it is.
    pub fn of_language(&self, wanted: SchemaLanguage) -> Result<(), String> {
        match self.language == wanted {
            true => Ok(()),
            false => Err(format!("it is one of {}, not of {}", self.language.title(), wanted.title())),
        }
    }
}

/// A schema, or why there is none.
pub type MessageSchema = Result<Arc<RegisteredSchema>, String>;

/// Schemas by the numbers that messages name them with.
pub type MessageSchemas = std::collections::BTreeMap<u32, MessageSchema>;

/// What a broker reports about the records of a chunk.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Messages {
    /// The topic.
    pub topic: Arc<str>,
    /// The number of the partition within it.
    pub partition: i32,
    /// One for each record, in their order.
    pub each: Vec<Message>,
    /// The bytes of keys and headers.
    pub side: Vec<u8>,
    /// Messages without a value that were left out: tombstones. They count among the chunk's records.
    pub left_out: u64,
}

/// One message.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Message {
    /// Its value within the chunk's bytes. Values are kept apart by a line end that belongs to none.
    pub span: RecordSpan,
    /// Its offset.
    pub offset: u64,
    /// The broker's time, in microseconds since 1970.
    pub time: Option<i64>,
    /// Its key within [`Messages::side`].
    pub key: Option<RecordSpan>,
    /// Its headers as a JSON object within [`Messages::side`].
    pub headers: Option<RecordSpan>,
}

impl Messages {
    /// The message whose value begins at a byte of the chunk.
    pub fn at(&self, start: u32) -> Option<&Message> {
        self.each.binary_search_by_key(&start, |m| m.span.start).ok().map(|i| &self.each[i])
    }
}

impl Default for Chunk {
    fn default() -> Self {
        Self {
            partition: "".into(),
            from: Position::default(),
            to: Position::default(),
            identity: String::new(),
            bytes: Vec::new(),
            head: None,
            records: 0,
            too_long: None,
            grown: false,
            numbered: None,
            broken: None,
            messages: None,
            schemas: None,
            changes: None,
            list: None,
        }
    }
}

impl Chunk {
    /// The position of the record that begins at a byte of the chunk.
    pub fn position_at(&self, start: u32) -> Position {
        if let Some(starts) = &self.numbered {
            let before = starts.partition_point(|s| *s < start);
            return Position { major: self.from.major + before as u64, ..self.from };
        }
        if let Some(changes) = &self.changes {
            return changes.at(start).map_or(self.from, |c| c.position);
        }
        match &self.messages {
            Some(messages) => messages.at(start).map_or(self.from, |m| Position::at(m.offset)),
            None => Position { major: self.from.major + u64::from(start), ..self.from },
        }
    }

    /// Whether the chunk ends within a transaction of its source.
    pub fn is_within(&self) -> bool {
        self.changes.as_ref().is_some_and(|c| c.within)
    }

    /// The records that were left out before decoding.
    pub fn left_out(&self) -> u64 {
        self.messages.as_ref().map_or(0, |m| m.left_out)
    }

    /// One record as a chunk of its own.
    pub fn single(&self, span: RecordSpan) -> Self {
        let from = self.position_at(span.start);
        let mut bytes = span.of(&self.bytes).to_vec();
        let whole = RecordSpan { start: 0, end: span.end - span.start };
        bytes.push(b'\n');
        let messages = self.messages.as_ref().and_then(|all| {
            let message = Message { span: whole, ..*all.at(span.start)? };
            let (topic, side) = (Arc::clone(&all.topic), all.side.clone());
            Some(Arc::new(Messages { topic, partition: all.partition, each: vec![message], side, left_out: 0 }))
        });
        let changes = self.changes.as_ref().and_then(|all| {
            let change = Change { span: whole, ..*all.at(span.start)? };
            let (tables, side) = (all.tables.clone(), all.side.clone());
            Some(Arc::new(Changes { tables, side, each: vec![change], within: false }))
        });
        let numbered = self.numbered.as_ref().map(|_| Arc::from([0]));
        let to = match (&messages, &changes) {
            (_, Some(_)) => Position { minor: from.minor + 1, ..from },
            (Some(_), None) => Position::at(from.major + 1),
            (None, None) if numbered.is_some() => Position { major: from.major + 1, ..from },
            (None, None) => Position { major: from.major + bytes.len() as u64, ..from },
        };
        Self {
            partition: Arc::clone(&self.partition),
            from,
            to,
            identity: self.identity.clone(),
            bytes,
            head: self.head.clone(),
            records: 1,
            too_long: None,
            grown: false,
            numbered,
            broken: None,
            messages,
            schemas: self.schemas.clone(),
            changes,
            list: self.list,
        }
    }
}

/// Decoded events: rows, and for each row the bytes that it came from.
#[derive(Debug)]
pub struct EventRows {
    /// The rows under the contract's schema.
    pub batch: RecordBatch,
    /// For each row, where its bytes stand in the chunk.
    pub spans: Vec<RecordSpan>,
}

/// The bytes of one record within its chunk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RecordSpan {
    /// The first byte.
    pub start: u32,
    /// The byte after the last.
    pub end: u32,
}

impl RecordSpan {
    /// The record's bytes.
    pub fn of(self, bytes: &[u8]) -> &[u8] {
        let index = |n: u32| usize::try_from(n).unwrap_or(usize::MAX);
        bytes.get(index(self.start)..index(self.end)).unwrap_or_default()
    }
}

/// The events that the rows of a landing came from.
#[derive(Clone, Debug)]
pub struct RowOrigin {
    /// The records as they were read.
    pub chunk: Arc<Chunk>,
    /// The bytes of each decoded event within them.
    pub spans: Arc<[RecordSpan]>,
    /// For each row, its event; None where each event has its row.
    pub rows: Option<Arc<[u32]>>,
}

impl RowOrigin {
    /// The event of a row, by its place among those that were decoded.
    pub fn decoded(&self, row: usize) -> usize {
        self.rows.as_ref().map_or(row, |rows| usize::try_from(rows[row]).unwrap_or(usize::MAX))
    }

    /// The bytes of a row's event within the chunk.
    pub fn span(&self, row: usize) -> RecordSpan {
        self.spans.get(self.decoded(row)).copied().unwrap_or(RecordSpan { start: 0, end: 0 })
    }

    /// The position of a row's event.
    pub fn position(&self, row: usize) -> Position {
        self.chunk.position_at(self.span(row).start)
    }

    /// The source's time of a row's event, in microseconds since 1970, where it reports one.
    pub fn time(&self, row: usize) -> Option<i64> {
        let start = self.span(row).start;
        match &self.chunk.changes {
            Some(changes) => changes.at(start)?.time,
            None => self.chunk.messages.as_ref()?.at(start)?.time,
        }
    }
}

/// Rows for one landing that share one folder.
#[derive(Clone, Debug)]
pub struct LandingRows {
    /// Where the rows came from, for landings that want to know.
    pub origin: Option<RowOrigin>,
    /// Where the rows are changes: what happened to each, and which values are absent.
    pub marks: Option<Marks>,
    /// The folder that the landing's `path` gives for these rows, with no slash at its ends; empty without a `path`.
    pub folder: Arc<str>,
    /// The rows.
    pub batch: RecordBatch,
}
