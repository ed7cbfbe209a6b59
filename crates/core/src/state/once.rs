//! Events that come twice are dropped.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, BooleanArray, RecordBatch};
use arrow_select::filter::filter_record_batch;
use sha2::{Digest as _, Sha256};

use super::cell::{Cells, take};
use super::{
    BatchEnd, Changed, Given, NEVER, SEALED_AFTER, Standing, StateChange, StateInput, StateStore, Station, damaged,
};
use crate::batch::StationCount;
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::plan::transform::RowFault;
use crate::reject::Reason;
use crate::units::{show_micros, spell_micros};

/// Keys that are kept in memory beside those of the last batches.
pub(super) const REMEMBERED: usize = 200_000;

/// A longer key is kept as its digest, which is longer than any key that is kept as it is.
const LONG: usize = 31;

/// Drops events whose key came before.
///
/// The rows that it takes are those of the event that it makes, then the parts of the key, then the event time where there
/// is one.
#[derive(Clone, Debug)]
pub struct OncePlan {
    /// The parts of the key: their places among the prepared columns, and what they are.
    pub key: Vec<(usize, OutputColumn)>,
    /// The place of the event time among the prepared columns; without it the moment of reading counts.
    pub time: Option<usize>,
    /// The columns of the event that it makes: so many, from the first on.
    pub columns: usize,
    /// For how long a key is remembered, in microseconds.
    pub within: i64,
    /// How long a silent partition holds the watermark, in microseconds.
    pub idle: i64,
    /// How far ahead of the moment of reading an event's time may be, in microseconds.
    pub ahead: i64,
}

impl OncePlan {
    /// What it is, in words.
    pub(super) fn manner(&self) -> String {
        let key: Vec<String> = self.key.iter().map(|(_, c)| format!("{} {}", c.name, c.ty)).collect();
        let time = if self.time.is_some() { "event time" } else { "reading" };
        format!("once by {} within {} of {time}", key.join(", "), spell_micros(self.within))
    }
}

/// A key, or the digest of a long one.
type Key = Box<[u8]>;

pub(super) struct Once {
    name: String,
    plan: Arc<OncePlan>,
    /// The keys of the batch that is being staged, and of those before it that may not be sealed yet, newest last.
    recent: VecDeque<HashMap<Key, i64>>,
    /// Keys that are certainly in the ledger.
    sealed: HashMap<Key, i64>,
    /// The highest watermark so far: one that falls back, with a partition that was forgotten, brings no key back.
    reached: i64,
}

impl Once {
    pub(super) fn open(name: &str, plan: Arc<OncePlan>) -> Self {
        let recent = [HashMap::new()].into();
        Self { name: name.to_string(), plan, recent, sealed: HashMap::new(), reached: NEVER }
    }

    /// When the key was kept last, as far as memory tells.
    fn known(&self, key: &[u8]) -> Option<i64> {
        self.recent.iter().rev().chain([&self.sealed]).find_map(|keys| keys.get(key).copied())
    }

    /// Looks keys up in the ledger that memory does not have. They are sorted: neighbours stand on one page.
    fn fetch(&mut self, keys: &[Option<Key>], store: &dyn StateStore) -> Outcome<()> {
        let mut unknown: Vec<&[u8]> = keys.iter().flatten().map(|k| &**k).filter(|k| self.known(k).is_none()).collect();
        unknown.sort_unstable();
        unknown.dedup();
        let found = store.values(&self.name, &unknown)?;
        for (key, value) in unknown.into_iter().zip(found) {
            let Some(value) = value else { continue };
            let time = take(&mut value.as_slice()).map(i64::from_le_bytes).ok_or_else(|| damaged(&self.name))?;
            self.sealed.insert(key.into(), time);
        }
        Ok(())
    }
}

impl Station for Once {
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given> {
        let StateInput { rows, watermarks, now, .. } = input;
        let columns = rows.columns();
        let parts: Vec<Cells<'_>> = self.plan.key.iter().map(|(i, c)| Cells::of(&columns[*i], c.ty)).collect();
        let times = self.plan.time.map(|i| columns[i].as_primitive::<TimestampMicrosecondType>());
        let mut buffer = Vec::new();
        let mut key_of = |row: usize| -> Option<Key> {
            if parts.iter().any(|part| part.is_null(row)) {
                return None;
            }
            buffer.clear();
            parts.iter().for_each(|part| part.write_key(row, &mut buffer));
            Some(match buffer.len() > LONG {
                true => Sha256::digest(&buffer).as_slice().into(),
                false => buffer.as_slice().into(),
            })
        };
        let keys: Vec<Option<Key>> = (0..rows.num_rows()).map(&mut key_of).collect();
        self.fetch(&keys, store)?;
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        let mut keep = vec![false; rows.num_rows()];
        for (row, key) in keys.into_iter().enumerate() {
            let time = match times {
                Some(times) if times.is_null(row) => {
                    given.faults.push(no_time(row));
                    continue;
                }
                Some(times) if times.value(row) > now.saturating_add(self.plan.ahead) => {
                    given.faults.push(early(row, times.value(row), now, self.plan.ahead));
                    continue;
                }
                Some(times) => times.value(row),
                None => now,
            };
            // Without a key nothing tells that it came before.
            let Some(key) = key else {
                keep[row] = true;
                continue;
            };
            if self.plan.time.is_some() {
                self.reached = self.reached.max(watermarks[row]);
            }
            let reached = self.reached;
            let is_repeated = |first: i64| time.max(reached) < first.saturating_add(self.plan.within);
            if self.known(&key).is_some_and(is_repeated) {
                given.count.repeated += 1;
                continue;
            }
            keep[row] = true;
            if let Some(newest) = self.recent.back_mut() {
                newest.insert(key, time);
            }
        }
        given.count.rejected = given.faults.len() as u64;
        given.count.output = keep.iter().filter(|k| **k).count() as u64;
        let event = rows.project(&(0..self.plan.columns).collect::<Vec<_>>());
        let event = event.map_err(|e| Failure::internal(e.to_string()))?;
        given.origin = Some(kept(&keep));
        given.rows = Some(filtered(&event, keep)?);
        Ok(given)
    }

