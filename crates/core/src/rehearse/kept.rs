//! The file that holds a sample and what became of it: JSON Lines, made to be committed beside the pipeline and read
//! in a difference.
//!
//! The first line names the file; then come the header rows of partitions, the events, and the outcome, each on a line
//! of its own.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use base64::Engine as _;
use serde::Deserialize;
use serde_json::value::RawValue;

use super::compare::{EventResult, Key};
use super::{MessageOrigin, Rehearsal, StopCause};
use crate::event::{Chunk, Message, Messages, Position, RecordSpan};
use crate::failure::{Failure, FailureKind, Outcome};
use crate::plan::Plan;
use crate::reject::Reason;
use crate::values::json::write_string;

/// The version of the file.
const VERSION: u32 = 1;

/// What a kept file holds.
#[derive(Debug, Default)]
pub struct KeptSample {
    /// The value of `now()`, so that the outcome can be the same again.
    pub now: i64,
    /// The events, each with the label of its arrival.
    pub chunks: Vec<(String, Chunk)>,
    /// What became of them.
    pub outcome: BTreeMap<Key, EventResult>,
}

impl KeptSample {
    /// The events without the outcome.
    pub fn clone_events(&self) -> Self {
        let copy = |(label, chunk): &(String, Chunk)| (label.clone(), chunk.clone());
        Self { now: self.now, chunks: self.chunks.iter().map(copy).collect(), outcome: BTreeMap::new() }
    }
}

/// Writes a rehearsal with its outcome.
pub fn write(plan: &Plan, rehearsal: &Rehearsal, outcome: &BTreeMap<Key, EventResult>) -> String {
    let mut out = format!("{{\"sluice\":\"kept\",\"version\":{VERSION},\"pipeline\":");
    write_string(&mut out, &plan.pipeline);
    out.push_str(&format!(",\"now\":{}}}\n", rehearsal.now));
    let mut heads: Vec<(usize, &str)> = Vec::new();
    // Of a record that was too long only the beginning is there: it cannot be rehearsed again.
    let is_cut = |fate: &StopCause| matches!(fate, StopCause::Rejected { reason, .. } if *reason == Reason::TOO_LONG);
    let cut: HashSet<usize> = rehearsal.stopped.iter().filter(|s| is_cut(&s.fate)).map(|s| s.record).collect();
    for (_, record) in rehearsal.arrived().iter().enumerate().filter(|(i, _)| !cut.contains(i)) {
        let label = &plan.arrivals[record.arrival].label;
        if let Some(head) = &record.head
            && !heads.contains(&(record.arrival, &*record.partition))
        {
            heads.push((record.arrival, &record.partition));
            line(&mut out, &[("arrival", label), ("partition", &record.partition)], None, &[("head", head)]);
        }
        let mut texts = vec![("arrival", label.as_str()), ("partition", &*record.partition)];
        let mut bytes = vec![("bytes", record.bytes.as_slice())];
        let time = record.reported.as_ref().and_then(|t| t.time).map(|t| t.to_string());
        if let Some(reported) = &record.reported {
            texts.push(("topic", &reported.topic));
            texts.extend(time.as_deref().map(|time| ("time", time)));
            bytes.extend(reported.key.as_deref().map(|key| ("key", key)));
            bytes.extend(reported.headers.as_deref().map(|headers| ("headers", headers)));
        }
        line(&mut out, &texts, Some(record.position.major), &bytes);
    }
    let whole = |(_, became): &(&Key, &EventResult)| !matches!(became, EventResult::Rejected(reason, _, _) if reason == Reason::TOO_LONG.word());
    for (key, became) in outcome.iter().filter(whole) {
        let mut texts: Vec<(&str, &str)> =
            vec![("arrival", &key.arrival), ("partition", &key.partition), ("station", &key.station)];
        match became {
            EventResult::Landed { folder, row } => {
                texts.push(("folder", folder));
                line(&mut out, &texts, Some(key.position), &[]);
                out.truncate(out.len() - 2);
                out.push_str(",\"row\":{");
                for (i, (name, value)) in row.iter().enumerate() {
                    if i > 0 {
                        out.push(',');
                    }
                    write_string(&mut out, name);
                    out.push(':');
                    out.push_str(value);
                }
                out.push_str("}}\n");
            }
            EventResult::Filtered(part) => {
                texts.push(("filtered", part));
                line(&mut out, &texts, Some(key.position), &[]);
            }
            EventResult::Repeated => {
                texts.push(("repeated", "true"));
                line(&mut out, &texts, Some(key.position), &[]);
            }
            EventResult::Rejected(reason, field, message) => {
                texts.push(("rejected", reason));
                if let Some(field) = field {
                    texts.push(("field", field));
                }
                texts.push(("message", message));
                line(&mut out, &texts, Some(key.position), &[]);
            }
        }
    }
    out
}

