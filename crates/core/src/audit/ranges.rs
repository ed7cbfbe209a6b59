//! Rows that differ, put together into ranges of keys.

use std::cmp::Ordering;

use serde_json::Value;

use super::{Difference, DifferenceKind};

/// Rows that differ and stand next to each other, in the order of their keys.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyRange {
    /// The first key, as a JSON array.
    pub first: String,
    /// The last one.
    pub last: String,
    /// How many rows of it are missing, extra, and different.
    pub counts: [u64; 3],
}

impl KeyRange {
    fn of(difference: &Difference) -> Self {
        let mut range = Self { first: difference.key.clone(), last: difference.key.clone(), counts: [0; 3] };
        range.count(difference.kind);
        range
    }

    fn count(&mut self, kind: DifferenceKind) {
        self.counts[match kind {
            DifferenceKind::Missing => 0,
            DifferenceKind::Extra => 1,
            DifferenceKind::Differs => 2,
        }] += 1;
    }

    /// All rows of it that differ.
    pub fn rows(&self) -> u64 {
        self.counts.iter().sum()
    }
}

/// At most so many ranges of keys with all rows that differ: the largest gaps between keys part them, where keys are
/// numbers; else equal shares.
pub fn ranges(differences: &[Difference], most: usize) -> Vec<KeyRange> {
    let mut sorted: Vec<(Vec<Value>, &Difference)> =
        differences.iter().map(|d| (serde_json::from_str(&d.key).unwrap_or_default(), d)).collect();
    sorted.sort_by(|a, b| order(&a.0, &b.0));
    let cuts = cuts(&sorted, most);
    let mut found: Vec<KeyRange> = Vec::new();
    for (place, (_, difference)) in sorted.iter().enumerate() {
        match found.last_mut().filter(|_| !cuts.contains(&place)) {
            Some(range) => {
                range.last.clone_from(&difference.key);
                range.count(difference.kind);
            }
            None => found.push(KeyRange::of(difference)),
        }
    }
    found
}

/// The places before which a new range begins.
fn cuts(sorted: &[(Vec<Value>, &Difference)], most: usize) -> Vec<usize> {
    let number = |place: usize| match &sorted[place].0[..] {
        [Value::Number(n)] => n.as_f64(),
        _ => None,
    };
    let gap = |place: usize| Some((place, number(place)? - number(place - 1)?));
    let gaps: Option<Vec<(usize, f64)>> = (1..sorted.len()).map(gap).collect();
    let Some(mut gaps) = gaps else {
        let share = sorted.len().div_ceil(most.max(1)).max(1);
        return (1..sorted.len()).filter(|place| place.is_multiple_of(share)).collect();
    };
    gaps.retain(|(_, gap)| *gap > 1.0);
    gaps.sort_by(|a, b| b.1.total_cmp(&a.1));
    gaps.truncate(most.saturating_sub(1));
    gaps.into_iter().map(|(place, _)| place).collect()
}

/// Keys in the order of their values.
fn order(a: &[Value], b: &[Value]) -> Ordering {
    let one = |(a, b): (&Value, &Value)| match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            a.as_f64().unwrap_or_default().total_cmp(&b.as_f64().unwrap_or_default())
        }
        (Value::String(a), Value::String(b)) => a.cmp(b),
        (a, b) => a.to_string().cmp(&b.to_string()),
    };
    a.iter().zip(b).map(one).find(|order| order.is_ne()).unwrap_or_else(|| a.len().cmp(&b.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn differing(keys: &[&str]) -> Vec<Difference> {
        let one = |key: &&str| Difference {
            key: (*key).into(),
            kind: DifferenceKind::Extra,
            source: None,
            mirror: None,
            origin: None,
        };
        keys.iter().map(one).collect()
    }

    #[rstest]
    #[case(&["[10]", "[9]", "[2]", "[400]", "[11]"], 3, &["[2] [2] 1", "[9] [11] 3", "[400] [400] 1"])]
    #[case(&["[1]", "[2]", "[3]"], 5, &["[1] [3] 3"])]
    #[case(&["[\"a\"]", "[\"c\"]", "[\"b\"]", "[\"d\"]"], 2, &["[\"a\"] [\"b\"] 2", "[\"c\"] [\"d\"] 2"])]
    #[case(&["[1,\"x\"]", "[1,\"a\"]"], 1, &["[1,\"a\"] [1,\"x\"] 2"])]
    #[case(&[], 3, &[])]
    fn rows_that_differ_stand_in_ranges(#[case] keys: &[&str], #[case] most: usize, #[case] expected: &[&str]) {
        let found = ranges(&differing(keys), most);
        let shown: Vec<String> = found.iter().map(|r| format!("{} {} {}", r.first, r.last, r.rows())).collect();
        assert_eq!(shown, expected);
    }
}
