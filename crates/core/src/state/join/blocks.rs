//! The rows that a join remembers: in blocks of rows that came together, found by their keys.

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array, ArrayRef, RecordBatch, new_null_array};
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_select::interleave::interleave;
use rustc_hash::FxHashMap;
use sha2::{Digest as _, Sha256};

use super::JoinSide;
use crate::columns::OutputColumn;
use crate::failure::{Failure, Outcome};
use crate::state::StateChange;
use crate::state::cell::{Cells, take};

/// The layout of what is kept of a block.
const VERSION: u8 = 1;

/// What a key in the ledger is of: the rows of a block, or what has become of them.
const ROWS: u8 = 0;
const FATES: u8 = 1;

/// A row is remembered no more.
const GONE: u8 = 1;
/// A row has met one of the other side.
const MATCHED: u8 = 2;

/// Blocks that came in one batch become one where they are small.
const SMALL: usize = 1_000;

/// A row that is remembered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(in crate::state) struct At {
    pub block: u32,
    pub row: u32,
}

/// Rows of one side that came together.
pub(in crate::state) struct Block {
    pub rows: RecordBatch,
    pub side: usize,
    number: u64,
    fates: Vec<u8>,
    live: usize,
    /// The rows in the order of their times.
    order: Vec<u32>,
    /// The first of these that may still be remembered.
    next: usize,
    is_stored: bool,
    has_changed: bool,
    has_stored_fates: bool,
}

impl Block {
    fn new(rows: RecordBatch, side: usize, number: u64, time: usize) -> Self {
        let count = rows.num_rows();
        let times = rows.column(time).as_primitive::<TimestampMicrosecondType>().values();
        let mut order: Vec<u32> = (0..u32::try_from(count).unwrap_or(u32::MAX)).collect();
        order.sort_by_key(|row| times[place(*row)]);
        Self {
            fates: vec![0; count],
            live: count,
            order,
            next: 0,
            is_stored: false,
            has_changed: false,
            has_stored_fates: false,
            rows,
            side,
            number,
        }
    }

    fn is_gone(&self, row: u32) -> bool {
        self.fates[place(row)] & GONE != 0
    }
}

/// All rows that are remembered.
#[derive(Default)]
pub(in crate::state) struct Blocks {
    slots: Vec<Option<Block>>,
    free: Vec<u32>,
    by_key: [FxHashMap<Box<[u8]>, Vec<At>>; 2],
    live: usize,
    next_number: u64,
    /// Blocks of the batch that is being staged.
    fresh: Vec<u32>,
    /// Keys in the ledger of blocks that are not there any more.
    removed: Vec<Box<[u8]>>,
}

pub(super) fn place(n: u32) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

/// The key of a row, where no part of it is null.
pub(in crate::state) fn write_key(parts: &[Cells<'_>], row: usize, key: &mut Vec<u8>) -> bool {
    key.clear();
    parts.iter().for_each(|part| part.write_key(row, key));
    !parts.iter().any(|part| part.is_null(row))
}

/// The parts of the key of prepared rows.
pub(in crate::state) fn key_cells<'r>(side: &JoinSide, rows: &'r RecordBatch) -> Vec<Cells<'r>> {
    let columns = &rows.columns()[side.first_key()..];
    side.key.iter().zip(columns).map(|((column, _), array)| Cells::of(array, column.ty)).collect()
}

impl Blocks {
    /// How many rows are remembered.
    pub(in crate::state) fn live(&self) -> usize {
        self.live
    }

    pub(in crate::state) fn block(&self, slot: u32) -> Option<&Block> {
        self.slots.get(place(slot))?.as_ref()
    }

    /// Takes rows in; gives the block that they are in. They are not found by their keys yet.
    pub(in crate::state) fn add(&mut self, rows: RecordBatch, side: usize, time: usize) -> u32 {
        let block = Block::new(rows, side, self.next_number, time);
        self.next_number += 1;
        let slot = self.put(block);
        self.fresh.push(slot);
        slot
    }

    fn put(&mut self, block: Block) -> u32 {
        self.live += block.live;
        match self.free.pop() {
            Some(slot) => {
                self.slots[place(slot)] = Some(block);
                slot
            }
            None => {
                self.slots.push(Some(block));
                u32::try_from(self.slots.len() - 1).unwrap_or(u32::MAX)
            }
        }
    }

    /// Lets a row be found by its key.
    pub(in crate::state) fn index(&mut self, side: usize, key: &[u8], at: At) {
        match self.by_key[side].get_mut(key) {
            Some(rows) => rows.push(at),
            None => drop(self.by_key[side].insert(key.into(), vec![at])),
        }
    }

