//! Compares a mirror with its source: counts and checksums first, then the rows that differ.
//!
//! [`Comparable`] says which columns of a landing can be compared at all. [`Sums`] takes both sides in any order and in
//! little memory: rows go into buckets by their keys, each with a count and a sum of checksums. [`Rows`] then holds the rows
//! of the buckets that differ, and [`differences`] separates them.

mod cells;
mod compare;
mod ranges;

pub use cells::Comparable;
pub use compare::{Audited, Mirror, Side, audit};
pub use ranges::{KeyRange, ranges};

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};

/// How many buckets the rows of a table are spread over.
const BUCKETS: usize = 1 << 14;

/// More rows than this are not kept: what differs beyond them is only counted.
pub const MOST_ROWS: usize = 200_000;

/// One row: its key and its values, each as a JSON array.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The values of the key's columns.
    pub key: String,
    /// The values of all columns that are compared.
    pub values: String,
    /// The key at the source, as a JSON object, for a row that was read there.
    pub origin: Option<String>,
}

fn hash(text: &str, seed: u8) -> u64 {
    let mut hasher = DefaultHasher::new();
    (seed, text).hash(&mut hasher);
    hasher.finish()
}

/// The bucket of a key.
fn bucket(key: &str) -> usize {
    usize::try_from(hash(key, 0) % BUCKETS as u64).unwrap_or(0)
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Bucket {
    rows: u64,
    sums: [u64; 2],
}

/// Counts and checksums of the rows of one side.
#[derive(Clone, Debug)]
pub struct Sums {
    buckets: Vec<Bucket>,
    /// Rows, over all buckets.
    pub rows: u64,
}

impl Default for Sums {
    fn default() -> Self {
        Self { buckets: vec![Bucket::default(); BUCKETS], rows: 0 }
    }
}

impl Sums {
    /// Adds a row.
    pub fn add(&mut self, row: &Row) {
        let bucket = &mut self.buckets[bucket(&row.key)];
        bucket.rows += 1;
        self.rows += 1;
        for (sum, seed) in bucket.sums.iter_mut().zip([1, 2]) {
            *sum = sum.wrapping_add(hash(&row.values, seed));
        }
    }

    /// The buckets in which two sides differ; none where all rows are the same.
    pub fn differing(&self, other: &Self) -> Differing {
        let differs = |i: &usize| self.buckets[*i] != other.buckets[*i];
        Differing((0..BUCKETS).filter(differs).collect())
    }
}

/// Buckets in which two sides differ.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differing(std::collections::HashSet<usize>);

impl Differing {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether a row is in one of them.
    pub fn has(&self, row: &Row) -> bool {
        self.0.contains(&bucket(&row.key))
    }
}

#[derive(Clone, Debug, Default)]
struct RowValues {
    values: String,
    origin: Option<String>,
}

/// The rows of one side in the buckets that differ, by their keys. A table without a unique key may have several rows under
/// one key; their values stand one after the other.
#[derive(Clone, Debug, Default)]
pub struct Rows {
    rows: BTreeMap<String, RowValues>,
    /// Rows beyond those that are remembered here.
    pub beyond: u64,
}

impl Rows {
    /// Adds a row of a bucket that differs.
    pub fn add(&mut self, row: Row) {
        if self.rows.len() >= MOST_ROWS && !self.rows.contains_key(&row.key) {
            self.beyond += 1;
            return;
        }
        let known = self.rows.entry(row.key).or_default();
        if !known.values.is_empty() {
            known.values.push(' ');
        }
        known.values.push_str(&row.values);
        known.origin = row.origin;
    }

    /// The values under a key.
    pub fn get(&self, key: &str) -> Option<&str> {
        self.rows.get(key).map(|row| row.values.as_str())
    }
}

/// How a row differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DifferenceKind {
    /// The source has it and the mirror does not.
    Missing,
    /// The mirror has it and the source does not.
    Extra,
    /// Values differ.
    Differs,
}

impl DifferenceKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Missing => "missing",
            Self::Extra => "extra",
            Self::Differs => "differs",
        }
    }
}

