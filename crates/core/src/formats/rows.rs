//! Rows that are being decoded: typed columns that take one value after the other, whatever the format.

use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::SchemaRef;

use super::builders::{ColumnBuilder, Values};
use super::values::{parse_date, parse_timestamp, push, push_bit, push_number};
use crate::config::ExtraFields;
use crate::contract::Contract;
use crate::event::{Chunk, RecordSpan};
use crate::limit::Limit;
use crate::reject::{CONTRACT, Reason, Reject};
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;
use crate::values::number;
use crate::values::time::TimeFormat;

/// What a decoder must know of a field.
pub(super) struct Field {
    pub name: String,
    pub ty: SqlType,
    pub not_null: bool,
    pub format: Option<TimeFormat>,
}

/// Why a record is bad. Boxed: nearly every call returns a result, and nearly none is bad.
pub(super) struct Bad(pub Box<Fault>);

pub(super) struct Fault {
    pub reason: Reason,
    pub field: Option<String>,
    pub message: String,
}

impl Bad {
    #[cold]
    pub(super) fn new(reason: Reason, field: Option<String>, message: impl Into<String>) -> Self {
        Self(Box::new(Fault { reason, field, message: message.into() }))
    }
}

/// The columns of a contract while they grow.
pub(super) struct RowBuilder {
    schema: SchemaRef,
    pub fields: Vec<Field>,
    pub columns: Vec<ColumnBuilder>,
    /// The column of fields that the contract does not name, where they are kept.
    extra_column: Option<ColumnBuilder>,
    /// The fields of narrower types.
    limits: Vec<(usize, Limit, BytesSpelling)>,
    station: Arc<str>,
}

impl RowBuilder {
    pub(super) fn new(contract: &Contract) -> Self {
        let field = |f: &crate::contract::ContractField| Field {
            name: f.name.clone(),
            ty: f.ty,
            not_null: f.not_null,
            format: f.format.clone(),
        };
        let keep = contract.extra == ExtraFields::Keep;
        Self {
            schema: contract.schema(),
            fields: contract.fields.iter().map(field).collect(),
            columns: contract.fields.iter().map(|f| ColumnBuilder::new(f.ty)).collect(),
            extra_column: keep.then(|| ColumnBuilder::new(SqlType::Json)),
            limits: contract.fields.iter().enumerate().filter_map(|(i, f)| Some((i, f.limit?, f.spelling))).collect(),
            station: CONTRACT.into(),
        }
    }

    /// A value that was spelled as text.
    #[inline]
    pub(super) fn text(&mut self, index: usize, text: &[u8]) -> Result<(), Bad> {
        let field = &self.fields[index];
        let column = &mut self.columns[index];
        let done = match (column.values(), field.ty) {
            (Values::Text { .. }, _) => {
                column.push_text(text);
                return Ok(());
            }
            (Values::Timestamptz(values), _) => push(values, parse_timestamp(text, field.format.as_ref())),
            (Values::Date(values), _) => push(values, parse_date(text, field.format.as_ref())),
            (Values::Boolean(values), _) => match text {
                b"true" => push_bit(values, true),
                b"false" => push_bit(values, false),
                _ => None,
            },
            (values, ty) => push_number(values, ty, text),
        };
        match done {
            Some(()) => {
                column.pushed();
                Ok(())
            }
            None => Err(self.unreadable(index, text, true)),
        }
    }

    /// Whether a field is a list, whose values need not be JSON.
    pub(super) fn is_list(&self, index: usize) -> bool {
        self.limits.iter().any(|(i, limit, _)| *i == index && matches!(limit, Limit::List(_)))
    }

    /// A value that is null or not there; `what` says which, for the reject.
    #[inline]
    pub(super) fn null(&mut self, index: usize, what: &str) -> Result<(), Bad> {
        if self.fields[index].not_null {
            return Err(self.bad(index, Reason::MISSING, format!("the field is {what}")));
        }
        self.columns[index].push_null();
        Ok(())
    }

    /// Ends a record whose fields all have their values: those of narrower types are checked. `object` has the fields that the
    /// contract does not name, and lacks its last brace; it is empty where there are none.
    pub(super) fn end(&mut self, object: &mut String) -> Result<(), Bad> {
        for i in 0..self.limits.len() {
            let (index, limit, spelling) = self.limits[i];
            if let Err(text) = self.columns[index].narrow_last(limit, spelling) {
                return Err(self.does_not_fit(index, limit, spelling, &text));
            }
        }
        let Some(column) = &mut self.extra_column else { return Ok(()) };
        match object.is_empty() {
            true => column.push_null(),
            false => {
                object.push('}');
                column.push_text(object.as_bytes());
            }
        }
        Ok(())
    }

