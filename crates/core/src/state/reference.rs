//! References: the latest row of an event under each key, looked up for the rows of another event.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, UInt32Array, new_null_array};
use arrow_select::interleave::interleave;
use arrow_select::take::take_record_batch;
use rustc_hash::{FxHashMap, FxHashSet};

use super::cell::{Cell, Cells, push, take};
use super::join::{JoinPlan, JoinSide, LEFT, RIGHT, key_cells, write_key};
use super::{Given, NEVER, Standing, StateChange, StateInput, StateStore, Station, damaged};
use crate::batch::StationCount;
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::formats::ColumnBuilder;
use crate::plan::Transform;
use crate::plan::transform::{RowFault, schema_of};
use crate::reject::Reason;

/// The layout of what is kept of a row.
const VERSION: u8 = 1;

/// Rows of a block that is made of what the ledger has.
const BLOCK: usize = 8_192;

/// Looks rows of an event up.
///
/// Prepared rows of both sides have the columns, then the parts of the key; those of the right side then the time and whether
/// the row removes its key, where there are such.
#[derive(Clone, Debug)]
pub struct ReferencePlan {
    /// Both sides: the events, and the rows that are looked up.
    pub sides: [JoinSide; 2],
    /// The columns of the event that it makes, over those of the left side, then those of the right one.
    pub select: Transform,
    /// Whether an event whose key has no row is a reject.
    pub is_required: bool,
    /// The place of the time among the prepared columns of the right side.
    pub time: Option<usize>,
    /// The place of the condition under which a row removes its key.
    pub deleted: Option<usize>,
    /// How many rows may be remembered at a time.
    pub most: usize,
}

impl ReferencePlan {
    /// What it is, in words.
    pub(super) fn manner(&self) -> String {
        let right = &self.sides[RIGHT];
        let columns: Vec<String> = right.columns.iter().map(|c| format!("{} {}", c.name, c.ty)).collect();
        let key: Vec<String> = right.key.iter().map(|(c, text)| format!("{text} ({})", c.ty)).collect();
        format!("latest {} ({}) by {}", right.event, columns.join(", "), key.join(", "))
    }

    /// The place of the event time among the columns that it gives, where it is taken over from the left side as it is.
    pub(crate) fn time_taken_over(&self, time: usize, prepared: &Transform) -> Option<usize> {
        let own = (0..self.sides[LEFT].columns.len())
            .find(|place| prepared.expression(*place).is_some_and(|expr| expr.as_column() == Some(time)))?;
        (0..self.select.columns.len())
            .find(|place| self.select.expression(*place).is_some_and(|expr| expr.as_column() == Some(own)))
    }

    fn pairs(&self) -> Vec<OutputColumn> {
        JoinPlan::pair_columns(&self.sides, [!self.is_required, false])
    }
}

/// A row that is remembered: its time, its block and its place there.
#[derive(Clone, Copy)]
struct Known {
    time: i64,
    block: usize,
    row: usize,
}

pub(super) struct Reference {
    name: String,
    plan: Arc<ReferencePlan>,
    rows: FxHashMap<Box<[u8]>, Known>,
    /// The rows that came together. Those that were replaced are there until the blocks are written anew.
    blocks: Vec<RecordBatch>,
    /// How many rows the blocks have.
    stored: usize,
    /// Keys that changed since the last batch.
    changed: FxHashSet<Box<[u8]>>,
    now: i64,
}

impl Reference {
    pub(super) fn open(name: &str, plan: &Arc<ReferencePlan>, store: &dyn StateStore) -> Outcome<Self> {
        let mut reference = Self {
            name: name.to_string(),
            plan: Arc::clone(plan),
            rows: FxHashMap::default(),
            blocks: Vec::new(),
            stored: 0,
            changed: FxHashSet::default(),
            now: 0,
        };
        let columns = &plan.sides[RIGHT].columns;
        let mut builders: Vec<ColumnBuilder> = columns.iter().map(|c| ColumnBuilder::new(c.ty)).collect();
        let mut count = 0;
        store.each(name, &mut |key, value| {
            let mut rest = value;
            let read = |rest: &mut &[u8]| {
                let [version] = take(rest)?;
                let time = i64::from_le_bytes(take(rest)?);
                let cells: Option<Vec<Cell>> = columns.iter().map(|_| Cell::read(rest)).collect();
                Some((time, cells.filter(|_| version == VERSION && rest.is_empty())?))
            };
            let (time, cells) = read(&mut rest).ok_or_else(|| damaged(name))?;
            builders.iter_mut().zip(&cells).for_each(|(builder, cell)| push(builder, cell));
            let known = Known { time, block: reference.blocks.len(), row: count };
            reference.rows.insert(key.into(), known);
            count += 1;
            if count == BLOCK {
                reference.add_block(&mut builders, columns, count)?;
                count = 0;
            }
            Ok(())
        })?;
        if count > 0 {
            reference.add_block(&mut builders, columns, count)?;
        }
        Ok(reference)
    }