    /// The rows of a side with a key, in the order in which they came.
    pub(super) fn find(&self, side: usize, key: &[u8]) -> &[At] {
        self.by_key[side].get(key).map_or(&[], Vec::as_slice)
    }

    pub(super) fn time(&self, at: At, sides: &[JoinSide; 2]) -> i64 {
        let Some(block) = self.block(at.block) else { return 0 };
        let column = block.rows.column(sides[block.side].time());
        column.as_primitive::<TimestampMicrosecondType>().value(place(at.row))
    }

    /// Notes that a row has met another one.
    pub(super) fn matched(&mut self, at: At) {
        let Some(block) = self.slots.get_mut(place(at.block)).and_then(Option::as_mut) else { return };
        let fate = &mut block.fates[place(at.row)];
        if *fate & MATCHED == 0 {
            *fate |= MATCHED;
            block.has_changed = true;
        }
    }

    /// Forgets the rows of a side with a key, and gives them. Their blocks are there until [`Self::sweep`].
    pub(in crate::state) fn release(&mut self, side: usize, key: &[u8]) -> Vec<At> {
        let all = self.by_key[side].remove(key).unwrap_or_default();
        all.iter().for_each(|at| self.forget(*at));
        all
    }

    /// Forgets a row that nothing finds by its key.
    pub(super) fn forget(&mut self, at: At) {
        let Some(block) = self.slots.get_mut(place(at.block)).and_then(Option::as_mut) else { return };
        block.fates[place(at.row)] |= GONE;
        block.has_changed = true;
        block.live -= 1;
        self.live -= 1;
    }

    /// Forgets rows of a side that `is_over` says by their times, in the order of times within each block. Gives them, each with
    /// whether it has met another one. Their blocks are there until [`Self::sweep`].
    pub(in crate::state) fn expire(
        &mut self,
        sides: &[JoinSide; 2],
        is_over: impl Fn(usize, i64) -> bool,
    ) -> Vec<(i64, u64, At, bool)> {
        let mut found = Vec::new();
        let mut key = Vec::new();
        for (slot, block) in self.slots.iter_mut().enumerate() {
            let Some(block) = block else { continue };
            let side = &sides[block.side];
            let rows = block.rows.clone();
            let times = rows.column(side.time()).as_primitive::<TimestampMicrosecondType>().values();
            let parts = key_cells(side, &rows);
            while let Some(row) = block.order.get(block.next).copied().filter(|r| is_over(block.side, times[place(*r)]))
            {
                block.next += 1;
                if block.is_gone(row) {
                    continue;
                }
                let at = At { block: u32::try_from(slot).unwrap_or(u32::MAX), row };
                if write_key(&parts, place(row), &mut key)
                    && let Some(all) = self.by_key[block.side].get_mut(key.as_slice())
                {
                    all.retain(|one| *one != at);
                    if all.is_empty() {
                        self.by_key[block.side].remove(key.as_slice());
                    }
                }
                let is_matched = block.fates[place(row)] & MATCHED != 0;
                block.fates[place(row)] |= GONE;
                block.has_changed = true;
                block.live -= 1;
                self.live -= 1;
                found.push((times[place(row)], block.number, at, is_matched));
            }
        }
        found.sort_unstable_by_key(|(time, number, at, _)| (*time, *number, at.row));
        found
    }

    /// The latest time that `of` gives for a row that is remembered.
    pub(super) fn latest(&self, sides: &[JoinSide; 2], of: impl Fn(usize, i64) -> i64) -> Option<i64> {
        let newest = |block: &Block| {
            let times = block.rows.column(sides[block.side].time()).as_primitive::<TimestampMicrosecondType>().values();
            let row = block.order[block.next..].iter().rev().find(|row| !block.is_gone(**row))?;
            Some(of(block.side, times[place(*row)]))
        };
        self.slots.iter().flatten().filter_map(newest).max()
    }

    /// Lets go of blocks of which no row is remembered.
    pub(in crate::state) fn sweep(&mut self) {
        for slot in 0..self.slots.len() {
            if self.slots[slot].as_ref().is_some_and(|block| block.live == 0) {
                self.remove(u32::try_from(slot).unwrap_or(u32::MAX));
            }
        }
    }

    fn remove(&mut self, slot: u32) {
        let Some(block) = self.slots[place(slot)].take() else { return };
        if block.is_stored {
            self.removed.push(stored_key(ROWS, block.side, block.number));
        }
        if block.has_stored_fates {
            self.removed.push(stored_key(FATES, block.side, block.number));
        }
        self.free.push(slot);
        self.fresh.retain(|one| *one != slot);
    }

