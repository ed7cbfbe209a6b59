//! A reference that remembers the latest row of each key.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch, UInt32Array};
use arrow_select::take::take_record_batch;
use rustc_hash::{FxHashMap, FxHashSet};

use super::super::cell::take;
use super::super::join::{RIGHT, key_cells, write_key};
use super::super::{
    BatchEnd, Changed, Given, KeyRange, NEVER, SEALED_AFTER, Standing, StateChange, StateInput, StateStore, Station,
    damaged,
};
use super::rows::{RowCells, Rows, RowsBuilder, Spot};
use super::{Found, ReferencePlan, stored_count, unknown_keys};
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
    /// The batch in which it came, changed, or was looked up among those that are not all in memory.
    used: u64,
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
    /// How many rows are remembered, in memory or in the ledger.
    pub(super) count: usize,
    /// The same, as it was kept last.
    stored_count: Option<usize>,
    /// Whether all of them are in memory.
    is_whole: bool,
    /// Keys that were removed, each in a batch: the ledger may still have them.
    gone: FxHashMap<Box<[u8]>, u64>,
    /// Whether all keys of earlier batches were removed in this one.
    is_cleared: bool,
    /// The number of the batch that is being staged, in this process.
    batch: u64,
}

impl Latest {
    pub(super) fn open(
        name: &str,
        plan: &Arc<ReferencePlan>,
        prefix: &'static [u8],
        store: &dyn StateStore,
    ) -> Outcome<Self> {
        let stored_count = stored_count(name, prefix, store)?;
        let mut latest = Self {
            name: name.to_string(),
            plan: Arc::clone(plan),
            prefix,
            known: FxHashMap::default(),
            rows: Rows::new(&plan.sides[RIGHT].columns),
            changed: FxHashSet::default(),
            removed: None,
            count: stored_count.unwrap_or(0),
            stored_count,
            is_whole: false,
            gone: FxHashMap::default(),
            is_cleared: false,
            batch: 2,
        };
        if latest.count <= plan.in_memory || !store.keeps(name) {
            latest.load(store)?;
        }
        Ok(latest)
    }

    /// Takes all rows into memory that the ledger has.
    fn load(&mut self, store: &dyn StateStore) -> Outcome<()> {
        let mut rows = RowsBuilder::new(&self.plan.sides[RIGHT].columns);
        let Self { name, prefix, known, .. } = self;
        store.each(name, &mut |key, value| {
            if let Some(key) = key.strip_prefix(*prefix).filter(|key| !key.is_empty()) {
                known.insert(key.into(), restored(&mut rows, value, 0)?.ok_or_else(|| damaged(name))?);
            }
            Ok(())
        })?;
        self.rows = rows.finish()?;
        self.count = self.known.len();
        self.is_whole = true;
        if store.keeps(&self.name) { self.evict(0) } else { Ok(()) }
    }

    /// Takes the rows into memory that prepared rows of a side ask for.
    pub(super) fn fetch(&mut self, rows: &RecordBatch, side: usize, store: &dyn StateStore) -> Outcome<()> {
        if self.is_whole {
            return Ok(());
        }
        let unknown = unknown_keys(&self.plan.sides[side], rows, |key| match self.known.get_mut(key) {
            Some(known) => {
                known.used = self.batch;
                true
            }
            None => self.gone.contains_key(key),
        });
        let stored: Vec<Box<[u8]>> = unknown.iter().map(|key| [self.prefix, key].concat().into()).collect();
        let found = store.values(&self.name, &stored.iter().map(|key| &**key).collect::<Vec<_>>())?;
        let mut builder = RowsBuilder::new(&self.plan.sides[RIGHT].columns);
        let mut fetched: Vec<(Box<[u8]>, Known)> = Vec::new();
        for (key, value) in unknown.into_iter().zip(found) {
            let Some(value) = value else { continue };
            let known = restored(&mut builder, &value, self.batch)?.ok_or_else(|| damaged(&self.name))?;
            fetched.push((key, known));
        }
        let first = self.rows.append(builder.finish()?);
        for (_, known) in &mut fetched {
            known.spot.block += first;
        }
        self.known.extend(fetched);
        self.tidy()
    }

