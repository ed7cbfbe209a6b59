//! Failures while working: what went wrong, and which class of exit it leads to.

use std::fmt;

/// The class of a failure. Scripts tell them apart by the exit code that the command line gives each.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// A project or pipeline file is wrong, or does not fit what is there.
    Configuration,
    /// More bad data than the pipeline's limit allows.
    BadData,
    /// A service, folder or file cannot be reached; trying again may help.
    Unreachable,
    /// Somebody else holds what is needed.
    Held,
    /// A check found that ledger, source and store do not agree.
    Findings,
    /// The work was interrupted before its end.
    Interrupted,
    /// A broken invariant of this program.
    Internal,
}

/// One failure, with its remedy where there is one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The class.
    pub kind: FailureKind,
    /// What went wrong, with its place.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// Whether the outside may come back by itself, so that waiting helps.
    pub passing: bool,
    /// Whether the pipeline goes on once it is read anew: its source has changed.
    pub renews: bool,
}

/// A result whose error is a [`Failure`].
pub type Outcome<T> = Result<T, Failure>;

impl Failure {
    /// A failure of a class.
    pub fn new(kind: FailureKind, message: impl Into<String>) -> Self {
        Self { kind, message: message.into(), help: None, passing: false, renews: false }
    }

    /// A broken invariant.
    pub fn internal(message: impl Into<String>) -> Self {
        Self::new(FailureKind::Internal, message)
    }

    /// Something outside that cannot be reached.
    pub fn unreachable(message: impl Into<String>) -> Self {
        Self::new(FailureKind::Unreachable, message)
    }

    /// A service that does not answer now and may do so later.
    pub fn away(message: impl Into<String>) -> Self {
        Self { passing: true, ..Self::unreachable(message) }
    }

    /// Ledger, source and store do not agree.
    pub fn findings(message: impl Into<String>) -> Self {
        Self::new(FailureKind::Findings, message)
    }

    /// The source has changed, and the pipeline is to be read anew before it goes on.
    pub fn renewing(message: impl Into<String>) -> Self {
        Self { renews: true, ..Self::findings(message) }
    }

    /// A failed call on a file or folder.
    pub fn io(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        Self::unreachable(format!("cannot {doing} {}: {error}", path.display()))
    }

    /// Adds the remedy.
    #[must_use]
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Failure {}