    /// Makes one block of the small ones that came in a batch: each has its price, in memory and in the ledger.
    fn put_together(&mut self, sides: &[JoinSide; 2]) {
        for side in 0..2 {
            let of_side = |slot: &u32| self.block(*slot).filter(|block| block.side == side);
            let slots: Vec<u32> = self.fresh.iter().copied().filter(|slot| of_side(slot).is_some()).collect();
            let rows: usize = slots.iter().filter_map(of_side).map(|block| block.rows.num_rows()).sum();
            if slots.len() < 2 || rows / slots.len() >= SMALL {
                continue;
            }
            let blocks: Vec<Block> = slots.iter().filter_map(|slot| self.slots[place(*slot)].take()).collect();
            let Ok(all) =
                arrow_select::concat::concat_batches(&blocks[0].rows.schema(), blocks.iter().map(|b| &b.rows))
            else {
                slots.iter().zip(blocks).for_each(|(slot, block)| self.slots[place(*slot)] = Some(block));
                continue;
            };
            self.live -= blocks.iter().map(|block| block.live).sum::<usize>();
            let mut one = Block::new(all, side, blocks[0].number, sides[side].time());
            one.fates = blocks.iter().flat_map(|block| block.fates.iter().copied()).collect();
            one.live = blocks.iter().map(|block| block.live).sum();
            one.has_changed = one.fates.iter().any(|fate| *fate != 0);
            // The places of the old blocks are given away last, so that a place means one block meanwhile.
            let slot = self.put(one);
            self.fresh.retain(|slot| !slots.contains(slot));
            self.fresh.push(slot);
            let mut moved = FxHashMap::default();
            let mut first = 0;
            for (old, block) in slots.iter().zip(&blocks) {
                moved.insert(*old, first);
                first += u32::try_from(block.rows.num_rows()).unwrap_or(u32::MAX);
            }
            self.point_to(sides, slot, &moved);
            self.free.extend(slots);
        }
    }

    /// Rows that were found in blocks of old are found in a new one: `moved` says at which row each of them begins there.
    fn point_to(&mut self, sides: &[JoinSide; 2], slot: u32, moved: &FxHashMap<u32, u32>) {
        let Some(block) = self.slots[place(slot)].as_ref() else { return };
        let (side, rows) = (block.side, block.rows.clone());
        let parts = key_cells(&sides[side], &rows);
        let mut key = Vec::new();
        for row in 0..rows.num_rows() {
            if !write_key(&parts, row, &mut key) {
                continue;
            }
            for at in self.by_key[side].get_mut(key.as_slice()).into_iter().flatten() {
                if let Some(first) = moved.get(&at.block) {
                    *at = At { block: slot, row: first + at.row };
                }
            }
        }
    }

    /// The first columns of some rows; None is nulls for so many.
    pub(in crate::state) fn gather(
        &self,
        columns: &[OutputColumn],
        rows: Option<&[At]>,
        count: usize,
    ) -> Outcome<Vec<ArrayRef>> {
        let Some(rows) = rows.filter(|rows| !rows.is_empty()) else {
            return Ok(columns.iter().map(|c| new_null_array(&c.ty.arrow(), count)).collect());
        };
        let mut used: Vec<&RecordBatch> = Vec::new();
        let mut places: FxHashMap<u32, usize> = FxHashMap::default();
        let mut indices = Vec::with_capacity(rows.len());
        for at in rows {
            let block = match places.get(&at.block) {
                Some(known) => *known,
                None => {
                    let block = self.block(at.block);
                    used.push(&block.ok_or_else(|| Failure::internal("a remembered row is not there"))?.rows);
                    places.insert(at.block, used.len() - 1);
                    used.len() - 1
                }
            };
            indices.push((block, place(at.row)));
        }
        (0..columns.len())
            .map(|column| {
                let arrays: Vec<&dyn Array> = used.iter().map(|rows| rows.column(column).as_ref()).collect();
                interleave(&arrays, &indices).map_err(|e| Failure::internal(e.to_string()))
            })
            .collect()
    }

