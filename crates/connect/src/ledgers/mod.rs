//! Kinds of ledgers.

pub mod sqlite;
#[cfg(test)]
mod suite;

use std::path::Path;
use std::sync::Arc;

use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::Ledger;

/// Opens the ledger that a project names, making it where it is not there yet.
///
/// # Errors
/// Where it cannot be opened, or its kind is not known.
pub fn open(root: &Path, place: &str) -> Outcome<Arc<dyn Ledger>> {
    Ok(Arc::new(open_file(root, place)?))
}

/// The same, for what only a ledger in a file keeps.
///
/// # Errors
/// As [`open`].
pub fn open_file(root: &Path, place: &str) -> Outcome<sqlite::SqliteLedger> {
    if let Some((scheme, _)) = place.split_once("://") {
        return Err(Failure::new(FailureKind::Configuration, format!("`{scheme}:` is not a kind of ledger"))
            .with_help("a ledger is a file, relative to the project: ledger = \".sluice/ledger.db\""));
    }
    sqlite::SqliteLedger::open(&root.join(place))
}
