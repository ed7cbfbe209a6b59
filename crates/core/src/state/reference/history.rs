//! A reference that remembers how the rows of each key followed each other, and gives events the row of their own time.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch};
use rustc_hash::{FxHashMap, FxHashSet};

use super::super::cell::take;
use super::super::join::{LEFT, RIGHT, key_cells, write_key};
use super::super::once::no_time;
use super::super::{
    BatchEnd, Changed, Given, KeyRange, Standing, StateChange, StateInput, StateStore, Station, damaged,
};
use super::rows::{Rows, RowsBuilder, Spot};
use super::{Found, ReferencePlan, stored_count, unknown_keys};
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

/// What is known of a key.
#[derive(Default)]
struct Known {
    /// Its rows, in the order of their times, of which no two are the same.
    rows: Vec<Since>,
    /// The batch in which it changed, or was looked up among those that are not all in memory.
    used: u64,
}

pub(super) struct History {
    name: String,
    plan: Arc<ReferencePlan>,
    /// How long a row is remembered after a later one of its key, in microseconds.
    history: i64,
    known: FxHashMap<Box<[u8]>, Known>,
    /// How many rows are remembered, in memory or in the ledger.
    count: usize,
    /// The same, as it was kept last.
    stored_count: Option<usize>,
    /// How many rows are in memory.
    in_memory: usize,
    /// Whether all keys are in memory.
    is_whole: bool,
    /// The number of the batch that is being staged, in this process.
    batch: u64,
    rows: Rows,
    /// Keys and times that changed since the last batch.
    changed: FxHashSet<(Box<[u8]>, i64)>,
}

impl History {
    pub(super) fn open(name: &str, plan: &Arc<ReferencePlan>, history: i64, store: &dyn StateStore) -> Outcome<Self> {
        let stored_count = stored_count(name, &[], store)?;
        let mut found = Self {
            name: name.to_string(),
            plan: Arc::clone(plan),
            history,
            known: FxHashMap::default(),
            count: stored_count.unwrap_or(0),
            stored_count,
            in_memory: 0,
            is_whole: false,
            batch: 2,
            rows: Rows::new(&plan.sides[RIGHT].columns),
            changed: FxHashSet::default(),
        };
        if found.count <= plan.in_memory || !store.keeps(name) {
            found.load(store)?;
        }
        Ok(found)
    }

    /// Takes all rows into memory that the ledger has.
    fn load(&mut self, store: &dyn StateStore) -> Outcome<()> {
        let mut rows = RowsBuilder::new(&self.plan.sides[RIGHT].columns);
        let Self { name, known, .. } = self;
        store.each(name, &mut |key, value| {
            if !key.is_empty() {
                let (key, since) = restored(&mut rows, key, value)?.ok_or_else(|| damaged(name))?;
                known.entry(key.into()).or_default().rows.push(since);
            }
            Ok(())
        })?;
        known.values_mut().for_each(|known| known.rows.sort_unstable_by_key(|since| since.time));
        self.rows = rows.finish()?;
        self.count = self.known.values().map(|known| known.rows.len()).sum();
        (self.in_memory, self.is_whole) = (self.count, true);
        if store.keeps(&self.name) { self.evict(0) } else { Ok(()) }
    }

    /// Takes the rows of keys into memory that prepared rows of a side ask for.
    fn fetch(&mut self, rows: &RecordBatch, side: usize, store: &dyn StateStore) -> Outcome<()> {
        if self.is_whole {
            return Ok(());
        }
        let unknown = unknown_keys(&self.plan.sides[side], rows, |key| {
            self.known.get_mut(key).map(|known| known.used = self.batch).is_some()
        });
        let mut builder = RowsBuilder::new(&self.plan.sides[RIGHT].columns);
        let mut fetched: Vec<(Box<[u8]>, Known)> = Vec::new();
        // No key begins with another one.
        let ranges: Vec<KeyRange> = unknown.iter().map(|key| KeyRange::beginning_with(key)).collect();
        for (key, part) in unknown.into_iter().zip(store.parts(&self.name, &ranges, usize::MAX)?) {
            let mut known = Known { rows: Vec::with_capacity(part.len()), used: self.batch };
            for (stored, value) in &part {
                let (_, since) = restored(&mut builder, stored, value)?.ok_or_else(|| damaged(&self.name))?;
                known.rows.push(since);
            }
            known.rows.sort_unstable_by_key(|since| since.time);
            fetched.push((key, known));
        }
        let first = self.rows.append(builder.finish()?);
        for (key, mut known) in fetched.into_iter().filter(|(_, known)| !known.rows.is_empty()) {
            known.rows.iter_mut().for_each(|since| since.spot.block += first);
            self.in_memory += known.rows.len();
            self.known.insert(key, known);
        }
        self.tidy()
    }

