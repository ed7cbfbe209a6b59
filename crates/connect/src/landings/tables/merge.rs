//! Within a batch the changes of a key become one: the last, or the one with the highest version. Of several partitions
//! the one whose name comes last counts, so that it does not matter in which order they were read.

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, TimestampMicrosecondType};
use arrow_array::{Array as _, ArrayRef, RecordBatch};
use arrow_schema::DataType;
use hashbrown::HashTable;
use rustc_hash::FxBuildHasher;
use std::hash::BuildHasher as _;
use std::sync::Arc;

/// The keys of a batch so far, each with the row that stands for it.
#[derive(Default)]
pub(super) struct Merge {
    table: HashTable<MergedEntry>,
    /// The keys' bytes, one after the other.
    arena: Vec<u8>,
    /// For each row whether it stands.
    stands: Vec<bool>,
    merged: u64,
    scratch: Vec<u8>,
}

struct MergedEntry {
    start: usize,
    end: usize,
    row: usize,
    version: Option<i64>,
    partition: Arc<str>,
}

impl Merge {
    /// Adds rows of a partition. `key` and `version` are columns of theirs. A row with a null in its key stands for
    /// itself.
    pub(super) fn add(&mut self, rows: &RecordBatch, partition: &Arc<str>, key: &[usize], version: Option<usize>) {
        let first = self.stands.len();
        self.stands.resize(first + rows.num_rows(), true);
        for row in 0..rows.num_rows() {
            self.scratch.clear();
            let whole = key.iter().all(|column| write_key(&mut self.scratch, rows.column(*column), row));
            if !whole {
                continue;
            }
            let version = version.and_then(|column| number(rows.column(column), row));
            self.one(first + row, version, partition);
        }
    }

    fn one(&mut self, row: usize, version: Option<i64>, partition: &Arc<str>) {
        let Self { table, arena, scratch, stands, merged } = self;
        let hash = FxBuildHasher.hash_one(scratch.as_slice());
        let found = table.find_mut(hash, |e| arena[e.start..e.end] == **scratch);
        let Some(entry) = found else {
            let start = arena.len();
            arena.extend_from_slice(scratch);
            let entry = MergedEntry { start, end: arena.len(), row, version, partition: Arc::clone(partition) };
            table.insert_unique(hash, entry, |e| FxBuildHasher.hash_one(&arena[e.start..e.end]));
            return;
        };
        *merged += 1;
        // No version is older than any; of equal ones the later row counts.
        if (version, partition) >= (entry.version, &entry.partition) {
            stands[entry.row] = false;
            (entry.row, entry.version) = (row, version);
            entry.partition.clone_from(partition);
        } else {
            stands[row] = false;
        }
    }

    /// How many rows were merged into others.
    pub(super) fn merged(&self) -> u64 {
        self.merged
    }

    /// For each row, in the order in which they came, whether it stands.
    pub(super) fn stands(&self) -> &[bool] {
        &self.stands
    }
}

/// Writes one part of a key so that different keys have different bytes; false for a null.
pub(super) fn write_key(out: &mut Vec<u8>, column: &ArrayRef, row: usize) -> bool {
    if column.is_null(row) {
        return false;
    }
    match column.data_type() {
        DataType::Utf8 => {
            let text = column.as_string::<i32>().value(row);
            out.extend_from_slice(&(text.len() as u64).to_le_bytes());
            out.extend_from_slice(text.as_bytes());
        }
        DataType::Boolean => out.push(u8::from(column.as_boolean().value(row))),
        DataType::Decimal128(..) => {
            out.extend_from_slice(&column.as_primitive::<Decimal128Type>().value(row).to_le_bytes());
        }
        DataType::Float64 => {
            // Zero has two spellings and is one key.
            let value = column.as_primitive::<Float64Type>().value(row);
            out.extend_from_slice(&(if value == 0.0 { 0.0_f64 } else { value }).to_le_bytes());
        }
        _ => match number(column, row) {
            Some(number) => out.extend_from_slice(&number.to_le_bytes()),
            None => return false,
        },
    }
    true
}

