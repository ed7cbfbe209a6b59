//! A failure, as the last thing that is said.

use sluice_core::failure::{Failure, FailureKind};

use super::{json, note, style};
use crate::args::OutputKind;
use crate::exit::Exit;

/// Shows a failure and gives its exit.
pub(crate) fn show(failure: &Failure, output: OutputKind) -> Exit {
    let exit = Exit::from(failure.kind);
    if output == OutputKind::Json {
        json(
            "failure",
            serde_json::json!({
                "exit": exit.code(), "kind": word(failure.kind), "message": failure.message, "help": failure.help,
            }),
        );
    }
    // The log has it already, and holds JSON lines alone.
    if crate::log::is_json() {
        return exit;
    }
    // A message of several lines cannot pass for the lines that follow it.
    note(&format!("{} {}\n", style::bad("✗"), failure.message.replace('\n', "\n  ")));
    if let Some(help) = &failure.help {
        note(&format!("  {} {}\n", style::dim("→"), help.replace('\n', "\n    ")));
    }
    exit
}

fn word(kind: FailureKind) -> &'static str {
    match kind {
        FailureKind::Configuration => "configuration",
        FailureKind::BadData => "bad-data",
        FailureKind::Unreachable => "unreachable",
        FailureKind::InUse => "in_use",
        FailureKind::Findings => "findings",
        FailureKind::Interrupted => "interrupted",
        FailureKind::Internal => "internal",
    }
}