    /// Lets the rows of keys leave memory that are in the ledger, those first that were not asked for longest, where there
    /// are too many.
    fn evict(&mut self, unsealed: u64) -> Outcome<()> {
        let (most, batch) = (self.plan.in_memory, self.batch);
        if self.in_memory <= most {
            return Ok(());
        }
        // A batch is not sealed itself before it ends. Room is made for more than one batch.
        for age in [64, 16, unsealed + 2] {
            if self.in_memory <= most / 4 * 3 {
                break;
            }
            self.known.retain(|_, known| known.used + age > batch);
            let left = self.known.values().map(|known| known.rows.len()).sum();
            self.is_whole &= left == self.in_memory;
            self.in_memory = left;
        }
        self.tidy()
    }

    fn tidy(&mut self) -> Outcome<()> {
        if self.rows.is_sparse(self.in_memory) {
            let all = self.known.values_mut().flat_map(|known| &mut known.rows);
            self.rows.rewrite(all.map(|since| &mut since.spot).collect())?;
        }
        Ok(())
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
        self.tidy()
    }

    /// Remembers a row, and forgets those of its key that it makes too old. False where there is no room for it.
    fn remember(&mut self, key: &[u8], since: Since, count: &mut StationCount) -> bool {
        let is_new = !self.known.contains_key(key);
        if is_new && self.count >= self.plan.most {
            return false;
        }
        let known = self.known.entry(key.into()).or_default();
        known.used = self.batch;
        let all = &mut known.rows;
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
                self.in_memory += 1;
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
            self.in_memory -= 1;
            count.held -= 1;
            count.merged += 1;
        }
        true
    }

    fn find(&self, key: &[u8], time: i64) -> Option<Spot> {
        let all = &self.known.get(key)?.rows;
        let place = all.partition_point(|known| known.time <= time).checked_sub(1)?;
        Some(all[place]).filter(|since| !since.is_deleted).map(|since| since.spot)
    }
}

/// A row that the ledger has, with its key; None where it is damaged.
fn restored<'k>(rows: &mut RowsBuilder, key: &'k [u8], value: &[u8]) -> Outcome<Option<(&'k [u8], Since)>> {
    let mut rest = value;
    let head = take(&mut rest).filter(|[version, is_deleted]: &[u8; 2]| *version == VERSION && *is_deleted < 2);
    let (Some((key, time)), Some([_, is_deleted])) = (key.split_last_chunk::<8>(), head) else { return Ok(None) };
    let since = |spot| Since { time: i64::from_be_bytes(*time), spot, is_deleted: is_deleted == 1 };
    Ok(rows.add(&mut rest)?.map(|spot| (key, since(spot))))
}

impl Station for History {
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.fetch(input.rows, input.side, store)?;
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

