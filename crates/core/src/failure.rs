//! Failures while working: what went wrong, and which class of exit it leads to.

use std::fmt;

/// The class of a failure. Scripts distinguish them by the exit code that the command line gives each.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// A project or pipeline file is wrong, or does not fit what is there.
    Configuration,
    /// More bad data than the pipeline's limit allows.
    BadData,
    /// A service, folder or file cannot be reached; trying again may help.
    Unreachable,
    /// Another process uses what is needed.
    InUse,
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
    /// Whether the pipeline goes on once it is read again: its source has changed.
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

    /// The source has changed, and the pipeline is to be read again before it goes on.
    pub fn renewing(message: impl Into<String>) -> Self {
        Self { renews: true, ..Self::findings(message) }
    }

    /// A failed call on a file or folder.
    pub fn io(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        let failure = Self::unreachable(format!("cannot {doing} {}: {error}", path.display()));
        match remedy(path, error.kind()) {
            Some(help) => failure.with_help(help),
            None => failure,
        }
    }

    /// Adds the remedy.
    #[must_use]
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

/// What helps against an error of the file system, where that is known.
fn remedy(path: &std::path::Path, kind: std::io::ErrorKind) -> Option<String> {
    use std::io::ErrorKind as Kind;
    // The file itself may not exist yet.
    let there = path.ancestors().find(|p| p.exists()).unwrap_or(path).display();
    Some(match kind {
        Kind::StorageFull | Kind::QuotaExceeded => {
            format!("free some space (df -h {there}) and run again; nothing is lost")
        }
        Kind::PermissionDenied => format!("give the user of this process the right to do so: ls -ld {there}"),
        Kind::ReadOnlyFilesystem => format!("its file system is mounted read-only: mount | grep {there}"),
        _ => return None,
    })
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Failure {}

#[cfg(test)]
mod tests {
    use super::Failure;
    use rstest::rstest;
    use std::io::{Error, ErrorKind};
    use std::path::Path;

    #[rstest]
    #[case(ErrorKind::StorageFull, Some("df -h /"))]
    #[case(ErrorKind::PermissionDenied, Some("ls -ld /"))]
    #[case(ErrorKind::ReadOnlyFilesystem, Some("read-only"))]
    #[case(ErrorKind::NotFound, None)]
    fn errors_of_the_file_system_have_a_remedy(#[case] kind: ErrorKind, #[case] help: Option<&str>) {
        let failure = Failure::io("write", Path::new("/no-such-folder/file"), &Error::from(kind));
        assert!(failure.message.starts_with("cannot write /no-such-folder/file: "), "{failure}");
        match (help, failure.help) {
            (Some(part), Some(found)) => assert!(found.contains(part), "{found}"),
            (expected, found) => assert_eq!(found.as_deref(), expected),
        }
    }
}
