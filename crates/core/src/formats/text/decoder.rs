//! Decodes lines of text under a contract.

use std::sync::Arc;

use regex::CaptureLocations;
use rustc_hash::FxHashMap;

use super::{LINE, Text, lines, without_end};
use crate::change::Absent;
use crate::config::ExtraFields;
use crate::contract::Contract;
use crate::event::{Chunk, EventRows, RecordSpan};
use crate::formats::rows::{Bad, RowBuilder, offset};
use crate::formats::{Decoded, Decoder, json};
use crate::reject::Reason;
use crate::types::SqlType;
use crate::values::json::write_string;

pub(super) struct TextDecoder {
    format: Text,
    rows: RowBuilder,
    /// The fields that take each name.
    fields: FxHashMap<String, Vec<usize>>,
    /// Which fields the present line has filled.
    filled: Vec<bool>,
    places: Option<CaptureLocations>,
    extra: ExtraFields,
    extra_text: String,
}

impl TextDecoder {
    pub(super) fn new(format: Text, contract: &Contract) -> Self {
        let mut fields: FxHashMap<String, Vec<usize>> = FxHashMap::default();
        for (index, field) in contract.fields.iter().enumerate() {
            fields.entry(field.path.join(".")).or_default().push(index);
        }
        Self {
            format,
            rows: RowBuilder::new(contract),
            filled: vec![false; contract.fields.len()],
            fields,
            places: None,
            extra: contract.extra,
            extra_text: String::new(),
        }
    }

    fn record(&mut self, line: &[u8]) -> Result<(), Bad> {
        let Ok(line) = std::str::from_utf8(line) else {
            return Err(Bad::new(Reason::NOT_UTF8, None, "the record is not UTF-8"));
        };
        self.filled.fill(false);
        self.extra_text.clear();
        let mut first: Option<Bad> = None;
        let Self { format, rows, fields, filled, places, extra, extra_text } = self;
        let mut each = |name: &str, value: Option<&str>| {
            if first.is_some() {
                return;
            }
            let value = value.filter(|value| !format.is_null(value));
            let result = match fields.get(name) {
                Some(fields) => fields.iter().try_for_each(|field| put(rows, filled, *field, name, value)),
                None => keep(*extra, extra_text, name, value),
            };
            first = result.err();
        };
        let cut = format.layout.cut(line, places, &mut each);
        if let Some(bad) = first {
            return Err(bad);
        }
        cut.map_err(|message| Bad::new(Reason::NOT_LINE, None, message))?;
        for index in self.fields.get(LINE).into_iter().flatten() {
            if !self.filled[*index] {
                put(&mut self.rows, &mut self.filled, *index, LINE, Some(line))?;
            }
        }
        for index in 0..self.filled.len() {
            if !self.filled[index] {
                self.rows.null(index, "missing")?;
            }
        }
        self.rows.end(&mut self.extra_text)
    }
}

/// A value for a field.
fn put(rows: &mut RowBuilder, filled: &mut [bool], index: usize, name: &str, value: Option<&str>) -> Result<(), Bad> {
    if std::mem::replace(&mut filled[index], true) {
        return Err(Bad::new(Reason::TWICE, Some(name.into()), "the line has this key twice"));
    }
    let Some(value) = value else { return rows.null(index, "null") };
    let ty = rows.fields[index].ty;
    match ty {
        SqlType::Text => rows.text(index, value.as_bytes()),
        _ if value.trim().is_empty() => rows.null(index, "null"),
        SqlType::Json if !json::is_value(value.as_bytes()) => {
            Err(rows.bad(index, Reason::TYPE, "the text is no JSON value".into()))
        }
        SqlType::Json => rows.text(index, &json::escape_controls(value.trim().as_bytes())),
        SqlType::Boolean if value.len() <= 16 => rows.text(index, value.trim().to_ascii_lowercase().as_bytes()),
        _ => rows.text(index, value.trim().as_bytes()),
    }
}

/// A value that the contract does not name.
fn keep(extra: ExtraFields, text: &mut String, name: &str, value: Option<&str>) -> Result<(), Bad> {
    match extra {
        ExtraFields::Ignore => return Ok(()),
        ExtraFields::Reject => {
            return Err(Bad::new(Reason::EXTRA, Some(name.into()), "the contract does not name this field"));
        }
        ExtraFields::Keep => {}
    }
    text.push(if text.is_empty() { '{' } else { ',' });
    write_string(text, name);
    text.push(':');
    match value {
        Some(value) => write_string(text, value),
        None => text.push_str("null"),
    }
    Ok(())
}

impl Decoder for TextDecoder {
    fn decode_table(&mut self, chunk: &Chunk, _: Option<u32>) -> Decoded {
        let mut spans: Vec<RecordSpan> = Vec::with_capacity(usize::try_from(chunk.records).unwrap_or(0));
        let mut rejects = Vec::new();
        let broken = match chunk.too_long {
            Some(length) => Some(self.rows.too_long(chunk, length)),
            None => chunk.grown.then(|| self.rows.grown(chunk)),
        };
        let mut take = |line: &[u8], span: RecordSpan| match self.record(line) {
            Ok(()) => spans.push(span),
            Err(bad) => {
                self.rows.truncate(spans.len());
                rejects.push(self.rows.reject(chunk, span, bad));
            }
        };
        match (&broken, &chunk.messages) {
            (Some(_), _) => {}
            (None, Some(messages)) => {
                let messages = Arc::clone(messages);
                messages.each.iter().for_each(|m| take(without_end(m.span.of(&chunk.bytes)), m.span));
            }
            (None, None) => {
                for (start, line) in lines(chunk) {
                    take(line, RecordSpan { start: offset(start), end: offset(start + line.len()) });
                }
            }
        }
        rejects.extend(broken);
        let rows = EventRows { batch: self.rows.finish(spans.len()), spans };
        Decoded { rows, rejects, absent: Absent::default(), lacks: None, unknown: Vec::new() }
    }
}
