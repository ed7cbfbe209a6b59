//! Changes of rows: what a change feed reports about each record beside its columns, and what of it goes along with rows.
//!
//! A record is a JSON object of the row's columns. A column that the source did not send, since its large value did not
//! change or since a delete tells the key alone, is not in the object: it is *absent*, which is not null.

use std::sync::Arc;

use arrow_array::StringArray;
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder};
use serde::{Deserialize, Serialize};

use crate::event::{Position, RecordSpan};

/// What happened to a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangeKind {
    /// The row was inserted.
    Inserted,
    /// The row was updated; its key is the same.
    Updated,
    /// The row has other values, and its table is still being read as a whole: perhaps the row has not been read yet.
    Early,
    /// The row's key was changed: it stands directly after the delete of the old key.
    Moved,
    /// The same, and its table is still being read as a whole: perhaps the row has not been read yet.
    MovedEarly,
    /// The row was deleted.
    Deleted,
    /// The row was there when its table was read as a whole.
    Loaded,
    /// The table was truncated.
    Truncated,
    /// The row was updated and does not meet a condition any more: a mirror deletes it, other landings do not see it.
    Left,
}

impl ChangeKind {
    /// The word for it in columns.
    pub fn word(self) -> &'static str {
        match self {
            Self::Inserted | Self::Moved | Self::MovedEarly => "inserted",
            Self::Updated | Self::Early => "updated",
            Self::Deleted | Self::Left => "deleted",
            Self::Loaded => "loaded",
            Self::Truncated => "truncated",
        }
    }

    /// Whether the row, or every row, is gone afterwards.
    pub fn is_gone(self) -> bool {
        matches!(self, Self::Deleted | Self::Left | Self::Truncated)
    }

    /// Whether the row's key was changed.
    pub fn is_moved(self) -> bool {
        matches!(self, Self::Moved | Self::MovedEarly)
    }

    /// Whether the row may not have been read with its table yet.
    pub fn is_early(self) -> bool {
        matches!(self, Self::Early | Self::MovedEarly)
    }

    /// Whether it is about the whole table rather than one row.
    pub fn is_of_table(self) -> bool {
        self == Self::Truncated
    }
}

/// What a change feed reports about the records of a chunk.
#[derive(Debug, Default)]
pub struct Changes {
    /// The names of the tables, by their numbers in the feed.
    pub tables: Vec<Arc<str>>,
    /// One for each record, in their order.
    pub each: Vec<Change>,
    /// The bytes of keys and old values.
    pub side: Vec<u8>,
    /// Whether the chunk ends within a transaction of the source, so that no batch should end there.
    pub within: bool,
}

/// One change.
#[derive(Clone, Copy, Debug)]
pub struct Change {
    /// The row within the chunk's bytes.
    pub span: RecordSpan,
    /// The table's number in the feed.
    pub table: u32,
    /// What happened.
    pub kind: ChangeKind,
    /// Its position: of a change, where its transaction was committed and its place therein.
    pub position: Position,
    /// The transaction's number, where the source has one.
    pub transaction: Option<u64>,
    /// When it was committed, in microseconds since 1970.
    pub time: Option<i64>,
    /// The key's columns as a JSON object within [`Changes::side`], where the table has a key.
    pub key: Option<RecordSpan>,
    /// The old values that the source sent, as a JSON object within [`Changes::side`].
    pub old: Option<RecordSpan>,
}

impl Changes {
    /// The change whose row begins at a byte of the chunk.
    pub fn at(&self, start: u32) -> Option<&Change> {
        self.each.binary_search_by_key(&start, |c| c.span.start).ok().map(|i| &self.each[i])
    }
}

/// For columns of some rows, which values are absent.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Absent(Vec<Option<BooleanBuffer>>);

impl Absent {
    /// The rows in which a column is absent; None where it never is.
    pub fn of(&self, column: usize) -> Option<&BooleanBuffer> {
        self.0.get(column)?.as_ref()
    }

    /// Whether anything is absent.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(Option::is_none)
    }

    /// Sets the rows in which a column is absent.
    pub fn set(&mut self, column: usize, rows: Option<BooleanBuffer>) {
        let rows = rows.filter(|r| r.count_set_bits() > 0);
        if rows.is_some() && self.0.len() <= column {
            self.0.resize(column + 1, None);
        }
        if let Some(place) = self.0.get_mut(column) {
            *place = rows;
        }
    }

    /// The same for some of the rows, by their places.
    #[must_use]
    pub fn take(&self, rows: &[u32]) -> Self {
        let index = |row: &u32| usize::try_from(*row).unwrap_or(usize::MAX);
        let take = |column: &Option<BooleanBuffer>| {
            let taken: Option<BooleanBuffer> =
                column.as_ref().map(|bits| rows.iter().map(|row| bits.value(index(row))).collect());
            taken.filter(|bits| bits.count_set_bits() > 0)
        };
        Self(self.0.iter().map(take).collect())
    }
}

