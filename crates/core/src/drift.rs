//! How a stream drifts from its contract: fields that come, that stay away, and that change their type.
//!
//! Each batch says which fields its events had. The ledger adds that up in the transaction that seals the batch; here is
//! decided what it means.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::Serialize;

use crate::batch::BatchIdentity;
use crate::contract::{Contract, join_path};
use crate::event::{Chunk, Position};
use crate::formats::UnknownField;
use crate::names;
use crate::reject::{CONTRACT, Reason, Reject};
use crate::units::{show_count, show_many};

/// A field that had a value in every event is missed after so many without one.
const ENOUGH: u64 = 20;

/// So many fields of one event are told apart; further ones are not counted.
pub const MOST_FIELDS: usize = 1_000;

/// Longer names are not told apart: they would fill the ledger.
const LONGEST_NAME: usize = 500;

/// The name of the row that counts the events themselves.
pub const ALL_EVENTS: &str = "";

/// One value of a field, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FieldExample {
    /// The partition.
    pub partition: Arc<str>,
    /// The position, as it is shown.
    pub position: String,
    /// The beginning of the value, or what was wrong with it.
    pub text: String,
}

impl FieldExample {
    fn new(partition: &Arc<str>, position: Position, text: &str) -> Self {
        Self { partition: Arc::clone(partition), position: position.to_string(), text: text.into() }
    }

    /// For people, cleaned.
    fn shown(&self) -> String {
        format!("{} at {}: {}", self.partition, self.position, names::shown(&self.text))
    }
}

/// What the events of a batch had of one field.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldSeen {
    /// Good events with a value.
    pub filled: u64,
    /// The first of them, of a field that the contract does not name.
    pub first: Option<FieldExample>,
    /// Events that were rejected for its value.
    pub unfit: u64,
    /// The first of them.
    pub first_unfit: Option<FieldExample>,
}

/// The fields that the events of one name had in a batch.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SeenFields {
    /// Good events.
    pub events: u64,
    /// By their names: columns of the contract, and paths of what it does not name.
    pub fields: BTreeMap<String, FieldSeen>,
}

impl SeenFields {
    /// Adds what a chunk had. `nulls` are those of the contract's fields, in their order.
    pub fn add(&mut self, chunk: &Chunk, contract: &Contract, events: u64, nulls: &[u64], unknown: &[UnknownField]) {
        self.events += events;
        for (field, nulls) in contract.fields.iter().zip(nulls) {
            if *nulls < events {
                self.field(&field.name, |seen| seen.filled += events - nulls);
            }
        }
        for found in unknown {
            self.field(&found.name, |seen| {
                seen.filled += found.records;
                let example = || FieldExample::new(&chunk.partition, found.first, &found.example);
                seen.first.get_or_insert_with(example);
            });
        }
    }

    /// Adds a reject of the contract, if it is one for a value.
    pub fn add_reject(&mut self, reject: &Reject) {
        let is_for_a_value = [Reason::TYPE, Reason::RANGE, Reason::FORMAT].contains(&reject.reason);
        let Some(field) = reject.field.as_ref().filter(|_| is_for_a_value && &*reject.station == CONTRACT) else {
            return;
        };
        self.field(field, |seen| {
            seen.unfit += 1;
            let example = || FieldExample::new(&reject.partition, reject.position, &reject.message);
            seen.first_unfit.get_or_insert_with(example);
        });
    }

    fn field(&mut self, name: &str, change: impl FnOnce(&mut FieldSeen)) {
        if name.len() > LONGEST_NAME || name == ALL_EVENTS {
            return;
        }
        if let Some(seen) = self.fields.get_mut(name) {
            change(seen);
        } else if self.fields.len() < MOST_FIELDS {
            change(self.fields.entry(name.into()).or_default());
        }
    }
}

/// One field as the ledger has it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FieldRecord {
    /// The event.
    pub event: String,
    /// The field: a column of the contract, or the path of one that it does not name.
    pub field: String,
    /// Events before the batch that had it first.
    pub before: u64,
    /// Events with a value.
    pub filled: u64,
    /// Events since the batch that had it last.
    pub since: u64,
    /// The first event that had it, of one that the contract did not name.
    pub first: Option<FieldExample>,
    /// The batch that had it first, as `number of lane LANE`.
    pub first_batch: String,
    /// The batch that had it last.
    pub last_batch: String,
    /// Events that were rejected for its value.
    pub unfit: u64,
    /// The first of them.
    pub first_unfit: Option<FieldExample>,
    /// When the last of them was rejected, in microseconds since 1970.
    pub unfit_at: Option<i64>,
}

