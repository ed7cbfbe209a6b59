//! The rows of a reference, in blocks.

use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, new_null_array};
use arrow_select::interleave::interleave;
use rustc_hash::FxHashMap;

use super::super::cell::{Cell, Cells, push};
use crate::change::Absent;
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::formats::ColumnBuilder;
use crate::plan::transform::schema_of;

/// Rows of a block that is made of single rows.
const BLOCK: usize = 8_192;

/// Blocks of few rows are put together from this number on.
const MOST_BLOCKS: usize = 256;

/// Where a row stands: its block, and its place there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Spot {
    pub block: usize,
    pub row: usize,
}

/// Rows that came together stand in one block. Those that were replaced are there until the blocks are written again.
pub(super) struct Rows {
    columns: Vec<OutputColumn>,
    blocks: Vec<RecordBatch>,
    /// How many rows the blocks have.
    stored: usize,
}

impl Rows {
    pub(super) fn new(columns: &[OutputColumn]) -> Self {
        Self { columns: columns.to_vec(), blocks: Vec::new(), stored: 0 }
    }

    /// Adds prepared rows, which have these columns first; returns their block.
    pub(super) fn add(&mut self, rows: &RecordBatch) -> Outcome<usize> {
        let columns: Vec<usize> = (0..self.columns.len()).collect();
        self.blocks.push(rows.project(&columns).map_err(|e| Failure::internal(e.to_string()))?);
        self.stored += rows.num_rows();
        Ok(self.blocks.len() - 1)
    }

    /// Adds the blocks of others; returns the place of the first one.
    pub(super) fn append(&mut self, others: Self) -> usize {
        let first = self.blocks.len();
        self.blocks.extend(others.blocks);
        self.stored += others.stored;
        first
    }

    /// The rows of some spots; None is a row of nulls.
    pub(super) fn gather(&self, spots: &[Option<Spot>]) -> Outcome<Vec<ArrayRef>> {
        let mut used: Vec<usize> = Vec::new();
        let mut at: FxHashMap<usize, usize> = FxHashMap::default();
        let mut indices = Vec::with_capacity(spots.len());
        for spot in spots {
            // The first array is a null.
            indices.push(spot.map_or((0, 0), |Spot { block, row }| {
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
            arrays.extend(used.iter().map(|block| self.blocks[*block].column(number).as_ref()));
            interleave(&arrays, &indices).map_err(|e| Failure::internal(e.to_string()))
        };
        self.columns.iter().enumerate().map(one).collect()
    }

    /// Whether most of the stored rows have been replaced.
    pub(super) fn is_sparse(&self, live: usize) -> bool {
        self.stored > 2 * live + BLOCK || self.blocks.len() > MOST_BLOCKS + live / 64
    }

    /// Adds a row that lacks values, with those of an earlier one in their place.
    pub(super) fn fill(&mut self, spot: Spot, earlier: Spot, absent: &Absent) -> Outcome<Spot> {
        let before = self.gather(&[Some(earlier)])?;
        let lacks = |column: usize| absent.of(column).is_some_and(|rows| rows.value(spot.row));
        let own = |column: usize| self.blocks[spot.block].column(column).slice(spot.row, 1);
        let arrays = before.into_iter().enumerate().map(|(c, before)| if lacks(c) { before } else { own(c) }).collect();
        self.blocks.push(batch_of(&self.columns, arrays, 1)?);
        self.stored += 1;
        Ok(Spot { block: self.blocks.len() - 1, row: 0 })
    }

    /// Writes the blocks again with the live rows alone, and moves their spots.
    pub(super) fn rewrite(&mut self, mut live: Vec<&mut Spot>) -> Outcome<()> {
        live.sort_unstable();
        let mut blocks = Vec::new();
        for chunk in live.chunks_mut(BLOCK) {
            let spots: Vec<Option<Spot>> = chunk.iter().map(|spot| Some(**spot)).collect();
            let arrays = self.gather(&spots)?;
            for (row, spot) in chunk.iter_mut().enumerate() {
                **spot = Spot { block: blocks.len(), row };
            }
            blocks.push(batch_of(&self.columns, arrays, spots.len())?);
        }
        self.blocks = blocks;
        self.stored = live.len();
        Ok(())
    }

    /// The cells of all blocks.
    pub(super) fn cells(&self) -> RowCells<'_> {
        RowCells(self.blocks.iter().map(|block| block_cells(block, &self.columns)).collect())
    }
}

/// The cells of blocks.
pub(super) struct RowCells<'a>(Vec<Vec<Cells<'a>>>);

fn block_cells<'a>(block: &'a RecordBatch, columns: &[OutputColumn]) -> Vec<Cells<'a>> {
    block.columns().iter().zip(columns).map(|(array, c)| Cells::of(array, c.ty)).collect()
}

impl<'a> RowCells<'a> {
    /// The cells of prepared rows, which have these columns first, as a block of their own.
    pub(super) fn of(rows: &'a RecordBatch, columns: &[OutputColumn]) -> Self {
        Self(vec![block_cells(rows, columns)])
    }

    pub(super) fn write(&self, spot: Spot, out: &mut Vec<u8>) {
        self.0[spot.block].iter().for_each(|column| column.cell(spot.row).write(out));
    }
}

/// Rows that the ledger has, one by one.
pub(super) struct RowsBuilder {
    rows: Rows,
    builders: Vec<ColumnBuilder>,
    count: usize,
}

impl RowsBuilder {
    pub(super) fn new(columns: &[OutputColumn]) -> Self {
        let builders = columns.iter().map(|c| ColumnBuilder::new(c.ty)).collect();
        Self { rows: Rows::new(columns), builders, count: 0 }
    }

    /// Takes the cells of one row from the whole rest of its bytes; None where they are damaged.
    pub(super) fn add(&mut self, rest: &mut &[u8]) -> Outcome<Option<Spot>> {
        let cells: Option<Vec<Cell>> = self.builders.iter().map(|_| Cell::read(rest)).collect();
        let Some(cells) = cells.filter(|_| rest.is_empty()) else { return Ok(None) };
        self.builders.iter_mut().zip(&cells).for_each(|(builder, cell)| push(builder, cell));
        let spot = Spot { block: self.rows.blocks.len(), row: self.count };
        self.count += 1;
        if self.count == BLOCK {
            self.close()?;
        }
        Ok(Some(spot))
    }

    fn close(&mut self) -> Outcome<()> {
        let arrays = self.builders.iter_mut().map(ColumnBuilder::finish).collect();
        self.rows.blocks.push(batch_of(&self.rows.columns, arrays, self.count)?);
        self.rows.stored += self.count;
        self.count = 0;
        Ok(())
    }

    pub(super) fn finish(mut self) -> Outcome<Rows> {
        if self.count > 0 {
            self.close()?;
        }
        Ok(self.rows)
    }
}

pub(super) fn batch_of(columns: &[OutputColumn], arrays: Vec<ArrayRef>, rows: usize) -> Outcome<RecordBatch> {
    let options = RecordBatchOptions::new().with_row_count(Some(rows));
    RecordBatch::try_new_with_options(schema_of(columns), arrays, &options)
        .map_err(|e| Failure::internal(e.to_string()))
}
