//! A small generator of numbers that are the same on every machine: SplitMix64, after Steele, Lea and Flood, "Fast
//! splittable pseudorandom number generators" (OOPSLA 2014).

use std::hash::{BuildHasher as _, RandomState};

/// A number from 0 to 1 that is another one each time.
pub(crate) fn share() -> f64 {
    RandomState::new().hash_one(0_u8) as f64 / u64::MAX as f64
}

/// The generator.
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `limit`, which is small: the bias does not show.
    pub(crate) fn below(&mut self, limit: u64) -> u64 {
        self.next() % limit.max(1)
    }

    /// One of some things.
    pub(crate) fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        let index = usize::try_from(self.below(from.len() as u64)).unwrap_or(0);
        &from[index]
    }
}
