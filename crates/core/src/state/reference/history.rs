//! A reference that remembers how the rows of each key followed each other, and gives events the row of their own time.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch};
use rustc_hash::{FxHashMap, FxHashSet};

use super::super::cell::take;
use super::super::join::{LEFT, RIGHT, key_cells, write_key};
use super::super::once::no_time;
use super::super::{BatchEnd, Changed, Given, Standing, StateChange, StateInput, StateStore, Station, damaged};
use super::rows::{Rows, RowsBuilder, Spot};
use super::{Found, ReferencePlan};
use crate::batch::StationCount;
use crate::failure::Outcome;
use crate::plan::transform::RowFault;
use crate::reject::Reason;

/// The layout of what is kept of a row.
const VERSION: u8 = 1;

/// From when on a key has a row, or none.
#[derive(Clone, Copy)]
struct Since {
    time: i64,
    spot: Spot,
    /// Whether the row removed its key.
    is_deleted: bool,
}

pub(super) struct History {
    name: String,
    plan: Arc<ReferencePlan>,
    /// How long a row is remembered after a later one of its key, in microseconds.
    history: i64,
    /// For each key its rows, in the order of their times, of which no two are the same.
    known: FxHashMap<Box<[u8]>, Vec<Since>>,
    /// How many rows are remembered.
    count: usize,
    rows: Rows,
    /// Keys and times that changed since the last batch.
    changed: FxHashSet<(Box<[u8]>, i64)>,
}

impl History {
    pub(super) fn open(name: &str, plan: &Arc<ReferencePlan>, history: i64, store: &dyn StateStore) -> Outcome<Self> {
        let mut rows = RowsBuilder::new(&plan.sides[RIGHT].columns);
        let mut known: FxHashMap<Box<[u8]>, Vec<Since>> = FxHashMap::default();
        let mut count = 0;
        store.each(name, &mut |key, value| {
            let (key, time) = key.split_last_chunk::<8>().ok_or_else(|| damaged(name))?;
            let mut rest = value;
            let head = take(&mut rest).filter(|[version, is_deleted]: &[u8; 2]| *version == VERSION && *is_deleted < 2);
            let [_, is_deleted] = head.ok_or_else(|| damaged(name))?;
            let spot = rows.add(&mut rest)?.ok_or_else(|| damaged(name))?;
            let since = Since { time: i64::from_be_bytes(*time), spot, is_deleted: is_deleted == 1 };
            known.entry(key.into()).or_default().push(since);
            count += 1;
            Ok(())
        })?;
        known.values_mut().for_each(|all| all.sort_unstable_by_key(|since| since.time));
        let (name, plan) = (name.to_string(), Arc::clone(plan));
        Ok(Self { name, plan, history, known, count, rows: rows.finish()?, changed: FxHashSet::default() })
    }

    /// Takes rows that are looked up from now on.
    fn learn(&mut self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let time = plan.time.unwrap_or_default();
        let times = rows.column(time).as_primitive::<TimestampMicrosecondType>();
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let mut key = Vec::new();
        let block = self.rows.add(rows)?;
        for row in 0..rows.num_rows() {
            if !write_key(&parts, row, &mut key) {
                // A null is looked up by none.
                given.count.unmatched += 1;
                continue;
            }
            if times.is_null(row) {
                given.faults.push(no_time(row));
                continue;
            }
            let is_deleted = deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row));
            let since = Since { time: times.value(row), spot: Spot { block, row }, is_deleted };
            if !self.remember(&key, since, &mut given.count) {
                let message = format!("{} rows are remembered, as many as `most` allows", plan.most);
                given.faults.push(RowFault { row, column: None, reason: Reason::FULL, message });
            }
        }
        given.count.rejected = given.faults.len() as u64;
        if self.rows.is_sparse(self.count) {
            self.rows.rewrite(self.known.values_mut().flatten().map(|since| &mut since.spot).collect())?;
        }
        Ok(())
    }

    /// Remembers a row, and forgets those of its key that it makes too old. False where there is no room for it.
    fn remember(&mut self, key: &[u8], since: Since, count: &mut StationCount) -> bool {
        let is_new = !self.known.contains_key(key);
        if is_new && self.count >= self.plan.most {
            return false;
        }
        let all = self.known.entry(key.into()).or_default();
        let place = all.partition_point(|known| known.time < since.time);
        match all.get_mut(place).filter(|known| known.time == since.time) {
            Some(known) => {
                // The one that was read last counts.
                *known = since;
                count.merged += 1;
            }
            None if self.count >= self.plan.most => return false,
            None => {
                all.insert(place, since);
                self.count += 1;
                count.held += 1;
            }
        }
        self.changed.insert((key.into(), since.time));
        // Before the latest row less the history, one row says how the key was.
        let horizon = all.last().map_or(since.time, |last| last.time.saturating_sub(self.history));
        let over = all.partition_point(|known| known.time <= horizon).saturating_sub(1);
        for gone in all.drain(..over) {
            self.changed.insert((key.into(), gone.time));
            self.count -= 1;
            count.held -= 1;
            count.merged += 1;
        }
        true
    }

    fn find(&self, key: &[u8], time: i64) -> Option<Spot> {
        let all = self.known.get(key)?;
        let place = all.partition_point(|known| known.time <= time).checked_sub(1)?;
        Some(all[place]).filter(|since| !since.is_deleted).map(|since| since.spot)
    }
}

