//! How many distinct values there are: exact for few, estimated for many.
//!
//! The estimate is HyperLogLog after Flajolet, Fusy, Gandouet and Meunier (2007) with 4096 registers, whose standard
//! error is 1.04/√4096 = 1.6 %. Below 2.5 times the registers it counts empty ones instead, as the paper says.

use std::collections::HashSet;
use std::hash::{DefaultHasher, Hasher as _};

const BITS: u32 = 12;
const REGISTERS: usize = 1 << BITS;
const EXACT: usize = 2048;

/// Distinct values, counted by their hashes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Distinct {
    few: HashSet<u64>,
    many: Option<Box<[u8; REGISTERS]>>,
}

impl Distinct {
    /// Adds a value.
    pub fn add(&mut self, value: &[u8]) {
        let mut hasher = DefaultHasher::new();
        hasher.write(value);
        self.add_hash(hasher.finish());
    }

    /// Adds a value by its hash. What is kept for another program needs a hash that stays the same.
    pub fn add_hash(&mut self, hash: u64) {
        if let Some(registers) = &mut self.many {
            return note(registers, hash);
        }
        self.few.insert(hash);
        if self.few.len() > EXACT {
            let mut registers = Box::new([0; REGISTERS]);
            self.few.drain().for_each(|hash| note(&mut registers, hash));
            self.many = Some(registers);
        }
    }

    /// Adds what others have counted.
    pub fn merge(&mut self, other: Self) {
        other.few.into_iter().for_each(|hash| self.add_hash(hash));
        let Some(theirs) = other.many else { return };
        let mut registers = self.many.take().unwrap_or_else(|| Box::new([0; REGISTERS]));
        self.few.drain().for_each(|hash| note(&mut registers, hash));
        registers.iter_mut().zip(theirs.iter()).for_each(|(own, their)| *own = (*own).max(*their));
        self.many = Some(registers);
    }

    /// Appends what was counted as bytes; [`Self::read`] reads them.
    pub fn write(&self, bytes: &mut Vec<u8>) {
        match &self.many {
            Some(registers) => {
                bytes.extend(u32::MAX.to_le_bytes());
                bytes.extend(registers.iter());
            }
            None => {
                let mut few: Vec<u64> = self.few.iter().copied().collect();
                few.sort_unstable();
                bytes.extend(u32::try_from(few.len()).unwrap_or(0).to_le_bytes());
                few.iter().for_each(|hash| bytes.extend(hash.to_le_bytes()));
            }
        }
    }

    /// Reads what [`Self::write`] wrote off the front; None where the bytes are damaged.
    pub fn read(bytes: &mut &[u8]) -> Option<Self> {
        let (count, rest) = bytes.split_first_chunk()?;
        let count = u32::from_le_bytes(*count);
        *bytes = rest;
        if count == u32::MAX {
            let (registers, rest) = bytes.split_first_chunk::<REGISTERS>()?;
            *bytes = rest;
            return Some(Self { few: HashSet::new(), many: Some(Box::new(*registers)) });
        }
        let count = usize::try_from(count).ok().filter(|count| *count <= EXACT)?;
        let (hashes, rest) = bytes.split_at_checked(count * 8)?;
        *bytes = rest;
        let hash = |chunk: &[u8]| Some(u64::from_le_bytes(chunk.try_into().ok()?));
        Some(Self { few: hashes.chunks_exact(8).map(hash).collect::<Option<_>>()?, many: None })
    }

    /// Whether the count is exact.
    pub fn is_exact(&self) -> bool {
        self.many.is_none()
    }

    /// How many there are.
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate, positive and small")]
    pub fn count(&self) -> u64 {
        let Some(registers) = &self.many else { return self.few.len() as u64 };
        let m = REGISTERS as f64;
        let sum: f64 = registers.iter().map(|r| 2_f64.powi(-i32::from(*r))).sum();
        let raw = 0.7213 / (1.0 + 1.079 / m) * m * m / sum;
        let empty = registers.iter().filter(|r| **r == 0).count();
        let estimate = if raw <= 2.5 * m && empty > 0 { m * (m / empty as f64).ln() } else { raw };
        estimate.round() as u64
    }
}

fn note(registers: &mut [u8; REGISTERS], hash: u64) {
    let index = usize::try_from(hash >> (64 - BITS)).unwrap_or(0);
    let rank = u8::try_from((hash << BITS).leading_zeros() + 1).unwrap_or(u8::MAX).min(64);
    registers[index] = registers[index].max(rank);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0)]
    #[case(5)]
    #[case(5_000)]
    fn what_is_written_is_read_and_parts_make_the_whole(#[case] count: u64) {
        let hash = |i: u64| i.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let mut whole = Distinct::default();
        let mut parts = [Distinct::default(), Distinct::default()];
        for i in 0..count {
            whole.add_hash(hash(i));
            parts[usize::from(i % 7 == 0)].add_hash(hash(i));
            parts[1].add_hash(hash(i / 2));
        }
        let mut bytes = Vec::new();
        whole.write(&mut bytes);
        let mut rest = bytes.as_slice();
        assert_eq!(Distinct::read(&mut rest), Some(whole.clone()));
        assert!(rest.is_empty());
        assert!((0..bytes.len()).all(|end| Distinct::read(&mut &bytes[..end]).is_none()));
        let [mut one, other] = parts;
        one.merge(other);
        assert_eq!(one.count(), whole.count());
    }

    #[rstest]
    #[case(0, 0.0)]
    #[case(2_000, 0.0)]
    #[case(10_000, 0.06)]
    #[case(300_000, 0.06)]
    fn counts_are_near(#[case] count: u64, #[case] error: f64) {
        let mut distinct = Distinct::default();
        for round in 0..2 {
            for i in 0..count {
                distinct.add(format!("TN-{i}").as_bytes());
            }
            let off = (distinct.count() as f64 - count as f64).abs();
            assert!(off <= error * count as f64, "round {round}: {} for {count}", distinct.count());
        }
    }
}
