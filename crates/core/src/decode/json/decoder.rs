//! Decodes JSON Lines under a contract, straight from bytes into columns.

use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::SchemaRef;

use super::keys::{Keys, Target, add_path};
use super::scan::{self, Broken, RawString, Scanner};
use super::values::{parse_date, parse_epoch, parse_timestamp, push, push_bit, push_number};
use crate::config::ExtraFields;
use crate::contract::Contract;
use crate::decode::builders::{ColumnBuilder, Values};
use crate::decode::{Decoded, Decoder};
use crate::event::{Chunk, EventRows, Position, RecordSpan};
use crate::names;
use crate::reject::{CONTRACT, Reason, Reject};
use crate::types::SqlType;
use crate::values::json::write_string;
use crate::values::time::TimeFormat;

struct Field {
    name: String,
    ty: SqlType,
    not_null: bool,
    format: Option<TimeFormat>,
}

/// Why a record is bad. Boxed: nearly every call returns a result, and nearly none is bad.
struct Bad(Box<Fault>);

struct Fault {
    reason: Reason,
    field: Option<String>,
    message: String,
}

impl Bad {
    #[cold]
    fn new(reason: Reason, field: Option<String>, message: impl Into<String>) -> Self {
        Self(Box::new(Fault { reason, field, message: message.into() }))
    }
}

impl From<Broken> for Bad {
    fn from(broken: Broken) -> Self {
        Self::new(Reason::NOT_JSON, None, format!("{} is due at byte {}", broken.wanted, broken.at))
    }
}

pub(super) struct JsonDecoder {
    schema: SchemaRef,
    fields: Vec<Field>,
    objects: Vec<Keys>,
    extra: ExtraFields,
    columns: Vec<ColumnBuilder>,
    extra_column: Option<ColumnBuilder>,
    extra_text: String,
    scratch: Vec<u8>,
    station: Arc<str>,
}

impl JsonDecoder {
    pub(super) fn new(contract: &Contract) -> Self {
        let mut objects = vec![Keys::default()];
        for (index, field) in contract.fields.iter().enumerate() {
            add_path(&mut objects, &field.path, index);
        }
        let keep = contract.extra == ExtraFields::Keep;
        Self {
            schema: contract.schema(),
            fields: contract
                .fields
                .iter()
                .map(|f| Field { name: f.name.clone(), ty: f.ty, not_null: f.not_null, format: f.format.clone() })
                .collect(),
            objects,
            extra: contract.extra,
            columns: contract.fields.iter().map(|f| ColumnBuilder::new(f.ty)).collect(),
            extra_column: keep.then(|| ColumnBuilder::new(SqlType::Json)),
            extra_text: String::new(),
            scratch: Vec::new(),
            station: CONTRACT.into(),
        }
    }

    fn record(&mut self, line: &[u8], row: usize) -> Result<(), Bad> {
        let mut scanner = Scanner::new(line);
        scanner.skip_blanks();
        if scanner.peek() != b'{' {
            return Err(scanner.fault("a JSON object").into());
        }
        self.extra_text.clear();
        self.object(&mut scanner, 0, row, "", 0)?;
        scanner.skip_blanks();
        if scanner.at < line.len() {
            return Err(scanner.fault("the end of the record").into());
        }
        self.fill_missing(row).map_err(|bad| self.with_near_key(bad, line))
    }

    /// Says which key of the record comes near to the field that is missing: most often a name was mistyped.
    #[cold]
    fn with_near_key(&self, mut bad: Bad, line: &[u8]) -> Bad {
        let unknown: Vec<String> =
            scan::keys(line).into_iter().filter(|k| self.objects[0].get(k.as_bytes()) == Target::Extra).collect();
        let near = bad.0.field.as_ref().and_then(|f| names::nearest(f, unknown.iter().map(String::as_str)));
        if let Some(near) = near {
            bad.0.message.push_str(&format!("; the record has `{near}`"));
        }
        bad
    }

