//! Records of rows that have none: those that a station makes of many events.

use std::sync::Arc;

use arrow_array::RecordBatch;

use crate::columns::OutputColumn;
use crate::event::{Chunk, Message, Messages, Position, RecordSpan};
use crate::formats::{JsonLines, RowWriter as _};
use crate::plan::transform::RowFault;

/// Rows that a station made, as records: their partition is the event, their positions count the rows that it has made.
pub(super) fn made_chunk(
    name: &str,
    first: u64,
    rows: &RecordBatch,
    columns: &[OutputColumn],
    lost: &[(RowFault, String)],
) -> (Arc<Chunk>, Arc<[RecordSpan]>) {
    let mut text = String::new();
    let mut ends = JsonLines.write_messages(&mut text, rows, columns);
    for (_, group) in lost {
        text.push_str(group);
        ends.push(text.len());
        text.push('\n');
    }
    let place = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let mut start = 0;
    let mut spans = Vec::with_capacity(ends.len());
    for end in &ends {
        spans.push(RecordSpan { start: place(start), end: place(*end) });
        start = end + 1;
    }
    let message =
        |(span, offset): (&RecordSpan, u64)| Message { span: *span, offset, time: None, key: None, headers: None };
    let each = spans.iter().zip(first..).map(message).collect();
    let messages = Messages { topic: name.into(), partition: 0, each, side: Vec::new(), left_out: 0 };
    let records = ends.len() as u64;
    let chunk = Chunk {
        partition: name.into(),
        from: Position::at(first),
        to: Position::at(first + records),
        bytes: text.into_bytes(),
        records,
        messages: Some(Arc::new(messages)),
        ..Chunk::default()
    };
    (Arc::new(chunk), spans.into())
}