/// Notes absent values while rows are decoded.
#[derive(Default)]
pub struct AbsentBuilder {
    noted: Vec<(usize, usize)>,
}

impl AbsentBuilder {
    /// Notes that a column of a row is absent.
    pub fn note(&mut self, row: usize, column: usize) {
        self.noted.push((row, column));
    }

    /// Forgets what was noted of rows from this one on.
    pub fn truncate(&mut self, rows: usize) {
        while self.noted.last().is_some_and(|(row, _)| *row >= rows) {
            self.noted.pop();
        }
    }

    /// What was noted, for so many rows; starts again.
    pub fn finish(&mut self, rows: usize) -> Absent {
        let mut columns: Vec<Option<BooleanBufferBuilder>> = Vec::new();
        for (row, column) in self.noted.drain(..) {
            if columns.len() <= column {
                columns.resize_with(column + 1, || None);
            }
            let bits = columns[column].get_or_insert_with(|| {
                let mut bits = BooleanBufferBuilder::new(rows);
                bits.append_n(rows, false);
                bits
            });
            bits.set_bit(row, true);
        }
        Absent(columns.into_iter().map(|c| c.map(|mut bits| bits.finish())).collect())
    }
}

/// What goes along with rows that are changes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Marks {
    /// What happened to each row.
    pub kinds: Vec<ChangeKind>,
    /// Which values are absent.
    pub absent: Absent,
}

impl Marks {
    /// For each row that is there, the names of the columns whose values are absent, with commas between; null where all
    /// are there.
    pub fn absent_names(&self, columns: &[&str]) -> StringArray {
        if self.absent.is_empty() {
            return StringArray::new_null(self.kinds.len());
        }
        let lacks = |row: usize, column: usize| self.absent.of(column).is_some_and(|bits| bits.value(row));
        let names = |(row, kind): (usize, &ChangeKind)| {
            let names: Vec<&str> =
                columns.iter().enumerate().filter(|(i, _)| lacks(row, *i)).map(|(_, name)| *name).collect();
            (!kind.is_gone() && !names.is_empty()).then(|| names.join(","))
        };
        self.kinds.iter().enumerate().map(names).collect()
    }

    /// Whether a row that is there lacks a value.
    pub fn lacks(&self) -> bool {
        let gone = |row: usize| self.kinds[row].is_gone();
        self.absent.0.iter().flatten().any(|bits| bits.set_indices().any(|row| !gone(row)))
    }

    /// The same for some of the rows.
    #[must_use]
    pub fn take(&self, rows: &[u32]) -> Self {
        let index = |row: &u32| usize::try_from(*row).unwrap_or(usize::MAX);
        Self { kinds: rows.iter().map(|row| self.kinds[index(row)]).collect(), absent: self.absent.take(rows) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn absent_values_are_noted_by_row_and_column() {
        let mut builder = AbsentBuilder::default();
        builder.note(0, 2);
        builder.note(3, 0);
        builder.note(3, 2);
        builder.truncate(3);
        builder.note(3, 2);
        let absent = builder.finish(4);
        assert!(absent.of(0).is_none() && absent.of(7).is_none());
        assert_eq!(absent.of(2).unwrap().iter().collect::<Vec<_>>(), [true, false, false, true]);
        let taken = absent.take(&[1, 3]);
        assert_eq!(taken.of(2).unwrap().iter().collect::<Vec<_>>(), [false, true]);
        assert!(absent.take(&[1, 2]).is_empty());
        assert!(builder.finish(2).is_empty());
    }

    #[test]
    fn marks_follow_their_rows() {
        use ChangeKind::{Deleted, Inserted, Truncated};
        let marks = Marks { kinds: vec![Inserted, Truncated, Deleted], absent: Absent::default() };
        assert_eq!(marks.take(&[2, 0]).kinds, [Deleted, Inserted]);
        assert!(marks.absent_names(&["a", "b"]).iter().all(|names| names.is_none()));
        let mut absent = Absent::default();
        absent.set(0, Some([true, true, true].into_iter().collect()));
        absent.set(1, Some([true, false, true].into_iter().collect()));
        let names = Marks { absent, ..marks.clone() }.absent_names(&["a", "b"]);
        assert_eq!(names.iter().collect::<Vec<_>>(), [Some("a,b"), None, None]);
    }
}
