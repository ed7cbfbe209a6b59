//! `sluice completions`: completions for a shell, those of the project's own names among them.

use clap::ValueEnum as _;
use clap_complete::env::Shells;
use sluice_core::failure::{Failure, Outcome};

use crate::args::{Arguments, CompletionsArgs, OutputKind};
use crate::exit::Exit;
use crate::output;

/// The variable by which the shell asks this program what could come next.
pub(crate) const VARIABLE: &str = "SLUICE_COMPLETE";

pub(crate) fn completions(arguments: &Arguments, args: &CompletionsArgs) -> Outcome<Exit> {
    let name = args.shell.to_possible_value().map(|v| v.get_name().to_string()).unwrap_or_default();
    let shells = Shells::builtins();
    let shell = shells.completer(&name).ok_or_else(|| Failure::internal(format!("no completions for {name}")))?;
    let program = std::env::current_exe().map_or_else(|_| "sluice".to_string(), |p| p.display().to_string());
    let mut text = Vec::new();
    shell
        .write_registration(VARIABLE, "sluice", "sluice", &program, &mut text)
        .map_err(|e| Failure::internal(format!("completions for {name} cannot be written: {e}")))?;
    let script = String::from_utf8_lossy(&text);
    match arguments.output {
        OutputKind::Json => output::json("completions", serde_json::json!({ "shell": name, "script": script })),
        OutputKind::Text => output::print(&script),
    }
    Ok(Exit::Fine)
}
