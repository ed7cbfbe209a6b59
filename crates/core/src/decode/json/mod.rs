//! JSON Lines: one JSON object a line.

mod decoder;
mod keys;
mod scan;
mod values;

use super::{Cut, Decoder, Format};
use crate::contract::Contract;

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

    fn is_whole(&self, tail: &[u8]) -> bool {
        // Only an object ends by itself: `12` may yet become `123`.
        let tail = tail.trim_ascii();
        tail.first() == Some(&b'{') && scan::Scanner::new(tail).skip_value(0).is_ok_and(|end| end == tail.len())
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(decoder::JsonDecoder::new(contract))
    }
}

/// Blank lines are no records.
fn is_blank(line: &[u8]) -> bool {
    match line.first() {
        None => true,
        Some(b' ' | b'\t' | b'\r') => line.trim_ascii().is_empty(),
        Some(_) => false,
    }
}

#[cfg(test)]
mod tests;