    fn object(
        &mut self,
        scanner: &mut Scanner<'_>,
        object: usize,
        row: usize,
        prefix: &str,
        depth: usize,
    ) -> Result<(), Bad> {
        scanner.expect(b'{', "an object")?;
        let mut place = 0;
        scanner.skip_blanks();
        if scanner.peek() == b'}' {
            scanner.at += 1;
            return Ok(());
        }
        loop {
            let key = scanner.string()?;
            scanner.skip_blanks();
            scanner.expect(b':', "a colon")?;
            scanner.skip_blanks();
            self.member(scanner, object, place, key, row, prefix, depth)?;
            place += 1;
            scanner.skip_blanks();
            match scanner.peek() {
                b',' => {
                    scanner.at += 1;
                    scanner.skip_blanks();
                }
                b'}' => {
                    scanner.at += 1;
                    return Ok(());
                }
                _ => return Err(scanner.fault("a comma or }").into()),
            }
        }
    }

    #[expect(clippy::too_many_arguments, reason = "the state of one member; a struct would be built per value")]
    fn member(
        &mut self,
        scanner: &mut Scanner<'_>,
        object: usize,
        place: usize,
        key: RawString<'_>,
        row: usize,
        prefix: &str,
        depth: usize,
    ) -> Result<(), Bad> {
        let target = if key.escaped {
            let mut name = Vec::new();
            scan::unescape(key.bytes, &mut name);
            self.objects[object].get(&name)
        } else {
            self.objects[object].find(place, key.bytes)
        };
        match target {
            Target::Field(field) => self.value(scanner, field, row),
            Target::Extra => self.extra(scanner, key, prefix, depth),
            Target::Object(inner) => self.nested(scanner, inner, key, row, prefix, depth),
            Target::Both(field, inner) => {
                let start = scanner.at;
                let end = scanner.skip_value(depth)?;
                let mut again = Scanner { bytes: &scanner.bytes[..end], at: start };
                self.value(&mut again, field, row)?;
                if scanner.bytes[start] == b'{' {
                    let mut again = Scanner { bytes: &scanner.bytes[..end], at: start };
                    self.nested(&mut again, inner, key, row, prefix, depth)?;
                }
                Ok(())
            }
        }
    }

    fn nested(
        &mut self,
        scanner: &mut Scanner<'_>,
        object: usize,
        key: RawString<'_>,
        row: usize,
        prefix: &str,
        depth: usize,
    ) -> Result<(), Bad> {
        let name = || String::from_utf8_lossy(key.bytes).into_owned();
        match scanner.peek() {
            b'{' if self.extra == ExtraFields::Ignore => self.object(scanner, object, row, "", depth + 1),
            b'{' => self.object(scanner, object, row, &format!("{prefix}{}.", name()), depth + 1),
            b'n' if scanner.token() == b"null" => Ok(()),
            _ => {
                Err(Bad::new(Reason::TYPE, Some(name()), format!("an object is due, not {}", kind_of(scanner.peek()))))
            }
        }
    }

    fn extra(&mut self, scanner: &mut Scanner<'_>, key: RawString<'_>, prefix: &str, depth: usize) -> Result<(), Bad> {
        let start = scanner.at;
        let end = scanner.skip_value(depth)?;
        if self.extra == ExtraFields::Ignore {
            return Ok(());
        }
        let mut name = prefix.as_bytes().to_vec();
        if !scan::unescape(key.bytes, &mut name) {
            return Err(Bad::new(Reason::NOT_JSON, None, "a key holds half a character"));
        }
        let name = String::from_utf8_lossy(&name).into_owned();
        if self.extra == ExtraFields::Reject {
            let message = "the contract does not name this field";
            return Err(Bad::new(Reason::EXTRA, Some(name), message));
        }
        self.extra_text.push(if self.extra_text.is_empty() { '{' } else { ',' });
        write_string(&mut self.extra_text, &name);
        self.extra_text.push(':');
        self.extra_text.push_str(&String::from_utf8_lossy(&scanner.bytes[start..end]));
        Ok(())
    }

