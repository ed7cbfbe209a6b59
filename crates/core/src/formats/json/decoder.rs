//! Decodes JSON Lines under a contract, straight from bytes into columns.

use super::keys::{Keys, Target, add_path, prefixes};
use super::scan::{self, JsonFault, RawString, Scanner};
use crate::change::AbsentBuilder;
use crate::config::ExtraFields;
use crate::contract::Contract;
use crate::event::{Chunk, EventRows, RecordSpan};
use crate::formats::builders::Values;
use crate::formats::rows::{Bad, RowBuilder, offset};
use crate::formats::unknown::UnknownFields;
use crate::formats::values::{parse_epoch, push, push_number};
use crate::formats::{Decoded, Decoder};
use crate::names;
use crate::reject::{Reason, Reject};
use crate::types::SqlType;
use crate::values::json::write_string;
use crate::values::number;
use crate::values::time::TimeFormat;

impl From<JsonFault> for Bad {
    fn from(broken: JsonFault) -> Self {
        Self::new(Reason::NOT_JSON, None, format!("expected {} at byte {}", broken.wanted, broken.at))
    }
}

pub(super) struct JsonDecoder {
    rows: RowBuilder,
    objects: Vec<Keys>,
    extra: ExtraFields,
    extra_text: String,
    scratch: Vec<u8>,
    /// Whether fields that are not in a record are absent rather than missing.
    may_lack: bool,
    absent: AbsentBuilder,
    unknown: UnknownFields,
    /// What stands before the names of each object's fields.
    prefixes: Vec<String>,
}

impl JsonDecoder {
    pub(super) fn new(contract: &Contract) -> Self {
        let mut objects = vec![Keys::default()];
        for (index, field) in contract.fields.iter().enumerate() {
            add_path(&mut objects, &field.path, index);
        }
        let prefixes = prefixes(&objects, contract.fields.iter().map(|f| f.path.as_slice()));
        Self {
            rows: RowBuilder::new(contract),
            objects,
            extra: contract.extra,
            extra_text: String::new(),
            scratch: Vec::new(),
            may_lack: false,
            absent: AbsentBuilder::default(),
            unknown: UnknownFields::default(),
            prefixes,
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
            scanner.expect(b':', "`:`")?;
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
                _ => return Err(scanner.fault("`,` or `}`").into()),
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
            scan::unescape_or_spelled(key.bytes, &mut name);
            self.objects[object].get(&name)
        } else {
            self.objects[object].find(place, key.bytes)
        };
        match target {
            Target::Field(field) => self.value(scanner, field, row),
            Target::Extra => self.extra(scanner, object, key, prefix, depth),
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
            _ => Err(Bad::new(
                Reason::TYPE,
                Some(name()),
                format!("expected an object, found {}", kind_of(scanner.peek())),
            )),
        }
    }

    fn extra(
        &mut self,
        scanner: &mut Scanner<'_>,
        object: usize,
        key: RawString<'_>,
        prefix: &str,
        depth: usize,
    ) -> Result<(), Bad> {
        let start = scanner.at;
        let end = scanner.skip_value(depth)?;
        self.unknown.note(object, key.bytes, &scanner.bytes[start..end]);
        if self.extra == ExtraFields::Ignore {
            return Ok(());
        }
        let mut name = prefix.as_bytes().to_vec();
        if !scan::unescape(key.bytes, &mut name) {
            return Err(Bad::new(Reason::NOT_JSON, None, "a key has half of a surrogate pair"));
        }
        let name = String::from_utf8_lossy(&name).into_owned();
        if self.extra == ExtraFields::Reject {
            let message = "the contract does not name this field";
            return Err(Bad::new(Reason::EXTRA, Some(name), message));
        }
        self.extra_text.push(if self.extra_text.is_empty() { '{' } else { ',' });
        write_string(&mut self.extra_text, &name);
        self.extra_text.push(':');
        self.extra_text.push_str(&String::from_utf8_lossy(&scan::escape_controls(&scanner.bytes[start..end])));
        Ok(())
    }

