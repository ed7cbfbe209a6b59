//! Fills a profile from the bytes of events, or from rows.

use arrow_array::RecordBatch;
use arrow_schema::DataType;

use super::{Broken, Node, Profile, Seen};
use crate::decode::csv::{Csv, Dialect, Ending, Walk};
use crate::decode::json::scan::{Broken as BrokenJson, Scanner, unescape};
use crate::decode::{BYTE_ORDER_MARK, Format as _};
use crate::event::Chunk;
use crate::types::SqlType;
use crate::values::json::{write_text, write_value};

/// Broken records that are kept.
const KEPT: usize = 5;

impl Profile {
    /// A record that is no event.
    fn broken(&mut self, bytes: &[u8], message: String) {
        self.broken_count += 1;
        if self.broken.len() < KEPT {
            let number = self.events + self.broken_count;
            self.broken.push(Broken { number, message, bytes: bytes[..bytes.len().min(400)].to_vec() });
        }
    }

    /// Adds one line of JSON Lines.
    pub fn add_json(&mut self, line: &[u8]) {
        self.typed = true;
        if std::str::from_utf8(line).is_err() {
            return self.broken(line, "not UTF-8".into());
        }
        // Once to see whether it is whole, so that a broken record leaves no trace in the fields.
        let mut scanner = Scanner::new(line);
        scanner.skip_blanks();
        let start = scanner.at;
        let whole = match scanner.peek() {
            b'{' => scanner.skip_value(0),
            _ => Err(scanner.fault("a JSON object")),
        };
        match whole {
            Ok(end) if line[end..].trim_ascii().is_empty() => {}
            Ok(end) => return self.broken(line, format!("expected the end of the record at byte {end}")),
            Err(BrokenJson { at, wanted }) => return self.broken(line, format!("expected {wanted} at byte {at}")),
        }
        self.events += 1;
        self.bytes += line.len() as u64;
        let mut scanner = Scanner { bytes: line, at: start };
        let _ = members(&mut scanner, &mut self.root);
    }

    /// Adds the records of CSV, each with one value for each name.
    pub fn add_csv(&mut self, bytes: &[u8], names: &[String], dialect: &Dialect) {
        let format = Csv::new(dialect.clone());
        let mut at = 0;
        while at < bytes.len() {
            let cut = format.cut(&bytes[at..], 1);
            let end = if cut.records == 1 { at + cut.bytes } else { bytes.len() };
            let record = bytes[at..end].trim_ascii_start();
            at = end;
            if !record.is_empty() {
                self.csv_record(record, names, dialect);
            }
        }
    }

    fn csv_record(&mut self, record: &[u8], names: &[String], dialect: &Dialect) {
        let trimmed = record.trim_ascii_end();
        if std::str::from_utf8(record).is_err() {
            return self.broken(trimmed, "not UTF-8".into());
        }
        let mut values = Vec::with_capacity(names.len());
        let mut walk = Walk::new(record, dialect);
        while let Some(value) = walk.next() {
            if value.ending == Ending::OpenQuote {
                return self.broken(trimmed, "a quote is opened and never closed".into());
            }
            values.push(value);
            if value.ending != Ending::Delimiter {
                break;
            }
        }
        if !names.is_empty() && values.len() != names.len() {
            let message = format!("{} values where the header row names {}", values.len(), names.len());
            return self.broken(trimmed, message);
        }
        self.events += 1;
        self.bytes += record.len() as u64;
        let mut text = Vec::new();
        for (i, value) in values.iter().enumerate() {
            let numbered;
            let name = match names.get(i) {
                Some(name) => name,
                None => {
                    numbered = (i + 1).to_string();
                    &numbered
                }
            };
            let Some(node) = self.root.child(name) else { continue };
            if !value.quoted && dialect.nulls.iter().any(|n| n.as_bytes() == value.bytes) {
                node.profile.add(Seen::Null);
                continue;
            }
            text.clear();
            value.write(dialect.quote, &mut text);
            node.profile.add(Seen::Text(&text));
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

    /// Adds the events of a chunk: CSV of a dialect, or JSON Lines.
    pub fn add_chunk(&mut self, chunk: &Chunk, dialect: Option<&Dialect>) {
        if let Some(length) = chunk.too_long {
            return self.broken(&chunk.bytes, format!("the record has {length} bytes"));
        }
        if let Some(messages) = &chunk.messages {
            for message in &messages.each {
                let value = message.span.of(&chunk.bytes);
                match dialect {
                    Some(dialect) => self.add_csv(value, &[], dialect),
                    None => self.add_json(value.trim_ascii()),
                }
            }
            return;
        }
        let Some(dialect) = dialect else { return self.add_json_lines(&chunk.bytes) };
        let head = chunk.head.as_deref().unwrap_or_default();
        let skipped = if chunk.from.major == 0 { head.len().min(chunk.bytes.len()) } else { 0 };
        let names = if dialect.head { dialect.names(head) } else { Vec::new() };
        let bytes = &chunk.bytes[skipped..];
        let bytes = if chunk.from.major == 0 { bytes.strip_prefix(BYTE_ORDER_MARK).unwrap_or(bytes) } else { bytes };
        self.add_csv(bytes, &names, dialect);
    }

    /// Adds all lines of a piece of JSON Lines.
    pub fn add_json_lines(&mut self, bytes: &[u8]) {
        let bytes = bytes.strip_prefix(BYTE_ORDER_MARK).unwrap_or(bytes);
        for line in bytes.split(|b| *b == b'\n').map(<[u8]>::trim_ascii).filter(|l| !l.is_empty()) {
            self.add_json(line);
        }
    }
}

/// Walks over the members of an object that is known to be whole.
fn members(scanner: &mut Scanner<'_>, node: &mut Node) -> Result<(), BrokenJson> {
    scanner.expect(b'{', "an object")?;
    let mut name = Vec::new();
    scanner.members(b'}', |scanner| {
        let key = scanner.string()?;
        name.clear();
        if !unescape(key.bytes, &mut name) {
            name.clear();
            name.extend_from_slice(key.bytes);
        }
        scanner.skip_blanks();
        scanner.expect(b':', "`:`")?;
        scanner.skip_blanks();
        match node.child(&String::from_utf8_lossy(&name)) {
            Some(child) => value(scanner, child),
            None => scanner.skip_value(0).map(|_| ()),
        }
    })
}

fn value(scanner: &mut Scanner<'_>, node: &mut Node) -> Result<(), BrokenJson> {
    let start = scanner.at;
    match scanner.peek() {
        b'"' => {
            let string = scanner.string()?;
            if !string.escaped {
                node.profile.add(Seen::Text(string.bytes));
                return Ok(());
            }
            let mut text = Vec::new();
            unescape(string.bytes, &mut text);
            node.profile.add(Seen::Text(&text));
        }
        b'{' => {
            let end = Scanner { bytes: scanner.bytes, at: start }.skip_value(0)?;
            node.profile.add(Seen::Object(&scanner.bytes[start..end]));
            members(scanner, node)?;
        }
        b'[' => {
            scanner.skip_value(0)?;
            node.profile.add(Seen::List(&scanner.bytes[start..scanner.at]));
        }
        _ => match scanner.token() {
            b"null" => node.profile.add(Seen::Null),
            b"true" => node.profile.add(Seen::Boolean(true)),
            b"false" => node.profile.add(Seen::Boolean(false)),
            token => node.profile.add(Seen::Number(token)),
        },
    }
    Ok(())
}
