//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// How results are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum OutputKind {
    /// For reading.
    #[default]
    Text,
    /// One JSON document in a versioned shape.
    Json,
}

/// Moves events from brokers, change feeds and files into storage, once each, and proves it.
///
/// Without a command: what is here, how is it, what next.
#[derive(Debug, Parser)]
#[command(name = "sluice", version, disable_help_subcommand = true, after_long_help = crate::exit::help())]
pub(crate) struct Arguments {
    /// The project's folder; without it, the nearest sluice.toml from here upwards
    #[arg(long, global = true, value_name = "DIR")]
    pub project: Option<PathBuf>,

    /// How results are written
    #[arg(long, global = true, value_enum, default_value_t, value_name = "FORM")]
    pub output: OutputKind,

    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start: make a project
    Init(InitArgs),
    /// Write: is it right before it runs? Types, names, connections, folders
    Check(CheckArgs),
    /// Run: move data until caught up, for some batches, or for ever
    Run(RunArgs),
    /// Verify: which batches, how big, how long
    Ledger(LedgerArgs),
    /// Mend: which events were rejected, and why
    Rejects(RejectsArgs),
    /// Write: what is each kind, option, type, function, reason and code?
    Manual(ManualArgs),
    /// Try out: the whole thing on sample data
    Demo(DemoArgs),
    /// Completions for a shell, on standard output
    Completions(CompletionsArgs),
}

#[derive(Args, Debug)]
pub(crate) struct InitArgs {
    /// The folder; it is made if it is not there
    #[arg(default_value = ".", value_name = "DIR")]
    pub folder: PathBuf,

    /// The project's name; without it, the folder's
    #[arg(long)]
    pub name: Option<String>,
}

#[derive(Args, Debug)]
pub(crate) struct CheckArgs {
    /// The pipelines; without any, all
    #[arg(value_name = "PIPELINE")]
    pub pipelines: Vec<String>,

    /// Read the files alone: look at no folder and no service
    #[arg(long)]
    pub offline: bool,
}

#[derive(Args, Debug)]
pub(crate) struct RunArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE")]
    pub pipeline: String,

    /// Stop when everything there is has been read; without it, wait for more
    #[arg(long)]
    pub until_caught_up: bool,

    /// Stop after this many batches
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub batches: Option<u64>,

    /// Go on after what a landing holds beyond the ledger, instead of refusing
    #[arg(long)]
    pub adopt: bool,
}

#[derive(Args, Debug)]
pub(crate) struct LedgerArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE")]
    pub pipeline: String,

    /// Show only the newest N batches
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub last: u64,

    /// Show all of the batches with this number: ranges, counts, files
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,
}

#[derive(Args, Debug)]
pub(crate) struct RejectsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE")]
    pub pipeline: String,

    /// Show this many of the newest rejects
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub last: usize,

    /// Only rejects with this reason
    #[arg(long, value_name = "WORD")]
    pub reason: Option<String>,

    /// Only rejects of the batches with this number
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,

    /// Write the rejected bytes as they were, a line each, and nothing else
    #[arg(long)]
    pub raw: bool,
}

#[derive(Args, Debug)]
pub(crate) struct ManualArgs {
    /// A chapter, a name, or any word; without it, the chapters
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,

    /// Write the manual as pages of Markdown into a folder
    #[arg(long, value_name = "DIR", conflicts_with = "words")]
    pub pages: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub(crate) struct DemoArgs {
    /// The folder; it is made if it is not there
    #[arg(default_value = "tarrow", value_name = "DIR")]
    pub folder: PathBuf,
}

#[derive(Args, Debug)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Arguments::command().debug_assert();
    }
}
