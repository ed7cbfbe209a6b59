//! Exit codes. Scripts see by them what kind of thing went wrong.

use std::process::ExitCode;

use sluice_core::failure::FailureKind;

/// Why the program ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// All went well.
    Fine,
    /// A fault of this program.
    Internal,
    /// The command line is wrong.
    Usage,
    /// A project or pipeline file is wrong.
    Configuration,
    /// More bad data than the limit allows.
    BadData,
    /// Something outside cannot be reached.
    Unreachable,
    /// A check or audit found something.
    Findings,
    /// Another process uses what is needed.
    InUse,
    /// Interrupted before its end.
    Interrupted,
}

/// Every code with its meaning, for help and reference.
pub(crate) const CODES: &[(u8, &str)] = &[
    (0, "all went well"),
    (1, "a fault of this program"),
    (2, "wrong usage"),
    (3, "a project or pipeline file is wrong"),
    (4, "more rejects than the pipeline's limit; the batch has landed"),
    (5, "a service, folder or file cannot be reached"),
    (6, "findings: source, ledger and store do not agree, or an outcome is not as expected"),
    (7, "another process is running the pipeline"),
    (130, "interrupted before its end"),
];

impl Exit {
    /// The code.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Fine => 0,
            Self::Internal => 1,
            Self::Usage => 2,
            Self::Configuration => 3,
            Self::BadData => 4,
            Self::Unreachable => 5,
            Self::Findings => 6,
            Self::InUse => 7,
            Self::Interrupted => 130,
        }
    }
}

impl Exit {
    /// The word for it in the ledger and in JSON.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Fine => "fine",
            Self::Internal => "internal",
            Self::Usage => "usage",
            Self::Configuration => "configuration",
            Self::BadData => "bad_data",
            Self::Unreachable => "unreachable",
            Self::Findings => "findings",
            Self::InUse => "in_use",
            Self::Interrupted => "interrupted",
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}

impl From<FailureKind> for Exit {
    fn from(kind: FailureKind) -> Self {
        match kind {
            FailureKind::Configuration => Self::Configuration,
            FailureKind::BadData => Self::BadData,
            FailureKind::Unreachable => Self::Unreachable,
            FailureKind::InUse => Self::InUse,
            FailureKind::Findings => Self::Findings,
            FailureKind::Interrupted => Self::Interrupted,
            FailureKind::Internal => Self::Internal,
        }
    }
}

/// The table of codes as help shows it.
pub(crate) fn help() -> String {
    let mut text = String::from("Exit codes:\n");
    for (code, meaning) in CODES {
        text.push_str(&format!("  {code:>3}  {meaning}\n"));
    }
    text
}
