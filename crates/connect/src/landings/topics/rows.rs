//! Rows as messages.

use arrow_array::{Array, ArrayRef, RecordBatch, cast::AsArray as _, types};
use arrow_schema::DataType;
use base64::Engine as _;
use sluice_core::context::HEADERS as ALL_HEADERS;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::values::json::write_text;

use super::message::OutgoingMessage;
use super::values::ValueWriter;
use crate::broker::headers;

/// How rows become messages.
#[derive(Clone, Debug)]
pub(super) struct MessageShape {
    /// Writes the values.
    pub writer: ValueWriter,
    /// Whether the text of keys is base64 of their bytes.
    pub keys_are_base64: bool,
}

/// The columns of a kind beside those that land: `@KEY`, or `@KEY.NAME`.
fn beside<'b>(rows: &'b RecordBatch, key: &str) -> Vec<(String, &'b ArrayRef)> {
    let schema = rows.schema();
    let name = |i: usize| {
        let rest = schema.field(i).name().strip_prefix('@')?.strip_prefix(key)?;
        (rest.is_empty() || rest.starts_with('.')).then(|| rest.trim_start_matches('.').to_string())
    };
    rows.columns().iter().enumerate().filter_map(|(i, c)| Some((name(i)?, c))).collect()
}

/// The numbers of the partitions that rows ask for; None for a row that leaves it to its key.
pub(super) fn partitions(rows: &RecordBatch) -> Option<Vec<Option<i64>>> {
    let found = beside(rows, "partition");
    let (_, column) = found.first()?;
    Some(match column.data_type() {
        DataType::Int32 => column.as_primitive::<types::Int32Type>().iter().map(|n| n.map(i64::from)).collect(),
        _ => column.as_primitive::<types::Int64Type>().iter().collect(),
    })
}

/// The columns of the rows that land as the values of messages.
pub(super) fn values_of(rows: &RecordBatch) -> Outcome<RecordBatch> {
    let schema = rows.schema();
    let landing: Vec<usize> = (0..rows.num_columns()).filter(|i| !schema.field(*i).name().starts_with('@')).collect();
    rows.project(&landing).map_err(|e| Failure::internal(e.to_string()))
}

impl MessageShape {
    /// Hands every row on as a message, in order. `text` and `message` are used again for each.
    pub(super) fn each(
        &self,
        rows: &RecordBatch,
        text: &mut String,
        message: &mut OutgoingMessage,
        mut take: impl FnMut(usize, &OutgoingMessage) -> Outcome<()>,
    ) -> Outcome<()> {
        let (keys, named, numbers) = (beside(rows, "key"), beside(rows, "headers"), partitions(rows));
        let values = self.writer.write(&values_of(rows)?, text)?;
        let mut part = String::new();
        for row in 0..values.len() {
            message.value.clear();
            values.append(row, &mut message.value);
            message.key = keys.first().filter(|(_, c)| !c.is_null(row)).map(|(_, column)| {
                part.clear();
                write_text(&mut part, column.as_ref(), row);
                self.key(&part)
            });
            message.headers.clear();
            for (name, column) in named.iter().filter(|(_, c)| !c.is_null(row)) {
                part.clear();
                write_text(&mut part, column.as_ref(), row);
                match name == ALL_HEADERS {
                    true => headers::spread(&part, &mut message.headers),
                    false => message.headers.push((name.clone(), Some(part.as_bytes().to_vec()))),
                }
            }
            message.partition =
                numbers.as_ref().and_then(|numbers| numbers[row]).map(|n| i32::try_from(n).unwrap_or(i32::MAX));
            take(row, message)?;
        }
        Ok(())
    }

    fn key(&self, text: &str) -> Vec<u8> {
        let bytes = self.keys_are_base64.then(|| base64::engine::general_purpose::STANDARD.decode(text).ok()).flatten();
        bytes.unwrap_or_else(|| text.as_bytes().to_vec())
    }

    /// Whether a key is text that is not base64, although it has to be.
    pub(super) fn is_broken_key(&self, key: &str) -> bool {
        self.keys_are_base64 && base64::engine::general_purpose::STANDARD.decode(key).is_err()
    }
}

/// The texts of the rows' keys; None where there is no key.
pub(super) fn keys(rows: &RecordBatch) -> Option<ArrayRef> {
    beside(rows, "key").first().map(|(_, column)| ArrayRef::clone(column))
}
