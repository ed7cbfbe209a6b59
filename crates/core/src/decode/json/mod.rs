//! JSON Lines: one JSON object a line.

mod decoder;
mod keys;
pub(crate) mod scan;

use super::{Cut, Decoder, Format, Tail};
use crate::contract::Contract;
use crate::event::Chunk;

/// The format `jsonl`.
pub struct JsonLines;

impl Format for JsonLines {
    fn name(&self) -> &'static str {
        "jsonl"
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
}

pub(crate) use scan::escape_controls;

/// Whether a text is one whole JSON value.
pub(crate) fn is_value(text: &[u8]) -> bool {
    let text = text.trim_ascii();
    scan::Scanner::new(text).skip_value(0).is_ok_and(|end| end == text.len())
}

/// The bytes of a mark of the byte order at the very beginning of a partition.
fn mark_length(chunk: &Chunk) -> usize {
    let at_start = chunk.from.major == 0 && chunk.bytes.starts_with(super::BYTE_ORDER_MARK);
    if at_start { super::BYTE_ORDER_MARK.len() } else { 0 }
}

/// Blank lines are no records.
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