    fn end(&mut self, _: i64, _: bool, _: &dyn StateStore) -> Outcome<Given> {
        Ok(Given { count: StationCount::new(self.name.as_str()), ..Given::default() })
    }

    fn would_give(&self, _: i64, _: bool) -> bool {
        false
    }

    fn changes(&mut self, end: BatchEnd, _: &dyn StateStore) -> Outcome<Changed> {
        let within = self.plan.within;
        let change = |(key, time): (&Key, &i64)| StateChange {
            key: key.clone(),
            value: Some(time.to_le_bytes().to_vec()),
            due: Some(time.saturating_add(within)),
        };
        let mut changes: Vec<StateChange> = self.recent.back().into_iter().flatten().map(change).collect();
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        self.recent.push_back(HashMap::new());
        while self.recent.len() as u64 > SEALED_AFTER + 1 {
            self.sealed.extend(self.recent.pop_front().into_iter().flatten());
        }
        let time = if self.plan.time.is_some() { end.watermark } else { end.now };
        if self.sealed.len() > REMEMBERED {
            self.sealed.clear();
        }
        Ok(Changed { changes, due: (time != NEVER).then_some(time), ..Changed::default() })
    }

    fn standing(&self) -> Standing {
        Standing::default()
    }
}

/// The places that are set.
fn kept(keep: &[bool]) -> Vec<u32> {
    (0_u32..).zip(keep).filter(|(_, keep)| **keep).map(|(row, _)| row).collect()
}

fn filtered(rows: &RecordBatch, keep: Vec<bool>) -> Outcome<RecordBatch> {
    filter_record_batch(rows, &BooleanArray::from(keep)).map_err(|e| Failure::internal(e.to_string()))
}

/// A row without an event time.
pub(super) fn no_time(row: usize) -> RowFault {
    RowFault { row, column: None, reason: Reason::MISSING, message: "the event time is null".into() }
}

/// A row whose time is ahead of the clock.
pub(super) fn early(row: usize, time: i64, now: i64, ahead: i64) -> RowFault {
    let by = show_micros(time.saturating_sub(now));
    let message = format!("its time is {by} ahead of the clock, ahead = \"{}\"", spell_micros(ahead));
    RowFault { row, column: None, reason: Reason::EARLY, message }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use arrow_array::{ArrayRef, StringArray, TimestampMicrosecondArray};
    use proptest::prelude::*;

    use super::*;
    use crate::plan::transform::schema_of;
    use crate::state::testing::Store;
    use crate::types::SqlType;

    fn plan() -> Arc<OncePlan> {
        let key = vec![(0, OutputColumn { name: "id".into(), ty: SqlType::Text, nullable: true, limit: None })];
        Arc::new(OncePlan { key, time: Some(1), columns: 1, within: 50, idle: 0, ahead: i64::MAX })
    }

    fn rows(events: &[(u8, i64)]) -> RecordBatch {
        let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: true, limit: None };
        let columns = [column("id", SqlType::Text), column("@time", SqlType::Timestamptz)];
        // Some keys are long, and kept as their digest.
        let id = |n: u8| if n.is_multiple_of(2) { format!("P{n}") } else { format!("P{n}{}", "-".repeat(40)) };
        let ids: ArrayRef = Arc::new(StringArray::from_iter_values(events.iter().map(|e| id(e.0))));
        let times = TimestampMicrosecondArray::from_iter_values(events.iter().map(|e| e.1)).with_timezone("UTC");
        RecordBatch::try_new(schema_of(&columns), vec![ids, Arc::new(times)]).unwrap()
    }

    proptest! {
        #[test]
        fn what_comes_twice_is_dropped_however_it_comes(
            batches in prop::collection::vec(prop::collection::vec((0_u8..30, 0_i64..30), 0..20), 1..25),
        ) {
            let mut store = Store::behind(3);
            let mut station = Once::open("once", plan());
            let mut first: HashMap<u8, i64> = HashMap::new();
            let mut newest = NEVER;
            for (place, batch) in batches.iter().enumerate() {
                let events: Vec<(u8, i64)> =
                    batch.iter().map(|(id, time)| (*id, time + i64::try_from(place).unwrap() * 7)).collect();
                let mut expected = Vec::new();
                let mut watermarks = Vec::new();
                for (row, (id, time)) in (0_u32..).zip(&events) {
                    watermarks.push(newest);
                    let is_repeated = first.get(id).is_some_and(|kept| newest.max(*time) < kept + 50);
                    if !is_repeated {
                        first.insert(*id, *time);
                        expected.push(row);
                    }
                    newest = newest.max(*time);
                }
                let input = StateInput { rows: &rows(&events), watermarks: &watermarks, now: 0, side: 0, reading: 0, marks: None };
                let given = station.take(input, &store).unwrap();
                prop_assert_eq!(given.count.repeated, (events.len() - expected.len()) as u64);
                prop_assert_eq!(given.origin.unwrap(), expected);
                let changed = station.changes(store.end(newest), &store).unwrap();
                store.stage(changed);
                // Memory forgets what the ledger has.
                station.sealed.clear();
            }
        }
    }
}
