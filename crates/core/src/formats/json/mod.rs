//! JSON Lines: one JSON object a line.

mod decoder;
mod keys;
mod profile;
mod recognise;
pub(crate) mod scan;

use std::sync::Arc;

use arrow_array::RecordBatch;

use super::recognise::{Recognised, Start};
use super::{Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::columns::OutputColumn;
use crate::config::Options;
use crate::contract::Contract;
use crate::event::Chunk;
use crate::profile::Profile;
use crate::values::json::write_lines;

/// The kind.
pub const KIND: JsonKind = JsonKind;

/// JSON Lines by name.
pub struct JsonKind;

impl FormatKind for JsonKind {
    fn names(&self) -> &'static [&'static str] {
        &["jsonl", "json"]
    }

    fn title(&self) -> &'static str {
        "JSON Lines"
    }

    fn open(&self, _: &Options) -> Arc<dyn Format> {
        Arc::new(JsonLines)
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        Some(Arc::new(JsonLines))
    }

    fn recognise(&self, start: &Start<'_>) -> Option<Recognised> {
        recognise::recognise(start)
    }
}

/// The format `jsonl`.
#[derive(Clone, Copy, Debug)]
pub struct JsonLines;

impl RowWriter for JsonLines {
    fn extension(&self) -> &'static str {
        "jsonl"
    }

    fn format(&self) -> Arc<dyn Format> {
        Arc::new(Self)
    }

    fn write_rows(&self, out: &mut String, rows: &RecordBatch, columns: &[OutputColumn]) {
        write_lines(out, rows, columns);
    }

    fn write_messages(&self, out: &mut String, rows: &RecordBatch, columns: &[OutputColumn]) -> Vec<usize> {
        let start = out.len();
        write_lines(out, rows, columns);
        memchr::memchr_iter(b'\n', &out.as_bytes()[start..]).map(|end| start + end).collect()
    }
}

impl Format for JsonLines {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        let mut cut = Cut::default();
        for end in memchr::memchr_iter(b'\n', bytes) {
            if cut.records == limit {
                return cut;
            }
            cut.records += u64::from(!is_blank(&bytes[cut.bytes..end]));
            cut.bytes = end + 1;
        }
        cut
    }

    fn is_whole(&self, tail: &[u8], _: Option<&[u8]>) -> Tail {
        // Only an object ends by itself: `12` may yet become `123`.
        let tail = tail.strip_prefix(super::BYTE_ORDER_MARK).unwrap_or(tail).trim_ascii();
        let object =
            tail.first() == Some(&b'{') && scan::Scanner::new(tail).skip_value(0).is_ok_and(|end| end == tail.len());
        if object { Tail::Whole } else { Tail::Part }
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(decoder::JsonDecoder::new(contract))
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        Arc::new(Self)
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        profile::add_chunk(profile, chunk);
    }

    fn fitted(&self, _: &Profile) -> Arc<dyn Format> {
        Arc::new(Self)
    }
}

pub(crate) use scan::escape_controls;

/// Whether a text is one whole JSON value.
pub(crate) fn is_value(text: &[u8]) -> bool {
    let text = text.trim_ascii();
    scan::Scanner::new(text).skip_value(0).is_ok_and(|end| end == text.len())
}

/// The bytes of a byte order mark at the very beginning of a partition.
fn mark_length(chunk: &Chunk) -> usize {
    let at_start = chunk.from.major == 0 && chunk.bytes.starts_with(super::BYTE_ORDER_MARK);
    if at_start { super::BYTE_ORDER_MARK.len() } else { 0 }
}

/// The records of lines from a byte on, each with the byte where it begins, without blanks at its end.
fn records(bytes: &[u8], mut start: usize) -> impl Iterator<Item = (usize, &[u8])> {
    std::iter::from_fn(move || {
        while start < bytes.len() {
            let end = memchr::memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |i| start + i);
            let (begin, line) = (start, bytes[start..end].trim_ascii_end());
            start = end + 1;
            if !is_blank(line) {
                return Some((begin, line));
            }
        }
        None
    })
}

/// Blank lines are not records.
fn is_blank(line: &[u8]) -> bool {
    match line.first() {
        None => true,
        // Just what trimming takes away, so that a line is blank before and after it.
        Some(byte) if byte.is_ascii_whitespace() => line.trim_ascii().is_empty(),
        Some(_) => false,
    }
}

#[cfg(test)]
mod tests;