/// A whole number, day or moment.
pub(super) fn number(column: &ArrayRef, row: usize) -> Option<i64> {
    if column.is_null(row) {
        return None;
    }
    match column.data_type() {
        DataType::Int32 => Some(column.as_primitive::<Int32Type>().value(row).into()),
        DataType::Int64 => Some(column.as_primitive::<Int64Type>().value(row)),
        DataType::Date32 => Some(column.as_primitive::<Date32Type>().value(row).into()),
        DataType::Timestamp(..) => Some(column.as_primitive::<TimestampMicrosecondType>().value(row)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{Int32Array, Int64Array, StringArray};
    use rstest::rstest;

    type Row = (Option<&'static str>, i32, Option<i64>);

    fn stands(rows: &[Row], with_version: bool) -> (Vec<bool>, u64) {
        let mut merge = Merge::default();
        // Two parts, so that rows of different parts meet.
        for part in rows.chunks(2) {
            let a: ArrayRef = Arc::new(StringArray::from(part.iter().map(|r| r.0).collect::<Vec<_>>()));
            let b: ArrayRef = Arc::new(Int32Array::from(part.iter().map(|r| r.1).collect::<Vec<_>>()));
            let v: ArrayRef = Arc::new(Int64Array::from(part.iter().map(|r| r.2).collect::<Vec<_>>()));
            let batch = RecordBatch::try_from_iter_with_nullable([("a", a, true), ("b", b, true), ("v", v, true)]);
            merge.add(&batch.unwrap(), &"a".into(), &[0, 1], with_version.then_some(2));
        }
        (merge.stands().to_vec(), merge.merged())
    }

    #[rstest]
    #[case(&[(Some("x"), 1, None), (Some("y"), 1, None), (Some("x"), 1, None)], false, &[false, true, true])]
    #[case(&[(Some("x"), 1, None), (Some("x"), 2, None)], false, &[true, true])]
    #[case(&[(None, 1, None), (None, 1, None)], false, &[true, true])]
    #[case(&[(Some("x"), 1, Some(5)), (Some("x"), 1, Some(4))], true, &[true, false])]
    #[case(&[(Some("x"), 1, Some(5)), (Some("x"), 1, Some(5))], true, &[false, true])]
    #[case(&[(Some("x"), 1, Some(5)), (Some("x"), 1, None)], true, &[true, false])]
    #[case(&[(Some("x"), 1, None), (Some("x"), 1, None), (Some("x"), 1, Some(1))], true, &[false, false, true])]
    fn one_row_stands_for_a_key(#[case] rows: &[Row], #[case] version: bool, #[case] expected: &[bool]) {
        let (found, merged) = stands(rows, version);
        assert_eq!(found, expected);
        assert_eq!(merged, expected.iter().filter(|s| !**s).count() as u64);
    }

    #[rstest]
    #[case(&["a", "b", "a"], &[false, true, false])]
    #[case(&["b", "a", "a"], &[true, false, false])]
    #[case(&["a", "b", "b"], &[false, false, true])]
    fn of_several_partitions_the_last_name_counts(#[case] partitions: &[&str], #[case] expected: &[bool]) {
        let mut merge = Merge::default();
        for partition in partitions {
            let key: ArrayRef = Arc::new(Int32Array::from(vec![7]));
            let rows = RecordBatch::try_from_iter([("k", key)]).unwrap();
            merge.add(&rows, &(*partition).into(), &[0], None);
        }
        assert_eq!(merge.stands(), expected);
    }

    #[test]
    fn keys_of_several_columns_do_not_run_together() {
        let a: ArrayRef = Arc::new(StringArray::from(vec!["ab", "a"]));
        let b: ArrayRef = Arc::new(StringArray::from(vec!["c", "bc"]));
        let batch = RecordBatch::try_from_iter([("a", a), ("b", b)]).unwrap();
        let mut merge = Merge::default();
        merge.add(&batch, &"a".into(), &[0, 1], None);
        assert_eq!(merge.merged(), 0);
    }
}