    fn add_block(&mut self, builders: &mut [ColumnBuilder], columns: &[OutputColumn], rows: usize) -> Outcome<()> {
        let arrays = builders.iter_mut().map(ColumnBuilder::finish).collect();
        self.blocks.push(batch_of(columns, arrays, rows)?);
        self.stored += rows;
        Ok(())
    }

    /// Takes rows that are looked up from now on.
    fn learn(&mut self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        let plan = Arc::clone(&self.plan);
        let side = &plan.sides[RIGHT];
        let times = plan.time.map(|place| rows.column(place).as_primitive::<TimestampMicrosecondType>());
        let deleted = plan.deleted.map(|place| rows.column(place).as_boolean());
        let parts = key_cells(side, rows);
        let mut key = Vec::new();
        let block = self.blocks.len();
        let count = &mut given.count;
        let mut held: i64 = 0;
        for row in 0..rows.num_rows() {
            if !write_key(&parts, row, &mut key) {
                // A null is looked up by none.
                count.unmatched += 1;
                continue;
            }
            let time = times.filter(|times| !times.is_null(row)).map_or(NEVER, |times| times.value(row));
            let known = self.rows.get(key.as_slice()).copied();
            if known.is_some_and(|known| time < known.time) {
                count.merged += 1;
                continue;
            }
            if deleted.is_some_and(|deleted| !deleted.is_null(row) && deleted.value(row)) {
                count.merged += 1;
                if self.rows.remove(key.as_slice()).is_some() {
                    count.merged += 1;
                    held -= 1;
                    self.changed.insert(key.as_slice().into());
                }
                continue;
            }
            match known {
                Some(_) => count.merged += 1,
                None if self.rows.len() >= plan.most => {
                    let message = format!("{} rows are remembered, as many as `most` allows", plan.most);
                    given.faults.push(RowFault { row, column: None, reason: Reason::FULL, message });
                    continue;
                }
                None => held += 1,
            }
            self.changed.insert(key.as_slice().into());
            self.rows.insert(key.as_slice().into(), Known { time, block, row });
        }
        let columns: Vec<usize> = (0..side.columns.len()).collect();
        self.blocks.push(rows.project(&columns).map_err(|e| Failure::internal(e.to_string()))?);
        self.stored += rows.num_rows();
        given.count.held = held;
        given.count.rejected = given.faults.len() as u64;
        if self.stored > 2 * self.rows.len() + BLOCK {
            self.write_blocks()?;
        }
        Ok(())
    }

    /// Leaves out of the blocks what was replaced.
    fn write_blocks(&mut self) -> Outcome<()> {
        let mut known: Vec<&mut Known> = self.rows.values_mut().collect();
        known.sort_unstable_by_key(|known| (known.block, known.row));
        let mut blocks = Vec::new();
        for chunk in known.chunks_mut(BLOCK) {
            let places: Vec<Option<(usize, usize)>> =
                chunk.iter().map(|known| Some((known.block, known.row))).collect();
            let arrays = gather(&self.plan.sides[RIGHT].columns, &self.blocks, &places)?;
            for (row, known) in chunk.iter_mut().enumerate() {
                (known.block, known.row) = (blocks.len(), row);
            }
            blocks.push(batch_of(&self.plan.sides[RIGHT].columns, arrays, places.len())?);
        }
        self.blocks = blocks;
        self.stored = self.rows.len();
        Ok(())
    }