    /// What has changed since the last call.
    pub(in crate::state) fn changes(&mut self, sides: &[JoinSide; 2]) -> Vec<StateChange> {
        self.put_together(sides);
        self.fresh.clear();
        let removed = self.removed.drain(..);
        let mut changes: Vec<StateChange> = removed.map(|key| StateChange { key, value: None, due: None }).collect();
        for block in self.slots.iter_mut().flatten() {
            if !block.is_stored {
                let mut stream = Vec::new();
                // Writing into memory does not fail.
                if let Ok(mut writer) = StreamWriter::try_new(&mut stream, &block.rows.schema()) {
                    let _ = writer.write(&block.rows).and_then(|()| writer.finish());
                }
                let value = [&[VERSION][..], &digest(&stream), &stream].concat();
                let key = stored_key(ROWS, block.side, block.number);
                changes.push(StateChange { key, value: Some(value), due: None });
                block.is_stored = true;
            }
            if std::mem::take(&mut block.has_changed) {
                let key = stored_key(FATES, block.side, block.number);
                changes.push(StateChange { key, value: Some(packed(&block.fates)), due: None });
                block.has_stored_fates = true;
            }
        }
        // In the order in which the ledger keeps them.
        changes.sort_unstable_by(|a, b| a.key.cmp(&b.key));
        changes
    }

    /// Takes in what an earlier run has kept, rows before their fates; None where it is damaged.
    pub(in crate::state) fn restore(&mut self, sides: &[JoinSide; 2], key: &[u8], value: &[u8]) -> Option<()> {
        let mut rest = key;
        let [what, side] = take(&mut rest)?;
        let number = u64::from_be_bytes(take(&mut rest)?);
        let side = usize::from(side);
        let columns = sides.get(side)?;
        if what == ROWS {
            let mut stream = value;
            let ([version], known) = (take(&mut stream)?, take::<DIGEST>(&mut stream)?);
            // The reader of streams panics at some damages.
            if version != VERSION || known != digest(stream) {
                return None;
            }
            let rows = StreamReader::try_new(stream, None).ok()?.next()?.ok()?;
            if rows.num_columns() != columns.time() + 1 {
                return None;
            }
            rows.column(columns.time())
                .as_primitive_opt::<TimestampMicrosecondType>()
                .filter(|t| t.null_count() == 0)?;
            self.next_number = self.next_number.max(number + 1);
            let block = Block { is_stored: true, ..Block::new(rows, side, number, columns.time()) };
            self.put(block);
            return Some(());
        }
        let is_it = |block: &&mut Block| block.side == side && block.number == number;
        let block = self.slots.iter_mut().flatten().find(is_it).filter(|_| what == FATES)?;
        let fates = unpacked(value, block.fates.len())?;
        let gone = fates.iter().filter(|fate| **fate & GONE != 0).count();
        self.live -= gone;
        block.live -= gone;
        block.fates = fates;
        block.has_stored_fates = true;
        Some(())
    }

    /// Lets restored rows be found by their keys.
    pub(in crate::state) fn index_all(&mut self, sides: &[JoinSide; 2]) {
        let mut slots: Vec<u32> = (0..u32::try_from(self.slots.len()).unwrap_or(u32::MAX)).collect();
        slots.sort_by_key(|slot| self.block(*slot).map(|block| block.number));
        let mut key = Vec::new();
        for slot in slots {
            let Some(block) = self.block(slot) else { continue };
            let (side, rows, fates) = (block.side, block.rows.clone(), block.fates.clone());
            let parts = key_cells(&sides[side], &rows);
            for (row, fate) in (0_u32..).zip(fates) {
                if fate & GONE == 0 && write_key(&parts, place(row), &mut key) {
                    self.index(side, &key, At { block: slot, row });
                }
            }
        }
    }
}

/// The key of a part of a block in the ledger.
fn stored_key(what: u8, side: usize, number: u64) -> Box<[u8]> {
    let side = u8::try_from(side).unwrap_or(u8::MAX);
    [&[what, side][..], &number.to_be_bytes()].concat().into()
}

/// Bytes of a digest that are kept.
const DIGEST: usize = 8;

fn digest(bytes: &[u8]) -> [u8; DIGEST] {
    let all = Sha256::digest(bytes);
    std::array::from_fn(|i| all[i])
}

/// Four fates in a byte.
fn packed(fates: &[u8]) -> Vec<u8> {
    let four = |chunk: &[u8]| chunk.iter().rev().fold(0, |byte, fate| byte << 2 | fate);
    std::iter::once(VERSION).chain(fates.chunks(4).map(four)).collect()
}

fn unpacked(bytes: &[u8], count: usize) -> Option<Vec<u8>> {
    let (version, bytes) = bytes.split_first()?;
    if *version != VERSION || bytes.len() != count.div_ceil(4) {
        return None;
    }
    Some((0..count).map(|i| bytes[i / 4] >> (2 * (i % 4)) & 3).collect())
}