    fn changes(&mut self, end: BatchEnd, store: &dyn StateStore) -> Outcome<Changed> {
        let cells = self.rows.cells();
        let value = |since: &Since| {
            let mut value = vec![VERSION, u8::from(since.is_deleted)];
            cells.write(since.spot, &mut value);
            value
        };
        let change = |(key, time): (Box<[u8]>, i64)| {
            let all = self.known.get(&key).map_or(&[][..], |known| known.rows.as_slice());
            let value = all.binary_search_by_key(&time, |since| since.time).ok().map(|place| value(&all[place]));
            StateChange { key: [&*key, &time.to_be_bytes()[..]].concat().into(), value, due: None }
        };
        let mut changes: Vec<StateChange> = std::mem::take(&mut self.changed).into_iter().map(change).collect();
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        if self.stored_count != Some(self.count) {
            self.stored_count = Some(self.count);
            let value = Some((self.count as u64).to_le_bytes().to_vec());
            changes.insert(0, StateChange { key: Box::default(), value, due: None });
        }
        self.batch += 1;
        if store.keeps(&self.name) {
            self.evict(end.unsealed)?;
        }
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
        History::open("named", &plan, history, &crate::state::NoState).unwrap()
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
                prop_assert_eq!(station.count, station.known.values().map(|known| known.rows.len()).sum::<usize>());
            }
        }
    }

    fn column(name: &str, ty: crate::types::SqlType) -> crate::columns::OutputColumn {
        crate::columns::OutputColumn { name: name.into(), ty, nullable: true, limit: None }
    }

    /// Of rows with a key, a time and a number; so many have room in memory.
    fn keyed(in_memory: usize) -> Arc<ReferencePlan> {
        use crate::types::SqlType;
        let key = (column("lock_id", SqlType::Integer), "lock_id".to_string());
        let side = |columns| JoinSide { event: "lock".into(), columns, key: vec![key.clone()] };
        let plan = history(20).plan;
        Arc::new(ReferencePlan {
            sides: [side(Vec::new()), side(vec![column("n", SqlType::Integer)])],
            time: Some(2),
            most: 100_000,
            in_memory,
            ..Arc::unwrap_or_clone(plan)
        })
    }

    fn rows(given: &[(i32, i64, i32)]) -> RecordBatch {
        use crate::types::SqlType;
        use arrow_array::{Int32Array, TimestampMicrosecondArray};
        let columns =
            [column("n", SqlType::Integer), column("key", SqlType::Integer), column("@time", SqlType::Timestamptz)];
        let times = TimestampMicrosecondArray::from_iter_values(given.iter().map(|row| row.1)).with_timezone("UTC");
        let numbers: Int32Array = given.iter().map(|row| Some(row.2)).collect();
        let keys: Int32Array = given.iter().map(|row| Some(row.0)).collect();
        super::super::rows::batch_of(&columns, vec![Arc::new(numbers), Arc::new(keys), Arc::new(times)], given.len())
            .unwrap()
    }

    proptest! {
        /// Rows come from memory and from the ledger, also after a restart.
        #[test]
        fn the_row_of_a_time_is_found_however_few_have_room(
            parts in prop::collection::vec(
                (prop::collection::vec((0..9_i32, 0_i64..100), 1..6), any::<bool>(), prop::bool::weighted(0.15)),
                1..30,
            ),
            room in prop_oneof![1 => Just(usize::MAX), 3 => 1..6_usize],
            behind in 0..4_usize,
        ) {
            use arrow_array::types::Int32Type;
            use crate::state::testing::Store;
            let plan = keyed(room);
            let mut store = Store::behind(behind);
            let mut station = History::open("named", &plan, 20, &store).unwrap();
            let mut all: BTreeMap<i32, BTreeMap<i64, i32>> = BTreeMap::new();
            let mut held = 0;
            for (number, (part, is_last, again)) in (0_i32..).zip(parts) {
                let given: Vec<(i32, i64, i32)> = part.iter().map(|(key, time)| (*key, *time, number)).collect();
                for (key, time, n) in &given {
                    all.entry(*key).or_default().insert(*time, *n);
                }
                let batch = rows(&given);
                let watermarks = vec![0; given.len()];
                let input = StateInput { rows: &batch, watermarks: &watermarks, now: 0, side: RIGHT, reading: 0, marks: None };
                held += station.take(input, &store).unwrap().count.held;
                prop_assert_eq!(held, i64::try_from(station.count).unwrap());
                if is_last {
                    let changed = station.changes(store.end(0), &store).unwrap();
                    store.stage(changed);
                }
                if is_last && again {
                    store.seal_all();
                    station = History::open("named", &plan, 20, &store).unwrap();
                    prop_assert_eq!(held, i64::try_from(station.count).unwrap());
                }
            }
            for (key, times) in &all {
                let asked = rows(&[(*key, 0, 0)]);
                station.fetch(&asked, RIGHT, &store).unwrap();
                let mut bytes = Vec::new();
                assert!(write_key(&key_cells(&plan.sides[RIGHT], &asked), 0, &mut bytes));
                let newest = *times.keys().next_back().unwrap();
                for time in newest - 20..=newest + 5 {
                    let expected = times.range(..=time).next_back().map(|(_, n)| *n);
                    let found = station.find(&bytes, time).map(|spot| {
                        station.rows.gather(&[Some(spot)]).unwrap()[0].as_primitive::<Int32Type>().value(0)
                    });
                    prop_assert_eq!(found, expected, "key {} at {}", key, time);
                }
            }
        }
    }
}