fn line(out: &mut String, texts: &[(&str, &str)], position: Option<u64>, bytes: &[(&str, &[u8])]) {
    let mut first = true;
    let mut key = |out: &mut String, name: &str| {
        out.push(if std::mem::take(&mut first) { '{' } else { ',' });
        write_string(out, name);
        out.push(':');
    };
    for (name, text) in texts {
        key(out, name);
        write_string(out, text);
    }
    if let Some(position) = position {
        key(out, "position");
        out.push_str(&position.to_string());
    }
    for (name, bytes) in bytes {
        match std::str::from_utf8(bytes) {
            Ok(text) => {
                key(out, name);
                write_string(out, text);
            }
            Err(_) => {
                key(out, &format!("{name}_base64"));
                write_string(out, &base64::engine::general_purpose::STANDARD.encode(bytes));
            }
        }
    }
    out.push_str("}\n");
}

#[derive(Deserialize)]
struct KeptHeader {
    sluice: String,
    version: u32,
    now: i64,
}

#[derive(Deserialize)]
struct KeptLine {
    arrival: String,
    partition: String,
    position: Option<u64>,
    head: Option<String>,
    head_base64: Option<String>,
    bytes: Option<String>,
    bytes_base64: Option<String>,
    topic: Option<String>,
    time: Option<String>,
    key: Option<String>,
    key_base64: Option<String>,
    headers: Option<String>,
    station: Option<String>,
    folder: Option<String>,
    row: Option<KeptColumns>,
    filtered: Option<String>,
    repeated: Option<String>,
    rejected: Option<String>,
    field: Option<String>,
    message: Option<String>,
}

/// Columns in the order of the file.
struct KeptColumns(Vec<(String, String)>);

impl<'de> Deserialize<'de> for KeptColumns {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = KeptColumns;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("an object of columns")
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, mut map: A) -> Result<KeptColumns, A::Error> {
                let mut columns = Vec::new();
                while let Some((name, value)) = map.next_entry::<String, Box<RawValue>>()? {
                    columns.push((name, value.get().to_string()));
                }
                Ok(KeptColumns(columns))
            }
        }
        deserializer.deserialize_map(Visitor)
    }
}