    #[inline]
    fn value(&mut self, scanner: &mut Scanner<'_>, index: usize, row: usize) -> Result<(), Bad> {
        if self.columns[index].len() > row {
            return Err(self.bad(index, Reason::TWICE, "the field stands in the record twice".into()));
        }
        match scanner.peek() {
            b'"' => {
                let string = scanner.string()?;
                self.string(index, string)
            }
            b'{' | b'[' => {
                let start = scanner.at;
                let end = scanner.skip_value(1)?;
                if self.fields[index].ty != SqlType::Json {
                    return Err(self.wrong_type(index, kind_of(scanner.bytes[start])));
                }
                self.columns[index].push_text(&scanner.bytes[start..end]);
                Ok(())
            }
            _ => {
                let start = scanner.at;
                let token = scanner.token();
                self.token(index, token).unwrap_or_else(|| {
                    scanner.at = start;
                    Err(scanner.fault("a value").into())
                })
            }
        }
    }

    fn string(&mut self, index: usize, string: RawString<'_>) -> Result<(), Bad> {
        let field = &self.fields[index];
        if field.ty == SqlType::Json {
            let mut quoted = Vec::with_capacity(string.bytes.len() + 2);
            quoted.push(b'"');
            quoted.extend_from_slice(string.bytes);
            quoted.push(b'"');
            self.columns[index].push_text(&quoted);
            return Ok(());
        }
        if !string.escaped {
            return self.text(index, string.bytes);
        }
        let mut text = std::mem::take(&mut self.scratch);
        text.clear();
        let result = match scan::unescape(string.bytes, &mut text) {
            true => self.text(index, &text),
            false => Err(self.bad(index, Reason::NOT_JSON, "an escape stands for half a character".into())),
        };
        self.scratch = text;
        result
    }

    /// A value that was spelled as a string.
    #[inline]
    fn text(&mut self, index: usize, text: &[u8]) -> Result<(), Bad> {
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

    /// A number, true, false or null; None where the token is no JSON.
    #[inline]
    fn token(&mut self, index: usize, token: &[u8]) -> Option<Result<(), Bad>> {
        let field = &self.fields[index];
        let column = &mut self.columns[index];
        match token {
            b"null" => {
                if field.not_null {
                    return Some(Err(self.bad(index, Reason::MISSING, "the field is null".into())));
                }
                column.push_null();
                return Some(Ok(()));
            }
            b"true" | b"false" => {
                match column.values() {
                    Values::Boolean(values) => values.append(token == b"true"),
                    Values::Text { .. } => {
                        column.push_text(token);
                        return Some(Ok(()));
                    }
                    _ => return Some(Err(self.wrong_type(index, "a boolean"))),
                }
                column.pushed();
                return Some(Ok(()));
            }
            _ if !scan::is_number(token) => return None,
            _ => {}
        }
        let done = match (column.values(), field.ty) {
            (Values::Text { .. }, _) => {
                column.push_text(token);
                return Some(Ok(()));
            }
            (Values::Boolean(_), _) | (Values::Date(_), _) => return Some(Err(self.wrong_type(index, "a number"))),
            (Values::Timestamptz(values), _) => match field.format {
                Some(TimeFormat::Epoch(unit)) => push(values, parse_epoch(token, unit)),
                _ => return Some(Err(self.wrong_type(index, "a number"))),
            },
            (values, ty) => push_number(values, ty, token),
        };
        Some(match done {
            Some(()) => {
                column.pushed();
                Ok(())
            }
            None => Err(self.unreadable(index, token, false)),
        })
    }

    fn fill_missing(&mut self, row: usize) -> Result<(), Bad> {
        for index in 0..self.columns.len() {
            if self.columns[index].len() > row {
                continue;
            }
            if self.fields[index].not_null {
                return Err(self.bad(index, Reason::MISSING, "the field is missing".into()));
            }
            self.columns[index].push_null();
        }
        if let Some(column) = &mut self.extra_column {
            match self.extra_text.is_empty() {
                true => column.push_null(),
                false => {
                    self.extra_text.push('}');
                    column.push_text(self.extra_text.as_bytes());
                }
            }
        }
        Ok(())
    }

    fn bad(&self, index: usize, reason: Reason, message: String) -> Bad {
        Bad::new(reason, Some(self.fields[index].name.clone()), message)
    }

    fn wrong_type(&self, index: usize, found: &str) -> Bad {
        let ty = self.fields[index].ty;
        self.bad(index, Reason::TYPE, format!("{found} where {ty} is due"))
    }

    #[cold]
    fn unreadable(&self, index: usize, text: &[u8], quoted: bool) -> Bad {
        let field = &self.fields[index];
        let shown: String = String::from_utf8_lossy(text).chars().take(80).collect();
        match field.ty {
            SqlType::Timestamptz | SqlType::Date => {
                let due = match &field.format {
                    Some(TimeFormat::Pattern(pattern)) => pattern.clone(),
                    Some(TimeFormat::Epoch(_)) => "a count since 1970".into(),
                    _ if field.ty == SqlType::Date => "YYYY-MM-DD".into(),
                    _ => "RFC 3339 with a zone".into(),
                };
                self.bad(index, Reason::FORMAT, format!("`{shown}` is not {due}"))
            }
            ty if !quoted || scan::is_number(text) => {
                self.bad(index, Reason::RANGE, format!("{shown} does not fit {ty}"))
            }
            ty => self.bad(index, Reason::TYPE, format!("the text `{shown}` where {ty} is due")),
        }
    }

    fn truncate(&mut self, rows: usize) {
        for column in self.columns.iter_mut().chain(&mut self.extra_column) {
            column.truncate(rows);
        }
    }

    fn finish(&mut self, rows: usize) -> RecordBatch {
        let columns: Vec<ArrayRef> =
            self.columns.iter_mut().chain(&mut self.extra_column).map(ColumnBuilder::finish).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)
            .expect("the columns were built for the contract's schema")
    }