    /// How many rows are remembered.
    pub(super) fn len(&self) -> usize {
        self.count
    }

    /// Remembers a row of a key.
    pub(super) fn remember(&mut self, key: &[u8], time: i64, spot: Spot, reading: u64) {
        let used = self.batch;
        let before = self.known.insert(key.into(), Known { time, spot, reading, used });
        self.count += usize::from(before.is_none());
        self.gone.remove(key);
        self.changed.insert(key.into());
    }

    /// Forgets the row of a key.
    pub(super) fn remove(&mut self, key: &[u8]) -> Option<Known> {
        let known = self.known.remove(key)?;
        self.count -= 1;
        self.gone.insert(key.into(), self.batch);
        self.changed.insert(key.into());
        Some(known)
    }

    /// Forgets all rows.
    pub(super) fn clear(&mut self) {
        self.known.clear();
        self.changed.clear();
        self.gone.clear();
        self.removed = None;
        self.count = 0;
        (self.is_whole, self.is_cleared) = (true, true);
    }

    /// Lets rows leave memory that are in the ledger, those first that were not asked for longest, where there are too many.
    fn evict(&mut self, unsealed: u64) -> Outcome<()> {
        let most = self.plan.in_memory;
        if self.known.len() <= most {
            return Ok(());
        }
        let batch = self.batch;
        // A batch is not sealed itself before it ends. Room is made for more than one batch.
        for age in [64, 16, unsealed + 2] {
            let before = self.known.len();
            self.known.retain(|_, known| known.used + age > batch);
            self.is_whole &= self.known.len() == before;
            if self.known.len() <= most / 4 * 3 {
                break;
            }
        }
        self.tidy()
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
                if self.remove(&key).is_some() {
                    given.count.merged += 1;
                    held -= 1;
                }
                continue;
            }
            match known {
                Some(_) => given.count.merged += 1,
                None if self.count + others >= plan.most => {
                    given.faults.push(self.full(row));
                    continue;
                }
                None => held += 1,
            }
            self.remember(&key, time, Spot { block, row: place }, reading);
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
            self.remove(&key);
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

/// The row that the ledger has under a key; None where it is damaged.
fn restored(rows: &mut RowsBuilder, value: &[u8], used: u64) -> Outcome<Option<Known>> {
    let mut rest = value;
    let version = take(&mut rest).filter(|[version]: &[u8; 1]| *version == VERSION);
    let Some(time) = version.and_then(|_| take(&mut rest)).map(i64::from_le_bytes) else { return Ok(None) };
    Ok(rows.add(&mut rest)?.map(|spot| Known { time, spot, reading: 0, used }))
}

impl Station for Latest {
    fn take(&mut self, input: StateInput<'_>, store: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.fetch(input.rows, input.side, store)?;
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

    fn end(&mut self, _: i64, _: bool, _: &dyn StateStore) -> Outcome<Given> {
        Ok(Given { count: StationCount::new(self.name.as_str()), ..Given::default() })
    }

    fn would_give(&self, _: i64, _: bool) -> bool {
        false
    }

    fn changes(&mut self, end: BatchEnd, store: &dyn StateStore) -> Outcome<Changed> {
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
        if self.stored_count != Some(self.count) || self.is_cleared {
            self.stored_count = Some(self.count);
            let value = Some((self.count as u64).to_le_bytes().to_vec());
            changes.insert(0, StateChange { key: self.prefix.into(), value, due: None });
        }
        let all = KeyRange::beginning_with(self.prefix);
        let gone = if std::mem::take(&mut self.is_cleared) { vec![all] } else { Vec::new() };
        self.batch += 1;
        let batch = self.batch;
        self.gone.retain(|_, removed| *removed + SEALED_AFTER + 1 > batch);
        if store.keeps(&self.name) {
            self.evict(end.unsealed)?;
        }
        Ok(Changed { gone, changes, ..Changed::default() })
    }

    fn standing(&self) -> Standing {
        let rows = self.count as u64;
        Standing { groups: rows, events: rows, ..Standing::default() }
    }
}
