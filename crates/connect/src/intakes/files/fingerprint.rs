//! Tells whether a file is the one that was read before: a digest of its beginning, as far as it was read. Of a packed
//! file it is what was packed; its length on the disk is noted once all of it has been read.

use std::io::Read;

use sha2::{Digest as _, Sha256};

/// Bytes that the digest covers at most.
pub(super) const COVERED: u64 = 4096;

/// What stands between the digest and the length of a packed file.
const PACKED: &str = " packed";

/// The fingerprint of these first bytes: `count:hex`.
pub(super) fn of(start: &[u8]) -> String {
    let digest = Sha256::digest(start);
    let hex: String = digest[..16].iter().map(|b| format!("{b:02x}")).collect();
    format!("{}:{hex}", start.len())
}

/// The fingerprint of a packed file; `length` is that on the disk, where all of it has been read.
pub(super) fn of_packed(start: &[u8], length: Option<u64>) -> String {
    let digest = of(start);
    match length {
        Some(length) => format!("{digest}{PACKED} {length}"),
        None => format!("{digest}{PACKED}"),
    }
}

/// Whether a fingerprint is that of a packed file.
pub(super) fn is_packed(fingerprint: &str) -> bool {
    fingerprint.contains(PACKED)
}

/// The length on the disk of a packed file that was read to its end.
pub(super) fn packed_length(fingerprint: &str) -> Option<u64> {
    fingerprint.split_once(PACKED)?.1.trim().parse().ok()
}

/// Reads the beginning that a fingerprint covers; None where it is another.
pub(super) fn matching(file: &mut impl Read, fingerprint: &str) -> std::io::Result<Option<Vec<u8>>> {
    let digest = fingerprint.split(' ').next().unwrap_or_default();
    let covered = digest.split_once(':').and_then(|(count, _)| count.parse().ok()).unwrap_or(0);
    let mut start = Vec::new();
    file.take(covered).read_to_end(&mut start)?;
    Ok((digest.is_empty() || of(&start) == digest).then_some(start))
}