/// A row that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Its key, as a JSON array.
    pub key: String,
    /// How it differs.
    pub kind: DifferenceKind,
    /// The values at the source, as a JSON array.
    pub source: Option<String>,
    /// The values in the mirror.
    pub mirror: Option<String>,
    /// The key at the source, as a JSON object, where the source has the row.
    pub origin: Option<String>,
}

/// The rows that differ, in the order of their keys' texts.
pub fn differences(source: &Rows, mirror: &Rows) -> Vec<Difference> {
    let keys: std::collections::BTreeSet<&String> = source.rows.keys().chain(mirror.rows.keys()).collect();
    let one = |key: &String| {
        let (there, here) = (source.rows.get(key), mirror.rows.get(key));
        let kind = match (there, here) {
            (Some(a), Some(b)) if a.values == b.values => return None,
            (Some(_), Some(_)) => DifferenceKind::Differs,
            (Some(_), None) => DifferenceKind::Missing,
            (None, _) => DifferenceKind::Extra,
        };
        let values = |row: Option<&RowValues>| row.map(|r| r.values.clone());
        let origin = there.and_then(|row| row.origin.clone());
        Some(Difference { key: key.clone(), kind, source: values(there), mirror: values(here), origin })
    };
    // Where not all rows are kept, a row that is kept on one side may be among the others on the other side.
    let is_sure = |d: &Difference| match d.kind {
        DifferenceKind::Missing => mirror.beyond == 0,
        DifferenceKind::Extra => source.beyond == 0,
        DifferenceKind::Differs => true,
    };
    keys.into_iter().filter_map(one).filter(is_sure).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(key: u64, values: &str) -> Row {
        Row { key: format!("[{key}]"), values: format!("[{key},{values}]"), origin: None }
    }

    fn compare(source: &[Row], mirror: &[Row]) -> Vec<(DifferenceKind, String)> {
        let sums = |rows: &[Row]| {
            let mut sums = Sums::default();
            rows.iter().for_each(|row| sums.add(row));
            sums
        };
        let differing = sums(source).differing(&sums(mirror));
        let differing_rows = |rows: &[Row]| {
            let mut found = Rows::default();
            rows.iter().filter(|row| differing.has(row)).for_each(|row| found.add(row.clone()));
            found
        };
        differences(&differing_rows(source), &differing_rows(mirror)).into_iter().map(|d| (d.kind, d.key)).collect()
    }

    #[test]
    fn rows_in_another_order_are_the_same() {
        let rows: Vec<Row> = (0..5_000).map(|n| row(n, "\"a\"")).collect();
        let mut other = rows.clone();
        other.reverse();
        assert!(compare(&rows, &other).is_empty());
    }

    #[test]
    fn one_row_among_many_that_differs_is_found() {
        let rows: Vec<Row> = (0..5_000).map(|n| row(n, "\"a\"")).collect();
        let mut other = rows.clone();
        other[17] = row(17, "\"b\"");
        other.swap_remove(4_000);
        other.push(row(9_999, "null"));
        let expected =
            [(DifferenceKind::Differs, "[17]"), (DifferenceKind::Missing, "[4000]"), (DifferenceKind::Extra, "[9999]")];
        let mut found = compare(&rows, &other);
        found.sort_by_key(|(_, key)| key.len());
        assert_eq!(found, expected.map(|(kind, key)| (kind, key.to_string())));
    }

    #[test]
    fn two_rows_that_swap_their_values_differ() {
        let found = compare(&[row(1, "1"), row(2, "2")], &[row(1, "2"), row(2, "1")]);
        assert_eq!(found.len(), 2);
    }

    #[test]
    fn a_row_that_is_there_twice_differs() {
        assert_eq!(
            compare(&[row(1, "1")], &[row(1, "1"), row(1, "1")]),
            [(DifferenceKind::Differs, "[1]".to_string())]
        );
    }

    #[test]
    fn beyond_what_is_held_only_sure_differences_are_reported() {
        let mut source = Rows { beyond: 3, ..Rows::default() };
        source.add(row(1, "1"));
        let mut mirror = Rows::default();
        mirror.add(row(1, "2"));
        mirror.add(row(2, "2"));
        let found = differences(&source, &mirror);
        assert_eq!(found.iter().map(|d| d.kind).collect::<Vec<_>>(), [DifferenceKind::Differs]);
    }
}
