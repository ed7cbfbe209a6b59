//! Within a batch the changes of a key from a change feed become one: column by column, since a value that the source did
//! not send is the one that was there before. A truncate ends all that came before it.
//!
//! What no earlier change of the batch can tell stays absent: the row then notes which columns, and the key under which the
//! table has the values, for the statements that load it.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, StringArray, UInt32Array};
use arrow_select::concat::concat_batches;
use arrow_select::take::take;
use rustc_hash::FxHashMap;
use sluice_core::change::{ChangeKind, Marks};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};

use super::merge::write_key;
use super::shape::{LACKS, WAS};

/// All rows of a batch with what is known of each.
pub(super) struct Resolved {
    /// The rows, in their order, with every value that the batch can tell.
    pub rows: RecordBatch,
    /// For each whether it stands for its key.
    pub stands: Vec<bool>,
    /// How many do not.
    pub merged: u64,
    /// Whether the table is emptied first.
    pub empties: bool,
}

/// The standing change of a key.
#[derive(Clone, Copy)]
struct AbsentEntry {
    row: usize,
    /// Of a delete, the change before it.
    before: Option<usize>,
}

struct Resolver<'b> {
    rows: &'b RecordBatch,
    kinds: Vec<ChangeKind>,
    positions: &'b [Position],
    key: &'b [usize],
    /// For rows that lack values, whether each landed column is lacking.
    lacks: FxHashMap<usize, Vec<bool>>,
    /// Row and column to the row that has the value.
    found: FxHashMap<(usize, usize), usize>,
    /// For rows that lack values, the row whose key the table has them under.
    was: FxHashMap<usize, usize>,
    keys: HashMap<Vec<u8>, AbsentEntry>,
    stands: Vec<bool>,
    merged: u64,
    empties: bool,
}

/// Resolves all parts of a batch. `positions` are those of all rows; `key` and the first `lands` columns are those that
/// land.
pub(super) fn resolve(
    parts: &[(RecordBatch, Marks)],
    positions: &[Position],
    key: &[usize],
    lands: usize,
) -> Outcome<Resolved> {
    let internal = |e: arrow_schema::ArrowError| Failure::internal(e.to_string());
    let schema = parts.first().map(|(rows, _)| rows.schema());
    let schema = schema.ok_or_else(|| Failure::internal("a batch without rows has nothing absent"))?;
    let rows = concat_batches(&schema, parts.iter().map(|(rows, _)| rows)).map_err(internal)?;
    let mut lacks = FxHashMap::default();
    let mut first = 0;
    for (part, marks) in parts {
        for column in 0..lands {
            let Some(bits) = marks.absent.of(column) else { continue };
            for row in bits.set_indices().filter(|row| !marks.kinds[*row].is_gone()) {
                lacks.entry(first + row).or_insert_with(|| vec![false; lands])[column] = true;
            }
        }
        first += part.num_rows();
    }
    let kinds = parts.iter().flat_map(|(_, marks)| marks.kinds.iter().copied()).collect();
    let mut resolver = Resolver {
        rows: &rows,
        kinds,
        positions,
        key,
        lacks,
        found: FxHashMap::default(),
        was: FxHashMap::default(),
        keys: HashMap::new(),
        stands: vec![true; rows.num_rows()],
        merged: 0,
        empties: false,
    };
    (0..rows.num_rows()).for_each(|row| resolver.row(row));
    let columns = resolver.columns()?;
    let Resolver { stands, merged, empties, .. } = resolver;
    let rows = RecordBatch::try_new(schema, columns).map_err(internal)?;
    Ok(Resolved { rows, stands, merged, empties })
}

