//! The columns `origin.*`, which nobody declares: where a record comes from, and what a broker or a change feed says of it
//! beside the fields of the contract.
//!
//! They can be named wherever a field can. Where an event arrives from topics and from files, those of the other are null.

use std::fmt::Write as _;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use arrow_array::{RecordBatchOptions, new_null_array};
use arrow_schema::Schema;

use crate::batch::own_partition;
use crate::change::{Change, Changes, Marks};
use crate::columns::OutputColumn;
use crate::event::{Chunk, Message, Messages, RecordSpan};
use crate::types::SqlType;

/// One of these columns.
#[derive(Clone, Copy, Debug)]
pub struct ContextColumn {
    /// Its name.
    pub name: &'static str,
    /// Its type.
    pub ty: SqlType,
    /// One line of help.
    pub about: &'static str,
}

const fn column(name: &'static str, ty: SqlType, about: &'static str) -> ContextColumn {
    ContextColumn { name, ty, about }
}

/// What all of their names begin with.
pub const PREFIX: &str = "origin.";

/// The name under which a column lands that has been given none: without `origin.`.
pub fn plain(name: &str) -> &str {
    name.strip_prefix(PREFIX).unwrap_or(name)
}

/// The column that once had this name, such as `_topic`; None for any other name.
pub fn renamed(old: &str) -> Option<&'static str> {
    let rest = old.strip_prefix('_')?;
    let all = COLUMNS.iter().chain(CHANGE_COLUMNS).chain(FILE_COLUMNS);
    all.map(|c| c.name).find(|name| plain(name).eq_ignore_ascii_case(rest))
}

/// The columns of events that arrive from files.
pub const FILE_COLUMNS: &[ContextColumn] = &[FILE, BYTE];

const FILE: ContextColumn =
    column("origin.file", SqlType::Text, "the path of the file, within the folder of the connection");
const BYTE: ContextColumn =
    column("origin.byte", SqlType::Bigint, "where the record begins in the file, in bytes; unpacked, in a packed file");

/// The columns of events that arrive as messages, and from files as well.
pub const MIXED_COLUMNS: &[ContextColumn] = &{
    let mut all = [FILE; COLUMNS.len() + 2];
    let mut at = 0;
    while at < COLUMNS.len() {
        all[at] = COLUMNS[at];
        at += 1;
    }
    all[at + 1] = BYTE;
    all
};

/// The columns of events that arrive as messages.
pub const COLUMNS: &[ContextColumn] = &[
    column("origin.topic", SqlType::Text, "the topic that the message arrived in"),
    column("origin.partition", SqlType::Integer, "the number of its partition"),
    column("origin.offset", SqlType::Bigint, "its offset in the partition"),
    column("origin.time", SqlType::Timestamptz, "the broker's time of the message"),
    column(
        "origin.key",
        SqlType::Text,
        "its key; with key_as = \"text\", one that is no UTF-8 is written as \\x and hexadecimal digits",
    ),
    column(
        HEADERS,
        SqlType::Json,
        "its headers as a json object: a list for a name that occurs more than once, {\"base64\": …} for bytes that are no UTF-8",
    ),
];

/// The columns of events that arrive from a change feed.
pub const CHANGE_COLUMNS: &[ContextColumn] = &[
    column("origin.table", SqlType::Text, "the table of the source, with its schema"),
    column(CHANGE, SqlType::Text, "kind of the change: inserted, updated, deleted, loaded or truncated"),
    column("origin.position", SqlType::Bigint, "where its transaction was committed in the source's log"),
    column("origin.within", SqlType::Bigint, "the place of the change within its transaction"),
    column("origin.transaction", SqlType::Bigint, "the transaction's number"),
    column("origin.time", SqlType::Timestamptz, "when it was committed; null for rows that were loaded"),
    column("origin.key", SqlType::Json, "the columns of the row's key as a json object"),
    column("origin.old", SqlType::Json, "the old values that the source sent, as a json object"),
    column(
        ABSENT,
        SqlType::Text,
        "the columns whose values the source did not send since they did not change, with commas between; else null",
    ),
];

/// The kind of a change.
pub const CHANGE: &str = "origin.change";

/// All headers of a message.
pub const HEADERS: &str = "origin.headers";

/// What the source did not send.
const ABSENT: &str = "origin.absent";

/// The columns of this kind that an event has.
#[derive(Clone, Debug, Default)]
pub struct Context {
    /// The columns; none for an event that is made of another.
    pub columns: &'static [ContextColumn],
    /// For each whether anything reads it.
    pub used: Vec<bool>,
}

