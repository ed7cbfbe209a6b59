//! Decodes CSV under a contract, straight from bytes into columns.

use std::sync::Arc;

use super::Dialect;
use super::scan::{self, Ending, Value, Walk};
use crate::change::Absent;
use crate::config::ExtraFields;
use crate::contract::Contract;
use crate::event::{Chunk, EventRows, RecordSpan};
use crate::formats::rows::{Bad, RowBuilder, offset};
use crate::formats::unknown::UnknownFields;
use crate::formats::{BYTE_ORDER_MARK, Decoded, Decoder, MissingFields, json};
use crate::names;
use crate::reject::{Reason, Reject};
use crate::types::SqlType;
use crate::values::json::write_string;

/// What the columns of the present header row lead to.
#[derive(Default)]
struct Head {
    bytes: Option<Arc<[u8]>>,
    names: Vec<String>,
    /// For each column the fields that take it; most often one.
    fields: Vec<Vec<usize>>,
    /// Fields that no column leads to.
    missing: Vec<usize>,
    /// A name that a field takes and that the header row has twice.
    twice: Option<String>,
    known: bool,
}

pub(super) struct CsvDecoder {
    dialect: Dialect,
    rows: RowBuilder,
    /// The column of each field.
    paths: Vec<String>,
    extra: ExtraFields,
    extra_text: String,
    scratch: Vec<u8>,
    head: Head,
    /// The partition whose header row was judged last.
    reported: Option<Arc<str>>,
    unknown: UnknownFields,
}

impl CsvDecoder {
    pub(super) fn new(dialect: Dialect, contract: &Contract) -> Self {
        Self {
            dialect,
            rows: RowBuilder::new(contract),
            paths: contract.fields.iter().map(|f| f.path.join(".")).collect(),
            extra: contract.extra,
            extra_text: String::new(),
            scratch: Vec::new(),
            head: Head::default(),
            reported: None,
            unknown: UnknownFields::default(),
        }
    }

    /// Binds the fields to the columns of a chunk's header row, where that has changed.
    fn bind(&mut self, chunk: &Chunk) {
        if self.head.known && self.head.bytes == chunk.head {
            return;
        }
        let names = chunk.head.as_ref().map_or_else(Vec::new, |head| self.dialect.names(head));
        let mut head = Head { bytes: chunk.head.clone(), known: true, ..Head::default() };
        for (index, path) in self.paths.iter().enumerate() {
            let column = match self.dialect.head {
                true => names.iter().position(|n| n == path),
                false => path.parse::<usize>().ok().and_then(|n| n.checked_sub(1)),
            };
            let Some(column) = column else {
                head.missing.push(index);
                continue;
            };
            if names.iter().filter(|n| *n == path).count() > 1 {
                head.twice = Some(path.clone());
            }
            if head.fields.len() <= column {
                head.fields.resize(column + 1, Vec::new());
            }
            head.fields[column].push(index);
        }
        head.names = names;
        self.head = head;
    }

    /// What the header row of a chunk's partition lacks, where that was not reported for this partition before.
    fn lacks(&mut self, chunk: &Chunk) -> Option<MissingFields> {
        let has_events = chunk.records > 0 && chunk.head.is_some() && chunk.messages.is_none();
        if self.head.missing.is_empty() || !self.dialect.head || !has_events {
            return None;
        }
        if self.reported.as_ref() == Some(&chunk.partition) {
            return None;
        }
        self.reported = Some(Arc::clone(&chunk.partition));
        Some(MissingFields {
            names: self.head.names.clone(),
            fields: self.head.missing.iter().map(|index| self.paths[*index].clone()).collect(),
            all: self.head.missing.len() == self.paths.len(),
        })
    }

