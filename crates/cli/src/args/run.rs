//! The arguments of `run`, and of the process that `start` makes.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::log::{LogForm, LogLevel};
use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice run weighings --until-caught-up\n  \
    sluice run weighings --stop-after 2 --until-caught-up\n  sluice run passages\n  sluice run --all";

#[derive(Args, Debug)]
pub(crate) struct RunArgs {
    /// The pipelines
    #[arg(value_name = "PIPELINE", required_unless_present = "all", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// All pipelines of the project
    #[arg(long, conflicts_with = "pipelines")]
    pub all: bool,

    /// Stop when all data that exists has been read [default: wait for more; a pipeline with a schedule rests]
    #[arg(long)]
    pub until_caught_up: bool,

    /// Stop after this many batches, each pipeline
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub stop_after: Option<u64>,

    /// Continue after what a landing holds beyond the ledger, instead of refusing to run
    #[arg(long)]
    pub adopt: bool,

    /// The log of the run.
    #[command(flatten)]
    pub log: LogArgs,
}

/// What the background process is called with.
#[derive(Args, Debug)]
pub(crate) struct KeepArgs {
    /// Its log.
    #[command(flatten)]
    pub log: LogArgs,
}

/// How a run is logged.
#[derive(Args, Debug)]
pub(crate) struct LogArgs {
    /// Write what happens to standard error [default: text where that is not a terminal, else off]
    #[arg(long, value_name = "FORM", value_enum)]
    pub log: Option<LogForm>,

    /// Log events of this severity and above; the variable SLUICE_LOG_LEVEL sets the default
    #[arg(long, value_name = "LEVEL", value_enum, default_value_t = LogLevel::Info, env = "SLUICE_LOG_LEVEL", hide_env = true)]
    pub log_level: LogLevel,
}