    fn reject(&self, chunk: &Chunk, span: RecordSpan, bad: Bad) -> Reject {
        let fault = *bad.0;
        let bytes = span.of(&chunk.bytes);
        Reject {
            partition: Arc::clone(&chunk.partition),
            position: Position::at(chunk.from.major + u64::from(span.start)),
            length: chunk.too_long.unwrap_or(bytes.len() as u64),
            station: Arc::clone(&self.station),
            field: fault.field,
            reason: fault.reason,
            message: fault.message,
            bytes: bytes.to_vec(),
        }
    }
}

impl Decoder for JsonDecoder {
    fn decode(&mut self, chunk: &Chunk) -> Decoded {
        let mut spans = Vec::with_capacity(usize::try_from(chunk.records).unwrap_or(0));
        let mut rejects = Vec::new();
        if let Some(length) = chunk.too_long {
            let bad = Bad::new(Reason::TOO_LONG, None, format!("the record has {length} bytes"));
            let span = RecordSpan { start: 0, end: offset(chunk.bytes.len()) };
            rejects.push(self.reject(chunk, span, bad));
            return Decoded { rows: EventRows { batch: self.finish(0), spans }, rejects };
        }
        let all_utf8 = simdutf8::basic::from_utf8(&chunk.bytes).is_ok();
        let mut start = 0;
        while start < chunk.bytes.len() {
            let end = memchr::memchr(b'\n', &chunk.bytes[start..]).map_or(chunk.bytes.len(), |i| start + i);
            let line = chunk.bytes[start..end].trim_ascii_end();
            let span = RecordSpan { start: offset(start), end: offset(start + line.len()) };
            if !super::is_blank(line) {
                let result = match all_utf8 || simdutf8::basic::from_utf8(line).is_ok() {
                    true => self.record(line, spans.len()),
                    false => Err(Bad::new(Reason::NOT_UTF8, None, "the record is not UTF-8")),
                };
                match result {
                    Ok(()) => spans.push(span),
                    Err(bad) => {
                        self.truncate(spans.len());
                        rejects.push(self.reject(chunk, span, bad));
                    }
                }
            }
            start = end + 1;
        }
        Decoded { rows: EventRows { batch: self.finish(spans.len()), spans }, rejects }
    }
}

/// Chunks stay below 2 GiB: `max_record` is bounded.
fn offset(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

fn kind_of(byte: u8) -> &'static str {
    match byte {
        b'{' => "an object",
        b'[' => "a list",
        b'"' => "a text",
        b't' | b'f' => "a boolean",
        _ => "a number",
    }
}