    #[inline]
    fn value(&mut self, scanner: &mut Scanner<'_>, index: usize, row: usize) -> Result<(), Bad> {
        if self.rows.columns[index].len() > row {
            return Err(self.rows.bad(index, Reason::TWICE, "the field occurs twice in the record".into()));
        }
        match scanner.peek() {
            b'"' => {
                let string = scanner.string()?;
                self.string(index, string)
            }
            b'{' | b'[' => {
                let start = scanner.at;
                let end = scanner.skip_value(1)?;
                if self.rows.fields[index].ty != SqlType::Json {
                    return Err(self.rows.wrong_type(index, kind_of(scanner.bytes[start])));
                }
                self.rows.columns[index].push_text(&scan::escape_controls(&scanner.bytes[start..end]));
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
        let field = &self.rows.fields[index];
        if field.ty == SqlType::Json {
            let mut quoted = Vec::with_capacity(string.bytes.len() + 2);
            quoted.push(b'"');
            quoted.extend_from_slice(string.bytes);
            quoted.push(b'"');
            self.rows.columns[index].push_text(&scan::escape_controls(&quoted));
            return Ok(());
        }
        if !string.escaped {
            return self.rows.text(index, string.bytes);
        }
        let mut text = std::mem::take(&mut self.scratch);
        text.clear();
        let result = match scan::unescape(string.bytes, &mut text) {
            true => self.rows.text(index, &text),
            false => Err(self.rows.bad(index, Reason::NOT_JSON, "an escape is half of a surrogate pair".into())),
        };
        self.scratch = text;
        result
    }

    /// A number, true, false or null; None where the token is not JSON.
    #[inline]
    fn token(&mut self, index: usize, token: &[u8]) -> Option<Result<(), Bad>> {
        let field = &self.rows.fields[index];
        let column = &mut self.rows.columns[index];
        match token {
            b"null" => {
                return Some(self.rows.null(index, "null"));
            }
            b"true" | b"false" => {
                match column.values() {
                    Values::Boolean(values) => values.append(token == b"true"),
                    Values::Text { .. } => {
                        column.push_text(token);
                        return Some(Ok(()));
                    }
                    _ => return Some(Err(self.rows.wrong_type(index, "a boolean"))),
                }
                column.pushed();
                return Some(Ok(()));
            }
            _ if !number::is_number(token) => return None,
            _ => {}
        }
        let done = match (column.values(), field.ty) {
            (Values::Text { .. }, _) => {
                column.push_text(token);
                return Some(Ok(()));
            }
            (Values::Boolean(_), _) | (Values::Date(_), _) => {
                return Some(Err(self.rows.wrong_type(index, "a number")));
            }
            (Values::Timestamptz(values), _) => match field.format {
                Some(TimeFormat::Epoch(unit)) => push(values, parse_epoch(token, unit)),
                _ => return Some(Err(self.rows.wrong_type(index, "a number"))),
            },
            (values, ty) => push_number(values, ty, token),
        };
        Some(match done {
            Some(()) => {
                column.pushed();
                Ok(())
            }
            None => Err(self.rows.unreadable(index, token, false)),
        })
    }

    /// Ends a chunk.
    fn decoded(&mut self, chunk: &Chunk, spans: Vec<RecordSpan>, rejects: Vec<Reject>) -> Decoded {
        let absent = self.absent.finish(spans.len());
        let prefixes = &self.prefixes;
        let unknown = self.unknown.finish(chunk, |object, key| {
            let mut name = prefixes[object].as_bytes().to_vec();
            scan::unescape_or_spelled(key, &mut name);
            String::from_utf8_lossy(&name).into_owned()
        });
        let rows = EventRows { batch: self.rows.finish(spans.len()), spans };
        Decoded { rows, rejects, absent, lacks: None, unknown }
    }

    fn fill_missing(&mut self, row: usize) -> Result<(), Bad> {
        for index in 0..self.rows.columns.len() {
            if self.rows.columns[index].len() > row {
                continue;
            }
            match self.may_lack {
                true => {
                    self.rows.columns[index].push_null();
                    self.absent.note(row, index);
                }
                false => self.rows.null(index, "missing")?,
            }
        }
        self.rows.end(&mut self.extra_text)
    }
}

impl Decoder for JsonDecoder {
    fn decode_table(&mut self, chunk: &Chunk, table: Option<u32>) -> Decoded {
        let mut spans = Vec::with_capacity(usize::try_from(chunk.records).unwrap_or(0));
        let mut rejects = Vec::new();
        if let Some(length) = chunk.too_long {
            rejects.push(self.rows.too_long(chunk, length));
            return self.decoded(chunk, spans, rejects);
        }
        if let Some(message) = &chunk.broken {
            rejects.push(self.rows.broken(chunk, message));
            return self.decoded(chunk, spans, rejects);
        }
        let all_utf8 = simdutf8::basic::from_utf8(&chunk.bytes).is_ok();
        self.may_lack = chunk.changes.is_some();
        let mut take = |line: &[u8], span: RecordSpan| {
            self.unknown.start = span.start;
            let result = match all_utf8 || simdutf8::basic::from_utf8(line).is_ok() {
                true => self.record(line, spans.len()),
                false => Err(Bad::new(Reason::NOT_UTF8, None, "the record is not UTF-8")),
            };
            match result {
                Ok(()) => spans.push(span),
                Err(bad) => {
                    self.rows.truncate(spans.len());
                    self.absent.truncate(spans.len());
                    rejects.push(self.rows.reject(chunk, span, bad));
                }
            }
        };
        if let Some(messages) = &chunk.messages {
            messages.each.iter().for_each(|m| take(m.span.of(&chunk.bytes), m.span));
            return self.decoded(chunk, spans, rejects);
        }
        if let Some(changes) = &chunk.changes {
            let wanted = changes.each.iter().filter(|c| table.is_none_or(|t| c.table == t));
            wanted.for_each(|c| take(c.span.of(&chunk.bytes), c.span));
            return self.decoded(chunk, spans, rejects);
        }
        for (start, line) in super::records(&chunk.bytes, super::mark_length(chunk)) {
            take(line, RecordSpan { start: offset(start), end: offset(start + line.len()) });
        }
        self.decoded(chunk, spans, rejects)
    }
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
