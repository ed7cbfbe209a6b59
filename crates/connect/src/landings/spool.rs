//! Spools of landings that cannot stage out of sight: one file a batch, or several that begin with its number, in a
//! folder for each ledger and lane.

use std::path::{Path, PathBuf};

use sluice_core::batch::{BatchIdentity, LaneId};
use sluice_core::durable::Disk;
use sluice_core::failure::Outcome;

/// The file of a batch.
pub(super) fn path(spool: &Path, batch: &BatchIdentity) -> PathBuf {
    spool.join(&batch.ledger).join(batch.lane.as_str()).join(batch.number.to_string())
}

/// The file of a sealed batch, also where an older version staged it.
pub(super) fn sealed(spool: &Path, batch: &BatchIdentity) -> PathBuf {
    let before = spool.join(batch.lane.as_str()).join(batch.number.to_string());
    let own = path(spool, batch);
    if !own.exists() && before.exists() { before } else { own }
}

/// Forgets every batch that a ledger staged for a lane, apart from the given numbers.
pub(super) fn discard(spool: &Path, ledger: &str, lane: &LaneId, keep: &[u64], disk: &Disk) -> Outcome<()> {
    let Ok(entries) = std::fs::read_dir(spool.join(ledger).join(lane.as_str())) else { return Ok(()) };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let number = name.to_str().and_then(|n| n.split('.').next()).and_then(|n| n.parse::<u64>().ok());
        if !number.is_some_and(|n| keep.contains(&n)) {
            disk.remove_file(&entry.path())?;
        }
    }
    Ok(())
}
