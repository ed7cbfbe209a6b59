//! Random and damaged input for the tests of everything that reads bytes from outside.
//!
//! Each target runs for `SLUICE_HOSTILE_SECONDS` (default 4) on inputs that come from good ones by flipped, lost,
//! doubled and exchanged bytes. `SLUICE_HOSTILE_SEED` (default 1) chooses other ones. A failure prints the input.

use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::time::{Duration, Instant};

/// Bytes that are often the edge of something.
const EDGES: &[&[u8]] = &[
    b"\0",
    b"\x01",
    b"\x7f",
    b"\x80",
    b"\xfb",
    b"\xfc",
    b"\xfd",
    b"\xfe",
    b"\xff",
    b"\xff\xff\xff\xff",
    b"\x7f\xff\xff\xff",
    b"\x80\0\0\0",
    b"\0\0\0\x80",
    b"\"",
    b"\\",
    b"{",
    b"}",
    b"[",
    b"]",
    b"(",
    b")",
    b",",
    b":",
    b"'",
    b"\n",
    b"\r\n",
    b";",
    b"--",
    b"/*",
    b"*/",
    b"\xed\xa0\x80",
    b"\xf4\x90\x80\x80",
    b"\xc0\xaf",
    b"\\ud800",
    b"\\u0000",
    b"1e999",
    b"-0",
    b"null",
];

/// One input takes no longer than this, however it is damaged.
const LONGEST: Duration = Duration::from_secs(10);

struct Random(u64);

impl Random {
    /// SplitMix64, after Steele, Lea and Flood (OOPSLA 2014).
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, limit: usize) -> usize {
        usize::try_from(self.next() % (limit.max(1) as u64)).unwrap_or(0)
    }
}

fn setting(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

/// Gives a target damaged inputs until its time is over.
///
/// # Panics
/// Where the target panics on one, or takes too long.
pub(crate) fn attack(good: &[Vec<u8>], mut target: impl FnMut(&[u8])) {
    let end = Instant::now() + Duration::from_secs(setting("SLUICE_HOSTILE_SECONDS", 4));
    let mut random = Random(setting("SLUICE_HOSTILE_SEED", 1));
    good.iter().for_each(|input| target(input));
    while Instant::now() < end {
        for _ in 0..64 {
            let input = damaged(good, &mut random);
            let started = Instant::now();
            if let Err(panic) = catch_unwind(AssertUnwindSafe(|| target(&input))) {
                eprintln!("the input: {:?}", Shown(&input));
                resume_unwind(panic);
            }
            assert!(started.elapsed() < LONGEST, "{:?} for {:?}", started.elapsed(), Shown(&input));
        }
    }
}

fn damaged(good: &[Vec<u8>], random: &mut Random) -> Vec<u8> {
    if random.below(16) == 0 {
        return (0..random.below(80)).map(|_| random.next().to_le_bytes()[0]).collect();
    }
    let mut input = good[random.below(good.len())].clone();
    for _ in 0..=random.below(6) {
        let at = random.below(input.len() + 1);
        let end = at + random.below((input.len() - at + 1).min(24));
        match random.below(8) {
            0 => {
                if let Some(byte) = input.get_mut(at) {
                    *byte ^= 1 << random.below(8);
                }
            }
            1 => drop(input.splice(at..at, EDGES[random.below(EDGES.len())].iter().copied())),
            2 => {
                let edge = EDGES[random.below(EDGES.len())];
                drop(input.splice(at..(at + edge.len()).min(input.len()), edge.iter().copied()));
            }
            3 => drop(input.drain(at..end)),
            4 => {
                let piece = input[at..end].repeat(1 + random.below(3));
                drop(input.splice(at..at, piece));
            }
            5 => {
                let other = &good[random.below(good.len())];
                let from = random.below(other.len() + 1);
                drop(input.splice(at.., other[from..].iter().copied()));
            }
            6 => input.truncate(at),
            _ => {
                if let Some(byte) = input.get_mut(at) {
                    *byte = random.next().to_le_bytes()[0];
                }
            }
        }
    }
    input
}

/// Bytes as a literal of Rust, to be pasted into a test.
struct Shown<'a>(&'a [u8]);

impl std::fmt::Debug for Shown<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "b\"{}\"", self.0.escape_ascii())
    }
}