impl Context {
    /// A context that nothing reads yet.
    pub fn new(columns: &'static [ContextColumn]) -> Self {
        Self { columns, used: vec![false; columns.len()] }
    }

    /// They as columns of an event.
    pub fn output_columns(&self) -> impl Iterator<Item = OutputColumn> {
        self.columns.iter().map(|c| OutputColumn { name: c.name.into(), ty: c.ty, nullable: true, limit: None })
    }

    /// Whether they are those of changes.
    pub fn is_of_changes(&self) -> bool {
        self.columns.iter().any(|c| c.name == CHANGE)
    }
}

/// Adds the columns to decoded rows. Those that nothing reads are left null. `marks` go along with rows that are changes.
pub fn with_context(
    rows: RecordBatch,
    chunk: &Chunk,
    spans: &[RecordSpan],
    context: &Context,
    marks: Option<&Marks>,
) -> RecordBatch {
    if context.columns.is_empty() {
        return rows;
    }
    let count = rows.num_rows();
    let mut fields: Vec<_> = rows.schema().fields().iter().cloned().collect();
    let mut columns = rows.columns().to_vec();
    for (column, used) in context.columns.iter().zip(&context.used) {
        let field = column.ty.field(column.name, true);
        columns.push(match (&chunk.messages, &chunk.changes) {
            (Some(messages), _) if *used && column.name != FILE.name && column.name != BYTE.name => {
                build(column.name, messages, spans)
            }
            (_, Some(_)) if *used && column.name == ABSENT => match marks {
                Some(marks) => {
                    let schema = rows.schema();
                    let names: Vec<&str> = schema.fields().iter().map(|f| f.name().as_str()).collect();
                    Arc::new(marks.absent_names(&names))
                }
                None => new_null_array(field.data_type(), count),
            },
            (_, Some(changes)) if *used => build_change(column.name, changes, spans),
            (None, None) if *used && column.name == FILE.name => {
                Arc::new(StringArray::from_iter_values(spans.iter().map(|_| own_partition(&chunk.partition))))
            }
            (None, None) if *used && column.name == BYTE.name => {
                let byte = |span: &RecordSpan| i64::try_from(chunk.position_at(span.start).major).ok();
                Arc::new(spans.iter().map(byte).collect::<Int64Array>())
            }
            _ => new_null_array(field.data_type(), count),
        });
        fields.push(Arc::new(field));
    }
    let options = RecordBatchOptions::new().with_row_count(Some(count));
    RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), columns, &options)
        .expect("every column has a value for each row")
}

fn build(name: &str, messages: &Messages, spans: &[RecordSpan]) -> ArrayRef {
    // Rows stand in the order of the messages, some of which were rejected.
    let mut each = messages.each.iter();
    let mut next = |span: &RecordSpan| each.find(|m| m.span.start == span.start);
    let rows = spans.iter();
    match name {
        "origin.topic" => Arc::new(StringArray::from_iter_values(rows.map(|_| &*messages.topic))),
        "origin.partition" => Arc::new(Int32Array::from_value(messages.partition, spans.len())),
        "origin.offset" => {
            Arc::new(rows.map(|s| next(s).and_then(|m| i64::try_from(m.offset).ok())).collect::<Int64Array>())
        }
        "origin.time" => {
            let times: TimestampMicrosecondArray = rows.map(|s| next(s).and_then(|m| m.time)).collect();
            Arc::new(times.with_timezone("UTC"))
        }
        "origin.key" => Arc::new(rows.map(|s| next(s).and_then(|m| key_text(messages, m))).collect::<StringArray>()),
        _ => Arc::new(
            rows.map(|s| next(s).and_then(|m| Some(String::from_utf8_lossy(m.headers?.of(&messages.side)))))
                .collect::<StringArray>(),
        ),
    }
}