    /// Decodes the record at the walk's place.
    fn record(&mut self, walk: &mut Walk<'_>) -> Result<(), Bad> {
        if let Some(name) = &self.head.twice {
            let message = "the header row names this column twice";
            return Err(Bad::new(Reason::TWICE, Some(name.clone()), message));
        }
        self.extra_text.clear();
        let mut column = 0;
        while let Some(value) = walk.next() {
            if let Some(fault) = value.fault() {
                return Err(Bad::new(Reason::NOT_CSV, self.name(column), fault));
            }
            self.value(column, value)?;
            column += 1;
            if value.ending == Ending::Line && !walk.rest_is_blank() {
                let message = "a second line follows, and a message is one event";
                return Err(Bad::new(Reason::NOT_CSV, None, message));
            }
            if value.ending != Ending::Delimiter {
                break;
            }
        }
        if self.dialect.head && column != self.head.names.len() {
            let message = format!("{column} values where the header row names {}", self.head.names.len());
            return Err(Bad::new(Reason::NOT_CSV, None, message));
        }
        self.finish_record(column)
    }

    /// The name of a column, where there is a header row.
    fn name(&self, column: usize) -> Option<String> {
        match self.dialect.head {
            true => self.head.names.get(column).cloned(),
            false => Some((column + 1).to_string()),
        }
    }

    #[inline]
    fn value(&mut self, column: usize, value: Value<'_>) -> Result<(), Bad> {
        let is_null = !value.quoted && self.dialect.nulls.iter().any(|n| n.as_bytes() == value.bytes);
        let fields = self.head.fields.get(column).map_or(0, Vec::len);
        if fields == 0 {
            return self.extra(column, value, is_null);
        }
        for i in 0..fields {
            let index = self.head.fields[column][i];
            // Programs that quote every value write nothing at all as "": only a text can be that.
            let is_nothing = value.quoted && value.bytes.is_empty() && self.rows.fields[index].ty != SqlType::Text;
            if is_null || is_nothing {
                self.rows.null(index, "null")?;
            } else if value.doubled {
                let mut text = std::mem::take(&mut self.scratch);
                text.clear();
                value.write(self.dialect.quote, &mut text);
                let result = self.text(index, &text);
                self.scratch = text;
                result?;
            } else {
                self.text(index, value.bytes)?;
            }
        }
        Ok(())
    }

    #[inline]
    fn text(&mut self, index: usize, text: &[u8]) -> Result<(), Bad> {
        match self.rows.fields[index].ty {
            SqlType::Text => self.rows.text(index, text),
            SqlType::Json if self.rows.is_list(index) => self.rows.text(index, text.trim_ascii()),
            SqlType::Json if !json::is_value(text) => {
                Err(self.rows.bad(index, Reason::TYPE, "the text is no JSON value".into()))
            }
            SqlType::Json => self.rows.text(index, &json::escape_controls(text.trim_ascii())),
            // Programs write True, TRUE and true.
            SqlType::Boolean if text.len() <= 5 => self.rows.text(index, &text.trim_ascii().to_ascii_lowercase()),
            _ => self.rows.text(index, text.trim_ascii()),
        }
    }

    fn extra(&mut self, column: usize, value: Value<'_>, is_null: bool) -> Result<(), Bad> {
        if !is_null {
            self.unknown.note(column, b"", value.bytes);
        }
        if self.extra == ExtraFields::Ignore {
            return Ok(());
        }
        let name = self.name(column).unwrap_or_else(|| (column + 1).to_string());
        if self.extra == ExtraFields::Reject {
            return Err(Bad::new(Reason::EXTRA, Some(name), "the contract does not name this column"));
        }
        self.extra_text.push(if self.extra_text.is_empty() { '{' } else { ',' });
        write_string(&mut self.extra_text, &name);
        self.extra_text.push(':');
        if is_null {
            self.extra_text.push_str("null");
            return Ok(());
        }
        let mut text = Vec::new();
        value.write(self.dialect.quote, &mut text);
        write_string(&mut self.extra_text, &String::from_utf8_lossy(&text));
        Ok(())
    }

    /// Fields without a column, or whose column this record does not reach.
    fn finish_record(&mut self, columns: usize) -> Result<(), Bad> {
        for i in 0..self.head.missing.len() {
            let index = self.head.missing[i];
            self.rows.null(index, "missing").map_err(|bad| self.with_near_name(bad, index))?;
        }
        for column in columns..self.head.fields.len() {
            for i in 0..self.head.fields[column].len() {
                self.rows.null(self.head.fields[column][i], "missing")?;
            }
        }
        self.rows.end(&mut self.extra_text)
    }

