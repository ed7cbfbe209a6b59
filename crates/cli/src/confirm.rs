//! Asking before something is changed.

use std::io::IsTerminal as _;

use sluice_core::failure::{Failure, FailureKind, Outcome};

use crate::output;

/// Whether to go on: yes where it was said beforehand, else what somebody answers.
///
/// # Errors
/// Where nobody is there to answer.
pub(crate) fn confirm(question: &str, yes: bool) -> Outcome<bool> {
    if yes {
        return Ok(true);
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::new(FailureKind::Configuration, "nothing was changed: there is no terminal to ask on")
            .with_help("look at what is shown, then use --yes"));
    }
    output::note(&format!("{question} [y/N] "));
    let mut answer = String::new();
    let read = std::io::stdin().read_line(&mut answer);
    Ok(read.is_ok() && matches!(answer.trim(), "y" | "Y" | "yes"))
}