/// How a field drifts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Drift {
    /// It has come after others, and the contract does not name it.
    New,
    /// It had values, and has had none for longer than before.
    Gone,
    /// Values do not fit its type.
    Unfit,
}

impl FieldRecord {
    /// Adds what a batch had. `events` are those of the event in the batch.
    pub fn add(&mut self, seen: Option<&FieldSeen>, events: u64, batch: &str, at: i64) {
        let Some(seen) = seen else {
            self.since += events;
            return;
        };
        match seen.filled {
            0 => self.since += events,
            filled => {
                self.filled += filled;
                self.since = 0;
                self.last_batch = batch.into();
                if self.first_batch.is_empty() {
                    self.first_batch = batch.into();
                }
            }
        }
        if self.first.is_none() {
            self.first.clone_from(&seen.first);
        }
        if seen.unfit > 0 {
            self.unfit += seen.unfit;
            self.unfit_at = Some(at);
            if self.first_unfit.is_none() {
                self.first_unfit.clone_from(&seen.first_unfit);
            }
        }
    }

    /// Whether it has been without a value for longer than is to be expected of it. `all` are the events of its name.
    fn is_gone(&self, all: u64) -> bool {
        let span = all.saturating_sub(self.before).saturating_sub(self.since).max(1);
        let usual = span.div_ceil(self.filled.max(1));
        self.filled > 0 && self.since >= ENOUGH.saturating_mul(usual)
    }

    /// How it drifts from a contract, if it does. `all` are the events of its name. Fields that were there from the first batch on
    /// and that nobody named were left out on purpose.
    pub fn drifts(&self, contract: &Contract, all: u64) -> Vec<Drift> {
        let is_field = contract.fields.iter().any(|f| f.name == self.field);
        let is_named = is_field || contract.fields.iter().any(|f| join_path(&f.path) == self.field);
        let mut found = Vec::new();
        if !is_named && self.before > 0 && self.filled > 0 && !self.is_gone(all) {
            found.push(Drift::New);
        }
        if is_field && self.is_gone(all) {
            found.push(Drift::Gone);
        }
        if is_field && self.unfit > 0 {
            found.push(Drift::Unfit);
        }
        found
    }

    /// A drift in words.
    pub fn told(&self, drift: Drift) -> String {
        let field = format!("`{}`", names::shown(&self.field));
        let example = |example: &Option<FieldExample>| {
            example.as_ref().map_or(String::new(), |e| format!("; first {}", e.shown()))
        };
        match drift {
            Drift::New => format!(
                "{field} has come after {}, and the contract does not name it: {} so far{}",
                show_many(self.before, "event"),
                show_count(self.filled),
                example(&self.first)
            ),
            Drift::Gone => format!(
                "{field} had a value in {}, the last in batch {}, and in none of the {} since",
                show_many(self.filled, "event"),
                self.last_batch,
                show_many(self.since, "event")
            ),
            Drift::Unfit => format!(
                "{field}: {} rejected for {}{}",
                show_many(self.unfit, "event"),
                if self.unfit == 1 { "its value" } else { "their values" },
                example(&self.first_unfit)
            ),
        }
    }
}

/// A batch as the records of fields name it.
pub fn batch_name(batch: &BatchIdentity) -> String {
    format!("{} of lane {}", batch.number, batch.lane)
}

/// The fields of a pipeline's events, as they are while it runs.
#[derive(Debug, Default)]
pub struct FieldHistory(BTreeMap<(String, String), FieldRecord>);

impl FieldHistory {
    /// What the ledger has.
    pub fn new(records: Vec<FieldRecord>) -> Self {
        Self(records.into_iter().map(|r| ((r.event.clone(), r.field.clone()), r)).collect())
    }

    /// The events of a name.
    pub fn events(&self, event: &str) -> u64 {
        self.0.get(&(event.to_string(), ALL_EVENTS.to_string())).map_or(0, |all| all.filled)
    }

    /// The fields of an event.
    pub fn fields<'a>(&'a self, event: &'a str) -> impl Iterator<Item = &'a FieldRecord> {
        self.0.values().filter(move |r| r.event == event && r.field != ALL_EVENTS)
    }

