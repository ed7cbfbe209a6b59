//! A reference that remembers the latest row of each key.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch};
use rustc_hash::{FxHashMap, FxHashSet};

use super::super::cell::take;
use super::super::join::{RIGHT, key_cells, write_key};
use super::super::{Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use super::rows::{Rows, RowsBuilder, Spot};
use super::{Found, ReferencePlan};
use crate::batch::StationCount;
use crate::failure::Outcome;
use crate::plan::transform::RowFault;
use crate::reject::Reason;

/// The layout of what is kept of a row.
const VERSION: u8 = 1;

/// A row that is remembered.
#[derive(Clone, Copy)]
struct Known {
    time: i64,
    spot: Spot,
}

pub(super) struct Latest {
    name: String,
    plan: Arc<ReferencePlan>,
    /// What the keys of its rows in the ledger begin with.
    prefix: &'static [u8],
    known: FxHashMap<Box<[u8]>, Known>,
    rows: Rows,
    /// Keys that changed since the last batch.
    changed: FxHashSet<Box<[u8]>>,
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
            known.insert(key.into(), Known { time, spot });
            Ok(())
        })?;
        let (name, plan) = (name.to_string(), Arc::clone(plan));
        Ok(Self { name, plan, prefix, known, rows: rows.finish()?, changed: FxHashSet::default() })
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

    /// Takes rows that are looked up from now on. So many `others` are remembered beside them.
    pub(super) fn learn(&mut self, rows: &RecordBatch, others: usize, given: &mut Given) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let times = plan.time.map(|place| rows.column(place).as_primitive::<TimestampMicrosecondType>());
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(&plan.sides[RIGHT], rows);
        let mut key = Vec::new();
        let block = self.rows.add(rows)?;
        let count = &mut given.count;
        let mut held: i64 = 0;
        for row in 0..rows.num_rows() {
            if !write_key(&parts, row, &mut key) {
                // A null is looked up by none.
                count.unmatched += 1;
                continue;
            }
            let known = self.known.get(key.as_slice()).copied();
            // A row without a time, such as a tombstone, counts as later than what was read before it.
            let own = times.filter(|times| !times.is_null(row)).map(|times| times.value(row));
            let time = own.or(known.map(|known| known.time)).unwrap_or(NEVER);
            if known.is_some_and(|known| time < known.time) {
                count.merged += 1;
                continue;
            }
            if deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row)) {
                count.merged += 1;
                if self.known.remove(key.as_slice()).is_some() {
                    count.merged += 1;
                    held -= 1;
                    self.changed.insert(key.as_slice().into());
                }
                continue;
            }
            match known {
                Some(_) => count.merged += 1,
                None if self.known.len() + others >= plan.most => {
                    let message = format!("{} rows are remembered, as many as `most` allows", plan.most);
                    given.faults.push(RowFault { row, column: None, reason: Reason::FULL, message });
                    continue;
                }
                None => held += 1,
            }
            self.changed.insert(key.as_slice().into());
            self.known.insert(key.as_slice().into(), Known { time, spot: Spot { block, row } });
        }
        given.count.held = held;
        given.count.rejected = given.faults.len() as u64;
        if self.rows.is_sparse(self.known.len()) {
            self.rows.rewrite(self.known.values_mut().map(|known| &mut known.spot).collect())?;
        }
        Ok(())
    }
}

impl Station for Latest {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        match input.side {
            RIGHT => self.learn(input.rows, 0, &mut given)?,
            _ => {
                let find = |key: &[u8], _| self.find(key).map_or(Found::Nothing, Found::Row);
                self.plan.look_up(&self.rows, input.rows, input.now, &mut given, find)?;
            }
        }
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