    #[cold]
    fn does_not_fit(&self, index: usize, limit: Limit, spelling: BytesSpelling, text: &str) -> Bad {
        let shown: String = text.chars().take(80).collect();
        match limit {
            Limit::Uuid => self.bad(index, Reason::TYPE, format!("`{shown}` is no uuid")),
            Limit::List(_) => self.bad(index, Reason::TYPE, format!("`{shown}` is no {limit}")),
            Limit::Time => self.bad(index, Reason::FORMAT, format!("`{shown}` is no time of day such as 08:05:09")),
            Limit::Bytea => {
                let expected = match spelling {
                    BytesSpelling::Base64 => "base64",
                    BytesSpelling::Hex => "hexadecimal digits, two for each byte",
                    BytesSpelling::Marked | BytesSpelling::Text => "\\x and hexadecimal digits, two for each byte",
                };
                let marked = spelling == BytesSpelling::Marked;
                let hint =
                    if marked { "; for other spellings: format 'base64', 'hex' or 'text' in the contract" } else { "" };
                self.bad(index, Reason::FORMAT, format!("`{shown}` is not {expected}{hint}"))
            }
            Limit::Varchar(_) | Limit::Char(_) => {
                let length = text.chars().count();
                self.bad(index, Reason::RANGE, format!("a text of {length} characters does not fit {limit}: `{shown}`"))
            }
            Limit::Smallint | Limit::Real => self.bad(index, Reason::RANGE, format!("{shown} does not fit {limit}")),
        }
    }

    #[cold]
    pub(super) fn bad(&self, index: usize, reason: Reason, message: String) -> Bad {
        Bad::new(reason, Some(self.fields[index].name.clone()), message)
    }

    #[cold]
    pub(super) fn wrong_type(&self, index: usize, found: &str) -> Bad {
        let ty = self.fields[index].ty;
        self.bad(index, Reason::TYPE, format!("expected {ty}, found {found}"))
    }

    #[cold]
    pub(super) fn unreadable(&self, index: usize, text: &[u8], quoted: bool) -> Bad {
        let field = &self.fields[index];
        let shown: String = String::from_utf8_lossy(text).chars().take(80).collect();
        match field.ty {
            SqlType::Timestamptz | SqlType::Date => {
                let expected = match &field.format {
                    Some(TimeFormat::Pattern(pattern)) => pattern.clone(),
                    Some(TimeFormat::Epoch(_)) => "a count since 1970".into(),
                    _ if field.ty == SqlType::Date => "YYYY-MM-DD".into(),
                    _ => "RFC 3339 with a zone".into(),
                };
                self.bad(index, Reason::FORMAT, format!("`{shown}` is not {expected}"))
            }
            ty if !quoted || number::is_number(text) => {
                self.bad(index, Reason::RANGE, format!("{shown} does not fit {ty}"))
            }
            ty => self.bad(index, Reason::TYPE, format!("expected {ty}, found the text `{shown}`")),
        }
    }

    /// Forgets what a bad record has added to the rows.
    pub(super) fn truncate(&mut self, rows: usize) {
        for column in self.columns.iter_mut().chain(&mut self.extra_column) {
            column.truncate(rows);
        }
    }

    /// The rows as a batch; the columns start again.
    pub(super) fn finish(&mut self, rows: usize) -> RecordBatch {
        let columns: Vec<ArrayRef> =
            self.columns.iter_mut().chain(&mut self.extra_column).map(ColumnBuilder::finish).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)
            .expect("the columns were built for the contract's schema")
    }

    #[cold]
    pub(super) fn reject(&self, chunk: &Chunk, span: RecordSpan, bad: Bad) -> Reject {
        let fault = *bad.0;
        let bytes = span.of(&chunk.bytes);
        Reject {
            partition: Arc::clone(&chunk.partition),
            position: chunk.position_at(span.start),
            length: chunk.too_long.unwrap_or(bytes.len() as u64),
            station: Arc::clone(&self.station),
            field: fault.field,
            reason: fault.reason,
            message: fault.message,
            bytes: bytes.to_vec(),
        }
    }

    /// The rest of a record that had been read before its end.
    pub(super) fn grown(&self, chunk: &Chunk) -> Reject {
        let message = "the record before this place had no line end when it was read, and was continued here later; \
                       the record landed as it was then";
        let end = chunk.bytes.strip_suffix(b"\n").unwrap_or(&chunk.bytes);
        let end = end.strip_suffix(b"\r").unwrap_or(end).len();
        self.reject(chunk, RecordSpan { start: 0, end: offset(end) }, Bad::new(Reason::GROWN, None, message))
    }

    /// The one record of a chunk that cannot be told from its neighbours.
    pub(super) fn broken(&self, chunk: &Chunk, message: &str) -> Reject {
        let bad = Bad::new(Reason::DAMAGED, None, message);
        self.reject(chunk, RecordSpan { start: 0, end: offset(chunk.bytes.len()) }, bad)
    }

    /// The one record of a chunk that is too long.
    pub(super) fn too_long(&self, chunk: &Chunk, length: u64) -> Reject {
        let bad = Bad::new(Reason::TOO_LONG, None, format!("the record has {length} bytes"));
        self.reject(chunk, RecordSpan { start: 0, end: offset(chunk.bytes.len()) }, bad)
    }
}

/// Chunks stay below 2 GiB: `max_record` is bounded.
pub(super) fn offset(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}