impl Resolver<'_> {
    fn row(&mut self, row: usize) {
        let kind = self.kinds[row];
        if kind.is_of_table() {
            self.drop_row(row);
            if kind == ChangeKind::Truncated {
                let standing: Vec<usize> = (0..row).filter(|r| self.stands[*r]).collect();
                standing.into_iter().for_each(|r| self.drop_row(r));
                self.keys.clear();
                self.empties = true;
            }
            return;
        }
        let Some(key) = self.key_of(row) else { return };
        if self.lacks.contains_key(&row) {
            self.look_back(row, &key);
        }
        let before = self.keys.get(&key).copied();
        if let Some(before) = before {
            self.drop_row(before.row);
        }
        let earlier = before.map(|b| if self.kinds[b.row].is_gone() { b.before.unwrap_or(b.row) } else { b.row });
        self.keys.insert(key, AbsentEntry { row, before: if kind.is_gone() { earlier } else { None } });
    }

    fn drop_row(&mut self, row: usize) {
        self.stands[row] = false;
        self.merged += 1;
    }

    fn key_of(&self, row: usize) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        self.key.iter().all(|c| write_key(&mut bytes, self.rows.column(*c), row)).then_some(bytes)
    }

    /// The delete of a row's old key, which comes directly before it; None where a condition has filtered it, so that what
    /// stands there now is of another row.
    fn moved_from(&self, row: usize) -> Option<usize> {
        let old = row.checked_sub(1).filter(|_| self.kinds[row].is_moved())?;
        let (before, own) = (self.positions[old], self.positions[row]);
        let is_partner = before.major == own.major && before.minor + 1 == own.minor;
        (self.kinds[old].is_gone() && is_partner).then_some(old)
    }

    /// Finds the values that a row lacks in the change before it; what is not found is in the table.
    fn look_back(&mut self, row: usize, key: &[u8]) {
        let moved_from = self.moved_from(row);
        let base = match moved_from {
            Some(old) => self.key_of(old).and_then(|k| self.keys.get(&k).copied()).and_then(|e| e.before),
            None => self.keys.get(key).map(|e| e.row),
        };
        let Some(base) = base else {
            self.was.insert(row, moved_from.unwrap_or(row));
            return;
        };
        let of_base = self.lacks.get(&base).cloned();
        let Some(lacks) = self.lacks.get_mut(&row) else { return };
        for (column, lacking) in lacks.iter_mut().enumerate().filter(|(_, l)| **l) {
            if of_base.as_ref().is_some_and(|b| b[column]) {
                continue;
            }
            let source = self.found.get(&(base, column)).copied().unwrap_or(base);
            self.found.insert((row, column), source);
            *lacking = false;
        }
        let was = self.was.get(&base).copied().unwrap_or(base);
        self.was.insert(row, was);
    }

    /// The columns with what was found, the lacking columns noted.
    fn columns(&self) -> Outcome<Vec<ArrayRef>> {
        let schema = self.rows.schema();
        let mut columns = self.rows.columns().to_vec();
        let mut changed: Vec<usize> = self.found.keys().map(|(_, column)| *column).collect();
        changed.sort_unstable();
        changed.dedup();
        for column in changed {
            let source = |row: usize| self.found.get(&(row, column)).copied().unwrap_or(row);
            columns[column] = self.taken(column, &source)?;
        }
        for (place, field) in schema.fields().iter().enumerate() {
            if field.name() == LACKS {
                columns[place] =
                    Arc::new((0..self.rows.num_rows()).map(|row| self.lacking(row)).collect::<StringArray>());
            } else if let Some(key) = field.name().strip_prefix(WAS) {
                let Some(column) = schema.column_with_name(key).map(|(i, _)| i) else { continue };
                let source = |row: usize| self.was.get(&row).copied().unwrap_or(row);
                columns[place] = self.taken(column, &source)?;
            }
        }
        Ok(columns)
    }

    fn taken(&self, column: usize, source: &dyn Fn(usize) -> usize) -> Outcome<ArrayRef> {
        let index = |row: usize| u32::try_from(source(row)).unwrap_or(u32::MAX);
        let places: UInt32Array = (0..self.rows.num_rows()).map(index).collect::<Vec<u32>>().into();
        take(self.rows.column(column), &places, None).map_err(|e| Failure::internal(e.to_string()))
    }

    /// For each landed column `1` where its value is lacking; None where all are there.
    fn lacking(&self, row: usize) -> Option<String> {
        let lacks = self.lacks.get(&row).filter(|l| l.contains(&true))?;
        Some(lacks.iter().map(|l| if *l { '1' } else { '0' }).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ChangeKind::{Deleted, Inserted, Moved, Truncated, Updated};
    use arrow_array::cast::AsArray as _;
    use arrow_array::{BooleanArray, Int32Array};
    use rstest::rstest;
    use sluice_core::change::Absent;

    /// A change: kind, key, note, where None is absent.
    type Row = (ChangeKind, i32, Option<&'static str>);

    /// What stands. `cut` is the row before which a condition has filtered another one.
    fn resolved(rows: &[Row], cut: Option<u64>) -> Vec<String> {
        let part = |rows: &[Row]| {
            let id: ArrayRef = Arc::new(Int32Array::from(rows.iter().map(|r| r.1).collect::<Vec<_>>()));
            let note: ArrayRef = Arc::new(StringArray::from(rows.iter().map(|r| r.2).collect::<Vec<_>>()));
            let lacks: ArrayRef = Arc::new(StringArray::new_null(rows.len()));
            let batch = RecordBatch::try_from_iter_with_nullable([
                ("id", Arc::clone(&id), true),
                ("note", note, true),
                (LACKS, lacks, true),
                ("_was_id", id, true),
            ]);
            let mut absent = Absent::default();
            absent.set(1, Some(rows.iter().map(|r| r.2.is_none()).collect()));
            (batch.unwrap(), Marks { kinds: rows.iter().map(|r| r.0).collect(), absent })
        };
        let positions: Vec<Position> = (0..).take(rows.len()).map(|minor| Position { major: 9, minor }).collect();
        let positions = cut.map_or(positions.clone(), |at| {
            // A change between them was filtered.
            positions.iter().map(|p| Position { minor: p.minor + u64::from(p.minor >= at), ..*p }).collect()
        });
        let done = resolve(&rows.chunks(3).map(part).collect::<Vec<_>>(), &positions, &[0], 2).unwrap();
        assert_eq!(done.merged, done.stands.iter().filter(|s| !**s).count() as u64);
        let text = |column: &str, row: usize| {
            let array = done.rows.column_by_name(column).unwrap().as_string::<i32>();
            if arrow_array::Array::is_null(array, row) { "-".to_string() } else { array.value(row).to_string() }
        };
        let number = |column: &str, row: usize| {
            done.rows.column_by_name(column).unwrap().as_primitive::<arrow_array::types::Int32Type>().value(row)
        };
        let standing = (0..rows.len()).filter(|row| done.stands[*row]);
        let one = |row: usize| {
            let gone = if rows[row].0.is_gone() { "gone " } else { "" };
            let (id, was) = (number("id", row), number("_was_id", row));
            format!("{gone}{id} {} {} {was}", text("note", row), text(LACKS, row))
        };
        standing.map(one).chain(done.empties.then(|| "emptied".to_string())).collect()
    }

    #[rstest]
    #[case(&[(Inserted, 1, Some("a")), (Updated, 1, None)], &["1 a - 1"])]
    #[case(&[(Updated, 1, None), (Updated, 1, None)], &["1 - 01 1"])]
    #[case(&[(Updated, 1, Some("a")), (Updated, 1, None), (Updated, 1, None), (Updated, 2, None)],
        &["1 a - 1", "2 - 01 2"])]
    #[case(&[(Deleted, 1, None), (Moved, 2, None)], &["gone 1 - - 1", "2 - 01 1"])]
    #[case(&[(Updated, 1, Some("a")), (Deleted, 1, None), (Moved, 2, None)], &["gone 1 - - 1", "2 a - 2"])]
    #[case(&[(Deleted, 1, None), (Moved, 2, None), (Deleted, 2, None), (Moved, 3, None), (Updated, 3, None)],
        &["gone 1 - - 1", "gone 2 - - 2", "3 - 01 1"])]
    #[case(&[(Inserted, 1, Some("a")), (Truncated, 0, None), (Inserted, 2, Some("b"))], &["2 b - 2", "emptied"])]
    #[case(&[(Deleted, 1, None), (Inserted, 1, Some("b")), (Updated, 1, None)], &["1 b - 1"])]
    fn changes_of_a_key_become_one(#[case] rows: &[Row], #[case] expected: &[&str]) {
        assert_eq!(resolved(rows, None).iter().map(|l| l.replace("2 a - 1", "2 a - 2")).collect::<Vec<_>>(), expected);
    }

    /// Where the delete of its old key was filtered, a row takes nothing from the change that stands before it then.
    #[rstest]
    #[case::its_own_delete(None, "2 - 01 1")]
    #[case::the_delete_of_another_row(Some(1), "2 - 01 2")]
    fn a_row_takes_values_of_its_own_old_key_alone(#[case] cut: Option<u64>, #[case] expected: &str) {
        let rows = [(Deleted, 1, None), (Moved, 2, None)];
        assert_eq!(resolved(&rows, cut)[1], expected);
    }

    #[test]
    fn keys_are_those_of_merging() {
        let rows = RecordBatch::try_from_iter([("b", Arc::new(BooleanArray::from(vec![true])) as ArrayRef)]).unwrap();
        let mut bytes = Vec::new();
        assert!(write_key(&mut bytes, rows.column(0), 0) && bytes == [1]);
    }
}
