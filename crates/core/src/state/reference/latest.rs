//! A reference that remembers the latest row of each key.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch, UInt32Array};
use arrow_select::take::take_record_batch;
use rustc_hash::{FxHashMap, FxHashSet};

use super::super::cell::take;
use super::super::join::{RIGHT, key_cells, write_key};
use super::super::{Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use super::rows::{RowCells, Rows, RowsBuilder, Spot};
use super::{Found, ReferencePlan};
use crate::batch::StationCount;
use crate::failure::{Failure, Outcome};
use crate::plan::transform::RowFault;
use crate::reject::Reason;

/// The layout of what is kept of a row.
const VERSION: u8 = 1;

/// A row that is remembered.
#[derive(Clone, Copy)]
pub(super) struct Known {
    pub(super) time: i64,
    pub(super) spot: Spot,
    /// Of a list, the number of the last reading that had it; 0 where that was before this run.
    pub(super) reading: u64,
}

pub(super) struct Latest {
    name: String,
    pub(super) plan: Arc<ReferencePlan>,
    /// What the keys of its rows in the ledger begin with.
    prefix: &'static [u8],
    pub(super) known: FxHashMap<Box<[u8]>, Known>,
    pub(super) rows: Rows,
    /// Keys that changed since the last batch.
    pub(super) changed: FxHashSet<Box<[u8]>>,
    /// The row that a change feed deleted last: perhaps it gets another key next.
    pub(super) removed: Option<Spot>,
}

impl Latest {
    pub(super) fn open(
        name: &str,
        plan: &Arc<ReferencePlan>,
        prefix: &'static [u8],
        store: &dyn StateStore,
    ) -> Outcome<Self> {
        let mut rows = RowsBuilder::new(&plan.sides[RIGHT].columns);
        let mut known = FxHashMap::default();
        store.each(name, &mut |key, value| {
            let Some(key) = key.strip_prefix(prefix) else { return Ok(()) };
            let mut rest = value;
            let version = take(&mut rest).filter(|[version]: &[u8; 1]| *version == VERSION);
            let time = version.and_then(|_| take(&mut rest)).map(i64::from_le_bytes).ok_or_else(|| damaged(name))?;
            let spot = rows.add(&mut rest)?.ok_or_else(|| damaged(name))?;
            known.insert(key.into(), Known { time, spot, reading: 0 });
            Ok(())
        })?;
        let (name, plan) = (name.to_string(), Arc::clone(plan));
        Ok(Self { name, plan, prefix, known, rows: rows.finish()?, changed: FxHashSet::default(), removed: None })
    }

    /// How many rows are remembered.
    pub(super) fn len(&self) -> usize {
        self.known.len()
    }

    pub(super) fn rows(&self) -> &Rows {
        &self.rows
    }

    pub(super) fn find(&self, key: &[u8]) -> Option<Spot> {
        self.known.get(key).map(|known| known.spot)
    }

    /// Takes rows that are looked up from now on. So many `others` are remembered beside them; of a list, `reading` is the
    /// number of its reading.
    pub(super) fn learn(&mut self, rows: &RecordBatch, reading: u64, others: usize, given: &mut Given) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let fresh = if plan.is_list { Some(self.fresh(rows, reading, given)) } else { None };
        let times = plan.time.map(|place| rows.column(place).as_primitive::<TimestampMicrosecondType>());
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let mut key = Vec::new();
        let block = match &fresh {
            Some(fresh) if fresh.is_empty() => return Ok(()),
            Some(fresh) => {
                let taken = take_record_batch(rows, &UInt32Array::from(fresh.clone()));
                self.rows.add(&taken.map_err(|e| Failure::internal(e.to_string()))?)?
            }
            None => self.rows.add(rows)?,
        };
        let mut held: i64 = 0;
        for place in 0..fresh.as_ref().map_or(rows.num_rows(), Vec::len) {
            let row = fresh.as_ref().map_or(place, |fresh| usize::try_from(fresh[place]).unwrap_or(place));
            if !write_key(&parts, row, &mut key) {
                // A null is looked up by none.
                given.count.unmatched += 1;
                continue;
            }
            let known = self.known.get(key.as_slice()).copied();
            // A row without a time, such as a tombstone, counts as later than what was read before it.
            let own = times.filter(|times| !times.is_null(row)).map(|times| times.value(row));
            let time = own.or(known.map(|known| known.time)).unwrap_or(NEVER);
            if known.is_some_and(|known| time < known.time) {
                given.count.merged += 1;
                continue;
            }
            if deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row)) {
                given.count.merged += 1;
                if self.known.remove(key.as_slice()).is_some() {
                    given.count.merged += 1;
                    held -= 1;
                    self.changed.insert(key.as_slice().into());
                }
                continue;
            }
            match known {
                Some(_) => given.count.merged += 1,
                None if self.known.len() + others >= plan.most => {
                    given.faults.push(self.full(row));
                    continue;
                }
                None => held += 1,
            }
            self.changed.insert(key.as_slice().into());
            self.known.insert(key.as_slice().into(), Known { time, spot: Spot { block, row: place }, reading });
        }
        given.count.held = held;
        given.count.rejected = given.faults.len() as u64;
        self.tidy()
    }

    /// The rows of a list that are not there yet as they are: most readings bring few.
    fn fresh(&mut self, rows: &RecordBatch, reading: u64, given: &mut Given) -> Vec<u32> {
        let Self { plan, known, rows: stored, .. } = self;
        let side = &plan.sides[RIGHT];
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(side, rows);
        let (before, now) = (stored.cells(), RowCells::of(rows, &side.columns));
        let (mut key, mut old, mut new) = (Vec::new(), Vec::new(), Vec::new());
        let mut fresh = Vec::new();
        // A key that comes twice has its last row.
        let mut changing: FxHashSet<Vec<u8>> = FxHashSet::default();
        for row in 0..rows.num_rows() {
            let is_deleted = deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row));
            if write_key(&parts, row, &mut key) {
                let known = known.get_mut(key.as_slice()).filter(|_| !is_deleted && !changing.contains(&key));
                if let Some(known) = known {
                    old.clear();
                    new.clear();
                    before.write(known.spot, &mut old);
                    now.write(Spot { block: 0, row }, &mut new);
                    if old == new {
                        known.reading = reading;
                        given.count.merged += 1;
                        continue;
                    }
                }
                changing.insert(key.clone());
            }
            fresh.push(u32::try_from(row).unwrap_or(u32::MAX));
        }
        fresh
    }

    /// Forgets the rows that the last reading of a list did not have.
    pub(super) fn forget_gone(&mut self, reading: u64, given: &mut Given) -> Outcome<()> {
        let gone = self.known.iter().filter(|(_, known)| known.reading != reading).map(|(key, _)| key.clone());
        let gone: Vec<Box<[u8]>> = gone.collect();
        given.count.merged += gone.len() as u64;
        given.count.held -= i64::try_from(gone.len()).unwrap_or(i64::MAX);
        for key in gone {
            self.known.remove(&key);
            self.changed.insert(key);
        }
        self.tidy()
    }

    /// What is wrong with a row that would be one too many.
    pub(super) fn full(&self, row: usize) -> RowFault {
        let message = format!("{} rows are remembered, as many as `most` allows", self.plan.most);
        RowFault { row, column: None, reason: Reason::FULL, message }
    }

    /// Writes the blocks again where most of their rows have been replaced.
    pub(super) fn tidy(&mut self) -> Outcome<()> {
        if self.rows.is_sparse(self.known.len()) {
            let live = self.known.values_mut().map(|known| &mut known.spot);
            self.rows.rewrite(live.chain(&mut self.removed).collect())?;
        }
        Ok(())
    }
}