/// Reads a kept file; `name` is that for messages.
///
/// # Errors
/// Where it is not such a file, with the line at fault.
pub fn read(name: &str, text: &str) -> Outcome<KeptSample> {
    let wrong = |number: usize, reason: String| {
        Failure::new(FailureKind::Configuration, format!("{name}:{number}: {reason}"))
            .with_help("make such a file with `sluice rehearse PIPELINE --keep FILE`")
    };
    let mut lines = text.lines().enumerate().map(|(i, line)| (i + 1, line));
    let first = lines.next().and_then(|(_, line)| serde_json::from_str::<KeptHeader>(line).ok());
    let Some(first) = first.filter(|f| f.sluice == "kept") else {
        return Err(wrong(1, "this is not a file of kept events".into()));
    };
    if first.version > VERSION {
        return Err(wrong(1, format!("version {} is newer than this program", first.version)));
    }
    let mut kept = KeptSample { now: first.now, ..KeptSample::default() };
    let mut heads: BTreeMap<(String, String), Arc<[u8]>> = BTreeMap::new();
    for (number, line) in lines.filter(|(_, line)| !line.trim().is_empty()) {
        let line: KeptLine = serde_json::from_str(line).map_err(|e| wrong(number, e.to_string()))?;
        let decode =
            |text: Option<&String>| text.map(|t| base64::engine::general_purpose::STANDARD.decode(t)).transpose();
        let bad = |e: base64::DecodeError| wrong(number, format!("the bytes are no base64: {e}"));
        let head = line.head.clone().map(String::into_bytes).or(decode(line.head_base64.as_ref()).map_err(bad)?);
        let bytes = line.bytes.clone().map(String::into_bytes).or(decode(line.bytes_base64.as_ref()).map_err(bad)?);
        let place = (line.arrival.clone(), line.partition.clone());
        if let Some(head) = head {
            heads.insert(place, head.into());
            continue;
        }
        let Some(position) = line.position else { return Err(wrong(number, "the position is missing".into())) };
        match (bytes, line.station.clone()) {
            (Some(bytes), _) => {
                let head = heads.get(&place).cloned();
                let key = line.key.clone().map(String::into_bytes).or(decode(line.key_base64.as_ref()).map_err(bad)?);
                let reported = line.topic.clone().map(|topic| MessageOrigin {
                    topic,
                    time: line.time.as_ref().and_then(|t| t.parse().ok()),
                    key,
                    headers: line.headers.clone().map(String::into_bytes),
                });
                kept.chunks.push((line.arrival.clone(), record(&line.partition, position, bytes, head, reported)));
            }
            (None, Some(station)) => {
                let rejected = (line.rejected, line.field, line.message);
                let became = became(line.row, &line.folder, line.filtered, rejected, line.repeated.is_some());
                let became = became.ok_or_else(|| wrong(number, "nothing says what became of the event".into()))?;
                let key = Key { arrival: line.arrival, partition: line.partition, position, station };
                kept.outcome.insert(key, became);
            }
            (None, None) => return Err(wrong(number, "the line holds neither an event nor an outcome".into())),
        }
    }
    Ok(kept)
}

fn became(
    row: Option<KeptColumns>,
    folder: &Option<String>,
    filtered: Option<String>,
    (rejected, field, message): (Option<String>, Option<String>, Option<String>),
    is_repeated: bool,
) -> Option<EventResult> {
    match (row, filtered, rejected) {
        (None, None, None) if is_repeated => Some(EventResult::Repeated),
        (Some(row), None, None) => Some(EventResult::Landed { folder: folder.clone().unwrap_or_default(), row: row.0 }),
        (None, Some(part), None) => Some(EventResult::Filtered(part)),
        (None, None, Some(reason)) => Some(EventResult::Rejected(reason, field, message.unwrap_or_default())),
        _ => None,
    }
}

fn record(
    partition: &str,
    position: u64,
    mut bytes: Vec<u8>,
    head: Option<Arc<[u8]>>,
    reported: Option<MessageOrigin>,
) -> Chunk {
    let messages = reported.map(|origin| Arc::new(message(partition, position, bytes.len(), origin)));
    bytes.push(b'\n');
    Chunk {
        partition: partition.into(),
        from: Position::at(position),
        to: Position::at(position + bytes.len() as u64),
        bytes,
        head,
        records: 1,
        messages,
        ..Chunk::default()
    }
}

/// The one message of a chunk.
fn message(partition: &str, offset: u64, length: usize, reported: MessageOrigin) -> Messages {
    let mut side = Vec::new();
    let at = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let mut put = |bytes: Option<Vec<u8>>| {
        bytes.map(|bytes| {
            let start = at(side.len());
            side.extend_from_slice(&bytes);
            RecordSpan { start, end: at(side.len()) }
        })
    };
    let (key, headers) = (put(reported.key), put(reported.headers));
    let span = RecordSpan { start: 0, end: at(length) };
    Messages {
        topic: reported.topic.into(),
        partition: partition.rsplit('/').next().and_then(|n| n.parse().ok()).unwrap_or(0),
        each: vec![Message { span, offset, time: reported.time, key, headers }],
        side,
        left_out: 0,
    }
}
