//! `sluice completions`: completions for a shell.

use clap::CommandFactory as _;
use sluice_core::failure::Outcome;

use crate::args::{Arguments, CompletionsArgs};
use crate::exit::Exit;
use crate::output;

pub(crate) fn completions(args: &CompletionsArgs) -> Outcome<Exit> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut Arguments::command(), "sluice", &mut text);
    output::print(&String::from_utf8_lossy(&text));
    Ok(Exit::Fine)
}
