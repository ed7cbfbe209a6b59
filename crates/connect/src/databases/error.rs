//! What a database said instead of doing what was asked.

use sluice_core::failure::{Failure, FailureKind};

/// What a store said instead of doing what was asked.
#[derive(Clone, Debug)]
pub(crate) enum StoreError {
    /// It does not answer now, or asks to try again.
    Away(String),
    /// It refuses a row.
    Refused {
        /// The row among those that were loaded, where it reports it.
        row: Option<usize>,
        /// The column, where it reports it.
        column: Option<String>,
        /// What it said.
        message: String,
    },
    /// A table is not what it was: a name or type that is not there.
    Changed(String),
    /// Anything else.
    Failed(Failure),
}

/// A result whose error is a [`StoreError`].
pub(crate) type StoreResult<T> = Result<T, StoreError>;

impl StoreError {
    /// The failure that it means where no row is at fault.
    pub(crate) fn into_failure(self) -> Failure {
        match self {
            Self::Away(message) => {
                Failure::away(message).with_help("sealed batches stay sealed; the next run finishes them")
            }
            Self::Refused { message, .. } => Failure::unreachable(format!("the store refuses: {message}")),
            Self::Changed(message) => Failure::new(FailureKind::Configuration, message)
                .with_help("`sluice check` compares the table with the rows that will land"),
            Self::Failed(failure) => failure,
        }
    }
}
