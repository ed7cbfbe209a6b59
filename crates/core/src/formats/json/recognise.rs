//! Recognises JSON Lines, and JSON that is not in lines.

use std::sync::Arc;

use super::{JsonLines, is_value};
use crate::formats::recognise::{Recognised, Start};
use crate::formats::whole::WholeFile;

pub(super) fn recognise(start: &Start<'_>) -> Option<Recognised> {
    let text = start.text.trim_ascii();
    match text.first()? {
        b'{' => Some(json_object(text)),
        b'[' if json_list(text) => Some(Recognised::Events(WholeFile::Document.format())),
        _ => None,
    }
}

/// Lines, or one object that is spread over several.
fn json_object(text: &[u8]) -> Recognised {
    let end = memchr::memchr(b'\n', text);
    let first = text[..end.unwrap_or(text.len())].trim_ascii_end();
    let opens_only = first == b"{" || first.ends_with(b",") || first.ends_with(b":") || first.ends_with(b"{");
    match end {
        Some(_) if opens_only && !is_value(first) => Recognised::Events(WholeFile::Document.format()),
        _ => Recognised::Events(Arc::new(JsonLines)),
    }
}

fn json_list(text: &[u8]) -> bool {
    matches!(text[1..].trim_ascii_start().first(), Some(b'{' | b'[' | b'"' | b'0'..=b'9' | b']'))
}
