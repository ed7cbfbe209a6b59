//! The arguments of `status`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice status\n  sluice status weighings\n  sluice status --follow";

#[derive(Args, Debug)]
pub(crate) struct StatusArgs {
    /// The pipeline [default: all]
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: Option<String>,

    /// Follow it on a live screen; where output is not a terminal, print it again every second
    #[arg(long)]
    pub follow: bool,
}
