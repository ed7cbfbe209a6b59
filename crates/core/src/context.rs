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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Position;
    use arrow_array::Array as _;
    use arrow_array::cast::AsArray as _;
    use arrow_array::types::Int64Type;

    /// Three messages, of which the second is no row.
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
            identity: String::new(),
            bytes: b"{}\nxx\n{}\n".to_vec(),
            head: None,
            records: 3,
            too_long: None,
            messages: Some(Arc::new(messages)),
        }
    }

    fn rows(used: &[bool]) -> RecordBatch {
        let spans = [RecordSpan { start: 0, end: 2 }, RecordSpan { start: 6, end: 8 }];
        let options = RecordBatchOptions::new().with_row_count(Some(2));
        let rows = RecordBatch::try_new_with_options(Arc::new(Schema::empty()), Vec::new(), &options).unwrap();
        with_context(rows, &chunk(), &spans, used)
    }

    #[test]
    fn rows_find_their_messages_although_some_were_rejected() {
        let rows = rows(&[true; 6]);
        let texts = |name: &str| {
            let column = rows.column_by_name(name).unwrap().as_string::<i32>().clone();
            column.iter().map(|v| v.map(str::to_string)).collect::<Vec<_>>()
        };
        assert_eq!(rows.column_by_name("_offset").unwrap().as_primitive::<Int64Type>().values(), &[5, 9]);
        assert_eq!(texts("_key"), [Some("L1".into()), Some("\\xfffe".into())]);
        assert_eq!(texts("_headers"), [None, Some("{\"a\":1}".into())]);
        assert_eq!(texts("_topic"), [Some("lock.passages".into()), Some("lock.passages".into())]);
    }

    #[test]
    fn what_nobody_reads_is_not_built() {
        let rows = rows(&[false, false, true, false, false, false]);
        assert_eq!(rows.num_columns(), 6);
        let nulls: Vec<usize> = rows.columns().iter().map(|c| c.null_count()).collect();
        assert_eq!(nulls, [2, 2, 0, 2, 2, 2]);
        assert_eq!(super::with_context(rows.clone(), &chunk(), &[], &[]).num_columns(), 6);
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
