//! Columns that nobody declares: what a broker tells of each message, beside the fields of the contract.
//!
//! They can be named wherever a field can. Where an event also arrives from files, they are null for those.

use std::fmt::Write as _;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use arrow_array::{RecordBatchOptions, new_null_array};
use arrow_schema::Schema;

use crate::event::{Chunk, Message, Messages, RecordSpan};
use crate::plan::OutputColumn;
use crate::types::SqlType;

/// One of these columns.
#[derive(Debug)]
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

/// The columns of events that arrive as messages.
pub const COLUMNS: &[ContextColumn] = &[
    column("_topic", SqlType::Text, "the topic that the message arrived in"),
    column("_partition", SqlType::Integer, "the number of its partition"),
    column("_offset", SqlType::Bigint, "its offset in the partition"),
    column("_time", SqlType::Timestamptz, "the broker's time of the message"),
    column("_key", SqlType::Text, "its key; one that is no UTF-8 is written as \\x and hexadecimal digits"),
    column("_headers", SqlType::Json, "its headers as a json object; of a name that occurs twice, the last"),
];

/// They as columns of an event.
pub fn output_columns() -> impl Iterator<Item = OutputColumn> {
    COLUMNS.iter().map(|c| OutputColumn { name: c.name.into(), ty: c.ty, nullable: true })
}

/// Adds the columns to decoded rows. `used` says for each of [`COLUMNS`] whether anything reads it; the others are
/// left null.
pub fn with_context(rows: RecordBatch, chunk: &Chunk, spans: &[RecordSpan], used: &[bool]) -> RecordBatch {
    if used.is_empty() {
        return rows;
    }
    let count = rows.num_rows();
    let mut fields: Vec<_> = rows.schema().fields().iter().cloned().collect();
    let mut columns = rows.columns().to_vec();
    for (column, used) in COLUMNS.iter().zip(used) {
        let field = column.ty.field(column.name, true);
        columns.push(match &chunk.messages {
            Some(messages) if *used => build(column.name, messages, spans),
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
        "_topic" => Arc::new(StringArray::from_iter_values(rows.map(|_| &*messages.topic))),
        "_partition" => Arc::new(Int32Array::from_value(messages.partition, spans.len())),
        "_offset" => Arc::new(rows.map(|s| next(s).and_then(|m| i64::try_from(m.offset).ok())).collect::<Int64Array>()),
        "_time" => {
            let times: TimestampMicrosecondArray = rows.map(|s| next(s).and_then(|m| m.time)).collect();
            Arc::new(times.with_timezone("UTC"))
        }
        "_key" => Arc::new(rows.map(|s| next(s).and_then(|m| key_text(messages, m))).collect::<StringArray>()),
        _ => Arc::new(
            rows.map(|s| next(s).and_then(|m| Some(String::from_utf8_lossy(m.headers?.of(&messages.side)))))
                .collect::<StringArray>(),
        ),
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
