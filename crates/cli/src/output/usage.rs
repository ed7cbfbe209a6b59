//! A command line that asks for help or cannot be understood.

use clap::error::ErrorKind;
use serde_json::json;

use super::{expect_json, json, note};
use crate::exit::Exit;

/// Shows what clap says of the command line and gives the exit code.
pub(crate) fn show(error: &clap::Error) -> u8 {
    if wants_json() {
        expect_json();
    }
    let text = error.render().to_string();
    let help = matches!(
        error.kind(),
        ErrorKind::DisplayHelp | ErrorKind::DisplayVersion | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand
    );
    let code = if error.use_stderr() { Exit::Usage.code() } else { Exit::Fine.code() };
    match (wants_json(), help) {
        (true, true) => json("help", json!({ "text": text })),
        (true, false) => {
            let message = text.split("\n\n").next().unwrap_or_default().trim_start_matches("error: ");
            json("failure", json!({ "exit": code, "kind": "usage", "message": message, "help": usage(&text) }));
            note(&text);
        }
        // Clap repeats arguments as they are; with colours only where none of them can harm a terminal.
        (false, _) if std::env::args_os().all(|a| a.to_str().is_some_and(is_harmless)) => {
            let _ = error.print();
        }
        (false, _) => note(&text),
    }
    code
}

fn is_harmless(argument: &str) -> bool {
    argument.chars().all(sluice_core::printable::is_harmless)
}

/// The line of clap's text that shows how the command is used.
fn usage(text: &str) -> Option<String> {
    text.lines().find(|line| line.starts_with("Usage:")).map(|line| line.trim().to_string())
}

/// Whether the command line asks for JSON, as far as it can be understood.
fn wants_json() -> bool {
    // Arguments need not be UTF-8.
    let arguments = std::env::args_os().map(|a| a.to_string_lossy().into_owned());
    let arguments: Vec<String> = arguments.take_while(|a| a != "--").collect();
    let is_json = |word: &str| word.eq_ignore_ascii_case("json");
    arguments.iter().any(|a| a.strip_prefix("--output=").is_some_and(is_json))
        || arguments.windows(2).any(|pair| pair[0] == "--output" && is_json(&pair[1]))
}