    /// Adds what a batch had of an event; gives what drifts since, with words for it.
    pub fn add(
        &mut self,
        event: &str,
        contract: &Contract,
        seen: &SeenFields,
        batch: &str,
        at: i64,
    ) -> Vec<(Drift, String)> {
        let before = self.events(event);
        let all = before + seen.events;
        let key = |field: &str| (event.to_string(), field.to_string());
        for field in seen.fields.keys() {
            self.0.entry(key(field)).or_insert_with(|| FieldRecord {
                event: event.into(),
                field: field.clone(),
                before,
                ..FieldRecord::default()
            });
        }
        let mut told = Vec::new();
        for ((_, field), record) in self.0.iter_mut().filter(|((e, f), _)| e == event && f != ALL_EVENTS) {
            let was = record.drifts(contract, before);
            record.add(seen.fields.get(field), seen.events, batch, at);
            let is_new = |drift: &Drift| !was.contains(drift);
            told.extend(
                record.drifts(contract, all).into_iter().filter(is_new).map(|drift| (drift, record.told(drift))),
            );
        }
        let totals = self.0.entry(key(ALL_EVENTS)).or_insert_with(|| FieldRecord {
            event: event.into(),
            field: ALL_EVENTS.into(),
            ..FieldRecord::default()
        });
        totals.filled = all;
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contract::parse_fields;
    use crate::problem::Problems;
    use rstest::rstest;

    fn contract() -> Contract {
        let mut problems = Problems::new();
        let text = crate::sql::tests::embed("n integer, weight double precision from 'load.weight'");
        let fields = parse_fields(&text, &mut problems);
        Contract { fields, extra: crate::config::ExtraFields::Ignore, may_lack: false }
    }

    fn batch(events: u64, filled: &[(&str, u64)]) -> SeenFields {
        let fields =
            filled.iter().map(|(name, filled)| ((*name).into(), FieldSeen { filled: *filled, ..FieldSeen::default() }));
        SeenFields { events, fields: fields.collect() }
    }

    fn told(batches: &[SeenFields]) -> Vec<Vec<String>> {
        let (mut history, contract) = (FieldHistory::default(), contract());
        let one = |(number, seen): (usize, &SeenFields)| {
            let told = history.add("weighing", &contract, seen, &(number + 1).to_string(), 7);
            told.into_iter().map(|(_, words)| words).collect()
        };
        batches.iter().enumerate().map(one).collect()
    }

    #[test]
    fn a_field_that_comes_later_is_told_once() {
        let all = told(&[
            batch(100, &[("n", 100), ("note", 100)]),
            batch(50, &[("n", 50), ("note", 50), ("mass", 3)]),
            batch(50, &[("n", 50), ("mass", 50)]),
        ]);
        assert_eq!(all[0], [""; 0], "what is there from the first batch on was left out on purpose");
        assert_eq!(all[1], ["`mass` has come after 100 events, and the contract does not name it: 3 so far"]);
        assert_eq!(all[2], [""; 0]);
    }

    #[rstest]
    #[case::always_there(100, 19, false)]
    #[case::always_there(100, 20, true)]
    #[case::every_tenth(10, 199, false)]
    #[case::every_tenth(10, 200, true)]
    fn a_field_is_missed_by_how_often_it_came(#[case] filled: u64, #[case] since: u64, #[case] gone: bool) {
        let all = told(&[batch(100, &[("n", 100), ("weight", filled)]), batch(since, &[("n", since)])]);
        assert_eq!(!all[1].is_empty(), gone, "{all:?}");
        if gone {
            let expected = format!(
                "`weight` had a value in {filled} events, the last in batch 1, and in none of the {since} events since"
            );
            assert_eq!(all[1], [expected]);
        }
    }

    #[test]
    fn a_field_that_comes_back_is_told_again_when_it_goes() {
        let with = || batch(40, &[("n", 40), ("weight", 40)]);
        let without = || batch(40, &[("n", 40)]);
        let counts: Vec<usize> =
            told(&[with(), without(), without(), with(), without()]).iter().map(Vec::len).collect();
        assert_eq!(counts, [0, 1, 0, 0, 1]);
    }

    #[test]
    fn names_of_a_contract_are_not_new_whether_they_are_columns_or_paths() {
        let all = told(&[batch(10, &[("n", 10)]), batch(10, &[("n", 10), ("weight", 10), ("load.weight", 10)])]);
        assert_eq!(all[1], [""; 0]);
    }

    #[test]
    fn values_that_do_not_fit_are_told_with_the_first() {
        let example = FieldExample {
            partition: "w/0".into(),
            position: "7".into(),
            text: "expected integer, found \u{1b}[1m".into(),
        };
        let unfit = FieldSeen { unfit: 2, first_unfit: Some(example), ..FieldSeen::default() };
        let all = told(&[SeenFields { events: 5, fields: [("n".to_string(), unfit)].into() }]);
        assert_eq!(all[0].len(), 1);
        assert!(
            all[0][0].starts_with("`n`: 2 events rejected for their values; first w/0 at 7: expected integer"),
            "{all:?}"
        );
        assert!(!all[0][0].contains('\u{1b}'));
    }
}
