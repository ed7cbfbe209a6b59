//! Spools of landings that cannot stage out of sight: one file a batch, or several that begin with its number, in a
//! folder a lane.

use std::path::{Path, PathBuf};

use sluice_core::batch::LaneId;
use sluice_core::durable::Disk;
use sluice_core::failure::Outcome;

/// The file of a batch.
pub(super) fn path(spool: &Path, lane: &LaneId, number: u64) -> PathBuf {
    spool.join(lane.as_str()).join(number.to_string())
}

/// Forgets every batch of a lane, apart from the given numbers.
pub(super) fn discard(spool: &Path, lane: &LaneId, keep: &[u64], disk: &Disk) -> Outcome<()> {
    let Ok(entries) = std::fs::read_dir(spool.join(lane.as_str())) else { return Ok(()) };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let number = name.to_str().and_then(|n| n.split('.').next()).and_then(|n| n.parse::<u64>().ok());
        if !number.is_some_and(|n| keep.contains(&n)) {
            disk.remove_file(&entry.path())?;
        }
    }
    Ok(())
}