    /// Ends a chunk.
    fn decoded(
        &mut self,
        chunk: &Chunk,
        spans: Vec<RecordSpan>,
        rejects: Vec<Reject>,
        lacks: Option<MissingFields>,
    ) -> Decoded {
        let names = &self.head.names;
        let unknown = self
            .unknown
            .finish(chunk, |column, _| names.get(column).cloned().unwrap_or_else(|| (column + 1).to_string()));
        let rows = EventRows { batch: self.rows.finish(spans.len()), spans };
        Decoded { rows, rejects, absent: Absent::default(), lacks, unknown }
    }

    /// Says which column comes near to the one that is missing: most often a name was mistyped.
    #[cold]
    fn with_near_name(&self, mut bad: Bad, index: usize) -> Bad {
        if let Some(near) = names::nearest(&self.paths[index], self.head.names.iter().map(String::as_str)) {
            bad.0.message.push_str(&format!("; the header row names `{near}`"));
        }
        bad
    }
}

impl Decoder for CsvDecoder {
    fn decode_table(&mut self, chunk: &Chunk, _: Option<u32>) -> Decoded {
        let mut spans = Vec::with_capacity(usize::try_from(chunk.records).unwrap_or(0));
        let mut rejects = Vec::new();
        let broken = match chunk.too_long {
            Some(length) => Some(self.rows.too_long(chunk, length)),
            None => chunk.grown.then(|| self.rows.grown(chunk)),
        };
        if let Some(reject) = broken {
            rejects.push(reject);
            return self.decoded(chunk, spans, rejects, None);
        }
        self.bind(chunk);
        let lacks = self.lacks(chunk);
        let bytes = &chunk.bytes;
        let dialect = self.dialect.clone();
        let all_utf8 = simdutf8::basic::from_utf8(bytes).is_ok();
        let mut take = |line: &[u8], span: RecordSpan| {
            self.unknown.start = span.start;
            let result = match all_utf8 || simdutf8::basic::from_utf8(line).is_ok() {
                true => self.record(&mut Walk::new(line, &self.dialect)),
                false => Err(Bad::new(Reason::NOT_UTF8, None, "the record is not UTF-8")),
            };
            match result {
                Ok(()) => spans.push(span),
                Err(bad) => {
                    self.rows.truncate(spans.len());
                    rejects.push(self.rows.reject(chunk, span, bad));
                }
            }
        };
        if let Some(messages) = &chunk.messages {
            messages.each.iter().for_each(|m| take(trim_line_end(m.span.of(bytes)), m.span));
            return self.decoded(chunk, spans, rejects, None);
        }
        let mut start = first_record(chunk, dialect.head);
        while start < bytes.len() {
            let end = scan::record_end(bytes, start, &dialect).unwrap_or(bytes.len());
            let line = trim_line_end(&bytes[start..end]);
            let span = RecordSpan { start: offset(start), end: offset(start + line.len()) };
            // As it was counted when the chunk was cut, with its line end.
            let is_blank = scan::is_blank(&bytes[start..end]);
            start = end;
            if !is_blank {
                take(line, span);
            }
        }
        self.decoded(chunk, spans, rejects, lacks)
    }
}

/// Where the first event of a chunk begins: after the byte order mark and the header row, at a partition's start.
pub(super) fn first_record(chunk: &Chunk, has_head: bool) -> usize {
    if chunk.from.major != 0 {
        return 0;
    }
    match &chunk.head {
        Some(head) if has_head => head.len().min(chunk.bytes.len()),
        _ if chunk.bytes.starts_with(BYTE_ORDER_MARK) => BYTE_ORDER_MARK.len(),
        _ => 0,
    }
}

pub(super) fn trim_line_end(line: &[u8]) -> &[u8] {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    line.strip_suffix(b"\r").unwrap_or(line)
}
