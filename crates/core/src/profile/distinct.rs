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
#[derive(Clone, Debug, Default)]
pub struct Distinct {
    few: HashSet<u64>,
    many: Option<Box<[u8; REGISTERS]>>,
}

impl Distinct {
    /// Adds a value.
    pub fn add(&mut self, value: &[u8]) {
        let mut hasher = DefaultHasher::new();
        hasher.write(value);
        let hash = hasher.finish();
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
