//! The arguments of `stop`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice stop weighings\n  sluice stop --all";

#[derive(Args, Debug)]
pub(crate) struct StopArgs {
    /// The pipelines
    #[arg(value_name = "PIPELINE", required_unless_present = "all", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// All pipelines that run in the background
    #[arg(long, conflicts_with = "pipelines")]
    pub all: bool,
}
