//! The arguments of `check`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice check\n  sluice check weighings --offline\n  \
    sluice check permits --apply";

#[derive(Args, Debug)]
pub(crate) struct CheckArgs {
    /// The pipelines [default: all]
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// Check the files only; contact nothing
    #[arg(long)]
    pub offline: bool,

    /// How many real events of each arrival are sampled
    #[arg(long, value_name = "N", default_value_t = 1_000)]
    pub events: u64,

    /// Run the statements that fix the tables, after showing them; nothing is ever dropped or narrowed
    #[arg(long, conflicts_with = "offline")]
    pub apply: bool,

    /// Do not ask for confirmation of --apply
    #[arg(long, requires = "apply")]
    pub yes: bool,
}
