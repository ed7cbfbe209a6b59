//! Rejects: events that broke their contract or that a store refused, kept with bytes, position and reason.

use std::fmt::Write as _;
use std::sync::Arc;

use base64::Engine as _;

use crate::batch::BatchIdentity;
use crate::event::Position;
use crate::kinds::RefusedRow;
use crate::values::json::write_string;

/// The landing of rejects in the ledger.
pub const REJECTS: &str = "rejects";

/// Why an event was rejected: a stable word, and what it means.
pub const REASONS: &[(&str, &str)] = &[
    ("not_json", "the record is not a JSON object, or is broken"),
    (
        "not_csv",
        "the record is broken CSV: a quote in the wrong place, or more or fewer values than the header row names",
    ),
    ("not_line", "the line of text does not match the pattern, its pairs are broken, or it is longer than its columns"),
    ("not_avro", "the message is not Avro of the schema, or its schema is not known"),
    ("not_protobuf", "the message is not Protobuf of the message type, or its schema is not known"),
    ("not_utf8", "the record is not UTF-8"),
    ("missing", "a field that is `not null` is missing or null"),
    ("type", "a value has another type than the contract says"),
    ("range", "a number does not fit the type that the contract says"),
    ("format", "a date, a time or bytes are not spelled as the contract says"),
    ("extra", "a field that the contract does not name, under extra = \"reject\""),
    ("twice", "a field stands in the record twice"),
    ("too_long", "the record is longer than max_record"),
    ("damaged", "a part of a file cannot be read, and the records in it cannot be told apart"),
    ("grown", "a record was read before its line end had been written, and went on afterwards"),
    ("expression", "a column or condition cannot be computed for this event"),
    ("late", "the event came after its window had closed, or after rows that it could meet were forgotten"),
    ("early", "the event's time is further ahead of the clock than `ahead` allows"),
    ("full", "the event would be one group or row more than `most` allows"),
    ("path", "the folder that the landing's path gives for the row cannot be made"),
    (
        "unfit",
        "the target cannot hold the row: its message is larger than the topic allows, its partition does not exist, or its schema has no place for a value",
    ),
    ("unmatched", "no row of the reference has the key of the event"),
    ("refused", "the store refused the row; the message is the store's own"),
    ("unfinished", "its batch was sealed and could not be published; `rejects --unfinished` made a reject of it"),
];

/// A reason of [`REASONS`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Reason(&'static str);

#[expect(missing_docs, reason = "REASONS explains each")]
impl Reason {
    pub const NOT_JSON: Self = Self("not_json");
    pub const NOT_CSV: Self = Self("not_csv");
    pub const NOT_LINE: Self = Self("not_line");
    pub const NOT_AVRO: Self = Self("not_avro");
    pub const NOT_PROTOBUF: Self = Self("not_protobuf");
    pub const NOT_UTF8: Self = Self("not_utf8");
    pub const MISSING: Self = Self("missing");
    pub const TYPE: Self = Self("type");
    pub const RANGE: Self = Self("range");
    pub const FORMAT: Self = Self("format");
    pub const EXTRA: Self = Self("extra");
    pub const TWICE: Self = Self("twice");
    pub const TOO_LONG: Self = Self("too_long");
    pub const DAMAGED: Self = Self("damaged");
    pub const GROWN: Self = Self("grown");
    pub const EXPRESSION: Self = Self("expression");
    pub const LATE: Self = Self("late");
    pub const EARLY: Self = Self("early");
    pub const FULL: Self = Self("full");
    pub const PATH: Self = Self("path");
    pub const UNFIT: Self = Self("unfit");
    pub const REFUSED: Self = Self("refused");
    pub const UNMATCHED: Self = Self("unmatched");
    pub const UNFINISHED: Self = Self("unfinished");

    /// The word.
    pub fn word(self) -> &'static str {
        self.0
    }
}

/// One rejected event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reject {
    /// The partition that it was read from.
    pub partition: Arc<str>,
    /// Its position there.
    pub position: Position,
    /// Its length in bytes; more than `bytes` holds where it was too long.
    pub length: u64,
    /// Where it was rejected: `contract`, or the landing's name.
    pub station: Arc<str>,
    /// The field or column at fault, where there is one.
    pub field: Option<String>,
    /// The reason.
    pub reason: Reason,
    /// What exactly was wrong.
    pub message: String,
    /// Its bytes as they were.
    pub bytes: Vec<u8>,
}

