//! Fills a profile from chunks of events, or from rows.

use arrow_array::RecordBatch;
use arrow_schema::DataType;

use super::{Broken, Profile, Seen};
use crate::event::Chunk;
use crate::formats::Format;
use crate::types::SqlType;
use crate::units::show_size;
use crate::values::json::{write_text, write_value};

/// Broken records that are kept.
const KEPT: usize = 5;

impl Profile {
    /// A record that is not an event.
    pub(crate) fn add_broken(&mut self, bytes: &[u8], message: impl Into<String>) {
        self.broken_count += 1;
        if self.broken.len() < KEPT {
            let (number, message) = (self.events + self.broken_count, message.into());
            self.broken.push(Broken { number, message, bytes: bytes[..bytes.len().min(400)].to_vec() });
        }
    }

    /// Adds the events of a chunk.
    pub fn add_chunk(&mut self, chunk: &Chunk, format: &dyn Format) {
        if let Some(message) = &chunk.broken {
            return self.add_broken(&chunk.bytes, message.as_ref());
        }
        match (chunk.too_long, chunk.grown) {
            (Some(length), _) => self.add_broken(
                &chunk.bytes,
                format!("the record has {}, more than `max_record` (16 MiB by default)", show_size(length)),
            ),
            (None, true) => self.add_broken(&chunk.bytes, "a record grew after it had been read"),
            (None, false) => format.profile(chunk, self),
        }
    }

    /// Adds rows of columns whose types are known.
    pub fn add_rows(&mut self, rows: &RecordBatch) {
        self.typed = true;
        self.events += rows.num_rows() as u64;
        let schema = rows.schema();
        let mut text = String::new();
        for (field, column) in schema.fields().iter().zip(rows.columns()) {
            let is_json = field.metadata().contains_key(SqlType::JSON_KEY);
            let Some(node) = self.root.child(field.name()) else { continue };
            for row in 0..rows.num_rows() {
                text.clear();
                if column.is_null(row) {
                    node.profile.add(Seen::Null);
                    continue;
                }
                match column.data_type() {
                    DataType::Utf8 if is_json => write_value(&mut text, column.as_ref(), row, true),
                    _ => write_text(&mut text, column.as_ref(), row),
                }
                node.profile.add(match column.data_type() {
                    DataType::Boolean => Seen::Boolean(text == "true"),
                    DataType::Int32 | DataType::Int64 | DataType::Float64 | DataType::Decimal128(..) => {
                        Seen::Number(text.as_bytes())
                    }
                    _ => Seen::Text(text.as_bytes()),
                });
            }
        }
    }
}