impl Station for History {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        match input.side {
            RIGHT => self.learn(input.rows, &mut given)?,
            _ => {
                let times = input.rows.column(self.plan.sides[LEFT].time()).as_primitive::<TimestampMicrosecondType>();
                let find = |key: &[u8], row| {
                    let found = times.is_valid(row).then(|| self.find(key, times.value(row))).flatten();
                    found.map_or(Found::Nothing, Found::Row)
                };
                self.plan.look_up(&self.rows, input.rows, input.now, &mut given, find)?;
            }
        }
        Ok(given)
    }

    fn end(&mut self, _: i64, _: bool, _: &dyn StateStore) -> Outcome<Given> {
        Ok(Given { count: StationCount::new(self.name.as_str()), ..Given::default() })
    }

    fn would_give(&self, _: i64, _: bool) -> bool {
        false
    }

    fn changes(&mut self, _: BatchEnd, _: &dyn StateStore) -> Outcome<Changed> {
        let cells = self.rows.cells();
        let value = |since: &Since| {
            let mut value = vec![VERSION, u8::from(since.is_deleted)];
            cells.write(since.spot, &mut value);
            value
        };
        let change = |(key, time): (Box<[u8]>, i64)| {
            let all = self.known.get(&key).map_or(&[][..], Vec::as_slice);
            let value = all.binary_search_by_key(&time, |since| since.time).ok().map(|place| value(&all[place]));
            StateChange { key: [&*key, &time.to_be_bytes()[..]].concat().into(), value, due: None }
        };
        let mut changes: Vec<StateChange> = std::mem::take(&mut self.changed).into_iter().map(change).collect();
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        Ok(Changed { changes, ..Changed::default() })
    }

    fn standing(&self) -> Standing {
        let rows = self.count as u64;
        Standing { groups: rows, events: rows, ..Standing::default() }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::plan::Transform;
    use crate::state::JoinSide;

    fn history(history: i64) -> History {
        let side = |event: &str| JoinSide { event: event.into(), columns: Vec::new(), key: Vec::new() };
        let plan = Arc::new(ReferencePlan {
            sides: [side("passage"), side("lock")],
            select: Transform::new(None, Vec::new(), &[]),
            is_list: false,
            is_required: false,
            time: Some(0),
            deleted: None,
            history: Some(history),
            wait: None,
            idle: 0,
            ahead: i64::MAX,
            most: 50,
            in_memory: usize::MAX,
        });
        let (known, changed) = (FxHashMap::default(), FxHashSet::default());
        History { name: "named".into(), plan, history, known, count: 0, rows: Rows::new(&[]), changed }
    }

    proptest! {
        #[test]
        fn within_the_history_the_row_of_a_time_is_found_and_never_another_one(
            given in prop::collection::vec((0_i64..100, any::<bool>()), 1..80),
            length in 0_i64..60,
        ) {
            let mut station = history(length);
            let mut count = StationCount::new("named");
            let mut all: BTreeMap<i64, (usize, bool)> = BTreeMap::new();
            for (row, (time, is_deleted)) in given.into_iter().enumerate() {
                let since = Since { time, spot: Spot { block: 0, row }, is_deleted };
                if !station.remember(b"LK1", since, &mut count) {
                    prop_assert_eq!(station.count, 50);
                    continue;
                }
                all.insert(time, (row, is_deleted));
                let newest = all.keys().next_back().copied().unwrap_or(0);
                for time in -1..101 {
                    let then = all.range(..=time).next_back().filter(|(_, (_, is_deleted))| !is_deleted);
                    let then = then.map(|(_, (row, _))| *row);
                    let found = station.find(b"LK1", time).map(|spot| spot.row);
                    if time >= newest - length {
                        prop_assert_eq!(found, then, "at {}", time);
                    } else {
                        prop_assert!(found.is_none() || found == then, "at {}", time);
                    }
                }
                prop_assert_eq!(count.held, i64::try_from(station.count).unwrap());
                prop_assert_eq!(station.count, station.known.values().map(Vec::len).sum::<usize>());
            }
        }
    }
}
