//! Tells whether a file is the one that was read before: a digest of its beginning, as far as it was read.

use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom};

use sha2::{Digest as _, Sha256};

/// Bytes that the digest covers at most.
pub(super) const COVERED: u64 = 4096;

/// The digest of the first bytes of a file that has been read to `position`: `count:hex`.
pub(super) fn take(file: &mut File, position: u64) -> std::io::Result<String> {
    let covered = position.min(COVERED);
    let mut start = Vec::new();
    file.seek(SeekFrom::Start(0))?;
    file.take(covered).read_to_end(&mut start)?;
    Ok(of(&start))
}

/// The fingerprint of these first bytes.
pub(super) fn of(start: &[u8]) -> String {
    let digest = Sha256::digest(start);
    let hex: String = digest[..16].iter().map(|b| format!("{b:02x}")).collect();
    format!("{}:{hex}", start.len())
}

/// Whether the file begins as the fingerprint says.
pub(super) fn matches(file: &mut File, fingerprint: &str) -> std::io::Result<bool> {
    let Some(covered) = fingerprint.split_once(':').and_then(|(count, _)| count.parse().ok()) else { return Ok(true) };
    Ok(take(file, covered)? == fingerprint)
}
