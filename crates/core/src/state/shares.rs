//! Which value lies above a share of others: exact for few values, by logarithmic buckets for many.
//!
//! Buckets as in Masson, Rim and Lee, "DDSketch: a fast and fully-mergeable quantile sketch with relative-error guarantees"
//! (2019): the k-th holds the values up to γ^k, so that the middle of a bucket is within (γ - 1) / (γ + 1) of each of them.

use std::collections::BTreeMap;

use super::cell::take;

/// Values that are kept as they are.
const EXACT: usize = 1_000;

/// The relative error is 0.5 %.
const GAMMA: f64 = 1.01;

/// No exponent of a double is as large: positive values have buckets above this, negative ones below.
const MIDDLE: i32 = 100_000;

/// Values so far.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Shares {
    few: Vec<f64>,
    buckets: BTreeMap<i32, u64>,
}

#[expect(clippy::cast_possible_truncation, reason = "the logarithm of a double to this base is far smaller")]
fn bucket(value: f64) -> i32 {
    if value == 0.0 || value.is_nan() {
        return 0;
    }
    let size = value.abs().clamp(f64::MIN_POSITIVE, f64::MAX);
    let exponent = (size.ln() / GAMMA.ln()).ceil() as i32;
    if value > 0.0 { MIDDLE + exponent } else { -(MIDDLE + exponent) }
}

fn middle(bucket: i32) -> f64 {
    let size = |exponent: i32| 2.0 * GAMMA.powi(exponent) / (GAMMA + 1.0);
    match bucket {
        0 => 0.0,
        above if above > 0 => size(above - MIDDLE),
        below => -size(-below - MIDDLE),
    }
}

impl Shares {
    /// Adds a value; what is not a number is left out.
    pub(super) fn add(&mut self, value: f64) {
        if value.is_nan() {
            return;
        }
        if self.buckets.is_empty() {
            self.few.push(value);
            if self.few.len() > EXACT {
                self.spread();
            }
            return;
        }
        *self.buckets.entry(bucket(value)).or_default() += 1;
    }

    fn spread(&mut self) {
        for value in std::mem::take(&mut self.few) {
            *self.buckets.entry(bucket(value)).or_default() += 1;
        }
    }

    /// Adds other values.
    pub(super) fn merge(&mut self, other: Self) {
        other.few.into_iter().for_each(|value| self.add(value));
        if !other.buckets.is_empty() {
            self.spread();
            other.buckets.into_iter().for_each(|(bucket, count)| *self.buckets.entry(bucket).or_default() += count);
        }
    }

    /// The value below which a share of the others lies, between the two nearest; None where there are none.
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a place among the values")]
    pub(super) fn at(&self, share: f64) -> Option<f64> {
        if self.buckets.is_empty() {
            let mut sorted = self.few.clone();
            sorted.sort_by(f64::total_cmp);
            let place = share * sorted.len().checked_sub(1)? as f64;
            let (below, above) = (sorted[place.floor() as usize], sorted[place.ceil() as usize]);
            return Some(if below == above { below } else { below + (above - below) * place.fract() });
        }
        let count: u64 = self.buckets.values().sum();
        let rank = (share * (count - 1) as f64).round() as u64;
        let mut before = 0;
        let found = self.buckets.iter().find(|(_, count)| {
            before += **count;
            before > rank
        });
        found.map(|(bucket, _)| middle(*bucket))
    }

    /// Appends it as bytes; [`Self::read`] reads them.
    pub(super) fn write(&self, bytes: &mut Vec<u8>) {
        bytes.extend(u32::try_from(self.few.len()).unwrap_or(0).to_le_bytes());
        self.few.iter().for_each(|value| bytes.extend(value.to_bits().to_le_bytes()));
        bytes.extend(u32::try_from(self.buckets.len()).unwrap_or(0).to_le_bytes());
        for (bucket, count) in &self.buckets {
            bytes.extend(bucket.to_le_bytes());
            bytes.extend(count.to_le_bytes());
        }
    }

    /// Reads it off the front; None where the bytes are damaged.
    pub(super) fn read(bytes: &mut &[u8]) -> Option<Self> {
        let few = u32::from_le_bytes(take(bytes)?);
        let value = |bytes: &mut &[u8]| Some(f64::from_bits(u64::from_le_bytes(take(bytes)?)));
        let few = (0..few).map(|_| value(bytes)).collect::<Option<_>>()?;
        let buckets = u32::from_le_bytes(take(bytes)?);
        let one = |bytes: &mut &[u8]| Some((i32::from_le_bytes(take(bytes)?), u64::from_le_bytes(take(bytes)?)));
        Some(Self { few, buckets: (0..buckets).map(|_| one(bytes)).collect::<Option<_>>()? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[], 0.5, None)]
    #[case(&[7.0], 0.9, Some(7.0))]
    #[case(&[4.0, 1.0, 2.0], 0.5, Some(2.0))]
    #[case(&[4.0, 1.0], 0.25, Some(1.75))]
    #[case(&[f64::INFINITY, 1.0], 1.0, Some(f64::INFINITY))]
    fn few_values_give_what_lies_between(#[case] values: &[f64], #[case] share: f64, #[case] expected: Option<f64>) {
        let mut shares = Shares::default();
        values.iter().chain([&f64::NAN]).for_each(|value| shares.add(*value));
        assert_eq!(shares.at(share), expected);
    }

    #[rstest]
    #[case(0.0)]
    #[case(0.01)]
    #[case(0.5)]
    #[case(0.95)]
    #[case(1.0)]
    fn many_values_give_it_within_a_hundredth(#[case] share: f64) {
        let value = |i: i32| f64::from(i - 3_000) * 1.7;
        let mut whole = Shares::default();
        let mut parts = [Shares::default(), Shares::default()];
        for i in 0..20_000 {
            whole.add(value(i));
            parts[usize::from(i % 19 == 0)].add(value(i));
        }
        let [mut one, other] = parts;
        one.merge(other);
        assert_eq!(one, whole);
        let expected = (share * 19_999.0).round() * 1.7 - 3_000.0 * 1.7;
        let found = whole.at(share).unwrap();
        assert!((found - expected).abs() <= 0.01 * expected.abs() + 1e-9, "{found} and {expected}");
        let mut bytes = Vec::new();
        whole.write(&mut bytes);
        let mut rest = bytes.as_slice();
        assert_eq!(Shares::read(&mut rest), Some(whole));
        assert!(rest.is_empty());
    }

    #[test]
    fn the_largest_and_smallest_numbers_have_buckets_of_their_own() {
        for value in [f64::MAX, f64::MIN_POSITIVE, f64::INFINITY, 1e-320] {
            assert!(bucket(value) > 0 && bucket(-value) < 0, "{value}");
            assert!(middle(bucket(value)) > 0.0 || value < f64::MIN_POSITIVE * 2.0, "{value}");
        }
        assert_eq!((bucket(0.0), middle(0)), (0, 0.0));
    }
}