impl Station for Latest {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        match (input.side, input.marks) {
            (RIGHT, Some(marks)) => self.learn_changes(input.rows, marks, 0, &mut given)?,
            (RIGHT, None) => self.learn(input.rows, input.reading, 0, &mut given)?,
            _ => {
                let find = |key: &[u8], _| self.find(key).map_or(Found::Nothing, Found::Row);
                self.plan.look_up(&self.rows, input.rows, input.now, &mut given, find)?;
            }
        }
        Ok(given)
    }

    fn read_whole(&mut self, reading: u64) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.forget_gone(reading, &mut given)?;
        Ok(given)
    }

    fn end(&mut self, _: i64, _: bool) -> Outcome<Given> {
        Ok(Given { count: StationCount::new(self.name.as_str()), ..Given::default() })
    }

    fn would_give(&self, _: i64, _: bool) -> bool {
        false
    }

    fn changes(&mut self, _: i64, _: i64) -> (Vec<StateChange>, Option<i64>) {
        let cells = self.rows.cells();
        let value = |known: &Known| {
            let mut value = vec![VERSION];
            value.extend(known.time.to_le_bytes());
            cells.write(known.spot, &mut value);
            value
        };
        let change = |key: Box<[u8]>| {
            let value = self.known.get(&key).map(value);
            StateChange { key: [self.prefix, &*key].concat().into(), value, due: None }
        };
        let mut changes: Vec<StateChange> = std::mem::take(&mut self.changed).into_iter().map(change).collect();
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        (changes, None)
    }

    fn standing(&self) -> Standing {
        let rows = self.known.len() as u64;
        Standing { groups: rows, events: rows, ..Standing::default() }
    }
}