fn build_change(name: &str, changes: &Changes, spans: &[RecordSpan]) -> ArrayRef {
    let mut each = changes.each.iter();
    let mut next = |span: &RecordSpan| each.find(|c| c.span.start == span.start);
    let mut of = |read: &dyn Fn(&Change) -> Option<u64>| -> ArrayRef {
        let number = |s: &RecordSpan| next(s).and_then(read).and_then(|n| i64::try_from(n).ok());
        Arc::new(spans.iter().map(number).collect::<Int64Array>())
    };
    let rows = spans.iter();
    match name {
        "origin.position" => of(&|c| Some(c.position.major)),
        "origin.within" => of(&|c| Some(c.position.minor)),
        "origin.transaction" => of(&|c| c.transaction),
        "origin.time" => {
            let times: TimestampMicrosecondArray = rows.map(|s| next(s).and_then(|c| c.time)).collect();
            Arc::new(times.with_timezone("UTC"))
        }
        "origin.table" => {
            let table = |c: &Change| changes.tables.get(usize::try_from(c.table).ok()?);
            Arc::new(rows.map(|s| next(s).and_then(table).map(|t| &**t)).collect::<StringArray>())
        }
        CHANGE => Arc::new(rows.map(|s| next(s).map(|c| c.kind.word())).collect::<StringArray>()),
        _ => {
            let side = |c: &Change| if name == "origin.key" { c.key } else { c.old };
            let text = |c: &Change| Some(String::from_utf8_lossy(side(c)?.of(&changes.side)));
            Arc::new(rows.map(|s| next(s).and_then(text)).collect::<StringArray>())
        }
    }
}

/// A key as text.
pub fn key_text(messages: &Messages, message: &Message) -> Option<String> {
    let bytes = message.key?.of(&messages.side);
    Some(match std::str::from_utf8(bytes) {
        Ok(text) => text.to_string(),
        Err(_) => bytes.iter().fold("\\x".to_string(), |mut text, b| {
            let _ = write!(text, "{b:02x}");
            text
        }),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Position;
    use arrow_array::Array as _;
    use arrow_array::cast::AsArray as _;
    use arrow_array::types::Int64Type;

    /// Three messages; the second is not a row.
    fn chunk() -> Chunk {
        let span = |start, end| RecordSpan { start, end };
        let message = |at: u32, offset, key| Message {
            span: span(at, at + 2),
            offset,
            time: Some(7),
            key,
            headers: (offset == 9).then(|| span(4, 11)),
        };
        let messages = Messages {
            topic: "lock.passages".into(),
            partition: 3,
            each: vec![message(0, 5, Some(span(0, 2))), message(3, 8, None), message(6, 9, Some(span(2, 4)))],
            side: b"L1\xff\xfe{\"a\":1}".to_vec(),
            left_out: 0,
        };
        Chunk {
            partition: "lock.passages/3".into(),
            from: Position::at(5),
            to: Position::at(10),
            bytes: b"{}\nxx\n{}\n".to_vec(),
            records: 3,
            messages: Some(Arc::new(messages)),
            ..Chunk::default()
        }
    }

    fn rows(used: &[bool]) -> RecordBatch {
        let spans = [RecordSpan { start: 0, end: 2 }, RecordSpan { start: 6, end: 8 }];
        let options = RecordBatchOptions::new().with_row_count(Some(2));
        let rows = RecordBatch::try_new_with_options(Arc::new(Schema::empty()), Vec::new(), &options).unwrap();
        let context = Context { columns: COLUMNS, used: used.to_vec() };
        with_context(rows, &chunk(), &spans, &context, None)
    }

    #[test]
    fn rows_find_their_messages_although_some_were_rejected() {
        let rows = rows(&[true; 6]);
        let texts = |name: &str| {
            let column = rows.column_by_name(name).unwrap().as_string::<i32>().clone();
            column.iter().map(|v| v.map(str::to_string)).collect::<Vec<_>>()
        };
        assert_eq!(rows.column_by_name("origin.offset").unwrap().as_primitive::<Int64Type>().values(), &[5, 9]);
        assert_eq!(texts("origin.key"), [Some("L1".into()), Some("\\xfffe".into())]);
        assert_eq!(texts("origin.headers"), [None, Some("{\"a\":1}".into())]);
        assert_eq!(texts("origin.topic"), [Some("lock.passages".into()), Some("lock.passages".into())]);
    }

    #[test]
    fn what_nobody_reads_is_not_built() {
        let rows = rows(&[false, false, true, false, false, false]);
        assert_eq!(rows.num_columns(), 6);
        let nulls: Vec<usize> = rows.columns().iter().map(|c| c.null_count()).collect();
        assert_eq!(nulls, [2, 2, 0, 2, 2, 2]);
        assert_eq!(super::with_context(rows.clone(), &chunk(), &[], &Context::default(), None).num_columns(), 6);
    }

    #[test]
    fn a_record_of_a_chunk_stands_where_it_stood() {
        let one = chunk().single(RecordSpan { start: 6, end: 8 });
        assert_eq!((one.from, one.to, one.bytes.as_slice()), (Position::at(9), Position::at(10), &b"{}\n"[..]));
        assert_eq!(one.position_at(0), Position::at(9));
        let messages = one.messages.unwrap();
        assert_eq!(key_text(&messages, &messages.each[0]).as_deref(), Some("\\xfffe"));
    }
}