    /// Gives rows on with the columns that are looked up for them.
    fn look_up(&self, rows: &RecordBatch, given: &mut Given) -> Outcome<()> {
        let plan = &self.plan;
        let parts = key_cells(&plan.sides[LEFT], rows);
        let mut key = Vec::new();
        let mut kept: Vec<u32> = Vec::with_capacity(rows.num_rows());
        let mut places = Vec::with_capacity(rows.num_rows());
        for row in 0..rows.num_rows() {
            let has_key = write_key(&parts, row, &mut key);
            let found = has_key.then(|| self.rows.get(key.as_slice())).flatten();
            if found.is_none() && plan.is_required {
                let message = match has_key {
                    true => format!("no row of `{}` has its key", plan.sides[RIGHT].event),
                    false => "its key is null".to_string(),
                };
                given.faults.push(RowFault { row, column: None, reason: Reason::UNMATCHED, message });
                continue;
            }
            kept.push(u32::try_from(row).unwrap_or(u32::MAX));
            places.push(found.map(|known| (known.block, known.row)));
        }
        let own: Vec<usize> = (0..plan.sides[LEFT].columns.len()).collect();
        let left = rows.project(&own).and_then(|rows| take_record_batch(&rows, &UInt32Array::from(kept.clone())));
        let left = left.map_err(|e| Failure::internal(e.to_string()))?;
        let mut columns = left.columns().to_vec();
        columns.extend(gather(&plan.sides[RIGHT].columns, &self.blocks, &places)?);
        let pairs = batch_of(&plan.pairs(), columns, kept.len())?;
        let done = plan.select.apply(&pairs, self.now);
        let input = |pair: usize| kept[pair];
        for fault in done.faults {
            given.faults.push(RowFault { row: usize::try_from(input(fault.row)).unwrap_or(0), ..fault });
        }
        let origin = match done.origin {
            Some(origin) => origin.into_iter().map(|pair| input(usize::try_from(pair).unwrap_or(0))).collect(),
            None => kept,
        };
        given.count.output = done.batch.num_rows() as u64;
        given.count.rejected = given.faults.len() as u64;
        given.rows = Some(done.batch);
        given.origin = Some(origin);
        Ok(())
    }
}

fn batch_of(columns: &[OutputColumn], arrays: Vec<ArrayRef>, rows: usize) -> Outcome<RecordBatch> {
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    RecordBatch::try_new_with_options(schema_of(columns), arrays, &options)
        .map_err(|e| Failure::internal(e.to_string()))
}

/// The columns of rows of blocks; None is a row that is absent.
fn gather(
    columns: &[OutputColumn],
    blocks: &[RecordBatch],
    places: &[Option<(usize, usize)>],
) -> Outcome<Vec<ArrayRef>> {
    let mut used: Vec<usize> = Vec::new();
    let mut at: FxHashMap<usize, usize> = FxHashMap::default();
    let mut indices = Vec::with_capacity(places.len());
    for place in places {
        // The first array is a null.
        indices.push(place.map_or((0, 0), |(block, row)| {
            let number = *at.entry(block).or_insert_with(|| {
                used.push(block);
                used.len()
            });
            (number, row)
        }));
    }
    let one = |(number, column): (usize, &OutputColumn)| {
        let null = new_null_array(&column.ty.arrow(), 1);
        let mut arrays: Vec<&dyn Array> = vec![&*null];
        arrays.extend(used.iter().map(|block| blocks[*block].column(number).as_ref()));
        interleave(&arrays, &indices).map_err(|e| Failure::internal(e.to_string()))
    };
    columns.iter().enumerate().map(one).collect()
}

impl Station for Reference {
    fn take(&mut self, input: StateInput<'_>, _: &dyn StateStore) -> Outcome<Given> {
        let mut given = Given { count: StationCount::new(self.name.as_str()), ..Given::default() };
        self.now = input.now;
        match input.side {
            RIGHT => self.learn(input.rows, &mut given)?,
            _ => self.look_up(input.rows, &mut given)?,
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
        let columns = &self.plan.sides[RIGHT].columns;
        let cells: Vec<Vec<Cells<'_>>> = self
            .blocks
            .iter()
            .map(|block| block.columns().iter().zip(columns).map(|(array, c)| Cells::of(array, c.ty)).collect())
            .collect();
        let value = |known: &Known| {
            let mut value = vec![VERSION];
            value.extend(known.time.to_le_bytes());
            cells[known.block].iter().for_each(|column| column.cell(known.row).write(&mut value));
            value
        };
        let change = |key: Box<[u8]>| {
            let value = self.rows.get(&key).map(value);
            StateChange { key, value, due: None }
        };
        let mut changes: Vec<StateChange> = std::mem::take(&mut self.changed).into_iter().map(change).collect();
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        (changes, None)
    }

    fn standing(&self) -> Standing {
        let rows = self.rows.len() as u64;
        Standing { windows: 0, groups: rows, events: rows, closed: None }
    }
}
