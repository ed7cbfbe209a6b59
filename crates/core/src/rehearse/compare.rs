//! What became of each event at each landing, in a form that can be kept, and what differs between two of them.

use std::collections::BTreeMap;

use super::{Rehearsal, StopCause};
use crate::plan::Plan;
use crate::types::SqlType;
use crate::values::json::write_value;

/// An event at a station.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Key {
    /// The label of the arrival.
    pub arrival: String,
    /// The partition.
    pub partition: String,
    /// The position there.
    pub position: u64,
    /// The station.
    pub station: String,
}

/// What became of it there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EventResult {
    /// A row, by column, each value as JSON, and its folder.
    Landed {
        /// The folder; empty without a path.
        folder: String,
        /// The columns.
        row: Vec<(String, String)>,
    },
    /// It did not meet this part of the condition.
    Filtered(String),
    /// It had come before.
    Repeated,
    /// It was rejected: the reason, the field, the message.
    Rejected(String, Option<String>, String),
}

/// The outcome of a rehearsal, event by event.
pub fn outcome(plan: &Plan, rehearsal: &Rehearsal) -> BTreeMap<Key, EventResult> {
    let mut found = BTreeMap::new();
    let key = |record: usize, station: &str| {
        let record = &rehearsal.records[record];
        Key {
            arrival: plan.arrivals[record.arrival].label.clone(),
            partition: record.partition.to_string(),
            position: record.position.major,
            station: station.to_string(),
        }
    };
    for (landing, view) in plan.landings.iter().zip(&rehearsal.landings) {
        for (row, record) in view.records.iter().enumerate() {
            let columns = landing.columns().iter().zip(view.rows.columns());
            let value = |(column, array): (&crate::columns::OutputColumn, &arrow_array::ArrayRef)| {
                let mut text = String::new();
                write_value(&mut text, array.as_ref(), row, column.ty == SqlType::Json);
                (column.name.clone(), text)
            };
            let folder = view.folders.get(row).map(ToString::to_string).unwrap_or_default();
            let became = EventResult::Landed { folder, row: columns.map(value).collect() };
            found.insert(key(*record, &landing.label), became);
        }
    }
    for stopped in &rehearsal.stopped {
        let became = match &stopped.fate {
            StopCause::Filtered { part, .. } => EventResult::Filtered(part.clone()),
            StopCause::Repeated => EventResult::Repeated,
            StopCause::Rejected { reason, field, message } => {
                EventResult::Rejected(reason.word().to_string(), field.clone(), message.clone())
            }
        };
        found.insert(key(stopped.record, &stopped.station), became);
    }
    found
}

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedDifference {
    /// Where.
    pub key: Key,
    /// What differs: a column, `folder`, or None for the whole.
    pub column: Option<String>,
    /// What was expected, in words; None where nothing was.
    pub expected: Option<String>,
    /// What is there now; None where nothing is.
    pub now: Option<String>,
}

/// What differs between an expected outcome and the present one, in the order of the events.
pub fn compare(expected: &BTreeMap<Key, EventResult>, now: &BTreeMap<Key, EventResult>) -> Vec<ExpectedDifference> {
    let mut found = Vec::new();
    let keys: std::collections::BTreeSet<&Key> = expected.keys().chain(now.keys()).collect();
    for key in keys {
        match (expected.get(key), now.get(key)) {
            (Some(a), Some(b)) if a == b => {}
            // By another part of the condition, or by the same part in another spelling: it did not land either way.
            (Some(EventResult::Filtered(_)), Some(EventResult::Filtered(_))) => {}
            (Some(EventResult::Landed { folder: f1, row: r1 }), Some(EventResult::Landed { folder: f2, row: r2 })) => {
                rows(&mut found, key, (f1, r1), (f2, r2));
            }
            (a, b) => found.push(ExpectedDifference {
                key: key.clone(),
                column: None,
                expected: a.map(EventResult::describe),
                now: b.map(EventResult::describe),
            }),
        }
    }
    found
}

type Row<'a> = (&'a String, &'a Vec<(String, String)>);

fn rows(found: &mut Vec<ExpectedDifference>, key: &Key, expected: Row<'_>, now: Row<'_>) {
    let mut add = |column: &str, expected: Option<String>, now: Option<String>| {
        found.push(ExpectedDifference { key: key.clone(), column: Some(column.to_string()), expected, now });
    };
    if expected.0 != now.0 {
        add("folder", Some(expected.0.clone()), Some(now.0.clone()));
    }
    let value = |row: &Vec<(String, String)>, name: &str| row.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
    for (name, was) in expected.1 {
        let is = value(now.1, name);
        if is.as_ref() != Some(was) {
            add(name, Some(was.clone()), is);
        }
    }
    for (name, is) in now.1 {
        if value(expected.1, name).is_none() {
            add(name, None, Some(is.clone()));
        }
    }
}

impl EventResult {
    /// In words.
    pub fn describe(&self) -> String {
        match self {
            Self::Landed { folder, row } => {
                let row: Vec<String> = row.iter().map(|(n, v)| format!("{n} {v}")).collect();
                let folder = if folder.is_empty() { String::new() } else { format!(" in {folder}") };
                format!("landed{folder}: {}", row.join(", "))
            }
            Self::Filtered(part) => format!("filtered by {part}"),
            Self::Repeated => "dropped, since it had come before".to_string(),
            Self::Rejected(reason, field, message) => match field {
                Some(field) => format!("rejected: {reason}, {field}: {message}"),
                None => format!("rejected: {reason}: {message}"),
            },
        }
    }
}