/// The station of rejects that broke the contract.
pub const CONTRACT: &str = "contract";

/// The lines of rejects for rows that a landing of an event did not take.
pub(crate) fn lines_of(
    rows: &[RefusedRow],
    (event, landing): (&str, &str),
    batch: &BatchIdentity,
    reason: Reason,
) -> String {
    let mut lines = String::new();
    for row in rows {
        let reject = Reject {
            partition: Arc::clone(&row.partition),
            position: row.position,
            length: row.bytes.len() as u64,
            station: landing.into(),
            field: row.column.clone(),
            reason,
            message: row.message.clone(),
            bytes: row.bytes.clone(),
        };
        reject.write_line(&mut lines, event, batch.lane.as_str(), batch.number);
    }
    lines
}

impl Reject {
    /// Writes the reject as one line of JSON. Bytes that are not UTF-8 are written as base64.
    pub fn write_line(&self, out: &mut String, event: &str, lane: &str, batch: u64) {
        let mut text = |key: &str, value: &str| {
            out.push_str(if out.is_empty() || out.ends_with('\n') { "{" } else { "," });
            write_string(out, key);
            out.push(':');
            write_string(out, value);
        };
        text("event", event);
        text("lane", lane);
        text("station", &self.station);
        text("reason", self.reason.word());
        if let Some(field) = &self.field {
            text("field", field);
        }
        text("message", &self.message);
        text("partition", &self.partition);
        match std::str::from_utf8(&self.bytes) {
            Ok(bytes) => text("bytes", bytes),
            Err(_) => text("base64", &base64::engine::general_purpose::STANDARD.encode(&self.bytes)),
        }
        let _ = write!(out, ",\"position\":{},\"length\":{},\"batch\":{batch}", self.position.major, self.length);
        if self.position.minor != 0 {
            let _ = write!(out, ",\"minor\":{}", self.position.minor);
        }
        out.push_str("}\n");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn reject(bytes: &[u8]) -> Reject {
        Reject {
            partition: "depots/a.jsonl".into(),
            position: Position::at(7),
            length: 3,
            station: CONTRACT.into(),
            field: Some("gross_kg".into()),
            reason: Reason::TYPE,
            message: "expected \"integer\", found text".into(),
            bytes: bytes.to_vec(),
        }
    }

    #[rstest]
    #[case(b"{\"a\":1", "bytes", "{\"a\":1")]
    #[case(&[0xff, 0x00], "base64", "/wA=")]
    fn a_line_is_json_and_keeps_the_bytes(#[case] bytes: &[u8], #[case] key: &str, #[case] value: &str) {
        let mut out = String::new();
        reject(bytes).write_line(&mut out, "weighing", "weighing.0.0", 3);
        reject(bytes).write_line(&mut out, "weighing", "weighing.0.0", 3);
        let lines: Vec<serde_json::Value> = out.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
        assert_eq!(lines.len(), 2);
        assert_eq!(lines[1][key], value);
        assert_eq!(lines[1]["position"], 7);
    }

    #[test]
    fn every_reason_is_explained() {
        let all = [
            Reason::NOT_JSON,
            Reason::NOT_CSV,
            Reason::NOT_LINE,
            Reason::NOT_AVRO,
            Reason::NOT_PROTOBUF,
            Reason::NOT_UTF8,
            Reason::MISSING,
            Reason::TYPE,
            Reason::RANGE,
            Reason::FORMAT,
            Reason::EXTRA,
            Reason::TWICE,
            Reason::TOO_LONG,
            Reason::DAMAGED,
            Reason::GROWN,
            Reason::EXPRESSION,
            Reason::LATE,
            Reason::EARLY,
            Reason::FULL,
            Reason::PATH,
            Reason::UNFIT,
            Reason::UNMATCHED,
            Reason::REFUSED,
            Reason::UNFINISHED,
        ];
        let words: Vec<&str> = all.iter().map(|r| r.word()).collect();
        assert_eq!(words, REASONS.iter().map(|(w, _)| *w).collect::<Vec<_>>());
    }
}
